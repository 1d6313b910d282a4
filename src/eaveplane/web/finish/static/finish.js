// Finish, and Deliver which shows the same: the crop box and straightening.
import { CropBox } from "./crop.js";

export class Finish {
  constructor(page) {
    this.page = page;
    this.crop = new CropBox(page);
    this.stages = ["finish", "deliver"];
    this.begins = "weave";
  }

  draw() { this.crop.draw(); }
  moved() { this.crop.draw(); }
  live(ruler) { if (this.page.stage === "finish" && ruler.dataset.name === "straighten") this.crop.draw(Number(ruler.querySelector("[type=range]").value)); }
  changed(field) {
    if (field.id === "guides") { this.crop.draw(); return true; }
    return field.id === "ratio" && this.crop.ratio(field.value);
  }
}
