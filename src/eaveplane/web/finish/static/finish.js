// Finish, and Deliver which shows the same: parts of the bench, a finish that is tried, level, proof, what is compared with what.
import { post, tell } from "../shell/page.js";
import { withRulers } from "../shell/rulers.js";
import { Panels } from "../scene/panels.js";
import { AirMark } from "./air.js";
import { CropBox } from "./crop.js";
import { Maps } from "./maps.js";

const SVG = "http://www.w3.org/2000/svg";

export class Finish {
  constructor(page) {
    this.page = page;
    this.crop = new CropBox(page);
    this.maps = new Maps(this);
    this.air = new AirMark(this);
    this.stages = ["finish", "deliver"];
    this.begins = "weave";
    this.panels = new Panels("bench-finish", "light", (panel) => this.turned(panel));
    this.line = document.createElementNS(SVG, "path");
    this.line.setAttribute("class", "level-line");
    document.getElementById("over").append(this.line);
    const mat = document.querySelector(".mat");
    mat.addEventListener("pointerdown", (event) => { if (this.lining && event.button === 0) this.drawLine(event); }, true);
    const { maps } = this;
    this.does = {
      part: (button) => post(document.querySelector("[data-choose]").dataset.choose.replace(/choose$/, "part"), { name: button.dataset.part }),
      without: (button) => this.without(button.dataset.part),
      "map-seen": () => this.see("light"),
      "map-clear": () => maps.change("clear"),
      "order-seen": () => this.see("order"),
      lines: () => maps.turn(!maps.on),
      "line-before": () => maps.step(-1),
      "line-after": () => maps.step(1),
      "line-erase": () => maps.erase(),
      "level-find": (button) => this.find(button),
      "level-line": () => this.takeLine(this.lining === "level" ? "" : "level"),
      "upright-line": () => this.takeLine(this.lining === "upright" ? "" : "upright"),
    };
  }

  get panel() { return this.panels.shown; }
  get here() { return this.page.stage === "finish"; }

  get keys() {
    const { page, maps } = this, keys = {};
    if (!this.here) return keys;
    keys.o = () => (this.panel === "light" && maps.map ? this.see("light") : this.panel === "air" ? this.see("order") : document.querySelector("[data-do=clipping]").click());
    if (maps.on) Object.assign(keys, { "[": () => maps.step(-1), "]": () => maps.step(1), delete: () => maps.erase(), escape: () => maps.turn(false) });
    else if (this.lining) keys.escape = () => this.takeLine("");
    else if (page.part) keys.escape = () => this.without(page.part);
    return keys;
  }

  get holds() { return this.here && this.page.parts.weave.brush.on; }

  turned(panel) {
    const { brush } = this.page.parts.weave;
    if (panel !== "light") { if (brush.on) brush.put(false); this.maps.turn(false); }
    this.takeLine("");
    if (["light", "order"].includes(this.page.view)) this.page.setView("weave");
    this.dress();
    this.crop.draw();
    this.air.dress();
    this.proof();
  }

  /** The finish as decided, with what the rulers say now, shown before it is decided. */
  try(change = () => {}) {
    const finish = withRulers(structuredClone(this.page.state.finishValues), "/finish/set");
    change(finish);
    this.page.picture.look(finish);
  }

  see(view) { this.page.setView(this.page.view === view ? "weave" : view); this.dress(); }

  /** Before one part alone, or all; once more ends it. */
  without(part) {
    const { page } = this, again = page.before && page.part === part;
    page.part = again ? "" : part;
    page.before = again ? "" : "whole";
    page.show();
    this.dress();
  }

  draw() {
    this.crop.draw();
    this.marks();
    const { viewer } = this.page.picture;
    if (viewer && !this.listening) {
      this.listening = true;
      viewer.addHandler("canvas-click", (event) => {
        if (!event.quick || !this.here) return;
        const at = this.page.picture.toPicture(event.position.x, event.position.y);
        this.maps.click(at);
        if (this.panel === "output") { this.at = at; this.proof(); }
      });
    }
  }

  moved() { this.crop.draw(); this.maps.moved(); this.air.lay(); this.markLine(); }

  dress() {
    if (!this.here) { this.air.dress(); this.maps.draw(); return; }
    this.panels.dress();
    this.maps.dress();
    this.air.dress();
    this.marks();
    this.proof();
  }

  marks() {
    const { page } = this;
    if (!page.before) page.part = "";
    for (const mark of document.querySelectorAll(".bench-finish [data-of]")) mark.hidden = !mark.dataset.of.split(" ").some((part) => page.state.finishParts.includes(part));
    for (const button of document.querySelectorAll("[data-do=without]")) button.setAttribute("aria-pressed", page.before === "whole" && page.part === button.dataset.part);
    for (const [name, view] of [["map-seen", "light"], ["order-seen", "order"]]) for (const button of document.querySelectorAll(`[data-do=${name}]`)) button.setAttribute("aria-pressed", page.view === view);
    for (const kind of ["level", "upright"]) document.querySelector(`[data-do=${kind}-line]`)?.setAttribute("aria-pressed", this.lining === kind);
  }

  left() {
    const { brush } = this.page.parts.weave;
    if (brush.on) brush.put(false);
    this.maps.turn(false);
    this.takeLine("");
    this.page.part = "";
    this.air.dress();
  }

  arrived() { if (!this.here && ["light", "order"].includes(this.page.view)) this.page.view = "weave"; }

  live(ruler) {
    if (!this.here || !ruler.querySelector("[type=range]").dataset.url?.endsWith("/finish/set")) return;
    if (ruler.dataset.name === "straighten") this.crop.draw(Number(ruler.querySelector("[type=range]").value));
    else if (this.page.picture.viewer) this.try();
  }

  clicked(event) { return this.maps.clicked(event) || this.panels.clicked(event); }

  changed(field) {
    if (field.id === "guides") this.crop.draw();
    if (field.dataset.choose) { post(field.dataset.choose, { name: field.id.replace("-", "_"), value: field.value }); return true; }
    if (this.maps.changed(field)) return true;
    return field.id === "ratio" && this.crop.ratio(field.value, field.selectedOptions[0].dataset.paper);
  }

  // ---- level ----

  async find(button) {
    await post(button.dataset.url, {});
    const answer = await fetch(button.dataset.seen).catch(() => null), found = answer?.ok ? await answer.json() : {};
    if (!found.lines) return;
    this.shown = found.lines;
    this.markLine();
    clearTimeout(this.fading);
    this.fading = setTimeout(() => { this.shown = null; this.markLine(); }, 4000);
  }

  /** Take up a line to be drawn: `level` or `upright`; nothing lays it down. */
  takeLine(kind) {
    this.lining = kind;
    document.getElementById("picture").classList.toggle("picking", Boolean(kind));
    if (kind) tell(kind === "level" ? "Draw along the horizon, or along something upright." : "Draw along something upright, then along another.");
    this.marks();
  }

  drawLine(event) {
    const { picture } = this.page, box = document.querySelector(".mat").getBoundingClientRect();
    if (!picture.viewer) return;
    event.preventDefault();
    event.stopPropagation();
    const place = (e) => picture.toPicture(e.clientX - box.left, e.clientY - box.top);
    const begin = place(event);
    const move = (e) => { this.shown = [[...begin, ...place(e)]]; this.markLine(); };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", (e) => {
      window.removeEventListener("pointermove", move);
      const [x0, y0, x1, y1] = [...begin, ...place(e)];
      this.shown = null;
      this.markLine();
      const kind = this.lining, { url } = document.querySelector(`[data-do=${kind === "upright" ? "upright-line" : "level-find"}]`).dataset;
      // a second upright follows the first
      if (kind === "level" || this.page.state.uprights === 1) this.takeLine("");
      post(url, { x0, y0, x1, y1 });
    }, { once: true });
  }

  markLine() {
    const { picture } = this.page;
    if (!this.shown || !picture.viewer || !this.here) { this.line.removeAttribute("d"); return; }
    const on = (x, y) => { const at = picture.toScreen(x, y); return `${at.x} ${at.y}`; };
    this.line.setAttribute("d", this.shown.map(([x0, y0, x1, y1]) => `M${on(x0, y0)}L${on(x1, y1)}`).join(""));
  }

  // ---- the very pixels of the file ----

  async proof() {
    const canvas = document.getElementById("proof"), { picture, state } = this.page;
    if (!canvas || !this.here || this.panel !== "output" || !picture.viewer || !state.size) return;
    if (this.proving) { this.later = true; return; }
    this.proving = true;
    const [x, y, w, h] = picture.inView(), [px, py] = this.at ?? [x + w / 2, y + h / 2];
    const url = document.querySelector("[data-proof]").dataset.proof;
    const answer = await fetch(`${url}?${new URLSearchParams({ finished: 1, x: px.toFixed(1), y: py.toFixed(1) })}`).catch(() => null);
    if (answer?.ok) {
      const bitmap = await createImageBitmap(await answer.blob());
      canvas.width = bitmap.width;
      canvas.height = bitmap.height;
      canvas.getContext("2d").drawImage(bitmap, 0, 0);
      canvas.dataset.proved = Number(canvas.dataset.proved || 0) + 1;
    }
    this.proving = false;
    if (this.later) { this.later = false; this.proof(); }
  }
}
