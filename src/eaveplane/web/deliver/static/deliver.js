// Deliver: outputs ticked and chosen, sets of them, a paper's profile and its proof, a recipe dropped on the page.
import { post, send, tell } from "../shell/page.js";
import { Panels } from "../scene/panels.js";

export class Deliver {
  constructor(page) {
    this.page = page;
    this.output = 0;
    this.stages = ["deliver"];
    this.panels = new Panels("bench-deliver", "outputs");
    this.does = {
      "proof-print": (button) => this.proof(Number(button.dataset.of)),
      "other-profile": () => this.bring(),
      "take-parts": () => this.take(),
    };
    document.addEventListener("focusin", (event) => { const row = event.target.closest("#outputs [data-output]"); if (row) this.choose(Number(row.dataset.output)); });
    const dropping = (event) => event.dataTransfer?.types.includes("Files") && document.getElementById("taking");
    document.addEventListener("dragover", (event) => { if (dropping(event)) event.preventDefault(); });
    document.addEventListener("drop", (event) => { if (dropping(event)) { event.preventDefault(); this.offer(event.dataTransfer.files[0]); } });
  }

  choose(k) { if (this.output !== k) { this.output = k; this.proof(undefined); this.dress(); } }

  dress() {
    if (this.page.stage !== "deliver") return;
    this.panels.dress();
    const rows = [...document.querySelectorAll("#outputs [data-output]")];
    this.output = Math.max(0, Math.min(this.output, rows.length - 1));
    rows.forEach((row, k) => row.classList.toggle("chosen", k === this.output));
    rows[this.output]?.scrollIntoView({ block: "nearest" });
    for (const panel of document.querySelectorAll("[data-output-panel]")) panel.hidden = Number(panel.dataset.outputPanel) !== this.output;
    for (const button of document.querySelectorAll("[data-do=proof-print]")) button.setAttribute("aria-pressed", this.page.printed === Number(button.dataset.of));
  }

  left() { this.page.printed = undefined; }

  get keys() { return { o: () => document.querySelector(`[data-output-panel="${this.output}"] [data-do=proof-print]`)?.click() }; }

  /** The picture as it looks printed; once more ends it. */
  proof(k) {
    const { page } = this, now = page.printed === k ? undefined : k;
    if (page.printed === now) return;
    page.printed = now;
    page.show();
    this.dress();
  }

  get panel() { return document.querySelector(`[data-output-panel="${this.output}"]`); }
  bring() { this.panel.querySelector("[data-bring]").click(); }

  clicked(event) {
    const does = event.target.closest("[data-output-do]")?.dataset.outputDo, set = event.target.closest("[data-set-do]");
    const row = event.target.closest("#outputs [data-output]");
    if (does) {
      post(document.getElementById("outputs").dataset.change, { does, output: row?.dataset.output ?? "" }).then(() => { if (does === "add") { this.output = 99; this.dress(); } });
      return true;
    }
    if (set) {
      const name = document.getElementById(set.dataset.setDo === "save" ? "set-name" : "set-of-outputs").value;
      post(set.dataset.set, { does: set.dataset.setDo, set: name }).then(() => { if (set.dataset.setDo === "save" && name) tell(`Set “${name}” is kept.`); });
      return true;
    }
    if (row && !event.target.closest("input, button")) { this.choose(Number(row.dataset.output)); return true; }
    return this.panels.clicked(event);
  }

  changed(field) {
    if (field.dataset.tick) { post(field.dataset.tick, { name: field.dataset.name, value: field.checked ? 1 : 0 }); return true; }
    if (field.dataset.profile && field.value === "file" && field.dataset.held === undefined) {
      // until a file is chosen it stays what it was
      field.value = [...field.options].find((option) => option.defaultSelected)?.value ?? "input";
      this.bring();
      return true;
    }
    if (field.dataset.bring) { this.send(field); return true; }
    if (field.id === "recipe-file") { this.offer(field.files[0]); field.value = ""; return true; }
    return ["set-name", "set-of-outputs"].includes(field.id);
  }

  /** A profile's file goes to the server; the bench comes back with it chosen. */
  async send(field) {
    const body = new FormData();
    body.append("file", field.files[0]);
    const answer = await send(field.dataset.bring, { method: "POST", body });
    if (!answer.ok) tell(await answer.text(), true);
    this.page.refresh(true);
  }

  // ---- a recipe from elsewhere ----

  async offer(file) {
    const taking = document.getElementById("taking"), offered = document.getElementById("offered");
    if (!file || !taking) return;
    this.panels.shown = "recipe";
    this.panels.dress();
    const body = new FormData();
    body.append("file", file);
    const answer = await send(taking.dataset.offer, { method: "POST", body });
    if (!answer.ok) { tell(await answer.text(), true); return; }
    const found = await answer.json();
    this.token = found.token;
    offered.replaceChildren();
    const from = document.createElement("p");
    from.textContent = `${found.name}, for ${found.frames} frames. Take:`;
    offered.append(from);
    for (const { part, label } of found.parts) {
      const line = document.createElement("label"), box = document.createElement("input");
      line.className = "check";
      box.type = "checkbox";
      box.name = "part";
      box.value = part;
      box.checked = part !== "delivery";
      line.append(box, ` ${label}`);
      offered.append(line);
    }
    const button = document.createElement("button");
    Object.assign(button, { type: "button", className: "plain", textContent: "Take what is ticked" });
    button.dataset.do = "take-parts";
    offered.append(button);
    offered.hidden = false;
  }

  take() {
    const parts = [...document.querySelectorAll("#offered [name=part]:checked")].map((box) => box.value).join();
    return post(document.getElementById("taking").dataset.take, { token: this.token, parts });
  }
}
