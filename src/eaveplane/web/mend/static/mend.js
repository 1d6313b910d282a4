// Mend: flaws that were found and their remedies, and the walk along edges; the brush is Weave's.
import { tell } from "../shell/page.js";
import { Panels } from "../scene/panels.js";
import { Findings } from "./findings.js";
import { Walk } from "./walk.js";

export class Mend {
  constructor(page) {
    this.page = page;
    this.stages = ["mend"];
    this.walk = new Walk(page);
    this.findings = new Findings(page);
    this.panels = new Panels("bench-mend", "flaws", (panel) => { if (panel !== "hand") page.parts.weave.brush.put(false); this.dress(); });
    const { walk, findings } = this;
    this.does = {
      "edge-before": () => this.edge(-1),
      "edge-after": () => this.edge(1),
      "flaw-before": () => findings.step(-1),
      "flaw-after": () => findings.step(1),
      "flaw-take": () => findings.take(0),
      "flaw-accept": () => findings.accept(),
      "moment": () => { findings.point(!findings.pointing); if (findings.pointing) tell("Click on what moved."); },
    };
    this.keys = {
      e: (event) => this.edge(event.shiftKey ? -1 : 1), x: () => walk.take(),
      t: (event) => { this.turn("flaws"); findings.step(event.shiftKey ? -1 : 1); }, y: () => findings.take(0), a: () => findings.accept(),
      q: () => { this.turn("flaws"); this.moment(page.picture.pointer); },
    };
  }

  /** What a key asks for is seen in its part of the bench. */
  turn(panel) {
    if (this.panels.shown === panel) return;
    this.panels.shown = panel;
    this.dress();
  }

  edge(by) {
    this.turn("hand");
    this.walk.step(by);
  }

  draw() {
    const { viewer } = this.page.picture;
    if (!viewer || this.listening) return;
    this.listening = true;
    viewer.addHandler("canvas-click", (event) => { if (event.quick && this.page.stage === "mend" && this.findings.pointing) this.moment(event.position); });
  }

  dress() {
    if (this.page.stage !== "mend") return this.findings.hide();
    this.panels.dress();
    return this.findings.renew(this.panels.shown === "flaws");
  }

  moment(at) {
    if (!at) return tell("Move the pointer to what moved.");
    return this.findings.ask(...this.page.picture.toPicture(at.x, at.y));
  }

  moved() { this.findings.moved(); }
  left() { this.findings.leave(); }

  clicked(event) {
    const go = event.target.closest("[data-flaw-go]")?.dataset.flawGo;
    if (go) { this.findings.go(go); return true; }
    return this.panels.clicked(event);
  }
}
