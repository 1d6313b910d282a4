// The brush of Weave and Mend: a stroke is seen while it is drawn and posted when the hand lifts.
import { post, tell } from "../shell/page.js";

const WAYS = { weave: ["in", "out"], mend: ["draw", "heal"], finish: ["lay", "rub"] };
/** Where the way of a stage is kept. */
const KEPT = { weave: "way", mend: "mending", finish: "laying" };

export class Brush {
  constructor(page) {
    this.page = page;
    this.canvas = document.getElementById("brush");
    this.box = document.querySelector(".mat");
    this.on = false;
    this.way = "in";
    this.values = { width: 55, softness: 70, opacity: 100 };
    this.edges = false;
    this.mending = "draw";
    this.laying = "lay";
    this.fitted = false;
    this.points = [];
    this.layer = document.createElement("canvas");
    this.box.addEventListener("pointermove", (event) => this.hover(event));
    this.box.addEventListener("pointerleave", () => { this.at = null; this.draw(); });
    this.canvas.addEventListener("pointerdown", (event) => this.press(event));
    this.canvas.addEventListener("pointermove", (event) => this.drag(event));
    this.canvas.addEventListener("pointerup", (event) => this.lift(event));
    this.canvas.addEventListener("pointercancel", () => { this.points = []; this.drawing = false; this.draw(); });
    this.canvas.addEventListener("wheel", (event) => {
      // the wheel zooms, brush or not
      event.preventDefault();
      const { viewport } = page.picture.viewer;
      viewport.zoomBy(event.deltaY < 0 ? 1.3 : 1 / 1.3, viewport.pointFromPixel(new OpenSeadragon.Point(event.offsetX, event.offsetY)));
      viewport.applyConstraints();
    }, { passive: false });
    document.addEventListener("click", (event) => {
      if (event.target.closest("[data-tool=brush]")) this.put(!this.on);
      const beside = event.target.closest("[data-beside]");
      if (beside) post(beside.dataset.beside, { frame: this.from });
      const way = event.target.closest("[data-way]")?.dataset.way;
      if (way && this.stage) { this[KEPT[this.stage]] = way; if (!this.on) this.put(true); this.dress(); }
    });
    document.addEventListener("change", (event) => {
      if (event.target.id === "b-edges") this.edges = event.target.checked;
      if (event.target.id === "b-fitted") this.fitted = event.target.checked;
      if (event.target.id === "draw-from") { this.exposure = event.target.value; this.changed(); }
      if (event.target.id !== "region-way") return;
      this.region = event.target.value;
      this.way = "way";
      if (!this.on) this.put(true);
      this.dress();
    });
    document.addEventListener("input", (event) => {
      const name = event.target.closest("[data-brush]")?.dataset.brush;
      if (name) { this.values[name] = Number(event.target.value); this.dress(); }
    });
  }

  get stage() { return document.querySelector("[data-brush-for]")?.dataset.brushFor; }
  get action() { return this[KEPT[this.stage] ?? "way"]; }

  /** What is painted with: the chosen frame, or the one of its exposures that is drawn from. */
  get from() {
    return this.action === "draw" && this.merged.some((e) => e.id === this.exposure) ? this.exposure : this.page.chosen;
  }
  /** The exposures of which the chosen frame is merged. */
  get merged() {
    const frame = this.page.frame(this.page.chosen);
    return frame && !frame.use ? frame.exposures : [];
  }

  /** Width in pixels of the picture: the ruler is logarithmic from 4 to 2000. */
  width() { return Math.round(4 * 500 ** (this.values.width / 100)); }

  put(on) {
    const { state } = this.page;
    if (on && !this.stage) return;
    const light = this.stage === "finish";
    if (on && !light && !state.registered) { tell("Register the frames first; then they can be painted with."); return; }
    if (on && this.stage === "weave" && !this.page.frame(this.page.chosen)?.kept) { tell("The chosen frame is left out. Choose another on the rail."); return; }
    if (on && this.action === "draw" && !this.page.frame(this.from)?.drawable) { tell("It has no part in the weave. Register it under By hand; then it can be drawn from."); return; }
    this.on = on;
    if (on && !["weave", "share", "mask", "mask-alone"].includes(this.page.view)) this.page.setView("weave");
    this.changed();
    this.dress();
  }

  turn() {
    const [one, other] = WAYS[this.stage] ?? [];
    if (!one) return;
    this[KEPT[this.stage]] = this.action === one ? other : one;
    this.dress();
  }
  nudge(name, by) { this.values[name] = Math.max(name === "opacity" ? 5 : 0, Math.min(100, this.values[name] + by)); this.dress(); }
  pause(on) { if (this.on) this.canvas.classList.toggle("through", on); }

  /** Hold to see the chosen frame through the brush. */
  through(on) {
    if (this.seeing === on) return;
    this.seeing = on;
    if (on) this.lookThrough(); else this.draw();
  }

  dress() {
    for (const [name, value] of Object.entries(this.values)) {
      const field = document.getElementById(`b-${name}`);
      if (!field) continue;
      field.value = value;
      field.closest(".ruler").querySelector("output").textContent = name === "width" ? this.width() : value;
    }
    const edges = document.getElementById("b-edges");
    if (edges) edges.checked = this.edges;
    const fitted = document.getElementById("b-fitted");
    if (fitted) fitted.checked = this.fitted;
    this.dressFrom();
    document.querySelector("[data-tool=brush]")?.setAttribute("aria-pressed", this.on);
    const region = document.getElementById("region-way");
    if (region && this.region !== undefined && [...region.options].some((option) => option.value === this.region)) region.value = this.region;
    for (const button of document.querySelectorAll("[data-way]")) button.setAttribute("aria-pressed", button.dataset.way === this.action);
    this.canvas.classList.toggle("on", this.on);
    this.draw();
  }

  /** What can be drawn from: of a frame that is merged its exposures, too; of what has no part in the weave only what is registered. */
  dressFrom() {
    const select = document.getElementById("draw-from"), told = document.getElementById("draw-told");
    if (!select || !told) return;
    const { page, merged } = this, frame = page.frame(page.chosen);
    const options = merged.length ? [{ id: frame.id, word: "All exposures merged" }, ...merged.map((e) => ({ id: e.id, word: `Exposure ${e.number}` }))] : [];
    select.replaceChildren(...options.map(({ id, word }) => new Option(word, id, false, id === this.from)));
    select.hidden = !options.length;
    const out = page.frame(this.from);
    if (!out) return;
    const missing = !out.drawable && page.state.registered, called = frame === out ? `Frame ${out.number}${out.name && `, ${out.name}`}` : `Exposure ${out.number}`;
    told.querySelector("span").textContent = missing ? `${called} has no part in the weave. To draw from it:` : `${called}.`;
    told.querySelector("button").hidden = !missing;
    document.getElementById("draw-how").hidden = missing;
  }

  /** The page shows something else: look through the brush anew. */
  changed() {
    if (!this.stage) this.on = false;
    this.canvas.classList.toggle("on", this.on);
    if ((this.on && this.stage !== "finish") || this.seeing) this.lookThrough();
    this.dress();
  }

  moved() {
    clearTimeout(this.settling);
    if ((this.on && this.stage !== "finish") || this.seeing) this.settling = setTimeout(() => this.lookThrough(), 120);
    this.draw();
  }

  async lookThrough() {
    const { page } = this, { from } = this;
    if (!page.picture.viewer || !from || (this.action === "draw" && !page.frame(from)?.drawable)) return;
    const key = [page.picture.source(`frame:${from}`).key, ...page.picture.inView()].join();
    if (key === this.pieceKey) { this.draw(); return; }
    this.pieceKey = key;
    const piece = await page.picture.fetch(`frame:${from}`).catch(() => null);
    if (piece) { this.piece = piece; this.pieceOf = from; this.draw(); }
  }

  // ---- the hand ----

  hover(event) {
    const box = this.box.getBoundingClientRect();
    this.at = { x: event.clientX - box.left, y: event.clientY - box.top };
    if (this.on || this.seeing) this.draw();
  }

  press(event) {
    if (!this.on || event.button !== 0) return;
    this.canvas.setPointerCapture(event.pointerId);
    this.drawing = true;
    this.points = [this.place(event)];
    this.draw();
  }

  drag(event) {
    if (!this.drawing) return;
    for (const e of event.getCoalescedEvents?.() || [event]) {
      const next = this.place(e), last = this.points.at(-1);
      if (Math.hypot(next[0] - last[0], next[1] - last[1]) >= Math.max(0.5, this.width() / 16)) this.points.push(next);
    }
    this.hover(event);
  }

  async lift() {
    if (!this.drawing) return;
    this.drawing = false;
    const { page } = this, begin = performance.now();
    const line = {
      width: this.width(), softness: this.values.softness / 100, opacity: this.values.opacity / 100,
      points: thinned(this.points, 4000).map(([x, y]) => [Number(x.toFixed(1)), Number(y.toFixed(1))]),
    };
    const light = this.stage === "finish", stroke = light ? { ...line, erase: this.laying === "rub" } : {
      ...line, action: this.action, ...(this.action === "way" ? { way: document.getElementById("region-way").value } : { frame: this.from }), edges: this.edges, fitted: this.action === "draw" && this.fitted,
    };
    const { picture } = page, before = picture.shown, url = document.querySelector("[data-stroke]").dataset.stroke;
    // what was asked for before the stroke may still come in; the stroke has landed with what was asked for after it
    const landed = new MutationObserver(() => {
      if (picture.shown !== before && picture.freshKey === picture.shown) {
        landed.disconnect();
        // the next stroke may have begun
        if (!this.drawing) { this.points = []; this.draw(); }
        this.box.dataset.strokeMs = Math.round(performance.now() - begin);
        this.box.dataset.strokes = Number(this.box.dataset.strokes || 0) + 1;
      }
    });
    landed.observe(this.box, { attributes: true, attributeFilter: ["data-fresh"] });
    await post(url, { stroke: JSON.stringify(stroke), ...(light && { map: page.parts.finish.maps.chosen }) });
    setTimeout(() => { landed.disconnect(); if (!this.drawing) { this.points = []; this.draw(); } }, 4000);
  }

  place(event) {
    const box = this.box.getBoundingClientRect();
    return this.page.picture.toPicture(event.clientX - box.left, event.clientY - box.top);
  }

  // ---- drawing ----

  draw() {
    const ratio = devicePixelRatio, { canvas } = this;
    const w = Math.round(this.box.clientWidth * ratio), h = Math.round(this.box.clientHeight * ratio);
    for (const c of [canvas, this.layer]) if (c.width !== w || c.height !== h) { c.width = w; c.height = h; }
    const context = canvas.getContext("2d");
    context.clearRect(0, 0, w, h);
    const { picture } = this.page;
    if (!picture.viewer) return;
    const scale = picture.scale(), radius = (this.width() / 2) * scale;
    if (this.points.length) this.drawStroke(context, radius, ratio);
    if (!this.at || !(this.on || this.seeing)) return;
    if (this.seeing && this.piece && !this.drawing) this.reveal(context, [[this.at.x, this.at.y]], Math.max(radius, 30), ratio, 1);
    this.ring(context, radius, ratio);
  }

  ring(context, radius, ratio) {
    const { x, y } = this.at;
    const inner = radius * (1 - this.values.softness / 100);
    for (const [r, dash] of [[radius, []], [inner, [2, 4]]]) {
      for (const [colour, line] of [["rgba(0,0,0,.65)", 3], ["#fff", 1.2]]) {
        context.beginPath();
        context.setLineDash(dash.map((d) => d * ratio));
        context.arc(x * ratio, y * ratio, Math.max(1, r * ratio), 0, 7);
        context.lineWidth = line * ratio;
        context.strokeStyle = colour;
        context.stroke();
      }
    }
    context.setLineDash([]);
    const sharpest = this.action === "draw" ? this.page.parts.mend?.walk.words : "";
    const light = this.stage === "finish" ? `${this.laying === "rub" ? "rub out " : ""}${this.page.parts.finish.maps.name}` : "";
    if ((this.stage === "weave" || this.action === "heal" || sharpest || light) && this.on) {
      context.font = `${12 * ratio}px sans-serif`;
      context.textAlign = "center";
      context.lineWidth = 3 * ratio;
      context.strokeStyle = "rgba(0,0,0,.65)";
      context.fillStyle = "#fff";
      const word = light ? light : sharpest || this.action === "heal" ? sharpest || "heal" : this.way === "way" ? document.getElementById("region-way")?.selectedOptions[0].textContent ?? "" : `${this.way} ${this.page.frame(this.page.chosen)?.number ?? ""}`;
      context.strokeText(word, x * ratio, (y + radius + 14) * ratio);
      context.fillText(word, x * ratio, (y + radius + 14) * ratio);
    }
  }

  drawStroke(context, radius, ratio) {
    const { picture } = this.page;
    const points = this.points.map(([x, y]) => { const p = picture.toScreen(x, y); return [p.x, p.y]; });
    if (["in", "draw"].includes(this.action) && this.piece && this.pieceOf === this.from) this.reveal(context, points, radius, ratio, this.values.opacity / 100);
    else this.veil(context, points, radius, ratio);
  }

  /** The chosen frame's own pixels under the stroke: what will be there when the hand lifts. */
  reveal(context, points, radius, ratio, opacity) {
    const layer = this.layer.getContext("2d");
    layer.globalCompositeOperation = "source-over";
    layer.clearRect(0, 0, this.layer.width, this.layer.height);
    this.trace(layer, points, radius, ratio, opacity);
    layer.globalCompositeOperation = "source-in";
    this.page.picture.paint(layer, this.piece, ratio);
    context.drawImage(this.layer, 0, 0);
  }

  veil(context, points, radius, ratio) {
    const layer = this.layer.getContext("2d");
    layer.globalCompositeOperation = "source-over";
    layer.clearRect(0, 0, this.layer.width, this.layer.height);
    this.trace(layer, points, radius, ratio, this.values.opacity / 100);
    layer.globalCompositeOperation = "source-in";
    layer.fillStyle = this.stage === "finish" ? this.page.parts.finish.maps.colour(this.laying === "rub") : this.page.frame(this.page.chosen)?.colour || "#888";
    layer.fillRect(0, 0, this.layer.width, this.layer.height);
    context.globalAlpha = 0.55;
    context.drawImage(this.layer, 0, 0);
    context.globalAlpha = 1;
  }

  trace(layer, points, radius, ratio, opacity) {
    // a blurred line stands in for the soft rim until the weave itself shows it
    const soft = (radius * this.values.softness) / 100;
    layer.filter = soft > 0.5 ? `blur(${(soft * ratio) / 2.4}px)` : "none";
    layer.globalAlpha = opacity;
    layer.lineCap = layer.lineJoin = "round";
    layer.lineWidth = Math.max(1, 2 * (radius - soft / 2) * ratio);
    layer.strokeStyle = "#000";
    layer.beginPath();
    points.forEach(([x, y], i) => (i ? layer.lineTo(x * ratio, y * ratio) : layer.moveTo(x * ratio, y * ratio)));
    if (points.length === 1) layer.lineTo(points[0][0] * ratio + 0.01, points[0][1] * ratio);
    layer.stroke();
    layer.filter = "none";
    layer.globalAlpha = 1;
  }
}

function thinned(points, most) {
  if (points.length <= most) return points;
  const step = points.length / most;
  return Array.from({ length: most }, (_, i) => points[Math.floor(i * step)]);
}
