// Air on the depth rail: a mark where the middle handle stands, dragged or moved by arrows.
import { post } from "../shell/page.js";
import { put } from "../shell/rulers.js";

const STEP = 0.01, LEAST = 0.05, MOST = 0.95;

export class AirMark {
  constructor(bench) {
    this.bench = bench;
    this.page = bench.page;
    this.held = null;
    document.addEventListener("pointermove", (event) => { if (this.dragging) this.set(this.rail.place(event.clientY - this.rail.ends.getBoundingClientRect().top)); });
    for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => { if (this.dragging) { this.dragging = false; this.settle(); } });
  }

  /** What knows heights on the rail. */
  get rail() { return this.page.parts.weave.span; }
  get value() { return this.held ?? this.page.state.finishValues.air.at; }

  dress() {
    const shown = this.page.stage === "finish" && this.bench.panel === "air" && this.rail.rows.length > 1;
    if (!shown) { this.mark?.remove(); this.mark = null; return; }
    if (!this.mark?.isConnected) {
      const mark = this.mark = document.createElement("button");
      mark.type = "button";
      mark.className = "air-mark";
      mark.setAttribute("role", "slider");
      mark.setAttribute("aria-orientation", "vertical");
      mark.setAttribute("aria-label", "Where the air's middle stands");
      mark.setAttribute("aria-valuemin", 100 * LEAST);
      mark.setAttribute("aria-valuemax", 100 * MOST);
      mark.title = "The air's middle: drag it nearer or farther, or arrow keys. Delete takes it back.";
      mark.addEventListener("pointerdown", (event) => { event.preventDefault(); mark.focus(); this.dragging = true; });
      mark.addEventListener("keydown", (event) => this.key(event));
      mark.append(document.createElement("span"));
      this.rail.ends.append(mark);
    }
    this.lay();
  }

  lay() {
    if (!this.mark) return;
    const words = this.rail.words(this.value);
    this.mark.style.top = `${this.rail.height(this.value)}px`;
    this.mark.setAttribute("aria-valuenow", Math.round(100 * this.value));
    this.mark.setAttribute("aria-valuetext", words);
    this.mark.firstChild.textContent = `middle ${words}`;
  }

  set(place) {
    this.held = Number(Math.max(LEAST, Math.min(MOST, place)).toFixed(2));
    this.lay();
    this.bench.try((finish) => put(finish, "air.at", this.held));
  }

  key(event) {
    const by = { ArrowUp: STEP, ArrowRight: STEP, ArrowDown: -STEP, ArrowLeft: -STEP, PageUp: 10 * STEP, PageDown: -10 * STEP }[event.key];
    const back = { Delete: 0.5, Home: LEAST, End: MOST }[event.key];
    if (by === undefined && back === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    this.set(back ?? this.value + by);
    clearTimeout(this.later);
    this.later = setTimeout(() => this.settle(), 350);
  }

  async settle() {
    const value = this.held;
    if (value === null) return;
    await post(document.querySelector("[data-air]").dataset.air, { name: "air.at", value });
    if (this.held === value) this.held = null;
    this.lay();
  }
}
