// The picture: tiles for pan and zoom, and a fresh piece of what is in view wherever tiles would be too slow.
import { send } from "../shell/page.js";
import { quiet, rouse, wake } from "./beat.js";

const TILE = 512;

export class Picture {
  constructor(page) {
    this.page = page;
    this.box = document.querySelector(".mat");
    this.fresh = document.getElementById("fresh");
    this.caption = document.getElementById("caption");
    this.items = [];
    this.shown = "";
    this.piece = null;
    this.wipe = 0.5;
    this.rhythm = 600;
    this.amplified = 4;
    this.instead = "";
  }

  open() {
    const { size } = this.page.state;
    quiet();
    this.viewer = OpenSeadragon({
      element: document.getElementById("viewer"),
      drawer: "canvas",
      showNavigationControl: false,
      animationTime: 0.25,
      springStiffness: 10,
      blendTime: 0,
      immediateRender: true,
      minZoomImageRatio: 0.6,
      maxZoomPixelRatio: 8,
      visibilityRatio: 0.3,
      zoomPerScroll: 1.3,
      imageLoaderLimit: 4,
      maxImageCacheCount: 160,
      imageSmoothingEnabled: true,
      gestureSettingsMouse: { clickToZoom: false, dblClickToZoom: false },
      gestureSettingsTouch: { clickToZoom: false, dblClickToZoom: false },
    });
    rouse(this.viewer);
    // the page has keys of its own
    this.viewer.innerTracker.keyHandler = null;
    this.viewer.innerTracker.keyDownHandler = null;
    this.viewer.drawer.setImageSmoothingEnabled?.(true);
    this.width = size[0];
    for (const name of ["animation", "resize", "open", "rotate"]) this.viewer.addHandler(name, () => this.moved());
    this.viewer.addHandler("update-viewport", () => this.drawFresh());
    this.viewer.element.addEventListener("pointermove", (event) => { this.pointer = new OpenSeadragon.Point(event.offsetX, event.offsetY); });
  }

  // ---- what is shown ----

  /** The name under which the server knows a view, for the frame chosen. */
  what(view) {
    const { chosen, state } = this.page;
    if (view === "frame") return `frame:${this.instead || chosen}`;
    if (view === "mask" || view === "mask-alone") return `${view}:${chosen}`;
    if (view === "difference" || view === "matched") return `${view}:${chosen}:${state.reference}:${this.amplified}`;
    if (view === "outlines") return `outlines:${chosen}:${state.reference}`;
    if (view === "capture") return `capture:all:${chosen}`;
    if (view === "edges" || view === "drift") return `${view}:${chosen}`;
    if (view === "area") return state.lookValues.areas.length ? `area:${Math.min(this.page.parts.even.areas.chosen, state.lookValues.areas.length - 1)}` : "weave";
    if (view === "light") return state.finishValues.light.length ? `light:${this.page.parts.finish.maps.chosen}` : "weave";
    return view === "compare" ? "weave" : view;
  }

  /** What the weave is compared with: the chosen frame, or a variant. */
  against() { return this.page.against || `frame:${this.page.chosen}`; }

  get finishing() { return ["finish", "deliver"].includes(this.page.stage); }

  /** Query of everything but the place. */
  query(before = this.page.before === "whole") {
    const { page } = this;
    const q = new URLSearchParams();
    if (before) q.set("before", 1);
    if (page.clipping || page.ends) q.set("clipping", 1);
    if (this.finishing) {
      q.set("finished", 1);
      if (before && page.part) q.set("part", page.part);
      if (page.printed !== undefined && page.stage === "deliver") q.set("printed", page.printed);
    }
    if (page.spanning) q.set("span", page.spanning.join());
    return q;
  }

  version(what) {
    const { state } = this.page;
    const of = what.startsWith("frame:") ? this.page.frame(what.slice(6))?.version : state.weave + state.capture + state.frames.map((f) => f.version).join("") + (what.startsWith("variant:") ? state.variants[what.slice(8)]?.version : "");
    return `${of}${state.look}${this.finishing ? state.finish : ""}`.replace(/[^a-z0-9.-]/gi, "");
  }

  source(what, before) {
    const { state } = this.page, [width, height] = state.size;
    const version = this.version(what), query = this.query(before);
    query.set("s", state.version);
    return {
      key: `${what}|${version}|${this.query(before)}`,
      source: {
        width, height, tileSize: TILE, minLevel: 0, maxLevel: state.levels - 1,
        getTileUrl: (level, x, y) => `/scene/${state.scene}/tile/${what}/${version}/${state.levels - 1 - level}/${x}/${y}.jpg?${query}`,
      },
    };
  }

  show(view) {
    const { page } = this, { state } = page;
    const none = document.getElementById("no-picture");
    none.hidden = Boolean(state.size);
    const read = { cancelled: "Reading the frames was cancelled. Look again, in Gather, reads them.", failed: "The frames could not be read; the notebook tells why. Look again, in Gather, tries once more." };
    none.textContent = (!state.busy && read[state.jobState]) || none.dataset.reading;
    if (!state.size) return;
    if (!this.viewer) this.open();
    this.say();
    const wanted = [this.source(this.what(view))];
    if (view === "compare") wanted.push(this.source(this.against()));
    else if (view === "capture") wanted.push(this.source(`capture:${page.without}:${page.chosen}`));
    else if (page.before === "wipe") wanted.push(this.source(this.what(view), true));
    this.beside(page.before === "side" ? this.source(this.what(view), true) : page.pairing ? this.source(this.against()) : null);
    if (page.blinking) wanted.splice(0, 1, ...this.blinked().map((what) => this.source(what)));
    const key = wanted.map((w) => w.key).join("&");
    if (key === this.shown) return;
    const first = !this.shown;
    this.shown = key;
    this.begin = performance.now();
    if (first) this.lay(wanted, key);
    else this.look().then(() => { if (this.shown === key) this.lay(wanted, key); });
  }

  /** Lay tiled pictures over those there are, which go once the new ones are whole. */
  lay(wanted, key) {
    wake();
    const old = this.items;
    this.items = [];
    let left = wanted.length;
    wanted.forEach((want, index) => this.viewer.addTiledImage({
      tileSource: want.source, x: 0, y: 0, width: 1, preload: true,
      success: ({ item }) => {
        if (this.shown !== key) { this.viewer.world.removeItem(item); return; }
        this.items[index] = item;
        const whole = () => {
          if (item.done) return;
          item.done = true;
          left -= 1;
          if (left === 0) { for (const o of old) if (o) this.viewer.world.removeItem(o); if (this.shown === key) { this.piece = null; this.drawFresh(); this.box.dataset.whole = key; } }
        };
        item.addHandler("fully-loaded-change", (event) => { if (event.fullyLoaded) whole(); });
        if (item.getFullyLoaded()) whole();
        this.arrange();
        this.moved();
      },
    }));
    this.arrange();
  }

  /** What blinks, in turn. */
  blinked() {
    const { state, chosen, blinking } = this.page;
    if (blinking === "pair") return ["weave", this.against()];
    return (blinking === "all" ? state.frames.filter((f) => f.kept).map((f) => f.id) : [chosen, state.reference]).map((id) => `frame:${id}`);
  }

  /** Show the tiles so many pixels of the picture aside, until others are laid. */
  aside(right, down) {
    this.piece = null;
    this.drawFresh();
    this.items[0]?.setPosition(new OpenSeadragon.Point(right / this.width, down / this.width), true);
  }

  /** Lay an SVG group in pixels of the picture where the picture is. */
  follow(group) {
    if (!this.viewer) return;
    const at = this.toScreen(-0.5, -0.5);
    group.setAttribute("transform", `translate(${at.x} ${at.y}) scale(${this.scale()})`);
  }

  arrange() {
    clearInterval(this.blinker);
    const [below, above] = this.items;
    const { page } = this;
    if (this.split && above) this.clip();
    else if (page.blinking && below && above) {
      const turns = this.blinked();
      let on = turns.length - 1;
      this.blinker = setInterval(() => {
        on = (on + 1) % turns.length;
        // those above hide those below: one at a time is taken away or laid on, so that none is seen through another
        this.items.forEach((item, place) => { if (place) item?.setOpacity(place <= on ? 1 : 0); });
        wake();
        this.say(turns[on]);
      }, this.rhythm);
    }
    this.wipeLine();
  }

  // ---- a fresh piece of what is in view ----

  /** The part of the picture in view, in its pixels: x, y, w, h. */
  inView() {
    const item = this.items.find(Boolean) || this.viewer.world.getItemAt(0);
    const bounds = this.viewer.viewport.getBoundsNoRotate(false);
    const w = this.width, [, height] = this.page.state.size;
    if (!item) return [0, 0, w, height];
    const x0 = Math.max(0, bounds.x * w), y0 = Math.max(0, bounds.y * w);
    const x1 = Math.min(w, (bounds.x + bounds.width) * w), y1 = Math.min(height, (bounds.y + bounds.height) * w);
    return [x0, y0, Math.max(8, x1 - x0), Math.max(8, y1 - y0)];
  }

  /** Fetch what is in view as one picture; resolves to it with its box, or null where a newer one was asked for. */
  async fetch(what, look) {
    const [x, y, w, h] = this.inView();
    const scale = this.viewer.viewport.getContainerSize().x / (this.viewer.viewport.getBoundsNoRotate(false).width * this.width);
    const wide = Math.max(64, Math.min(4096, Math.round(w * Math.min(1, scale * devicePixelRatio))));
    const query = this.query();
    for (const [k, v] of Object.entries({ x: x.toFixed(1), y: y.toFixed(1), w: w.toFixed(1), h: h.toFixed(1), wide })) query.set(k, v);
    const url = `/scene/${this.page.state.scene}/viewport/${what}.jpg?${query}`;
    const answer = await (look ? send(url, { method: "POST", body: JSON.stringify(look) }) : fetch(url));
    if (!answer.ok) return null;
    return { box: answer.headers.get("X-Box").split(",").map(Number), bitmap: await createImageBitmap(await answer.blob()) };
  }

  /** Whether two pictures share the mat, parted by a line. */
  get split() { return ["compare", "capture"].includes(this.page.view) || this.page.before === "wipe"; }

  /** The picture before the look, in a second pane that follows the first; null closes it. */
  beside(want) {
    this.box.classList.toggle("side", Boolean(want));
    if (!want) {
      if (this.second) { this.second.destroy(); requestAnimationFrame(() => { this.viewer.forceResize(); this.fit(); }); }
      this.second = null;
      this.secondKey = "";
      return;
    }
    if (this.secondKey === want.key) return;
    this.secondKey = want.key;
    this.second?.destroy();
    this.second = OpenSeadragon({ element: document.getElementById("beside"), drawer: "canvas", showNavigationControl: false, animationTime: 0, blendTime: 0, immediateRender: true, minZoomImageRatio: 0.6, maxZoomPixelRatio: 8, visibilityRatio: 0.3, mouseNavEnabled: false, imageLoaderLimit: 2, tileSources: want.source });
    rouse(this.second);
    this.second.addHandler("open", () => this.lead());
    this.second.addHandler("tile-drawn", () => { this.box.dataset.beside = want.key; });
    // the first pane has become half as wide
    requestAnimationFrame(() => { this.viewer.forceResize(); this.fit(); });
  }

  lead() {
    if (!this.second?.viewport) return;
    this.second.viewport.zoomTo(this.viewer.viewport.getZoom(true), null, true);
    this.second.viewport.panTo(this.viewer.viewport.getCenter(true), true);
    this.box.dataset.besideZoom = ((this.second.viewport.getContainerSize().x * this.second.viewport.getZoom(true) * devicePixelRatio) / this.width).toFixed(2);
  }

  /** Show what is in view anew, at once, over the tiles; `live` is a look that is being tried. */
  async look(live) {
    if (this.running) { this.next = { live }; return this.running; }
    const ask = async () => {
      const begin = performance.now(), key = this.shown;
      const piece = await this.fetch(this.what(this.page.view), live).catch(() => null);
      if (piece) { this.piece = piece; this.drawFresh(); this.freshKey = key; this.box.dataset.freshMs = Math.round(performance.now() - begin); this.box.dataset.fresh = Number(this.box.dataset.fresh || 0) + 1; }
    };
    this.running = ask();
    await this.running;
    this.running = null;
    if (this.next) { const { live: again } = this.next; this.next = null; await this.look(again); }
    return undefined;
  }

  drawFresh() {
    const canvas = this.fresh, ratio = devicePixelRatio;
    const w = Math.round(this.box.clientWidth * ratio), h = Math.round(this.box.clientHeight * ratio);
    if (canvas.width !== w || canvas.height !== h) { canvas.width = w; canvas.height = h; }
    const context = canvas.getContext("2d");
    context.clearRect(0, 0, w, h);
    if (!this.piece || !this.viewer) return;
    this.paint(context, this.piece, ratio);
  }

  /** Draw a piece where it lies on screen. */
  paint(context, piece, ratio) {
    const [x, y, w, h] = piece.box;
    const a = this.toScreen(x - 0.5, y - 0.5), scale = this.scale();
    context.save();
    context.imageSmoothingQuality = "high";
    context.translate(a.x * ratio, a.y * ratio);
    context.rotate((this.viewer.viewport.getRotation(true) * Math.PI) / 180);
    context.drawImage(piece.bitmap, 0, 0, w * scale * ratio, h * scale * ratio);
    context.restore();
  }

  // ---- places ----

  /** Screen pixels a pixel of the picture. */
  scale() { return (this.viewer.viewport.getContainerSize().x * this.viewer.viewport.getZoom(true)) / this.width; }

  /** From pixels of the picture (centres at integers) to pixels of the mat. */
  toScreen(x, y) { return this.viewer.viewport.pixelFromPoint(new OpenSeadragon.Point((x + 0.5) / this.width, (y + 0.5) / this.width), true); }

  toPicture(x, y) {
    const p = this.viewer.viewport.pointFromPixel(new OpenSeadragon.Point(x, y), true);
    return [p.x * this.width - 0.5, p.y * this.width - 0.5];
  }

  /** A place of the picture in the middle, at so many screen pixels for one of it. */
  centre(x, y, ratio) {
    if (!this.viewer) return;
    this.zoomTo(ratio);
    this.viewer.viewport.panTo(new OpenSeadragon.Point((x + 0.5) / this.width, (y + 0.5) / this.width));
    this.viewer.viewport.applyConstraints();
  }

  fit() { this.viewer?.viewport.goHome(); }

  zoomTo(ratio, at) {
    if (!this.viewer) return;
    const { viewport } = this.viewer;
    const zoom = (ratio * this.width) / (viewport.getContainerSize().x * devicePixelRatio);
    const point = at ? viewport.pointFromPixel(at) : viewport.getCenter();
    viewport.zoomTo(zoom, point);
    viewport.applyConstraints();
  }

  /** 1:1 at the pointer, and again 2:1. */
  closer() {
    if (!this.viewer) return;
    const now = this.viewer.viewport.getZoom() * this.viewer.viewport.getContainerSize().x * devicePixelRatio / this.width;
    this.zoomTo(now > 0.99 && now < 1.9 ? 2 : 1, this.pointer);
  }

  turn(degrees) { this.viewer?.viewport.setRotation(degrees, true); }

  /** The mat has another size: a picture that was seen whole still is. */
  resized() {
    if (!this.viewer) return;
    const { viewport } = this.viewer, whole = Math.abs(viewport.getZoom() / viewport.getHomeZoom() - 1) < 0.02;
    this.viewer.forceResize();
    if (whole) viewport.goHome(true);
  }

  moved() {
    const zoom = this.scale() * devicePixelRatio;
    document.getElementById("zoom").textContent = zoom >= 0.995 ? `${zoom.toFixed(zoom < 1.05 ? 0 : 1)}:1` : `1:${(1 / zoom).toFixed(1)}`;
    this.wipeLine();
    this.page.tell("moved");
    this.lead();
  }

  // ---- words on the picture, the wipe ----

  say(turn) {
    const { page } = this, found = page.frame(turn?.startsWith("frame:") ? turn.slice(6) : this.instead || page.chosen);
    const name = found ? `frame ${found.number}${found.name ? `, ${found.name}` : ""}` : "";
    const { state } = page;
    const weave = state.woven ? "weave" : state.labelled ? "weave, as far as it is seen" : state.registered ? "reference frame; not woven yet" : "one frame; not woven yet";
    const without = { demosaic: "the usual demosaicing", highlights: "highlights cut", noise: "noise as it came", fringes: "fringes as they came", sharpening: "without sharpening" }[page.without] || `without the correction of ${page.without}`;
    const words = { capture: `${name}: left ${without}, right as set`, edges: `${name}: white is where capture sharpening acts`, drift: `${name}: rust where it is still unlike the reference, full at ΔE 3`, area: "the chosen area, hatched", frame: name, weave, unpainted: `${weave}, without strokes`, share: `share map: which frame is sharpest where, plain where none is${state.sums ? "; joint light sums all of them" : ""}`, "mask-alone": `mask of ${name} by itself: white is where it gives all`, light: "the chosen map, hatched", order: "from near, brown, to far, violet, as the weave found it", veils: "green lines: a veil was lifted; rust lines: a near thing that stays as woven", mask: `mask of ${name}`, difference: `difference of ${name} and the reference, × ${this.amplified}`, matched: `difference of ${name} and the reference, blur matched, × ${this.amplified}`, outlines: `edges: ${name} rust, reference green, both white`, compare: `left ${page.against ? this.name(page.against) : name}, right the weave` };
    if (page.blinking === "pair" && turn) { this.caption.textContent = turn === "weave" ? weave : this.name(turn); return; }
    if (page.pairing) { this.caption.textContent = `left the weave, right ${this.name(this.against())}`; return; }
    const stage = this.finishing ? (page.part ? `without ${page.part === "light" ? "painted light" : page.part}` : "before the finish") : "before the look";
    const before = { whole: ` · ${stage}`, wipe: ` · left ${stage}`, side: ` · right ${stage}` }[page.before] || "";
    this.caption.textContent = words[page.view] + before;
  }

  /** A frame or a variant in words. */
  name(what) {
    const found = what.startsWith("frame:") ? this.page.frame(what.slice(6)) : null;
    return found ? `frame ${found.number}${found.name ? `, ${found.name}` : ""}` : this.page.state.variants[what.slice(8)]?.name ?? what;
  }

  clip() {
    const above = this.items[1];
    if (!above) return;
    const [width, height] = this.page.state.size;
    const [x] = this.toPicture(this.box.clientWidth * this.wipe, 0);
    above.setClip(new OpenSeadragon.Rect(0, 0, Math.max(1, Math.min(width, x)), height));
  }

  wipeLine() {
    const over = document.getElementById("over");
    let line = over.querySelector(".wipe");
    if (!this.split) { line?.remove(); return; }
    if (!line) {
      line = document.createElementNS("http://www.w3.org/2000/svg", "g");
      line.setAttribute("class", "wipe");
      line.innerHTML = '<line class="line"/><rect class="grip" width="14" height="44" rx="2"/><line class="hit"/>';
      over.append(line);
      line.addEventListener("pointerdown", (event) => { line.setPointerCapture(event.pointerId); this.wiping = true; });
      line.addEventListener("pointermove", (event) => {
        if (!this.wiping) return;
        this.wipe = Math.max(0.02, Math.min(0.98, (event.clientX - this.box.getBoundingClientRect().left) / this.box.clientWidth));
        this.clip();
        this.wipeLine();
      });
      line.addEventListener("pointerup", () => { this.wiping = false; });
    }
    const x = this.box.clientWidth * this.wipe, h = this.box.clientHeight;
    for (const l of line.querySelectorAll("line")) { l.setAttribute("x1", x); l.setAttribute("x2", x); l.setAttribute("y1", 0); l.setAttribute("y2", h); }
    line.querySelector("rect").setAttribute("x", x - 7);
    line.querySelector("rect").setAttribute("y", h / 2 - 22);
    this.clip();
  }
}
