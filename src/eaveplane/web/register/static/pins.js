// Pairs of points in a frame and in the reference, by which the frame can be laid.
import { post, tell } from "../shell/page.js";

const SVG = "http://www.w3.org/2000/svg";

export class Pins {
  constructor(stage) {
    this.stage = stage;
    this.page = stage.page;
    this.on = false;
    this.pairs = [];
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "pins");
    document.getElementById("over").append(this.group);
  }

  turn(on) {
    if (on === this.on) return;
    this.on = on && this.stage.movable;
    if (this.on) { this.stage.drag(false); this.look(); }
    else if (this.pairs.at(-1)?.length === 1) { this.pairs.pop(); this.look(); }
    document.querySelector(".mat").classList.toggle("pinning", this.on);
    this.dress();
    this.draw();
  }

  /** The frame for a pair's first point, the reference for its second. */
  look() {
    const { page } = this, here = this.pairs.at(-1)?.length === 1;
    page.picture.instead = this.on && here ? page.state.reference : "";
    page.blinking = "";
    page.view = "frame";
    page.show();
  }

  put(point) {
    const last = this.pairs.at(-1), at = point.map((v) => Number(v.toFixed(2)));
    if (this.of !== this.page.chosen) { this.pairs = []; this.of = this.page.chosen; }
    if (last?.length === 1 && this.pairs.length) last.push(at);
    else this.pairs.push([at]);
    this.look();
    this.dress();
  }

  clear() {
    this.pairs = [];
    this.look();
    this.dress();
  }

  fit(url, fewest) {
    const whole = this.pairs.filter((pair) => pair.length === 2);
    if (whole.length < fewest) return tell(`Pin at least ${fewest} pairs of points.`);
    this.turn(false);
    const told = post(url, { frame: this.page.chosen, pairs: JSON.stringify(whole) });
    this.clear();
    return told;
  }

  dress() {
    document.querySelector("[data-do=pin]")?.setAttribute("aria-pressed", this.on);
    const told = document.getElementById("pins-told"), whole = this.pairs.filter((pair) => pair.length === 2).length;
    if (!told || (!this.on && !this.pairs.length)) return;
    told.textContent = `${whole} pair${whole === 1 ? "" : "s"}. ${!this.on ? "" : this.pairs.at(-1)?.length === 1 ? "Now the same thing in the reference." : "Click on a thing in the frame."}`;
  }

  draw() {
    this.group.replaceChildren();
    if (this.page.stage !== "register" || this.of !== this.page.chosen) return;
    const second = Boolean(this.page.picture.instead);
    this.pairs.forEach((pair, number) => {
      const at = second ? pair[1] : pair[0];
      if (!at) return;
      const mark = document.createElementNS(SVG, "g");
      mark.innerHTML = `<path d="M-9 0H-2M2 0H9M0 -9V-2M0 2V9"/><text x="7" y="-6">${number + 1}</text>`;
      mark.at = at;
      this.group.append(mark);
    });
    this.moved();
  }

  moved() {
    for (const mark of this.group.children) {
      const at = this.page.picture.toScreen(...mark.at);
      mark.setAttribute("transform", `translate(${at.x} ${at.y})`);
    }
  }
}
