// Rulers of the bench: the look is seen while a slider is held, posted when it is let go.
import { post } from "../shell/page.js";
import { listen, write } from "../shell/rulers.js";

export class Rulers {
  constructor(page) {
    this.page = page;
    listen((ruler) => this.live(ruler), (ruler, value) => this.set(ruler, value));
    document.addEventListener("click", (event) => {
      const button = event.target.closest("[data-reset]");
      if (button) post(button.dataset.url, { group: button.dataset.reset });
    });
  }

  set(ruler, value) {
    const clamped = write(ruler, value);
    const url = ruler.querySelector("[type=range]").dataset.url;
    if (url) post(url, { name: ruler.dataset.name, value: clamped });
  }

  /** Values of the look as the bench shows them now. */
  values() { return Object.fromEntries([...document.querySelectorAll(".bench-even .ruler[data-name]")].map((r) => [r.dataset.name, r.querySelector("[type=range]").value])); }

  live(ruler) {
    const { page } = this;
    if (page.stage === "even" && page.picture.viewer) { page.picture.look(this.values()); this.histogram(this.values()); }
    if (page.stage === "finish" && ruler.dataset.name === "straighten") page.crop.draw(Number(ruler.querySelector("[type=range]").value));
  }

  histogram(live) {
    const image = document.getElementById("histogram");
    if (!image || !this.page.state.size) return;
    const what = this.page.view === "frame" ? `frame:${this.page.chosen}` : "weave";
    const next = `${image.dataset.url}?${new URLSearchParams({ what, ...live, s: this.page.state.version })}`;
    if (this.loading) { this.later = live; return; }
    if (image.src.endsWith(next)) return;
    this.loading = true;
    image.onload = image.onerror = () => { this.loading = false; if (this.later !== undefined) { const again = this.later; this.later = undefined; this.histogram(again); } };
    image.src = next;
  }

  dress() { this.histogram({}); }
}
