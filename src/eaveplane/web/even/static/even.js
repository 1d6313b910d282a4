// Even out's bench: its parts, the look being tried, the histogram, and what is compared with what.
import { post, send, tell } from "../shell/page.js";
import { withRulers, write } from "../shell/rulers.js";
import { Curve } from "./curve.js";
import { Ring } from "./ring.js";
import { Areas } from "./areas.js";

const TOOLS = ["tone-tool", "hue-tool", "area-paint", "area-erase"];
const ENDS = ["white_end", "black_end"];
const CALM = 250;

export class Even {
  constructor(page) {
    this.page = page;
    this.panel = "light";
    this.tool = "";
    this.curve = new Curve(this);
    this.ring = new Ring(this);
    this.areas = new Areas(this);
    this.stages = ["even"];
    this.begins = "weave";
    this.does = { pick: () => this.pick(), "save-look": (button) => this.saveLook(button.dataset.url) };
    // a hue's point has the focus again when the ring has been drawn anew
    document.body.addEventListener("htmx:oobBeforeSwap", (event) => {
      if (event.detail.target.id === "bench") this.focus = document.activeElement.closest?.("#ring .point") ? "#ring .point[aria-pressed=true]" : "";
    });
    const mat = document.querySelector(".mat");
    mat.addEventListener("click", (event) => this.picked(event));
    // a tool takes the press before the picture is dragged by it
    mat.addEventListener("pointerdown", (event) => { if (this.tool && event.button === 0 && !event.target.closest(".area-handle")) this.press(event); }, true);
  }

  get here() { return this.page.stage === "even"; }
  get nav() { return document.querySelector(".panels"); }

  /** The look as decided, with what the rulers say now. */
  values() { return withRulers(structuredClone(this.page.state.lookValues), "/even/set"); }

  /** Show a look that is not decided yet: all of it, or some fields in place of those decided. */
  try(fields) {
    const look = { ...this.values(), ...fields };
    this.page.picture.look(look);
    // the picture goes first while a hand moves
    clearTimeout(this.counting);
    this.counting = setTimeout(() => this.histogram(look), CALM);
  }

  /** Decide on fields of the look that are drawn; what they were tells what another tab changed meanwhile. */
  change(fields, said) {
    const was = Object.fromEntries(Object.keys(fields).map((name) => [name, this.page.state.lookValues[name]]));
    return post(this.nav.dataset.change, { patch: JSON.stringify(fields), was: JSON.stringify(was), said });
  }

  // ---- parts of the bench ----

  draw() { this.areas.draw(); this.marks(); }
  moved() { this.areas.moved(); }
  chosen() { this.trim(); }
  left() { if (this.picking) this.pick(); this.put(""); }
  arrived() { if (!this.here && ["capture", "edges", "drift", "area"].includes(this.page.view)) this.page.view = "weave"; }

  dress() {
    if (!this.here || !this.nav) { this.areas.draw(); return; }
    for (const button of this.nav.querySelectorAll("[data-panel]")) button.setAttribute("aria-pressed", button.dataset.panel === this.panel);
    for (const part of document.querySelectorAll("[data-panel-of]")) part.hidden = !part.dataset.panelOf.split(" ").includes(this.panel);
    this.curve.draw();
    this.ring.draw();
    this.areas.draw();
    this.trim();
    this.marks();
    this.histogram();
    if (this.focus && document.activeElement === document.body) document.querySelector(this.focus)?.focus();
    this.focus = "";
  }

  choose(panel) {
    this.panel = panel;
    this.put("");
    if (panel !== "lens" && ["capture", "edges"].includes(this.page.view)) this.page.setView("weave");
    if (panel !== "frames" && this.page.view === "drift") this.page.setView("frame");
    if (panel !== "areas" && this.page.view === "area") this.page.setView("weave");
    if (panel === "frames" || panel === "lens") this.page.setView("frame");
    this.dress();
  }

  /** Take up a tool for the picture, or lay it down. */
  put(tool) {
    if (this.picking) this.pick();
    this.tool = this.tool === tool ? "" : tool;
    document.getElementById("picture").classList.toggle("picking", Boolean(this.tool));
    this.marks();
    const words = { "tone-tool": "Press on a tone in the picture and drag it up or down.", "hue-tool": "Click on a colour in the picture.", "area-paint": "Paint the area on the picture.", "area-erase": "Rub the area out on the picture." };
    if (this.tool) tell(words[this.tool]);
  }

  /** Which pixel of the picture an event is on. */
  at(event) {
    const box = document.querySelector(".mat").getBoundingClientRect();
    return this.page.picture.toPicture(event.clientX - box.left, event.clientY - box.top);
  }

  async press(event) {
    const { page } = this;
    if (!page.picture.viewer) return;
    event.preventDefault();
    event.stopPropagation();
    if (this.tool.startsWith("area")) return this.areas.paint(event, this.tool === "area-erase");
    const [x, y] = this.at(event);
    const begin = event.clientY;
    const moves = [], follow = (move) => moves.push(move.clientY);
    let lifted = false;
    const lift = () => { lifted = true; };
    window.addEventListener("pointermove", follow);
    window.addEventListener("pointerup", lift, { once: true });
    const answer = await fetch(`${this.nav.dataset.at}?x=${x}&y=${y}`);
    window.removeEventListener("pointermove", follow);
    window.removeEventListener("pointerup", lift);
    if (!answer.ok) { tell(await answer.text(), true); return undefined; }
    const found = await answer.json();
    if (this.tool === "hue-tool") { this.put(""); return this.ring.add(found.hue); }
    return this.curve.drag(found, begin, lifted ? moves.at(-1) ?? begin : null);
  }

  clicked(event) {
    this.areas.click(event);
    const on = (selector) => event.target.closest(selector);
    const panel = on(".panels [data-panel]");
    if (panel) return this.choose(panel.dataset.panel);
    const alone = on("[data-without]");
    if (alone) return this.compare(alone.dataset.without);
    const what = on("[data-do]")?.dataset.do;
    if (TOOLS.includes(what)) return this.put(what);
    if (what === "measure-light") return post(on("[data-do]").dataset.url, {});
    if (what === "hue-remove") return this.ring.remove();
    if (what === "trim-reset") return post(document.getElementById("trim").dataset.url, { frame: this.page.chosen, reset: 1 });
    if (what === "drift-map") return this.page.setView(this.page.view === "drift" ? "frame" : "drift");
    if (what === "edge-mask") return this.see("edges");
    if (what === "area-mask") return this.page.setView(this.page.view === "area" ? "weave" : "area");
    return undefined;
  }

  changed(field) {
    if (field.id === "drift") return post(field.dataset.post, { on: field.checked ? 1 : 0 });
    if (this.areas.changed(field)) return true;
    if (field.dataset.capture) return post(document.getElementById("capture").dataset.url, { name: field.dataset.capture, value: field.type === "checkbox" ? field.checked : field.value });
    if (!field.value) return undefined;
    if (field.id === "looks") return post(field.dataset.url, { name: field.value, groups: this.groups() });
    if (field.id === "look-scenes") return post(field.dataset.url, { scene: field.value, groups: this.groups() });
    if (field.id === "look-forget") return confirm(`Forget the saved look ${field.value}?`) ? post(field.dataset.url, { name: field.value }) : (field.value = "");
    if (field.id === "look-file") return this.load(field);
    return undefined;
  }

  /** While a slider of the look is held it is shown, and what is lost at an end of the scale is hatched. */
  live(ruler) {
    const { page } = this;
    if (!this.here || !page.picture.viewer || !ruler.querySelector("[type=range]").dataset.url?.endsWith("/even/set")) return;
    page.ends = ENDS.includes(ruler.dataset.name);
    this.try({});
  }

  /** A ruler of the trim belongs to the frame chosen. */
  set(ruler, value) {
    return ruler.closest("#trim") && post(document.getElementById("trim").dataset.url, { frame: this.page.chosen, name: ruler.dataset.name.split(".")[1], value });
  }

  /** The next click on the picture says what is neutral. */
  pick() {
    if (this.tool) this.put("");
    this.picking = !this.picking;
    document.querySelector("[data-do=pick]")?.setAttribute("aria-pressed", this.picking);
    document.getElementById("picture").classList.toggle("picking", this.picking);
    if (this.picking) tell("Click on something that is grey or white in the scene.");
  }

  picked(event) {
    if (!this.picking) return;
    const [x, y] = this.at(event), { url } = document.querySelector("[data-do=pick]").dataset;
    this.pick();
    post(url, { x, y });
  }

  saveLook(url) {
    const name = document.getElementById("look-name").value;
    if (!name.trim()) { document.getElementById("look-name").focus(); return tell("Write a name for this look first."); }
    return post(url, { name }).then(() => tell(`Saved as ${name.trim()}.`));
  }

  groups() { return [...document.querySelectorAll("#look-groups :checked")].map((box) => box.value); }

  async load(field) {
    const body = new FormData();
    body.set("file", field.files[0]);
    for (const group of this.groups()) body.append("groups", group);
    const answer = await send(field.dataset.url, { method: "POST", body }).catch(() => null);
    if (!answer?.ok) return tell(answer ? await answer.text() : "The program does not answer.", true);
    return this.page.refresh(true);
  }

  // ---- single frames ----

  trim() {
    const found = this.page.frame(this.page.chosen);
    const of = document.getElementById("trim-of");
    if (!of || !found) return;
    of.textContent = found.number;
    for (const ruler of document.querySelectorAll("#trim .ruler")) write(ruler, found.trim[ruler.dataset.name.split(".")[1]]);
  }

  /** At 1:1, left without a correction, right with it. */
  compare(name) {
    const again = this.page.view === "capture" && this.page.without === name;
    this.page.without = name;
    this.see("capture", again);
  }

  see(view, again = this.page.view === view) {
    const { page } = this;
    page.setView(again ? "frame" : view);
    if (!again && page.picture.viewer && page.picture.scale() * devicePixelRatio < 0.99) page.picture.zoomTo(1);
  }

  marks() {
    const { page } = this;
    for (const name of TOOLS) for (const button of document.querySelectorAll(`[data-do=${name}]`)) button.setAttribute("aria-pressed", this.tool === name);
    for (const button of document.querySelectorAll("[data-without]")) button.setAttribute("aria-pressed", page.view === "capture" && page.without === button.dataset.without);
    for (const [name, view] of [["edge-mask", "edges"], ["drift-map", "drift"], ["area-mask", "area"]]) for (const button of document.querySelectorAll(`[data-do=${name}]`)) button.setAttribute("aria-pressed", page.view === view);
  }

  // ---- histogram ----

  async histogram(look) {
    const drawing = document.getElementById("histogram");
    if (!drawing || !this.page.state.size) return;
    if (this.loading) { this.later = look || null; this.waits = true; return; }
    this.loading = true;
    const what = this.page.view === "frame" ? `frame:${this.page.chosen}` : "weave";
    const url = `${drawing.dataset.url}?what=${what}`;
    const answer = await (look ? send(url, { method: "POST", body: JSON.stringify(look) }) : fetch(url)).catch(() => null);
    if (answer?.ok) this.told(await answer.json());
    this.loading = false;
    if (this.waits) { this.waits = false; this.histogram(this.later || undefined); }
  }

  told(found) {
    for (const line of document.querySelectorAll("#histogram [data-line]")) line.setAttribute("points", found.lines[line.dataset.line]);
    this.curve.line(found.curve, found.lines.luma);
    for (const end of ["black", "white"]) {
      const words = document.getElementById(`lost-${end}`);
      if (!words) continue;
      words.textContent = `${end} ${found[`${end}Pixels`].toLocaleString("en")} px`;
      words.title = `${found[end].toFixed(2)} % of the picture is lost in ${end}`;
      words.classList.toggle("grave", found[end] > 0.05);
    }
  }
}
