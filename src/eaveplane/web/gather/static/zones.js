// Gather's overlay: the chosen frame's sharp zone hatched, soft bands and intruders outlined, all in picture pixels.
const SVG = "http://www.w3.org/2000/svg";

export class Zones {
  constructor(page) {
    this.page = page;
    this.on = true;
    this.of = "";
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "zones");
    document.getElementById("over").append(this.group);
  }

  /** Draw what belongs to the chosen frame, fetching it first where it is new. */
  async draw() {
    const { page } = this, { state } = page;
    const box = document.getElementById("zones");
    if (box) box.checked = this.on;
    const wanted = page.stage === "gather" && page.view === "frame" && this.on ? state.inspected : "";
    if (wanted && wanted !== this.of) {
      this.of = wanted;
      const answer = await fetch(`/scene/${state.scene}/gather/zones.json`).catch(() => null);
      this.found = answer?.ok ? await answer.json() : null;
    }
    this.group.replaceChildren();
    const shown = page.stage === "gather" && page.view === "frame" && this.on && state.inspected && this.found;
    if (!shown) return;
    const place = state.frames.findIndex((f) => f.id === page.chosen);
    const path = this.found.zones[page.chosen];
    if (path) {
      this.pattern = document.getElementById(`hatch-${place % 6}`).cloneNode(true);
      this.pattern.id = "zone-hatch";
      this.pattern.style.setProperty("--ink", state.frames[place].colour);
      this.group.append(this.pattern);
      this.add("path", { d: path, class: "zone", fill: "url(#zone-hatch)" });
      this.add("path", { d: path, class: "zone-edge", stroke: state.frames[place].colour });
    }
    for (const { box: [x, y, width, height] } of this.found.bands) this.add("rect", { x, y, width, height, class: "soft-band" });
    for (const { box: [x, y, width, height], frame } of this.found.boxes) if (frame === page.chosen) this.add("rect", { x, y, width, height, class: "intruder" });
    this.moved();
  }

  add(kind, values) {
    const element = document.createElementNS(SVG, kind);
    for (const [name, value] of Object.entries(values)) element.setAttribute(name, value);
    this.group.append(element);
  }

  moved() {
    const { picture } = this.page;
    if (!picture.viewer || !this.group.childElementCount) return;
    picture.follow(this.group);
    // the hatch keeps its size on screen
    this.pattern?.setAttribute("patternTransform", `scale(${1.8 / picture.scale()})`);
  }

  toggle() { this.on = !this.on; this.draw(); }
}
