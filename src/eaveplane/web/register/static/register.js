// Register: the table of fits, the reference, the canvas.
import { post } from "../shell/page.js";

const SVG = "http://www.w3.org/2000/svg";

export class Register {
  constructor(page) {
    this.page = page;
    this.stages = ["register"];
    this.begins = "frame";
    this.on = false;
    this.group = document.createElementNS(SVG, "g");
    this.group.setAttribute("class", "shifts");
    document.getElementById("over").append(this.group);
  }

  /** A grid over the chosen frame, bent as a camera's step shifts what is near. */
  async draw() {
    const { page } = this, { state } = page;
    const box = document.getElementById("shifts");
    if (box) box.checked = this.on;
    const wanted = box && this.on && page.stage === "register" && page.view === "frame";
    if (wanted && this.of !== state.weave) {
      this.of = state.weave;
      const answer = await fetch(`/scene/${state.scene}/register/shifts.json`).catch(() => null);
      this.found = answer?.ok ? await answer.json() : {};
    }
    this.group.replaceChildren();
    const grid = wanted && this.found?.[page.chosen];
    if (!grid) return;
    const path = document.createElementNS(SVG, "path");
    path.setAttribute("d", grid.path);
    this.group.append(path);
    this.moved();
    document.getElementById("caption").append(` · near things shifted, × ${grid.times}`);
  }

  moved() {
    const { picture } = this.page;
    if (!picture.viewer || !this.group.childElementCount) return;
    const at = picture.toScreen(-0.5, -0.5);
    this.group.setAttribute("transform", `translate(${at.x} ${at.y}) scale(${picture.scale()})`);
  }

  chosen() { for (const row of document.querySelectorAll(".fits [data-frame]")) row.classList.toggle("chosen", row.dataset.frame === this.page.chosen); }

  clicked(event) {
    const row = event.target.closest(".fits [data-frame]");
    if (row) this.page.choose(row.dataset.frame);
    return Boolean(row);
  }

  changed(field) {
    if (field.id === "reference") return post(field.dataset.post, { frame: field.value });
    if (field.id === "shifts") { this.on = field.checked; this.page.show(); return true; }
    if (field.id === "camera") return post(field.dataset.post, { camera: field.value });
    if (field.name === "canvas") return post(field.dataset.post, { canvas: field.value });
    return false;
  }
}
