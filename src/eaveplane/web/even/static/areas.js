// Areas: their list, their handles on the picture in pixels of the reference frame, and the brush that paints them.
const SVG = "http://www.w3.org/2000/svg";

export class Areas {
  constructor(bench) {
    this.bench = bench;
    this.page = bench.page;
    this.chosen = 0;
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "areas");
    document.getElementById("over").append(this.group);
    document.addEventListener("focusin", (event) => { const row = event.target.closest("#areas [data-area]"); if (row) this.choose(Number(row.dataset.area)); });
    this.group.addEventListener("pointerdown", (event) => this.press(event));
    this.group.addEventListener("keydown", (event) => this.key(event));
  }

  /** Kinds of parts with their names, and the fields that do something in an area, as the program has them. */
  get facts() { return JSON.parse(document.getElementById("areas").dataset.facts); }
  get areas() { return structuredClone(this.page.state.lookValues.areas || []); }

  choose(k) {
    if (this.chosen === k) return;
    this.chosen = k;
    this.draw();
    if (this.page.view === "area") this.page.show();
  }

  decide(areas, said) { return this.bench.change({ areas }, said); }

  // ---- the list ----

  fresh(kind) {
    const [x, y, w, h] = this.page.picture.inView();
    const cx = x + w / 2, cy = y + h / 2;
    return {
      graduated: { kind, x0: Math.round(cx), y0: Math.round(y + h * 0.3), x1: Math.round(cx), y1: Math.round(y + h * 0.55) },
      elliptical: { kind, x: Math.round(cx), y: Math.round(cy), rx: Math.round(w / 5), ry: Math.round(h / 5), angle: 0 },
      brushed: { kind, lines: [] },
      tones: { kind, low: 0.6, high: 1 },
      hues: { kind, hue: 250 },
      distance: { kind, near: 5 },
    }[kind];
  }

  click(event) {
    const on = (selector) => event.target.closest(selector);
    const made = on("[data-new-area]");
    const areas = this.areas;
    if (made) {
      const kind = made.dataset.newArea, name = this.facts.kinds[kind];
      const count = areas.filter((a) => a.name.startsWith(name)).length;
      areas.push({ name: `${name}${count ? ` ${count + 1}` : ""}`, parts: [this.fresh(kind)] });
      this.chosen = areas.length - 1;
      this.decide(areas, `Area: ${name.toLowerCase()}`);
      if (kind === "brushed" && this.bench.tool !== "area-paint") this.bench.put("area-paint");
      return;
    }
    const row = on("#areas [data-area]"), what = on("[data-area-do]")?.dataset.areaDo;
    const k = row ? Number(row.dataset.area) : this.chosen, area = areas[k];
    if (row) this.choose(k);
    if (!area) return;
    if (what === "up") { areas.splice(k - 1, 0, ...areas.splice(k, 1)); this.chosen = k - 1; this.decide(areas, `${area.name} moved earlier`); }
    if (what === "copy") { areas.splice(k + 1, 0, { ...structuredClone(area), name: `${area.name} copy`.slice(0, 80) }); this.chosen = k + 1; this.decide(areas, `${area.name} duplicated`); }
    if (what === "remove") { areas.splice(k, 1); this.chosen = Math.max(0, k - 1); this.decide(areas, `${area.name} removed`); }
    if (what === "reset") {
      for (const name of this.facts.fields) area[name] = 0;
      this.decide(areas, `${area.name} reset`);
    }
    if (on("[data-part-do=remove]")) { area.parts.splice(Number(on("[data-part]").dataset.part), 1); this.decide(areas, `Part of ${area.name} removed`); }
  }

  /** Whether a field was one of theirs. */
  changed(field) {
    const areas = this.areas;
    const row = field.closest("#areas [data-area]"), k = row ? Number(row.dataset.area) : this.chosen, area = areas[k];
    const { areaDo, partDo, newPart } = field.dataset;
    if (!area || !(areaDo || partDo || newPart !== undefined)) return false;
    if (areaDo === "on") { area.on = field.checked; this.decide(areas, `${area.name} ${field.checked ? "on" : "off"}`); }
    if (areaDo === "name") { area.name = field.value; this.decide(areas, `Area named ${field.value}`); }
    if (areaDo === "invert") { area.invert = field.checked; this.decide(areas, `${area.name} inverted`); }
    if (partDo === "join" || partDo === "invert") {
      area.parts[Number(field.closest("[data-part]").dataset.part)][partDo] = partDo === "join" ? field.value : field.checked;
      this.decide(areas, `Part of ${area.name} changed`);
    }
    if (newPart !== undefined && field.value) { area.parts.push(this.fresh(field.value)); this.decide(areas, `${this.facts.kinds[field.value]} added to ${area.name}`); }
    return true;
  }

  // ---- on the picture ----

  get shown() { return this.bench.here && this.bench.panel === "areas" && this.page.picture.viewer && this.page.before !== "side"; }

  draw(areas = this.page.state.lookValues?.areas || []) {
    // one that was just made is not in the page's state yet: it stays chosen, the last is shown until it is there
    const chosen = Math.min(this.chosen, Math.max(0, areas.length - 1));
    for (const row of document.querySelectorAll("#areas [data-area]")) row.classList.toggle("chosen", Number(row.dataset.area) === chosen);
    for (const panel of document.querySelectorAll("[data-area-panel]")) panel.hidden = Number(panel.dataset.areaPanel) !== chosen;
    const focused = document.activeElement?.closest?.(".area-handle");
    const which = focused && [...this.group.querySelectorAll(".area-handle")].indexOf(focused);
    this.group.replaceChildren();
    const area = areas[chosen];
    if (!this.shown || !area) return;
    area.parts.forEach((part, p) => this[part.kind]?.(part, p));
    if (focused) this.group.querySelectorAll(".area-handle")[which]?.focus();
  }

  moved() { this.draw(this.held); }

  point(x, y) { return this.page.picture.toScreen(x, y); }

  add(kind, values, text) {
    const element = document.createElementNS(SVG, kind);
    for (const [name, value] of Object.entries(values)) element.setAttribute(name, value);
    if (text) { const title = document.createElementNS(SVG, "title"); title.textContent = text; element.append(title); }
    this.group.append(element);
  }

  handle(p, name, place, text) {
    this.add("circle", { class: "area-handle", cx: place.x, cy: place.y, r: 7, tabindex: 0, role: "button", "data-part": p, "data-handle": name, "aria-label": `${text}: arrows move it, Delete removes the part` }, text);
  }

  graduated(part, p) {
    const a = this.point(part.x0, part.y0), b = this.point(part.x1, part.y1);
    const length = Math.hypot(b.x - a.x, b.y - a.y) || 1, across = { x: (-(b.y - a.y) / length) * 4000, y: ((b.x - a.x) / length) * 4000 };
    for (const [end, dash] of [[a, "whole"], [b, "none"]]) this.add("path", { class: `area-line ${dash}`, d: `M${end.x - across.x} ${end.y - across.y}L${end.x + across.x} ${end.y + across.y}` });
    this.add("path", { class: "area-line way", d: `M${a.x} ${a.y}L${b.x} ${b.y}` });
    this.handle(p, "from", a, "Beyond this line the area is whole");
    this.handle(p, "to", b, "Beyond this line there is nothing of it");
    this.handle(p, "middle", { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 }, "Both lines");
  }

  elliptical(part, p) {
    const c = this.point(part.x, part.y), scale = this.page.picture.scale(), turn = (part.angle * Math.PI) / 180;
    const rx = part.rx * scale, ry = part.ry * scale;
    for (const share of [1, 1 - (part.soft ?? 0.5)]) if (share > 0.02) this.add("ellipse", { class: `area-line ${share === 1 ? "none" : "whole"}`, cx: c.x, cy: c.y, rx: rx * share, ry: ry * share, transform: `rotate(${part.angle} ${c.x} ${c.y})` });
    this.handle(p, "middle", c, "The ellipse");
    this.handle(p, "rx", { x: c.x + rx * Math.cos(turn), y: c.y + rx * Math.sin(turn) }, "Width, and the way it lies");
    this.handle(p, "ry", { x: c.x - ry * Math.sin(turn), y: c.y + ry * Math.cos(turn) }, "Height");
  }

  /** Move a handle of a part to a place of the picture. */
  place(part, name, x, y) {
    const whole = Math.round;
    if (part.kind === "graduated") {
      if (name === "from") Object.assign(part, { x0: whole(x), y0: whole(y) });
      else if (name === "to") Object.assign(part, { x1: whole(x), y1: whole(y) });
      else {
        const dx = whole(x - (part.x0 + part.x1) / 2), dy = whole(y - (part.y0 + part.y1) / 2);
        Object.assign(part, { x0: part.x0 + dx, y0: part.y0 + dy, x1: part.x1 + dx, y1: part.y1 + dy });
      }
    } else if (name === "middle") Object.assign(part, { x: whole(x), y: whole(y) });
    else if (name === "rx") Object.assign(part, { rx: Math.max(4, whole(Math.hypot(x - part.x, y - part.y))), angle: Number(((Math.atan2(y - part.y, x - part.x) * 180) / Math.PI).toFixed(1)) });
    else if (name === "ry") part.ry = Math.max(4, whole(Math.hypot(x - part.x, y - part.y)));
  }

  where(part, name) {
    const turn = ((part.angle || 0) * Math.PI) / 180;
    if (part.kind === "graduated") return { from: [part.x0, part.y0], to: [part.x1, part.y1], middle: [(part.x0 + part.x1) / 2, (part.y0 + part.y1) / 2] }[name];
    return { middle: [part.x, part.y], rx: [part.x + part.rx * Math.cos(turn), part.y + part.rx * Math.sin(turn)], ry: [part.x - part.ry * Math.sin(turn), part.y + part.ry * Math.cos(turn)] }[name];
  }

  press(event) {
    const handle = event.target.closest(".area-handle");
    if (!handle || event.button !== 0) return;
    event.preventDefault();
    event.stopPropagation();
    const areas = this.areas, part = areas[this.chosen].parts[Number(handle.dataset.part)], name = handle.dataset.handle;
    handle.focus();
    let moved = false;
    const move = (now) => {
      moved = true;
      this.place(part, name, ...this.bench.at(now));
      this.held = areas;
      this.draw(areas);
      this.bench.try({ areas });
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", () => {
      window.removeEventListener("pointermove", move);
      this.held = undefined;
      if (moved) this.decide(areas, `${areas[this.chosen].name} moved`);
    }, { once: true });
  }

  key(event) {
    const handle = event.target.closest(".area-handle");
    if (!handle) return;
    const areas = this.areas, area = areas[this.chosen], p = Number(handle.dataset.part), part = area.parts[p];
    if (event.key === "Delete" || event.key === "Backspace") { event.preventDefault(); area.parts.splice(p, 1); this.decide(areas, `Part of ${area.name} removed`); return; }
    const by = Math.max(1, Math.round((event.shiftKey ? 20 : 4) / this.page.picture.scale()));
    const move = { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, -by], ArrowDown: [0, by] }[event.key];
    if (!move) return;
    event.preventDefault();
    event.stopPropagation();
    const [x, y] = this.where(part, handle.dataset.handle);
    this.place(part, handle.dataset.handle, x + move[0], y + move[1]);
    this.decide(areas, `${area.name} moved`);
  }

  // ---- the brush ----

  /** Paint the chosen area's first brushed part, or rub it out, until the hand lifts. */
  paint(event, erase) {
    const areas = this.areas, area = areas[this.chosen], part = area?.parts.find((p) => p.kind === "brushed");
    if (!part) return this.bench.put("");
    const width = Math.round(90 / this.page.picture.scale());
    const line = { width, softness: 0.7, opacity: 1, erase, points: [this.bench.at(event).map(Math.round)] };
    part.lines = [...(part.lines || []), line];
    const move = (now) => {
      const [x, y] = this.bench.at(now).map(Math.round), last = line.points.at(-1);
      if (Math.hypot(x - last[0], y - last[1]) < width / 12 || line.points.length > 4000) return;
      line.points.push([x, y]);
      this.bench.try({ areas });
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", () => { window.removeEventListener("pointermove", move); this.decide(areas, erase ? `${area.name} rubbed out` : `${area.name} painted`); }, { once: true });
    return undefined;
  }
}
