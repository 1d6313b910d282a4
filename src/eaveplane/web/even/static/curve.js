// The tone curve: points on it are dragged there, or by dragging tones in the picture; the curve itself comes from the server.
const SVG = "http://www.w3.org/2000/svg";
const NEAR = 0.004, GRIP = 0.06;

export class Curve {
  constructor(bench) {
    this.bench = bench;
    document.addEventListener("pointerdown", (event) => {
      const drawing = event.target.closest("#curve");
      if (drawing && event.button === 0) this.press(event, drawing);
    });
    document.addEventListener("dblclick", (event) => {
      const point = event.target.closest("#curve .point");
      if (point) this.remove(Number(point.dataset.point));
    });
    document.addEventListener("keydown", (event) => this.key(event));
  }

  get points() { return (this.bench.page.state.lookValues.curve || []).map((p) => [...p]); }

  /** The points, with the ends of the straight line where there are none yet. */
  whole() { const { points } = this; return points.length ? points : [[0, 0], [1, 1]]; }

  draw(points = this.points) {
    const group = document.querySelector("#curve .points");
    if (!group) return;
    const focused = document.activeElement?.dataset?.point;
    group.replaceChildren(...points.map(([x, y], k) => {
      const dot = document.createElementNS(SVG, "circle");
      for (const [name, value] of Object.entries({ class: "point", cx: 100 * x, cy: 100 - 100 * y, r: 3.4, tabindex: 0, role: "button", "data-point": k, "aria-label": `Point from ${(100 * x).toFixed(0)} to ${(100 * y).toFixed(0)} %: arrows move it, Delete removes it` })) dot.setAttribute(name, value);
      return dot;
    }));
    if (focused !== undefined && document.activeElement === document.body) group.children[Number(focused)]?.focus();
  }

  line(points) { document.querySelector("#curve .line")?.setAttribute("points", points); }

  /** Where an event is on the drawing, 0..1 both ways. */
  at(event, drawing) {
    const box = drawing.getBoundingClientRect();
    return [(event.clientX - box.left) / box.width, 1 - (event.clientY - box.top) / box.height].map((v) => Math.max(0, Math.min(1, v)));
  }

  press(event, drawing) {
    event.preventDefault();
    const [x, y] = this.at(event, drawing);
    const points = this.whole();
    let k = points.findIndex((p) => Math.hypot(p[0] - x, p[1] - y) < GRIP);
    if (k < 0) k = this.insert(points, [x, y]);
    this.follow(points, k, (move) => this.at(move, drawing));
  }

  /** Put a point in; which one it is, the nearest where there is no room for another. */
  insert(points, [x, y]) {
    const near = points.findIndex((p) => Math.abs(p[0] - x) < 0.02);
    if (near >= 0) { points[near][1] = y; return near; }
    if (points.length >= 16) return 0;
    const k = points.findIndex((p) => p[0] > x);
    const at = k < 0 ? points.length : k;
    points.splice(at, 0, [x, y]);
    return at;
  }

  place(points, k, [x, y]) {
    const low = k ? points[k - 1][0] + NEAR : 0, high = k < points.length - 1 ? points[k + 1][0] - NEAR : 1;
    points[k] = [Math.max(low, Math.min(high, x)), Math.max(0, Math.min(1, y))];
    this.draw(points);
    this.bench.try({ curve: points });
  }

  follow(points, k, where) {
    this.draw(points);
    const move = (event) => this.place(points, k, where(event));
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", () => { window.removeEventListener("pointermove", move); this.decide(points); }, { once: true });
  }

  /** A tone of the picture is dragged: `found` is where it lies, `ended` where the hand has lifted already. */
  drag(found, begin, ended) {
    const points = this.whole(), scale = 260;
    const k = this.insert(points, [found.tone, found.curve]);
    const x = points[k][0];
    const where = (event) => [x, found.curve + (begin - event.clientY) / scale];
    if (ended !== null) { this.place(points, k, where({ clientY: ended })); return this.decide(points); }
    return this.follow(points, k, where);
  }

  decide(points) { return this.bench.change({ curve: points.map((p) => p.map((v) => Number(v.toFixed(4)))) }, "Tone curve"); }

  remove(k) {
    const { points } = this;
    points.splice(k, 1);
    return this.bench.change({ curve: points.length < 2 ? [] : points }, "Point of the tone curve removed");
  }

  key(event) {
    const point = event.target.closest?.("#curve .point");
    if (!point) return;
    const k = Number(point.dataset.point), by = event.shiftKey ? 0.05 : 0.01;
    if (event.key === "Delete" || event.key === "Backspace") { event.preventDefault(); this.remove(k); return; }
    const move = { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, by], ArrowDown: [0, -by] }[event.key];
    if (!move) return;
    event.preventDefault();
    const { points } = this;
    this.place(points, k, [points[k][0] + move[0], points[k][1] + move[1]]);
    document.querySelectorAll("#curve .point")[k].focus();
    this.decide(points);
  }
}
