// Gather: frames named, moved, left out and told apart; the chosen one's sharp zone over the picture.
import { post } from "../shell/page.js";
import { Zones } from "./zones.js";

export class Gather {
  constructor(page) {
    this.page = page;
    this.zones = new Zones(page);
    this.stages = ["gather"];
    this.begins = "frame";
    this.does = { "leave-out": () => this.leaveOut(), move: (button) => this.move(Number(button.dataset.move)) };
    this.keys = { o: () => this.zones.toggle() };
    // frames are left out from every stage
    this.everywhere = { l: () => this.leaveOut() };
    this.listen();
  }

  draw() { this.zones.draw(); }
  moved() { this.zones.moved(); }

  url(what) { return `/scene/${this.page.state.scene}/gather/${what}`; }
  place(id) { return this.page.state.frames.findIndex((f) => f.id === id); }
  move(by) { return post(this.url("move"), { frame: this.page.chosen, to: this.place(this.page.chosen) + by }); }
  leaveOut() { return post(this.url("leave-out"), { frame: this.page.chosen, stage: this.page.stage }); }

  /** What the bench says of the frame chosen. */
  chosen() {
    const { page } = this, found = page.frame(page.chosen), name = document.getElementById("frame-name");
    if (!name || !found) return;
    name.value = found.name;
    document.getElementById("leave-out").textContent = found.kept ? "Leave out" : "Bring back";
    const exposure = document.getElementById("exposure");
    if (exposure) {
      exposure.disabled = !found.exposures.length;
      exposure.replaceChildren(...[["", `merged (${found.exposures.length})`], ...found.exposures.map((e, k) => [e.id, `${k + 1}: ${e.file}`])].map(([value, text]) => new Option(text, value, false, value === found.use)));
    }
    const file = document.querySelector(`#rail [data-frame="${page.chosen}"] .face`)?.title || "";
    document.getElementById("frame-file").textContent = file + (found.blur === null ? "" : `, blurred by ${found.blur.toFixed(1)} px where it is sharpest`);
  }

  changed(field) {
    if (field.id === "zones") return this.zones.toggle();
    if (field.id === "frame-name") return post(field.dataset.post, { frame: this.page.chosen, name: field.value });
    if (field.id !== "exposure" && field.id !== "exposure-all") return false;
    // one exposure for the chosen frame, or the same place in the bracket for all
    const choice = document.getElementById("exposure");
    return post(choice.dataset.post, { frame: this.page.chosen, use: choice.value, all: document.getElementById("exposure-all").checked ? 1 : 0 });
  }

  // ---- dragging frames on the rail ----

  listen() {
    // frames are known by their ids and found where they are now: the rail may be drawn anew while one is held
    let dragged = null;
    const under = (y) => [...document.querySelectorAll("#rail .frame")].find((item) => {
      const box = item.getBoundingClientRect();
      return item.dataset.frame !== dragged.id && y > box.top && y < box.bottom;
    });
    const show = (target) => {
      for (const item of document.querySelectorAll("#rail .frame")) {
        item.classList.toggle("dragged", dragged.moving && item.dataset.frame === dragged.id);
        item.classList.toggle("drop", item === target);
      }
    };
    document.addEventListener("pointerdown", (event) => {
      const item = event.target.closest("#rail .frame");
      if (item && this.page.stage === "gather" && event.button === 0) dragged = { id: item.dataset.frame, y: event.clientY, moving: false };
    });
    document.addEventListener("pointermove", (event) => {
      if (!dragged) return;
      dragged.moving ||= Math.abs(event.clientY - dragged.y) > 8;
      if (dragged.moving) show(under(event.clientY));
    });
    document.addEventListener("pointerup", (event) => {
      if (dragged?.moving) {
        const target = under(event.clientY);
        dragged.moving = false;
        show(null);
        if (target) post(this.url("move"), { frame: dragged.id, to: this.place(target.dataset.frame) });
      }
      dragged = null;
    });
    document.addEventListener("dragstart", (event) => { if (event.target.closest("#rail")) event.preventDefault(); });
  }
}
