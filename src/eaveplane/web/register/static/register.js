// Register: the table of fits, the reference, the canvas; frames moved by hand; what helps to look.
import { post, tell } from "../shell/page.js";
import { Panels } from "../scene/panels.js";
import { Loupes } from "./loupes.js";
import { Pins } from "./pins.js";

const SVG = "http://www.w3.org/2000/svg";
const TOGETHER = 250;
const STEPS = { arrowleft: ["x", -0.1], arrowright: ["x", 0.1], arrowup: ["y", -0.1], arrowdown: ["y", 0.1], "[": ["turn", -0.01], "]": ["turn", 0.01], "-": ["scale", -0.01], "+": ["scale", 0.01], "=": ["scale", 0.01] };

export class Register {
  constructor(page) {
    this.page = page;
    this.stages = ["register"];
    this.begins = "frame";
    this.panels = new Panels("bench-register", "fits", (panel) => { if (panel !== "hand") { this.drag(false); this.pins.turn(false); } this.dress(); });
    this.on = false;
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "shifts");
    document.getElementById("over").append(this.group);
    this.pins = new Pins(this);
    this.loupes = new Loupes(page);
    this.does = {
      "blink-all": () => page.blink("all"),
      "nudge-reset": () => this.nudge({ x: 0, y: 0, scale: 0, turn: 0 }),
      "drag-frame": () => this.drag(!this.dragging),
      pin: () => this.pins.turn(!this.pins.on),
      "pin-fit": (button) => this.pins.fit(button.dataset.url, Number(button.dataset.fewest)),
      "pin-clear": () => this.pins.clear(),
      loupes: (button) => this.loupes.turn(button.dataset.url, Number(button.dataset.magnify)),
    };
    const mat = document.querySelector(".mat");
    mat.addEventListener("pointerdown", (event) => this.press(event), true);
    mat.addEventListener("pointermove", (event) => this.pull(event), true);
    for (const end of ["pointerup", "pointercancel"]) mat.addEventListener(end, (event) => this.drop(event), true);
  }

  get here() { return this.page.stage === "register"; }
  /** The row of the chosen frame, where it is one that can be moved. */
  get row() { return document.querySelector(`.fits tr[data-nudge][data-frame="${this.page.chosen}"]`); }
  get movable() { return Boolean(this.row) && this.page.chosen !== this.page.state.reference; }

  get keys() {
    const keys = { a: () => this.page.blink("all") };
    if (this.loupes.on) return { ...keys, " ": () => this.loupes.halt(), escape: () => this.loupes.turn() };
    if (this.pins.on) keys.escape = () => this.pins.turn(false);
    if (this.panels.shown === "hand") for (const [key, [name, by]] of Object.entries(STEPS)) keys[key] = (event) => this.step(name, event.shiftKey && key.startsWith("arrow") ? 10 * by : by);
    return keys;
  }

  left() {
    this.loupes.turn();
    this.pins.turn(false);
    this.drag(false);
  }

  dress() {
    if (!this.here) return;
    this.panels.dress();
    for (const [id, value] of [["amplified", this.page.picture.amplified], ["rhythm", this.page.picture.rhythm]]) { const field = document.getElementById(id); if (field) field.value = value; }
    for (const what of ["blink", "blink-all"]) document.querySelector(`[data-do=${what}]`)?.setAttribute("aria-pressed", this.page.blinking === (what === "blink" ? "two" : "all"));
    this.loupes.dress();
    this.pins.dress();
    this.chosen();
  }

  chosen() {
    if (!this.here) return;
    for (const row of document.querySelectorAll(".fits [data-frame]")) row.classList.toggle("chosen", row.dataset.frame === this.page.chosen);
    const { movable } = this, found = this.page.frame(this.page.chosen);
    for (const name of document.querySelectorAll(".nudged-frame")) name.textContent = found ? found.number : "";
    for (const field of document.querySelectorAll("[data-nudge][type=number]")) {
      field.disabled = !movable;
      if (field !== document.activeElement) field.value = movable ? Number(this.values[field.dataset.nudge].toFixed(2)) : 0;
    }
    for (const what of ["drag-frame", "nudge-reset", "pin", "pin-fit"]) { const button = document.querySelector(`[data-do=${what}]`); if (button) button.disabled = !movable; }
    if (!movable) { this.drag(false); this.pins.turn(false); }
    this.pins.dress();
  }

  // ---- moved by hand ----

  /** The chosen frame's nudge as decided, with what waits to be. */
  get values() { return this.waiting?.frame === this.page.chosen ? this.waiting.values : JSON.parse(this.row.dataset.nudge); }

  /** Several steps of keys become one decision. */
  step(name, by) {
    if (!this.movable) return tell("The reference stays where it is. Choose another frame on the rail.");
    const values = { ...this.values };
    values[name] = Number((values[name] + by).toFixed(3));
    this.waiting = { frame: this.page.chosen, values };
    this.chosen();
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.decide(), TOGETHER);
    return undefined;
  }

  nudge(values) {
    if (!this.movable) return;
    this.waiting = { frame: this.page.chosen, values: { ...this.values, ...values } };
    clearTimeout(this.timer);
    this.decide();
  }

  decide() {
    const { frame, values } = this.waiting;
    post(document.getElementById("nudge").dataset.url, { frame, ...values }).then(() => { if (this.waiting?.values === values) this.waiting = null; });
  }

  drag(on) {
    this.dragging = on && this.movable;
    document.querySelector(".mat").classList.toggle("dragging", this.dragging);
    document.querySelector("[data-do=drag-frame]")?.setAttribute("aria-pressed", this.dragging);
    if (this.dragging) { this.pins.turn(false); if (this.page.view !== "frame") this.page.setView("frame"); }
  }

  press(event) {
    if (!this.here || event.button !== 0 || event.target.closest(".loupes, .pin, button")) return;
    const { picture } = this.page, box = picture.box.getBoundingClientRect(), at = [event.clientX - box.left, event.clientY - box.top];
    if (this.pins.on) { event.stopPropagation(); this.pins.put(picture.toPicture(...at)); }
    if (!this.dragging) return;
    event.stopPropagation();
    picture.box.setPointerCapture(event.pointerId);
    this.from = at;
  }

  pull(event) {
    if (!this.from) return;
    event.stopPropagation();
    const { picture } = this.page, box = picture.box.getBoundingClientRect();
    this.by = [event.clientX - box.left - this.from[0], event.clientY - box.top - this.from[1]].map((v) => v / picture.scale());
    picture.aside(...this.by);
  }

  drop(event) {
    if (!this.from) return;
    event.stopPropagation();
    const { by, values } = this;
    this.from = this.by = null;
    if (by) this.nudge({ x: Number((values.x + by[0]).toFixed(2)), y: Number((values.y + by[1]).toFixed(2)) });
  }

  // ---- how near things shift ----

  /** A grid over the chosen frame, bent as a camera's step shifts what is near. */
  async draw() {
    const { page } = this, { state } = page;
    this.pins.draw();
    const box = document.getElementById("shifts");
    if (box) box.checked = this.on;
    const wanted = box && this.on && page.stage === "register" && page.view === "frame";
    if (wanted && this.of !== state.weave) {
      this.of = state.weave;
      const answer = await fetch(`/scene/${state.scene}/register/shifts.json`).catch(() => null);
      this.found = answer?.ok ? await answer.json() : {};
    }
    this.group.replaceChildren();
    const grid = wanted && this.found?.[page.chosen];
    if (!grid) return;
    const path = document.createElementNS(SVG, "path");
    path.setAttribute("d", grid.path);
    this.group.append(path);
    this.moved();
    document.getElementById("caption").append(` · near things shifted, × ${grid.times}`);
  }

  moved() {
    this.pins.moved();
    if (this.group.childElementCount) this.page.picture.follow(this.group);
  }

  clicked(event) {
    if (this.panels.clicked(event)) return true;
    const row = event.target.closest(".fits [data-frame]");
    if (row) this.page.choose(row.dataset.frame);
    return Boolean(row) && !event.target.closest("label");
  }

  changed(field) {
    const { picture } = this.page;
    if (field.id === "reference") return post(field.dataset.post, { frame: field.value });
    if (field.id === "shifts") { this.on = field.checked; this.page.show(); return true; }
    if (field.id === "camera") return post(field.dataset.post, { camera: field.value });
    if (field.dataset.counts) return post(field.dataset.post, { frame: field.dataset.counts, counts: field.checked ? "1" : "0" });
    if (field.id === "rhythm") { picture.rhythm = Number(field.value); picture.arrange(); this.loupes.begin(); return true; }
    if (field.id === "amplified") { picture.amplified = Number(field.value); this.page.show(); return true; }
    if (field.name === "canvas") return post(field.dataset.post, { canvas: field.value });
    if (field.dataset.nudge) { if (field.checkValidity() || field.validity.stepMismatch) this.nudge({ [field.dataset.nudge]: Number(field.value) }); else tell(field.validationMessage); return true; }
    return false;
  }
}
