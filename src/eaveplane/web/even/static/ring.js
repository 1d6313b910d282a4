// The hue ring: hues are put on it, turned around it, and drawn outwards for strength.
const SVG = "http://www.w3.org/2000/svg";
const MIDDLE = 28, REACH = 18;

export class Ring {
  constructor(bench) {
    this.bench = bench;
    this.chosen = 0;
    document.addEventListener("pointerdown", (event) => {
      const drawing = event.target.closest("#ring");
      if (drawing && event.button === 0) this.press(event, drawing);
    });
    document.addEventListener("keydown", (event) => this.key(event));
  }

  get hues() { return structuredClone(this.bench.page.state.lookValues.hues || []); }

  draw(hues = this.hues) {
    const group = document.querySelector("#ring .points");
    if (!group) return;
    const chosen = Math.min(this.chosen, Math.max(0, hues.length - 1));
    const focused = document.activeElement?.closest?.("#ring .point");
    group.replaceChildren(...hues.map((point, k) => {
      const turn = (point.hue * Math.PI) / 180, radius = MIDDLE + (REACH * point.strength) / 100;
      const dot = document.createElementNS(SVG, "g");
      for (const [name, value] of Object.entries({ class: "point", tabindex: 0, role: "button", "aria-pressed": k === chosen, "data-hue": k, "aria-label": `Hue ${point.hue.toFixed(0)}°, strength ${point.strength} %: left and right turn it, up and down change its strength, Delete removes it` })) dot.setAttribute(name, value);
      const spoke = document.createElementNS(SVG, "line"), knob = document.createElementNS(SVG, "circle");
      for (const [name, value] of Object.entries({ x2: 50 * Math.cos(turn), y2: -50 * Math.sin(turn) })) spoke.setAttribute(name, value);
      for (const [name, value] of Object.entries({ cx: radius * Math.cos(turn), cy: -radius * Math.sin(turn), r: 5 })) knob.setAttribute(name, value);
      dot.append(spoke, knob);
      return dot;
    }));
    if (focused) group.children[chosen]?.focus();
    for (const rulers of document.querySelectorAll(".hue-rulers")) rulers.hidden = Number(rulers.dataset.hue) !== chosen;
  }

  at(event, drawing) {
    const box = drawing.getBoundingClientRect(), scale = 132 / box.width;
    const x = (event.clientX - box.left) * scale - 66, y = 66 - (event.clientY - box.top) * scale;
    return { hue: ((Math.atan2(y, x) * 180) / Math.PI + 360) % 360, radius: Math.hypot(x, y) };
  }

  press(event, drawing) {
    event.preventDefault();
    const on = event.target.closest(".point");
    const { hue, radius } = this.at(event, drawing);
    if (!on) return radius > 8 ? this.add(hue) : undefined;
    this.chosen = Number(on.dataset.hue);
    const hues = this.hues;
    this.draw(hues);
    let moved = false;
    const move = (now) => {
      const place = this.at(now, drawing);
      moved = true;
      hues[this.chosen].hue = Number(place.hue.toFixed(1)) % 360;
      hues[this.chosen].strength = Math.round(Math.max(-100, Math.min(100, ((place.radius - MIDDLE) / REACH) * 100)));
      this.draw(hues);
      this.bench.try({ hues: this.sorted(hues) });
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", () => { window.removeEventListener("pointermove", move); if (moved) this.decide(hues, "Hue ring"); }, { once: true });
    return undefined;
  }

  sorted(hues) { return [...hues].sort((a, b) => a.hue - b.hue); }

  decide(hues, said) {
    const point = hues[this.chosen], sorted = this.sorted(hues);
    this.chosen = Math.max(0, sorted.indexOf(point));
    return this.bench.change({ hues: sorted }, said);
  }

  /** A hue is put on the ring, or the one that lies there is chosen. */
  add(hue) {
    const hues = this.hues;
    const near = hues.findIndex((p) => Math.abs(((p.hue - hue + 540) % 360) - 180) < 6);
    if (near >= 0) { this.chosen = near; return this.draw(); }
    hues.push({ hue: Number(hue.toFixed(1)) % 360, shift: 0, strength: 0, lightness: 0 });
    this.chosen = hues.length - 1;
    return this.decide(hues, `Hue ${hue.toFixed(0)}° put on the ring`);
  }

  remove() {
    const hues = this.hues;
    const [gone] = hues.splice(Math.min(this.chosen, hues.length - 1), 1);
    return gone && this.bench.change({ hues }, `Hue ${gone.hue.toFixed(0)}° taken off the ring`);
  }

  key(event) {
    const on = event.target.closest?.("#ring .point");
    if (!on) return;
    this.chosen = Number(on.dataset.hue);
    if (event.key === "Delete" || event.key === "Backspace") { event.preventDefault(); this.remove(); return; }
    if (event.key === "Enter" || event.key === " ") { event.preventDefault(); this.draw(); return; }
    const by = event.shiftKey ? 10 : 2;
    const move = { ArrowLeft: [by, 0], ArrowRight: [-by, 0], ArrowUp: [0, by], ArrowDown: [0, -by] }[event.key];
    if (!move) return;
    event.preventDefault();
    const hues = this.hues, point = hues[this.chosen];
    point.hue = (point.hue + move[0] + 360) % 360;
    point.strength = Math.max(-100, Math.min(100, point.strength + move[1]));
    this.decide(hues, "Hue ring");
  }
}
