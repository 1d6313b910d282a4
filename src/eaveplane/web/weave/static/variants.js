// Weaves beside each other: wiped, in two panes, or blinking; where they differ most, and the way there.
import { post, tell } from "../shell/page.js";

export class Variants {
  constructor(page) {
    this.page = page;
    page.against = "";
  }

  /** What the weave is held against: the chosen frame, or a variant that is not the chosen one. */
  dress() {
    const { page } = this, field = document.getElementById("against");
    if (!field) return;
    if (![...field.options].some((o) => o.value === page.against)) page.against = "";
    field.value = page.against;
    for (const button of document.querySelectorAll("[data-pair]")) button.setAttribute("aria-pressed", this.how === button.dataset.pair);
    this.ask();
  }

  get how() {
    const { page } = this;
    return page.view === "compare" ? "wipe" : page.pairing ? "side" : page.blinking === "pair" ? "blink" : "";
  }

  turn(how) {
    const { page } = this, same = this.how === how;
    page.pairing = false;
    page.blinking = "";
    page.before = "";
    page.view = !same && how === "wipe" ? "compare" : "weave";
    if (!same && how === "side") page.pairing = true;
    if (!same && how === "blink") page.blinking = "pair";
    page.show();
    this.dress();
  }

  set(other) {
    this.page.against = other;
    this.page.show();
    this.dress();
  }

  /** Ask where the two differ most, once for what is shown. */
  async ask() {
    const { page } = this, words = document.getElementById("apart");
    if (!words || !words.offsetParent || !page.state.labelled) return;
    const other = page.picture.against(), key = `${other}|${page.picture.version("weave")}|${page.picture.version(other)}`;
    if (this.told?.key === key) { words.textContent = this.told.said; return; }
    if (this.asking === key) return;
    this.asking = key;
    words.textContent = "Looking where they differ …";
    const answer = await fetch(`${words.dataset.url}?other=${encodeURIComponent(other)}`).catch(() => null);
    this.asking = "";
    if (!answer?.ok) { words.textContent = "It cannot be told where they differ."; return; }
    this.told = { key, ...(await answer.json()) };
    const now = document.getElementById("apart");
    if (now) now.textContent = this.told.said;
    const go = document.querySelector("[data-do=apart]");
    if (go) go.disabled = this.told.x === null;
  }

  /** 1:1 where they differ most. */
  go() {
    if (!this.told || this.told.x === null) return tell(this.told?.said ?? "Compare two weaves first, under Variants.");
    return this.page.picture.centre(this.told.x, this.told.y, 1);
  }

  keep() { return post(document.querySelector("[data-keep]").dataset.keep, { name: document.getElementById("variant-name").value }); }
}
