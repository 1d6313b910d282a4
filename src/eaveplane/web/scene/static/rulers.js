// Rulers of the bench: what they do is seen while a slider is held, posted when it is let go.
import { post } from "../shell/page.js";
import { listen, meant, write } from "../shell/rulers.js";

export class Rulers {
  constructor(page) {
    this.page = page;
    listen((ruler) => page.tell("live", ruler), (ruler, value) => this.set(ruler, value));
  }

  set(ruler, value) {
    const clamped = write(ruler, value), { url } = ruler.querySelector("[type=range]").dataset;
    this.page.ends = false;
    return this.page.here().some((part) => part.set?.(ruler, clamped)) || (url && post(url, { name: ruler.dataset.name, value: meant(ruler, clamped) }));
  }
}
