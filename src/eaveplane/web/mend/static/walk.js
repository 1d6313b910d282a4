// Mend: from one place on a depth edge to the next at 1:1, and the frame that is sharpest under the brush.
import { tell } from "../shell/page.js";

const PAUSE = 160;

export class Walk {
  constructor(page) {
    this.page = page;
    this.place = -1;
    this.best = null;
    document.querySelector(".mat").addEventListener("pointermove", (event) => this.hover(event));
  }

  get bench() { return document.querySelector("[data-walk]"); }

  async step(by) {
    const { page } = this, key = page.picture.version("weave");
    if (this.key !== key) {
      const answer = await fetch(this.bench.dataset.walk).catch(() => null);
      if (!answer?.ok) return tell("The edges cannot be told just now.");
      this.stops = await answer.json();
      this.key = key;
    }
    const { stops } = this;
    if (!stops.length) return tell(page.state.labelled ? "There is no edge between near and far here." : "Weave the frames first; then there are edges to walk along.");
    this.place = (this.place + by + stops.length + (this.place < 0 && by < 0 ? 1 : 0)) % stops.length;
    const stop = stops[this.place], zoom = page.picture.scale() * devicePixelRatio;
    page.picture.centre(stop.x, stop.y, zoom > 1.5 ? 2 : 1);
    document.getElementById("edge-told").textContent = `${this.place + 1} of ${stops.length}: frame ${stop.near} before frame ${stop.far}`;
    return undefined;
  }

  /** The hand has come to rest over the picture with the brush: which frame is sharpest there? */
  hover(event) {
    clearTimeout(this.timer);
    const { page } = this, { brush } = page.parts.weave;
    if (page.stage !== "mend" || !brush.on || brush.drawing || !this.bench) { this.best = null; return; }
    const side = page.picture.box.getBoundingClientRect();
    const [x, y] = page.picture.toPicture(event.clientX - side.left, event.clientY - side.top);
    this.timer = setTimeout(async () => {
      const query = new URLSearchParams({ x: x.toFixed(0), y: y.toFixed(0), width: brush.width() });
      const answer = await fetch(`${this.bench?.dataset.sharpest}?${query}`).catch(() => null);
      this.best = answer?.ok ? (await answer.json()).frame : null;
      brush.draw();
    }, PAUSE);
  }

  /** What the ring of the brush says of it. */
  get words() {
    const found = this.best && this.best !== this.page.chosen && this.page.frame(this.best);
    return found ? `frame ${found.number} is sharpest here (X)` : "";
  }

  take() {
    if (!this.best) return tell("Rest the brush over a place first; where one frame is clearly the sharpest, X takes it.");
    return this.page.choose(this.best);
  }
}
