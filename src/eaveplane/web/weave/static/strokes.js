// Strokes over the picture: seen in the colours of their frames, picked, erased, given to another frame.
import { post, tell } from "../shell/page.js";

const SVG = "http://www.w3.org/2000/svg";
const NEAR = 8;

export class Strokes {
  constructor(page) {
    this.page = page;
    this.on = false;
    this.picked = "";
    this.all = [];
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "strokes");
    document.getElementById("over").append(this.group);
  }

  get bench() { return document.querySelector("[data-strokes-of]"); }
  /** Those that belong to the stage: masks and ways in Weave, what was drawn in Mend. */
  get mine() { return this.all.filter((s) => ["draw", "heal"].includes(s.action) === (this.page.stage === "mend")); }

  turn(on) {
    this.on = on;
    this.picked = "";
    this.renew();
  }

  /** What was painted may have changed. */
  renew() {
    this.coming = this.read();
    return this.coming;
  }

  async read() {
    if (!this.bench) { this.group.replaceChildren(); return; }
    if (this.on) {
      const answer = await fetch(this.bench.dataset.strokesOf).catch(() => null);
      if (!answer?.ok) return;
      this.all = await answer.json();
      if (!this.mine.some((s) => s.name === this.picked)) this.picked = "";
    }
    this.draw();
  }

  colour(stroke) { return ["way", "heal"].includes(stroke.action) ? "#e8e8e8" : this.page.frame(stroke.frame)?.colour ?? "#888"; }

  draw() {
    this.group.replaceChildren();
    this.dress();
    if (!this.on || !this.bench) return;
    for (const stroke of this.mine) {
      const line = stroke.points.map(([x, y], k) => `${k ? "L" : "M"}${x} ${y}`).join("") + (stroke.points.length === 1 ? "h0.01" : "");
      for (const kind of ["wide", "edge", "line"]) {
        const path = document.createElementNS(SVG, "path");
        path.setAttribute("d", line);
        path.setAttribute("class", `${kind} ${stroke.action}${stroke.name === this.picked ? " picked" : ""}`);
        path.setAttribute("stroke", kind === "edge" ? "#fff" : this.colour(stroke));
        if (kind === "wide") path.setAttribute("stroke-width", stroke.width);
        this.group.append(path);
      }
      if (stroke.action === "heal" && stroke.name === this.picked) this.source(stroke, line);
    }
    this.moved();
  }

  /** Where a healed spot is taken from: it can be dragged elsewhere. */
  source(stroke, line) {
    const from = document.createElementNS(SVG, "path"), [right, down] = stroke.source;
    from.setAttribute("d", line);
    from.setAttribute("class", "wide source");
    from.setAttribute("stroke", "#fff");
    from.setAttribute("stroke-width", stroke.width);
    from.setAttribute("transform", `translate(${right} ${down})`);
    let start = null, now = [right, down];
    from.addEventListener("pointerdown", (event) => { from.setPointerCapture(event.pointerId); start = [event.clientX, event.clientY]; event.stopPropagation(); });
    from.addEventListener("pointermove", (event) => {
      if (!start) return;
      const scale = this.page.picture.scale();
      now = [right + (event.clientX - start[0]) / scale, down + (event.clientY - start[1]) / scale];
      from.setAttribute("transform", `translate(${now[0]} ${now[1]})`);
    });
    from.addEventListener("pointerup", () => {
      if (start) post(this.bench.dataset.change, { name: stroke.name, right: now[0].toFixed(1), down: now[1].toFixed(1), stage: "mend" });
      start = null;
    });
    this.group.append(from);
  }

  moved() { if (this.group.childElementCount) this.page.picture.follow(this.group); }

  /** The topmost stroke under a point of the picture. */
  at([x, y]) {
    const reach = NEAR / this.page.picture.scale();
    return this.mine.toReversed().find((s) => distance(s.points, x, y) <= Math.max(reach, s.width / 2));
  }

  click(point) {
    if (!this.on) return;
    this.picked = this.at(point)?.name ?? "";
    this.draw();
  }

  /** Keys may come before the strokes have: what they ask for is done in turn, once these are there. */
  after(does) {
    this.coming = Promise.resolve(this.coming).then(does);
    return this.coming;
  }

  step(by) {
    return this.after(() => {
      const { mine } = this;
      if (!this.on) { this.turn(true); return; }
      if (!mine.length) { tell("Nothing is painted here."); return; }
      const now = mine.findIndex((s) => s.name === this.picked);
      this.picked = mine[(now + by + mine.length + (now < 0 && by < 0 ? 1 : 0)) % mine.length].name;
      this.draw();
    });
  }

  erase() { return this.with((name) => post(this.bench.dataset.erase, { name, stage: this.page.stage })); }
  give() { return this.with((name) => post(this.bench.dataset.change, { name, frame: this.page.chosen, stage: this.page.stage })); }

  /** Do something with the stroke that is picked. */
  with(does) {
    return this.after(() => {
      if (this.picked) does(this.picked);
      else tell("Pick a stroke first: click on it, or go through them.");
    });
  }

  dress() {
    document.querySelector("[data-do=strokes]")?.setAttribute("aria-pressed", this.on);
    const words = document.getElementById("stroke-told");
    if (!words) return;
    const k = this.mine.findIndex((s) => s.name === this.picked), stroke = this.mine[k];
    const frame = stroke && this.page.frame(stroke.frame)?.number;
    const what = stroke && { in: `frame ${frame} in`, out: `frame ${frame} out`, draw: `from frame ${frame}`, way: "a region", heal: "healed" }[stroke.action];
    if (this.on) words.textContent = stroke ? `Stroke ${k + 1} of ${this.mine.length}: ${what}, ${Math.round(stroke.width)} px` : this.mine.length ? "Click on one, or go through them." : "Nothing is painted yet.";
    for (const button of document.querySelectorAll("[data-picked]")) button.disabled = !stroke || (button.dataset.picked === "give" && (["way", "heal"].includes(stroke.action) || stroke.frame === this.page.chosen));
  }
}

/** Distance of a point to a line through points. */
export function distance(points, x, y) {
  let least = Infinity;
  points.forEach(([ax, ay], k) => {
    const [bx, by] = points[Math.min(k + 1, points.length - 1)], dx = bx - ax, dy = by - ay, length = dx * dx + dy * dy;
    const t = length ? Math.max(0, Math.min(1, ((x - ax) * dx + (y - ay) * dy) / length)) : 0;
    least = Math.min(least, Math.hypot(x - ax - t * dx, y - ay - t * dy));
  });
  return least;
}
