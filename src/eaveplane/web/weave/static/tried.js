// Seams or veils as a ruler would set them, at 1:1 around the place looked at last, left as they are and right as they would be.
const STAYS = 2500;

export class Tried {
  constructor(page) {
    this.page = page;
    this.box = document.createElement("figure");
    this.box.className = "tried";
    this.box.hidden = true;
    this.canvas = document.createElement("canvas");
    this.words = document.createElement("figcaption");
    this.box.append(this.canvas, this.words);
    const mat = document.querySelector(".mat");
    mat.append(this.box);
    mat.addEventListener("pointermove", (event) => { const side = mat.getBoundingClientRect(); this.at = [event.clientX - side.left, event.clientY - side.top]; });
  }

  /** Where somebody looked last: under the pointer when it was over the picture, else the middle of what is in view. */
  place() {
    const { picture } = this.page, [x, y, w, h] = picture.inView(), at = this.at && picture.toPicture(...this.at);
    return at && at[0] >= x && at[0] <= x + w && at[1] >= y && at[1] <= y + h ? at : [x + w / 2, y + h / 2];
  }

  /** What the first piece would wait for is gathered as soon as rulers are there. */
  ready() {
    const url = document.querySelector("[data-ready]")?.dataset.ready;
    if (url && url !== this.readied) fetch(this.readied = url).catch(() => { this.readied = ""; });
  }

  async show(...what) {
    if (this.running) { this.next = what; return; }
    this.running = true;
    // whatever becomes of this piece, the next is asked for
    try { await this.ask(...what); } finally { this.running = false; }
    if (this.next) { const next = this.next; this.next = null; this.show(...next); }
  }

  async ask(name, label, value, unit) {
    const begin = performance.now(), [x, y] = this.place(), bench = document.querySelector("[data-tried]");
    const answer = bench && await fetch(`${bench.dataset.tried}?${new URLSearchParams({ name, value, x: x.toFixed(0), y: y.toFixed(0) })}`).catch(() => null);
    if (!answer?.ok) return;
    const bitmap = await createImageBitmap(await answer.blob());
    this.canvas.width = bitmap.width;
    this.canvas.height = bitmap.height;
    this.canvas.getContext("2d").drawImage(bitmap, 0, 0);
    const way = name !== "veil_strength" && document.getElementById("way")?.value === "joint-light" ? "crisp seams, which stand in for joint light: " : "";
    this.words.textContent = `1:1, ${way}left as it is, right ${label.toLowerCase()} ${value} ${unit}`.trim();
    this.box.hidden = false;
    this.page.picture.box.dataset.triedMs = Math.round(performance.now() - begin);
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.hide(), STAYS);
  }

  hide() { this.box.hidden = true; }
}
