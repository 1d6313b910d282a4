// Gather: frames named, moved, left out and told apart; the chosen one's sharp zone over the picture.
import { dragging } from "../shell/drag.js";
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
    dragging({
      frames: "#rail .frame",
      targets: "#rail .frame",
      held: (event) => (this.page.stage === "gather" ? event.target.closest("#rail .frame") : null),
      onto: (event, id) => [...document.querySelectorAll("#rail .frame")].find((item) => {
        const box = item.getBoundingClientRect();
        return item.dataset.frame !== id && event.clientY > box.top && event.clientY < box.bottom;
      }),
      drop: (id, target) => target && post(this.url("move"), { frame: id, to: this.place(target.dataset.frame) }),
    });
  }
}
