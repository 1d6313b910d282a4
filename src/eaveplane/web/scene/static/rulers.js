// Rulers: slider and field are one control; the look is seen while a slider is held, posted when it is let go.
import { post } from "../shell/page.js";

export class Rulers {
  constructor(page) {
    this.page = page;
    document.addEventListener("input", (event) => {
      const ruler = event.target.closest(".ruler[data-name]");
      if (!ruler) return;
      if (event.target.type === "range") { this.write(ruler, event.target.value); this.live(ruler); }
    });
    document.addEventListener("change", (event) => {
      const ruler = event.target.closest(".ruler[data-name]");
      if (ruler) this.set(ruler, event.target.value);
    });
    document.addEventListener("dblclick", (event) => { const ruler = event.target.closest(".ruler[data-name]"); if (ruler && event.target.type === "range") this.set(ruler, ruler.dataset.start); });
    document.addEventListener("keydown", (event) => {
      const ruler = event.target.closest?.(".ruler[data-name]");
      if (ruler && event.target.type === "range" && (event.key === "Delete" || event.key === "Backspace")) { event.preventDefault(); this.set(ruler, ruler.dataset.start); }
    });
    document.addEventListener("click", (event) => {
      const button = event.target.closest("[data-reset]");
      if (button) post(button.dataset.url, { group: button.dataset.reset });
    });
  }

  write(ruler, value) {
    const range = ruler.querySelector("[type=range]"), number = ruler.querySelector("[type=number]");
    const step = Number(ruler.dataset.step), decimals = step < 1 ? Math.ceil(-Math.log10(step)) : 0;
    const clamped = Math.max(Number(range.min), Math.min(Number(range.max), Number(value) || 0));
    range.value = clamped;
    number.value = clamped.toFixed(decimals);
    ruler.classList.toggle("changed", Math.abs(clamped - Number(ruler.dataset.start)) > 1e-9);
    return clamped;
  }

  set(ruler, value) {
    const clamped = this.write(ruler, value);
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
