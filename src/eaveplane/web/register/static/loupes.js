// A sheet of loupes: the same places of all frames in turn, so that whatever jumps is seen wherever it is.
export class Loupes {
  constructor(page) {
    this.page = page;
    this.on = false;
    this.sheet = document.createElement("div");
    this.sheet.className = "loupes";
    this.sheet.hidden = true;
    this.sheet.tabIndex = -1;
    this.sheet.setAttribute("role", "group");
    this.sheet.setAttribute("aria-label", "Loupes");
    document.querySelector(".mat").append(this.sheet);
  }

  async turn(url, magnify) {
    const on = Boolean(url) && !(this.on && this.magnify === magnify);
    if (!on && !this.on) return undefined;
    this.on = on;
    this.magnify = magnify;
    this.sheet.hidden = !on;
    clearInterval(this.timer);
    this.dress();
    if (!on) return document.querySelector("[data-do=loupes]")?.focus();
    // keys are the sheet's now
    this.sheet.focus();
    return this.open(url);
  }

  dress() { for (const button of document.querySelectorAll("[data-do=loupes]")) button.setAttribute("aria-pressed", this.on && Number(button.dataset.magnify) === this.magnify); }

  async open(url) {
    const mine = this.opened = {};
    this.sheet.replaceChildren();
    const answer = await fetch(url).catch(() => null);
    if (!answer?.ok || this.opened !== mine) return;
    const { side, places, frames } = await answer.json();
    const [wide, high] = side.map((v) => Math.round(v / this.magnify));
    this.loupes = places.map(({ name, x, y }) => {
      const figure = document.createElement("figure"), canvas = document.createElement("canvas"), words = document.createElement("figcaption");
      [canvas.width, canvas.height] = side;
      words.textContent = name;
      figure.append(canvas, words);
      this.sheet.append(figure);
      return { canvas, box: [x - wide / 2, y - high / 2, wide, high].map((v) => v.toFixed(0)), pictures: {} };
    });
    this.told = document.createElement("p");
    this.sheet.append(this.told);
    this.frames = frames;
    this.place = -1;
    this.halted = false;
    const query = this.page.picture.query();
    await Promise.all(frames.flatMap((id) => this.loupes.map(async (loupe) => {
      const [x, y, w, h] = loupe.box, asked = new URLSearchParams(query);
      for (const [k, v] of Object.entries({ x, y, w, h, wide: w })) asked.set(k, v);
      const got = await fetch(`/scene/${this.page.state.scene}/viewport/frame:${id}.jpg?${asked}`).catch(() => null);
      if (got?.ok) loupe.pictures[id] = await createImageBitmap(await got.blob());
    })));
    if (this.opened === mine && this.on) { this.begin(); this.sheet.dataset.whole = this.magnify; }
  }

  begin() {
    clearInterval(this.timer);
    if (!this.on || !this.frames) return;
    this.next();
    this.timer = setInterval(() => { if (!this.halted) this.next(); }, this.page.picture.rhythm);
  }

  halt() { this.halted = !this.halted; this.say(); }

  next() {
    this.place = (this.place + 1) % this.frames.length;
    const id = this.frames[this.place];
    for (const { canvas, pictures } of this.loupes) {
      const context = canvas.getContext("2d");
      context.imageSmoothingEnabled = false;
      context.clearRect(0, 0, canvas.width, canvas.height);
      if (pictures[id]) context.drawImage(pictures[id], 0, 0, pictures[id].width * this.magnify, pictures[id].height * this.magnify);
    }
    this.say();
  }

  say() {
    const found = this.page.frame(this.frames[this.place]);
    this.told.textContent = `frame ${found?.number ?? ""}${found?.name ? `, ${found.name}` : ""}${this.halted ? " · halted" : ""}`;
  }
}
