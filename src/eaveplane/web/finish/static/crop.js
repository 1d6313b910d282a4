// The crop box of Finish, on the straightened canvas; it is dragged on screen and posted as fractions.
import { post } from "../shell/page.js";

const SVG = "http://www.w3.org/2000/svg";

const HANDLES = [["nw", 0, 0, "Upper left corner"], ["n", 0.5, 0, "Upper side"], ["ne", 1, 0, "Upper right corner"], ["e", 1, 0.5, "Right side"], ["se", 1, 1, "Lower right corner"], ["s", 0.5, 1, "Lower side"], ["sw", 0, 1, "Lower left corner"], ["w", 0, 0.5, "Left side"]];

/** Rounded as the program rounds: halves to the even side. */
function even(value) {
  const below = Math.floor(value), rest = value - below;
  return rest === 0.5 ? below + below % 2 : Math.round(value);
}

export class CropBox {
  constructor(page) {
    this.page = page;
    this.over = document.getElementById("over");
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "crop");
    this.over.append(this.group);
    this.group.addEventListener("pointerdown", (event) => this.press(event));
    this.group.addEventListener("pointermove", (event) => this.drag(event));
    this.group.addEventListener("pointerup", () => this.lift());
    this.group.addEventListener("keydown", (event) => this.key(event));
    this.group.addEventListener("keyup", (event) => { if (this.box && event.key.startsWith("Arrow")) this.settle(); });
    this.group.addEventListener("focusout", () => { if (this.box && !this.held && !this.drawing) this.settle(); });
  }

  /** Centre and size, in pixels of the picture, of the largest box in the turned canvas. */
  room(degrees) {
    const [x, y, w, h] = this.page.state.canvas, { keystone } = this.page.state;
    if (keystone) return this.upright(degrees, keystone);
    const angle = Math.abs(degrees * Math.PI / 180);
    const c = Math.cos(angle), s = Math.sin(angle);
    const scale = angle ? Math.min(w / (w * c + h * s), h / (w * s + h * c)) : 1;
    // whole pixels, as they will be written
    return { cx: x + (w - 1) / 2, cy: y + (h - 1) / 2, w: Math.max(1, Math.trunc(w * scale)), h: Math.max(1, Math.trunc(h * scale)) };
  }

  /** The same where uprights were made parallel: about the middle, inside the canvas's corners as they lie then. */
  upright(degrees, m) {
    const [x, y, w, h] = this.page.state.canvas, angle = degrees * Math.PI / 180, c = Math.cos(angle), s = Math.sin(angle);
    const cx = x + (w - 1) / 2, cy = y + (h - 1) / 2;
    const corners = [[x, y], [x + w, y], [x + w, y + h], [x, y + h]].map(([px, py]) => {
      const [u, v, d] = m.map((row) => row[0] * (px - 0.5) + row[1] * (py - 0.5) + row[2]), dx = u / d - cx, dy = v / d - cy;
      return [c * dx - s * dy, s * dx + c * dy];
    });
    let scale = 1;
    corners.forEach(([ax, ay], k) => {
      const [bx, by] = corners[(k + 1) % 4], nx = by - ay, ny = ax - bx;
      scale = Math.min(scale, (nx * ax + ny * ay) / (Math.abs(nx) * w / 2 + Math.abs(ny) * h / 2));
    });
    return { cx, cy, w: Math.max(1, Math.trunc(w * scale)), h: Math.max(1, Math.trunc(h * scale)) };
  }

  draw(degrees) {
    const { page } = this, { picture, state } = page;
    const finishing = page.stage === "finish" || page.stage === "deliver";
    if (!state.size || !picture.viewer) return;
    const turn = finishing ? degrees ?? state.straighten : 0;
    if (picture.viewer.viewport.getRotation() !== turn) picture.turn(turn);
    const focused = document.activeElement?.closest?.(".crop [data-edge]")?.dataset.edge;
    this.drawing = true;
    this.group.replaceChildren();
    this.drawing = false;
    if (!finishing) return;
    const crop = this.box || state.crop, room = this.room(turn), scale = picture.scale();
    const centre = picture.toScreen(room.cx, room.cy);
    const left = centre.x - room.w * scale / 2, top = centre.y - room.h * scale / 2;
    const x = left + crop.x * room.w * scale, y = top + crop.y * room.h * scale, w = crop.w * room.w * scale, h = crop.h * room.h * scale;
    this.screen = { left, top, width: room.w * scale, height: room.h * scale };
    const big = 1e5;
    this.add("path", { class: "shade", "fill-rule": "evenodd", d: `M${-big} ${-big}H${big}V${big}H${-big}ZM${x} ${y}v${h}h${w}v${-h}Z` });
    const held = this.open;
    this.group.classList.toggle("still", !held);
    this.add("rect", { class: "box", x, y, width: w, height: h, "data-edge": "move", ...(held ? { tabindex: 0, role: "button", "aria-label": "The crop box: arrows move it, with Shift further" } : {}) });
    if (!held) return;
    this.add("path", { class: "guides", d: guides(document.getElementById("guides")?.value, x, y, w, h) });
    for (const [edge, ex, ey, name] of HANDLES) {
      const cx = x + w * ex, cy = y + h * ey;
      this.add("rect", { class: "handle", x: cx - 5, y: cy - 5, width: 10, height: 10 });
      this.add("rect", { class: "reach", x: cx - 12, y: cy - 12, width: 24, height: 24, "data-edge": edge, tabindex: 0, role: "button", "aria-label": `${name} of the crop box: arrows move it, with Shift further` });
    }
    if (focused) this.group.querySelector(`[data-edge=${focused}]`)?.focus({ preventScroll: true });
    const told = document.getElementById("crop-size");
    if (told) told.textContent = this.size(crop, room);
  }

  /** Whether the box can be taken: while its part of the bench is open. */
  get open() { return this.page.stage === "finish" && this.page.parts.finish.panel === "crop"; }

  /** The size that will be written, in words. */
  size(crop, room) {
    const part = (at, length, whole) => Math.max(1, Math.min(even(length * whole), whole - Math.min(even(at * whole), whole - 1)));
    const w = part(crop.x, crop.w, room.w), h = part(crop.y, crop.h, room.h), edge = this.page.state.longEdge;
    if (!edge || edge >= Math.max(w, h)) return `${w} × ${h} px`;
    const scale = edge / Math.max(w, h);
    return `${w} × ${h} px, written at ${Math.max(1, even(w * scale))} × ${Math.max(1, even(h * scale))} px`;
  }

  add(name, attributes) {
    const element = document.createElementNS(SVG, name);
    for (const [k, v] of Object.entries(attributes)) element.setAttribute(k, v);
    this.group.append(element);
  }

  // ---- the hand ----

  press(event) {
    const edge = event.target.dataset.edge;
    if (!edge || !this.open) return;
    this.group.setPointerCapture(event.pointerId);
    this.held = { edge, x: event.clientX, y: event.clientY, crop: { ...this.page.state.crop } };
  }

  key(event) {
    const by = event.shiftKey ? 20 : 4, { edge } = event.target.dataset;
    const move = { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, -by], ArrowDown: [0, by] }[event.key];
    if (!move || !edge || !this.open) return;
    event.preventDefault();
    event.stopPropagation();
    this.move(edge, this.box || this.page.state.crop, move[0] / this.screen.width, move[1] / this.screen.height);
  }

  drag(event) {
    if (!this.held) return;
    this.move(this.held.edge, this.held.crop, (event.clientX - this.held.x) / this.screen.width, (event.clientY - this.held.y) / this.screen.height);
  }

  /** Move an edge, a corner or all of a box by fractions of the room. */
  move(edge, crop, dx, dy) {
    let { x, y, w, h } = crop;
    const least = 0.03;
    if (edge === "move") { x = clamp(x + dx, 0, 1 - w); y = clamp(y + dy, 0, 1 - h); } else {
      let x1 = x + w, y1 = y + h;
      if (edge.includes("w")) x = clamp(x + dx, 0, x1 - least);
      if (edge.includes("e")) x1 = clamp(x1 + dx, x + least, 1);
      if (edge.includes("n")) y = clamp(y + dy, 0, y1 - least);
      if (edge.includes("s")) y1 = clamp(y1 + dy, y + least, 1);
      w = x1 - x; h = y1 - y;
      const ratio = this.wanted();
      if (ratio) ({ x, y, w, h } = held(ratio, { x, y, w, h }, crop, edge));
    }
    this.box = { x, y, w, h };
    this.draw();
  }

  async lift() {
    if (!this.held) return;
    this.held = null;
    if (this.box) await this.settle();
  }

  async settle() {
    const { box } = this;
    await this.post(box, document.getElementById("ratio").value);
    // the page reads what came back before its next frame: until then a key would start from where the box was
    await new Promise((done) => requestAnimationFrame(done));
    // a key may have moved it on meanwhile
    if (this.box === box) this.box = null;
  }

  post(box, ratio, paper) { return post(document.getElementById("ratio").dataset.post, { ...box, ratio, ...(paper && { paper }) }); }

  /** The wanted ratio of fractions: width over height, in units of the room. */
  wanted(name = document.getElementById("ratio")?.value) {
    if (!name || name === "free") return 0;
    const { w, h } = this.room(this.page.state.straighten);
    if (name === "frame") return 1;
    const [a, b] = name.split(":").map(Number);
    return (a / b) * (h / w);
  }

  /** The largest box of a ratio around the middle of the one there is. */
  ratio(name, paper) {
    const { crop } = this.page.state, wanted = this.wanted(name);
    if (!wanted) return this.post(crop, name, paper);
    const cx = crop.x + crop.w / 2, cy = crop.y + crop.h / 2;
    let w = Math.min(1, wanted), h = w / wanted;
    if (name !== "frame") { const room = Math.min(2 * Math.min(cx, 1 - cx), 2 * Math.min(cy, 1 - cy) * wanted); if (room > 0.3) { w = Math.min(w, room); h = w / wanted; } }
    return this.post({ x: clamp(cx - w / 2, 0, 1 - w), y: clamp(cy - h / 2, 0, 1 - h), w, h }, name, paper);
  }
}

/** Lines that help to place things in a box. */
function guides(kind, x, y, w, h) {
  const across = (part) => `M${x} ${y + h * part}h${w}`, down = (part) => `M${x + w * part} ${y}v${h}`;
  const line = (ax, ay, bx, by) => `M${x + w * ax} ${y + h * ay}L${x + w * bx} ${y + h * by}`;
  if (kind === "thirds") return [1 / 3, 2 / 3].map((p) => across(p) + down(p)).join("");
  if (kind === "golden") return [0.382, 0.618].map((p) => across(p) + down(p)).join("");
  if (kind === "centre") return across(0.5) + down(0.5);
  // from each corner at 45 degrees, as far as the box goes
  if (kind === "diagonals") { const s = Math.min(w, h); return [[x, y, 1, 1], [x + w, y, -1, 1], [x, y + h, 1, -1], [x + w, y + h, -1, -1]].map(([cx, cy, dx, dy]) => `M${cx} ${cy}l${s * dx} ${s * dy}`).join(""); }
  if (kind === "triangles") {
    // one diagonal, and from the other corners square to it
    const t = (w * w) / (w * w + h * h);
    return line(0, 1, 1, 0) + line(0, 0, t, 1 - t) + line(1, 1, 1 - t, t);
  }
  return "";
}

function clamp(value, low, high) { return Math.max(low, Math.min(Math.max(low, high), value)); }

/** A box brought to a ratio, the side or corner opposite to the one that is dragged held in its place. */
function held(ratio, box, before, edge) {
  let { w, h } = box;
  if (edge === "n" || edge === "s") w = h * ratio; else if (edge === "e" || edge === "w") h = w / ratio;
  else if (w / h > ratio) w = h * ratio; else h = w / ratio;
  const right = before.x + before.w, bottom = before.y + before.h;
  let x = edge.includes("w") ? right - w : before.x, y = edge.includes("n") ? bottom - h : before.y;
  const shrink = Math.min(1, edge.includes("w") ? right / w : (1 - x) / w, edge.includes("n") ? bottom / h : (1 - y) / h);
  w *= shrink; h *= shrink;
  if (edge.includes("w")) x = right - w;
  if (edge.includes("n")) y = bottom - h;
  return { x, y, w, h };
}
