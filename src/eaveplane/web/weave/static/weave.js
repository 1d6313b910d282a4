// Weave and Mend: the brush that both paint with, strokes, masks, the sharp span, variants.
import { send, tell } from "../shell/page.js";
import { Panels } from "../scene/panels.js";
import { Brush } from "./brush.js";
import { Span } from "./span.js";
import { Strokes } from "./strokes.js";
import { Tried } from "./tried.js";
import { Variants } from "./variants.js";

export class Weave {
  constructor(page) {
    this.page = page;
    this.brush = new Brush(page);
    this.stages = ["weave", "mend"];
    this.begins = "weave";
    this.strokes = new Strokes(page);
    this.span = new Span(page);
    this.variants = new Variants(page);
    this.tried = new Tried(page);
    this.panels = new Panels("bench-weave", "way", (panel) => { if (panel !== "hand") { this.brush.put(false); this.strokes.turn(false); } this.dress(); });
    const { brush, strokes, variants } = this;
    this.does = {
      strokes: () => strokes.turn(!strokes.on),
      "stroke-before": () => strokes.step(-1),
      "stroke-after": () => strokes.step(1),
      "stroke-erase": () => strokes.erase(),
      "stroke-give": () => strokes.give(),
      pair: (button) => variants.turn(button.dataset.pair),
      apart: () => variants.go(),
      keep: () => variants.keep(),
    };
    this.everywhere = {
      r: () => brush.turn(), s: () => brush.through(true), " ": () => brush.pause(true),
      ",": () => brush.nudge("width", -4), ".": () => brush.nudge("width", 4), ";": () => brush.nudge("softness", 10), "'": () => brush.nudge("softness", -10),
    };
    this.let = { d: () => this.bare(false), s: () => brush.through(false), " ": () => brush.pause(false) };
  }

  get keys() {
    const { page, strokes } = this, keys = { d: () => this.bare(true), o: () => page.setView(page.view === "share" ? "weave" : "share"), g: () => this.variants.go() };
    if (strokes.on) Object.assign(keys, { "[": () => strokes.step(-1), "]": () => strokes.step(1), delete: () => strokes.erase(), escape: () => strokes.turn(false) });
    return keys;
  }

  /** While a key is held, the picture as it is without what a hand painted and drew. */
  bare(held) {
    const { page } = this;
    if (held === (page.view === "unpainted") || (held && page.view !== "weave")) return;
    page.setView(held ? "unpainted" : "weave");
  }

  get holds() { return this.brush.on; }

  draw() {
    this.brush.changed();
    if (this.page.picture.viewer && !this.listening) {
      this.listening = true;
      this.page.picture.viewer.addHandler("canvas-click", (event) => { if (event.quick && this.stages.includes(this.page.stage)) this.strokes.click(this.page.picture.toPicture(event.position.x, event.position.y)); });
    }
  }

  moved() { this.brush.moved(); this.strokes.moved(); }
  chosen() { this.strokes.dress(); this.brush.dressFrom(); }

  dress() {
    this.span.dress();
    this.strokes.renew();
    if (this.page.stage !== "weave") return;
    this.panels.dress();
    this.variants.dress();
    this.tried.ready();
  }

  left() {
    if (this.brush.on) this.brush.put(false);
    this.strokes.turn(false);
    this.tried.hide();
    this.page.pairing = false;
    this.page.blinking = "";
  }

  /** A ruler of the seams or of the veil is held: what it would do is seen in small. */
  live(ruler) {
    if (this.page.stage !== "weave" || !this.page.state.labelled || !ruler.closest("[data-tried]")) return;
    this.tried.show(ruler.dataset.name, ruler.querySelector("label").textContent, ruler.querySelector("[type=range]").value, ruler.querySelector(".unit").textContent);
  }

  clicked(event) { return this.panels.clicked(event); }

  changed(field) {
    if (field.id === "against") { this.variants.set(field.value); return true; }
    if (field.id === "mask-file") return this.file(field);
    return false;
  }

  /** A mask from a file, for the chosen frame. */
  async file(field) {
    const [file] = field.files;
    if (!file) return true;
    const form = new FormData();
    form.set("file", file);
    form.set("frame", this.page.chosen);
    field.value = "";
    const answer = await send(field.dataset.url, { method: "POST", body: form }).catch(() => null);
    if (!answer?.ok) tell(answer ? await answer.text() : "The program does not answer. Start it again; nothing that was decided is lost.", true);
    await this.page.refresh(true);
    return true;
  }

  /** A weave has come in: what was asked for is shown. */
  arrived(before) {
    const { page } = this;
    if (!before.labelled && page.state.labelled && page.view === "frame" && page.stage === "weave") page.view = "weave";
  }
}
