// Flaws over the picture: outlined and pinned, led from one to the next at 1:1, remedies beside each other.
import { post, tell } from "../shell/page.js";

const SVG = "http://www.w3.org/2000/svg";
const PIN = 9;
const STRIP = 100;

export class Findings {
  constructor(page) {
    this.page = page;
    this.all = [];
    this.here = "";
    this.place = null;
    this.pointing = false;
    this.shown = false;
    const part = (name) => { const group = document.createElementNS(SVG, "g"); group.setAttribute("class", name); document.getElementById("over").append(group); return group; };
    this.lines = part("flaws");
    this.pins = part("pins");
    this.box = document.createElement("div");
    this.box.className = "remedies";
    this.box.hidden = true;
    document.querySelector(".mat").append(this.box);
    this.box.addEventListener("click", (event) => { const which = event.target.closest("[data-which]")?.dataset.which; if (which) this.take(which); });
  }

  get bench() { return document.querySelector("[data-findings]"); }
  get flaw() { return this.place?.name === this.here ? this.place : this.all.find((f) => f.name === this.here); }

  /** The bench was drawn anew: what is found, or what became of it, may have changed. */
  renew(shown) {
    this.shown = shown;
    this.point(this.pointing && shown);
    if (!shown || !this.bench) return this.hide();
    this.coming = this.read();
    return this.coming;
  }

  async read() {
    const answer = await fetch(this.bench.dataset.findings).catch(() => null);
    if (!answer?.ok || !this.shown) return undefined;
    this.all = await answer.json();
    if (!this.flaw) this.here = "";
    this.draw();
    return this.offer();
  }

  hide() {
    this.shown = false;
    this.lines.replaceChildren();
    this.pins.replaceChildren();
    this.box.hidden = true;
  }

  leave() { this.here = ""; this.point(false); this.hide(); }

  /** Whether a click on the picture asks for other moments of what is there. */
  point(on) {
    this.pointing = on;
    document.getElementById("picture").classList.toggle("picking", on);
    document.querySelector("[data-do=moment]")?.setAttribute("aria-pressed", on);
  }

  /** The frames' moments of what moved at a place of the picture. */
  ask(x, y) {
    this.point(false);
    if (!this.page.state.woven) return tell("Weave the frames first; then what moved can be shown.");
    const at = [x, y].map((v) => Math.max(0, Math.round(v)));
    this.place = { name: `at-${at.join("-")}`, kind: "What moved", said: "", box: [at[0], at[1], 0, 0], outline: [], state: "open" };
    this.here = this.place.name;
    this.box.hidden = true;
    this.draw();
    return this.offer();
  }

  draw() {
    this.lines.replaceChildren();
    this.pins.replaceChildren();
    for (const flaw of this.place && this.here === this.place.name ? [...this.all, this.place] : this.all) {
      const here = flaw.name === this.here;
      for (const kind of flaw.outline.length ? ["edge", "line"] : []) {
        const path = document.createElementNS(SVG, "path");
        path.setAttribute("d", flaw.outline.map(([x, y], k) => `${k ? "L" : "M"}${x} ${y}`).join("") + "Z");
        path.setAttribute("class", `${kind} ${flaw.state}${here ? " here" : ""}`);
        this.lines.append(path);
      }
      if (flaw.state !== "open" && !here) continue;
      const pin = document.createElementNS(SVG, "g"), disc = document.createElementNS(SVG, "circle"), words = document.createElementNS(SVG, "text");
      disc.setAttribute("r", PIN);
      words.setAttribute("y", 4);
      words.textContent = flaw.number ?? "+";
      pin.append(disc, words);
      this.pins.append(pin);
      pin.place = [flaw.box[0] + flaw.box[2], flaw.box[1]];
    }
    for (const row of document.querySelectorAll("[data-flaw]")) row.classList.toggle("here", row.dataset.flaw === this.here);
    this.moved();
  }

  moved() {
    const { picture } = this.page;
    if (!picture.viewer || !this.shown) return;
    picture.follow(this.lines);
    for (const pin of this.pins.children) {
      const at = picture.toScreen(...pin.place);
      pin.setAttribute("transform", `translate(${at.x} ${at.y})`);
    }
  }

  /** To the next flaw that is open, or, where none is, to the next. */
  async step(by) {
    // a key may come before what was found has
    await this.coming;
    const open = this.all.filter((f) => f.state === "open" || f.name === this.here), among = open.length > (this.flaw && this.flaw.state !== "open" ? 1 : 0) ? open : this.all;
    if (!among.length) return tell(this.page.state.woven ? "No flaw was found." : "Weave the frames first; then the program looks for flaws.");
    const now = among.findIndex((f) => f.name === this.here);
    return this.go(among[(now + by + among.length + (now < 0 && by < 0 ? 1 : 0)) % among.length].name);
  }

  go(name) {
    this.here = name;
    const { flaw } = this;
    if (!flaw) return undefined;
    const [x, y, w, h] = flaw.box, { picture } = this.page;
    const zoom = picture.scale() * devicePixelRatio > 1.5 ? 2 : 1;
    // remedies lie over the lower part of the picture
    picture.centre(x + w / 2, y + h / 2 + STRIP / zoom, zoom);
    this.draw();
    return this.offer();
  }

  /** The remedies for this flaw, as they would be, beside what is. */
  async offer() {
    const { flaw, bench } = this, told = document.getElementById("flaw-told");
    this.none = "";
    for (const name of ["take", "accept"]) document.querySelector(`[data-do=flaw-${name}]`).disabled = !flaw || (name === "accept" && flaw === this.place);
    if (!flaw) { this.box.hidden = true; return undefined; }
    const state = { open: "", mended: " Mended.", accepted: " Accepted." }[flaw.state];
    told.textContent = flaw === this.place ? "Looking at what frames show here." : `${flaw.number} of ${this.all.length}. ${flaw.kind}: ${flaw.said}${state}`;
    document.querySelector("[data-do=flaw-accept]").textContent = flaw.state === "accepted" ? "Take up again" : "Accept";
    const version = this.page.picture.version("weave"), asked = this.asked = {};
    const answer = await fetch(`${bench.dataset.remedies}?flaw=${flaw.name}`).catch(() => null);
    if (asked !== this.asked || !this.shown) return undefined;
    if (!answer?.ok) return tell(answer ? await answer.text() : "The program does not answer.", true);
    const { remedies, said } = await answer.json();
    if (flaw === this.place) told.textContent = said || `Here ${remedies.length === 1 ? "one frame has" : `${remedies.length} frames have`} it at another moment. What is taken is laid over the weave, the whole of it.`;
    else if (said && flaw.state === "open") told.textContent += ` ${said}`;
    this.none = said;
    document.querySelector("[data-do=flaw-take]").disabled = !remedies.length;
    const address = (which) => `${bench.dataset.remedy}?flaw=${flaw.name}&which=${which}&version=${version}`;
    const figure = (label, gain, which) => {
      const all = document.createElement("figure"), picture = document.createElement("img"), words = document.createElement("figcaption"), name = document.createElement("b"), more = document.createElement("span");
      picture.src = address(which);
      picture.alt = `${label}, at 1:1`;
      name.textContent = label;
      more.textContent = gain;
      words.append(name, more);
      if (which !== "") {
        const button = document.createElement("button");
        button.type = "button";
        button.className = "plain";
        button.dataset.which = which;
        button.textContent = "Take";
        button.setAttribute("aria-label", `Take ${label}`);
        words.append(button);
      }
      all.append(picture, words);
      return all;
    };
    // what has been mended is shown as it is
    this.box.replaceChildren(figure(flaw.state === "mended" ? "Mended" : "As it is", "", ""), ...(flaw.state === "mended" ? [] : remedies.map((r, k) => figure(r.label, r.gain, String(k)))));
    this.box.hidden = false;
    return undefined;
  }

  take(which) {
    if (!this.flaw) return tell("Go to a flaw first: T leads from one to the next.");
    if (this.flaw.state === "mended") return tell("This one is mended. Undo, or erase its strokes, to try another remedy.");
    if (this.none) return tell(this.none);
    return post(this.bench.dataset.take, { flaw: this.here, which });
  }

  accept() {
    if (!this.flaw) return tell("Go to a flaw first: T leads from one to the next.");
    return post(this.bench.dataset.accept, { flaw: this.here });
  }
}
