// Maps of painted light: their list, the one chosen, their strokes over the picture.
import { post, tell } from "../shell/page.js";
import { distance } from "../weave/strokes.js";

const SVG = "http://www.w3.org/2000/svg";
const NEAR = 8;
const COLOURS = { lighter: "#ffffff", darker: "#202020", richer: "#d56bb0", warmer: "#f0a040", glow: "#ffe9a8" };

export class Maps {
  constructor(bench) {
    this.bench = bench;
    this.page = bench.page;
    this.chosen = 0;
    this.on = false;
    this.picked = -1;
    this.lines = [];
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "strokes map-strokes");
    document.getElementById("over").append(this.group);
    document.addEventListener("focusin", (event) => { const row = event.target.closest("#maps [data-map]"); if (row) this.choose(Number(row.dataset.map)); });
  }

  get list() { return document.getElementById("maps"); }
  get all() { return this.page.state.finishValues.light; }
  get map() { return this.all[this.chosen]; }
  get name() { return this.map?.name.toLowerCase() ?? ""; }
  colour(rub) { return rub ? "#888" : COLOURS[this.map?.kind] ?? "#888"; }

  choose(k) {
    if (this.chosen === k) return;
    this.chosen = k;
    this.picked = -1;
    this.dress();
    if (this.page.view === "light") this.page.show();
  }

  change(does, value = "") { return post(this.list.dataset.change, { map: this.chosen, does, value }); }

  dress() {
    const { brush } = this.page.parts.weave;
    if (this.all.length > this.had) { this.chosen = this.all.length - 1; this.had = undefined; }
    this.chosen = Math.max(0, Math.min(this.chosen, this.all.length - 1));
    for (const row of document.querySelectorAll("#maps [data-map]")) row.classList.toggle("chosen", Number(row.dataset.map) === this.chosen);
    for (const panel of document.querySelectorAll("[data-map-panel]")) panel.hidden = Number(panel.dataset.mapPanel) !== this.chosen;
    if (this.page.view === "light" && !this.map) this.page.setView("weave");
    if (brush.on && !this.map) brush.put(false);
    for (const button of document.querySelectorAll("[data-do=map-seen]")) button.setAttribute("aria-pressed", this.page.view === "light");
    this.renew();
  }

  clicked(event) {
    const on = (selector) => event.target.closest(selector);
    const kind = on("[data-new-map]")?.dataset.newMap;
    if (kind) {
      // other decisions may still come in before the new map does
      this.had = this.all.length;
      post(on("[data-add]").dataset.add, { kind }).then(() => { if (!this.page.parts.weave.brush.on) this.page.parts.weave.brush.put(true); });
      return true;
    }
    const row = on("#maps [data-map]"), does = on("[data-map-do]")?.dataset.mapDo;
    if (!row) return false;
    this.choose(Number(row.dataset.map));
    if (["copy", "remove", "on"].includes(does)) this.change(does);
    return true;
  }

  changed(field) {
    if (field.dataset.mapDo === "on") return true;
    return field.dataset.mapDo === "name" && (this.change("name", field.value), true);
  }

  // ---- strokes of the chosen map ----

  turn(on) {
    this.on = on;
    this.picked = -1;
    return this.renew();
  }

  /** What was painted may have changed. */
  renew() {
    this.coming = this.read();
    return this.coming;
  }

  async read() {
    const { list, chosen } = this;
    if (!this.on || !list || !this.map) { this.lines = []; this.draw(); return; }
    const answer = await fetch(`${list.dataset.lines}?map=${chosen}`).catch(() => null);
    if (!answer?.ok || chosen !== this.chosen) return;
    this.lines = await answer.json();
    if (this.picked >= this.lines.length) this.picked = -1;
    this.draw();
  }

  draw() {
    this.group.replaceChildren();
    this.words();
    if (!this.on || this.page.stage !== "finish") return;
    this.lines.forEach((stroke, k) => {
      const line = stroke.points.map(([x, y], i) => `${i ? "L" : "M"}${x} ${y}`).join("") + (stroke.points.length === 1 ? "h0.01" : "");
      for (const kind of ["wide", "edge", "line"]) {
        const path = document.createElementNS(SVG, "path");
        path.setAttribute("d", line);
        path.setAttribute("class", `${kind} ${stroke.erase ? "out" : "in"}${k === this.picked ? " picked" : ""}`);
        path.setAttribute("stroke", kind === "edge" ? "#fff" : this.colour(stroke.erase));
        if (kind === "wide") path.setAttribute("stroke-width", stroke.width);
        this.group.append(path);
      }
    });
    this.moved();
  }

  moved() { if (this.group.childElementCount) this.page.picture.follow(this.group); }

  words() {
    document.querySelector("[data-do=lines]")?.setAttribute("aria-pressed", this.on);
    const told = document.getElementById("line-told"), erase = document.querySelector("[data-do=line-erase]");
    if (!told) return;
    const stroke = this.lines[this.picked];
    told.textContent = !this.on ? "" : stroke ? `Stroke ${this.picked + 1} of ${this.lines.length}: ${stroke.erase ? "rubbed out" : "painted"}, ${Math.round(stroke.width)} px` : this.lines.length ? "Click on one, or go through them." : "Nothing is painted on this map yet.";
    erase.disabled = !stroke;
  }

  click([x, y]) {
    if (!this.on) return;
    const reach = NEAR / this.page.picture.scale();
    this.picked = this.lines.findLastIndex((s) => distance(s.points, x, y) <= Math.max(reach, s.width / 2));
    this.draw();
  }

  /** Keys may come before the strokes have: what they ask for is done in turn, once these are there. */
  step(by) {
    this.coming = Promise.resolve(this.coming).then(async () => {
      if (!this.on) { await this.turn(true); return; }
      const { length } = this.lines;
      if (!length) { tell("Nothing is painted on this map yet."); return; }
      this.picked = (this.picked + by + length + (this.picked < 0 && by < 0 ? 1 : 0)) % length;
      this.draw();
    });
    return this.coming;
  }

  erase() {
    this.coming = Promise.resolve(this.coming).then(() => {
      if (this.picked < 0) { tell("Pick a stroke first: click on it, or go through them."); return undefined; }
      return post(this.list.dataset.erase, { map: this.chosen, line: this.picked });
    });
    return this.coming;
  }
}
