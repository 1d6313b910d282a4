// Rulers of the bench: the look is seen while a slider is held, posted when it is let go.
import { post } from "../shell/page.js";
import { listen, meant, write } from "../shell/rulers.js";

const ENDS = ["white_end", "black_end"];

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
    this.page.ends = false;
    if (ruler.closest("#trim")) return post(document.getElementById("trim").dataset.url, { frame: this.page.chosen, name: ruler.dataset.name.split(".")[1], value: clamped });
    return url && post(url, { name: ruler.dataset.name, value: meant(ruler, clamped) });
  }

  live(ruler) {
    const { page } = this;
    const looks = ruler.querySelector("[type=range]").dataset.url?.endsWith("/even/set");
    if (page.stage === "even" && page.picture.viewer && looks) {
      // while an end of the scale is held, what is lost there is hatched
      page.ends = ENDS.includes(ruler.dataset.name);
      page.bench.try({});
    }
    if (page.stage === "finish" && ruler.dataset.name === "straighten") page.crop.draw(Number(ruler.querySelector("[type=range]").value));
  }
}
