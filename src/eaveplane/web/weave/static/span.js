// The sharp span: two ends on the depth rail, dragged or moved by arrows, seen in the picture while they move.
import { post } from "../shell/page.js";

const STEP = 0.01, LEAST = 0.02;
const ENDS = [["far", 1], ["near", 0]];

export class Span {
  constructor(page) {
    this.page = page;
    this.handles = {};
    // the ends stand beside the rail, not in it: they keep the keyboard when it is drawn anew
    this.ends = document.getElementById("span-ends");
    document.addEventListener("scroll", (event) => { if (event.target === this.list) this.lay(); }, true);
    addEventListener("resize", () => this.lay());
    document.addEventListener("pointermove", (event) => this.drag(event));
    for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => this.drop());
  }

  get list() { return document.querySelector(".rail-list"); }
  get rows() { return [...document.querySelectorAll("#rail li.frame")].reverse(); }
  get own() { return [...this.ends.querySelectorAll(".span-end")]; }
  get value() { return this.page.spanning ?? this.page.state.span; }

  /** The rail was drawn anew, or another stage is entered. */
  dress() {
    const shown = this.page.stage === "weave" && this.rows.length > 1 && this.page.state.labelled;
    if (!shown) for (const handle of this.own) handle.remove();
    for (const [name] of shown && !this.own.length ? ENDS : []) {
      const handle = document.createElement("button");
      handle.type = "button";
      handle.className = `span-end ${name}`;
      handle.dataset.end = name;
      handle.setAttribute("role", "slider");
      handle.setAttribute("aria-orientation", "vertical");
      handle.setAttribute("aria-label", name === "far" ? "Sharp as far as" : "Sharp from");
      handle.setAttribute("aria-valuemin", 0);
      handle.setAttribute("aria-valuemax", 100);
      handle.title = name === "far" ? "Sharp as far as here: drag, or arrow keys. Delete takes it back." : "Sharp from here: drag, or arrow keys. Delete takes it back.";
      handle.addEventListener("pointerdown", (event) => { event.preventDefault(); handle.focus(); this.held = name; });
      handle.addEventListener("keydown", (event) => this.key(event, name));
      for (const className of ["grab", "words-of-end"]) handle.append(Object.assign(document.createElement("span"), { className }));
      this.ends.append(handle);
    }
    this.lay();
  }

  /** Middles of rows, near to far, in pixels of what the ends stand in. */
  middle(row) {
    const box = row.getBoundingClientRect();
    return box.top + box.height / 2 - this.ends.getBoundingClientRect().top;
  }

  /** Height of a place from 0 (near) to 1 on the rail. */
  height(place) {
    const { rows } = this, at = place * (rows.length - 1), k = Math.min(rows.length - 2, Math.floor(at));
    const middle = (row) => this.middle(row);
    // the ends lie beyond the outer frames
    const edge = rows[0].offsetHeight / 2 - 3, out = place === 0 ? edge : place === 1 ? -edge : 0;
    return middle(rows[k]) + (at - k) * (middle(rows[k + 1]) - middle(rows[k])) + out;
  }

  place(y) {
    const { rows } = this, near = this.middle(rows[0]), far = this.middle(rows.at(-1));
    return Math.max(0, Math.min(1, (near - y) / (near - far)));
  }

  lay() {
    const { rows, value } = this, [near, far] = this.own.length ? value : [0, 1];
    for (const [name, index] of ENDS) {
      const handle = document.querySelector(`.span-end.${name}`);
      if (!handle) continue;
      handle.style.top = `${this.height(value[index])}px`;
      handle.setAttribute("aria-valuenow", Math.round(100 * value[index]));
      handle.setAttribute("aria-valuetext", this.words(value[index]));
      handle.querySelector(".words-of-end").textContent = value[index] === (name === "far" ? 1 : 0) ? "" : this.words(value[index]);
    }
    rows.forEach((row, k) => row.classList.toggle("beyond", k / (rows.length - 1) < near - 1e-6 || k / (rows.length - 1) > far + 1e-6));
  }

  /** A place in words: a distance where frames tell theirs, between them in dioptres. */
  words(place) {
    const { frames } = this.page.state, shown = this.rows.map((row) => frames.find((f) => f.id === row.dataset.frame));
    const at = place * (shown.length - 1), k = Math.min(shown.length - 2, Math.floor(at));
    const [a, b] = [shown[k]?.dioptres, shown[k + 1]?.dioptres];
    if (a === null || b === null || a === undefined || b === undefined) return `frame ${(at + 1).toFixed(1)}`;
    const metres = 1 / Math.max(1e-9, a + (at - k) * (b - a));
    return metres > 1000 ? "∞" : metres < 10 ? `${metres.toFixed(2)} m` : `${metres.toFixed(0)} m`;
  }

  set(name, place) {
    const value = [...this.value];
    if (name === "far") value[1] = Math.max(value[0] + LEAST, place);
    else value[0] = Math.min(value[1] - LEAST, place);
    this.page.spanning = value.map((v) => Number(Math.max(0, Math.min(1, v)).toFixed(3)));
    this.lay();
    if (this.page.view !== "weave") this.page.view = "weave";
    const begin = performance.now();
    this.page.picture.look().then(() => { this.page.picture.box.dataset.spanMs = Math.round(performance.now() - begin); });
  }

  drag(event) {
    if (!this.held) return;
    this.set(this.held, this.place(event.clientY - this.ends.getBoundingClientRect().top));
  }

  drop() {
    if (!this.held) return;
    this.held = null;
    this.settle();
  }

  key(event, name) {
    const by = { ArrowUp: STEP, ArrowRight: STEP, ArrowDown: -STEP, ArrowLeft: -STEP, PageUp: 10 * STEP, PageDown: -10 * STEP }[event.key];
    const back = { Delete: name === "far" ? 1 : 0, Home: 0, End: 1 }[event.key];
    if (by === undefined && back === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    this.set(name, back ?? this.value[name === "far" ? 1 : 0] + by);
    clearTimeout(this.later);
    this.later = setTimeout(() => this.settle(), 350);
  }

  async settle() {
    const value = this.page.spanning;
    if (!value) return;
    await post(document.querySelector("[data-span]").dataset.span, { near: value[0], far: value[1] });
    if (this.page.spanning === value) this.page.spanning = null;
    this.page.show();
  }
}
