// Register: the table of fits, the reference, the canvas.
import { post } from "../shell/page.js";

export class Register {
  constructor(page) {
    this.page = page;
    this.stages = ["register"];
    this.begins = "frame";
  }

  chosen() { for (const row of document.querySelectorAll(".fits [data-frame]")) row.classList.toggle("chosen", row.dataset.frame === this.page.chosen); }

  clicked(event) {
    const row = event.target.closest(".fits [data-frame]");
    if (row) this.page.choose(row.dataset.frame);
    return Boolean(row);
  }

  changed(field) {
    if (field.id === "reference") return post(field.dataset.post, { frame: field.value });
    if (field.name === "canvas") return post(field.dataset.post, { canvas: field.value });
    return false;
  }
}
