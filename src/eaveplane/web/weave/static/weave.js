// Weave and Mend: the share map, and the brush that both paint with.
import { Brush } from "./brush.js";

export class Weave {
  constructor(page) {
    this.page = page;
    this.brush = new Brush(page);
    this.stages = ["weave", "mend"];
    this.begins = "weave";
    this.keys = { o: () => page.setView(page.view === "share" ? "weave" : "share") };
    const { brush } = this;
    this.everywhere = {
      r: () => brush.turn(), s: () => brush.through(true), " ": () => brush.pause(true),
      ",": () => brush.nudge("width", -4), ".": () => brush.nudge("width", 4), ";": () => brush.nudge("softness", 10), "'": () => brush.nudge("softness", -10),
    };
    this.let = { s: () => brush.through(false), " ": () => brush.pause(false) };
  }

  get holds() { return this.brush.on; }
  draw() { this.brush.changed(); }
  moved() { this.brush.moved(); }
  left() { if (this.brush.on) this.brush.put(false); }

  /** A weave has come in: what was asked for is shown. */
  arrived(before) {
    const { page } = this;
    if (!before.labelled && page.state.labelled && page.view === "frame" && page.stage === "weave") page.view = "weave";
  }
}
