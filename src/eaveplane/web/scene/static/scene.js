// The scene page: its state, the frame chosen on the rail, keys, and how pieces from the server come in.
import { post, tell, typing } from "../shell/page.js";
import { Picture } from "./picture.js";
import { Brush } from "./brush.js";
import { Rulers } from "./rulers.js";
import { CropBox } from "./crop.js";
import { Zones } from "./zones.js";
import { LookBench } from "./look.js";

const page = {
  state: read(),
  stage: document.getElementById("state").dataset.stage,
  chosen: "",
  view: "weave",
  before: "",
  clipping: false,
  blinking: false,
};

function read() { return JSON.parse(document.getElementById("state").dataset.state); }
function frame(id) { return page.state.frames.find((f) => f.id === id); }
page.frame = frame;

page.picture = new Picture(page);
page.refresh = refresh;
page.pick = pick;
page.brush = new Brush(page);
page.crop = new CropBox(page);
page.zones = new Zones(page);
page.bench = new LookBench(page);
page.rulers = new Rulers(page);
const { picture, brush, crop, zones } = page;

// ---- which frame, which view ----

/** Choose a frame; `show` also brings it into view. */
page.choose = (id, show = true) => {
  page.chosen = id;
  for (const item of document.querySelectorAll("#rail .frame")) item.firstElementChild.setAttribute("aria-pressed", item.dataset.frame === id);
  document.querySelector(`#rail [data-frame="${id}"]`)?.scrollIntoView({ block: "nearest" });
  for (const row of document.querySelectorAll(".fits [data-frame]")) row.classList.toggle("chosen", row.dataset.frame === id);
  aboutFrame();
  page.bench.trim();
  if (show && ["weave", "share"].includes(page.view) && !brush.on) page.view = "frame";
  page.show();
};

page.show = () => {
  const { state } = page;
  const labelled = state.labelled, there = state.registered;
  for (const button of document.querySelectorAll("#view-choices [data-view]")) {
    const view = button.dataset.view;
    button.setAttribute("aria-pressed", view === page.view);
    button.disabled = (["share", "mask"].includes(view) && !labelled) || (["difference"].includes(view) && !there);
  }
  picture.show(page.view);
  brush.changed();
  crop.draw();
  zones.draw();
  page.bench.areas.draw();
  page.bench.marks();
  for (const button of document.querySelectorAll("[data-before]")) button.setAttribute("aria-pressed", button.dataset.before === page.before);
};

page.setView = (view) => {
  if (view === "compare" && page.view === "compare") view = "weave";
  page.view = view;
  page.blinking = false;
  page.show();
};

function aboutFrame() {
  const found = frame(page.chosen), name = document.getElementById("frame-name");
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

function step(by) {
  const { frames } = page.state;
  const at = frames.findIndex((f) => f.id === page.chosen);
  const next = frames[Math.max(0, Math.min(frames.length - 1, at + by))];
  if (next) page.choose(next.id);
}

// ---- pieces from the server ----

function arrived() {
  const element = document.getElementById("state");
  const before = page.state, stage = page.stage;
  page.state = read();
  page.stage = element.dataset.stage;
  if (!frame(page.chosen)) page.chosen = page.state.reference || page.state.frames[0]?.id || "";
  fold();
  if (stage !== page.stage) entered();
  // a weave or a registration has come in: what was asked for is shown
  if (!before.labelled && page.state.labelled && page.view === "frame" && page.stage === "weave") page.view = "weave";
  if (["capture", "edges", "drift", "area"].includes(page.view) && page.stage !== "even") page.view = "weave";
  page.choose(page.chosen, false);
  page.bench.dress();
}

// an answer that was asked for on another stage comes too late to be shown: the page asks anew
document.body.addEventListener("htmx:beforeSwap", (event) => {
  const { path, verb } = event.detail.requestConfig;
  const of = event.detail.xhr.responseText.match(/id="state"[^>]*data-stage="(\w+)"/)?.[1];
  const moves = path.endsWith("/go") || (verb === "get" && !path.includes("/pieces/"));
  if (of && of !== document.getElementById("state").dataset.stage && !moves) {
    event.detail.shouldSwap = false;
    refresh();
  }
});

let waiting = 0;
document.body.addEventListener("htmx:oobAfterSwap", () => {
  cancelAnimationFrame(waiting);
  waiting = requestAnimationFrame(arrived);
});

function entered() {
  if (brush.on) brush.put(false);
  if (page.picking) pick();
  page.bench.put("");
  page.before = "";
  const start = { gather: "frame", even: "weave", register: "frame", weave: "weave", mend: "weave", finish: "weave", deliver: "weave" };
  page.view = start[page.stage];
  document.title = document.title.replace(/^.*? · /, `${document.getElementById("scene-name").value} · `);
}

/** Look again when the queue has moved on: a job of this scene may have brought something. */
let mark = "";
document.body.addEventListener("htmx:afterOnLoad", (event) => {
  if (event.detail.target.id !== "work") return;
  const now = document.getElementById("work").dataset.mark;
  // a bench that was made while something was computed is made anew when that has ended, whatever came in between
  const over = (page.state.busy && !now) || (!page.state.busy && document.getElementById("bench").dataset.busy === "true");
  if (now !== mark || over) { mark = now; refresh(over || !page.state.size); }
});
function refresh(bench = false) {
  const field = document.activeElement?.closest("#bench input[type=text], #bench input[type=number]");
  const editing = field && field.value !== field.defaultValue;
  return htmx.ajax("GET", `/scene/${page.state.scene}/pieces/${page.stage}?bench=${bench && !editing ? 1 : 0}`, { swap: "none", source: document.getElementById("told") }).catch(() => {});
}
window.addEventListener("popstate", () => location.reload());

// ---- clicks ----

document.addEventListener("click", (event) => {
  const on = (selector) => event.target.closest(selector);
  const face = on("#rail .face");
  if (face) return page.choose(face.parentElement.dataset.frame);
  const row = on("[data-frame]");
  if (row && (row.closest(".fits") || row.closest(".note"))) return page.choose(row.dataset.frame);
  const view = on("[data-view]")?.dataset.view;
  if (view) return page.setView(view);
  const move = on("[data-move]");
  if (move) {
    const to = page.state.frames.findIndex((f) => f.id === page.chosen) + Number(move.dataset.move);
    return post(`/scene/${page.state.scene}/gather/move`, { frame: page.chosen, to });
  }
  if (on("#leave-out")) return leaveOut();
  const way = on("[data-before]")?.dataset.before;
  if (way) return before(way);
  doing(on("[data-do]")?.dataset.do);
});

function doing(what) {
  const does = {
    clipping: () => toggle("clipping"),
    fit: () => picture.fit(),
    one: () => picture.zoomTo(1),
    two: () => picture.zoomTo(2),
    blink,
    pick,
    "save-look": () => saveLook(document.querySelector("[data-do=save-look]").dataset.url),
    fold: () => { page.folded = !document.body.classList.contains("folded"); fold(); },
  };
  does[what]?.();
}

/** The notebook is folded as a hand left it, else while it has nothing to say: the picture takes its place. */
function fold() {
  const folded = page.folded ?? Boolean(document.querySelector("#notebook li.empty"));
  const moved = document.body.classList.toggle("folded", folded) !== fold.was;
  fold.was = folded;
  const button = document.querySelector("[data-do=fold]");
  button.setAttribute("aria-expanded", !folded);
  button.textContent = folded ? "Unfold" : "Fold";
  if (moved) setTimeout(() => picture.resized(), 0);
}

/** Before the look: the whole picture, left of a line, or beside; once more ends it. */
function before(way) {
  page.before = page.before === way ? "" : way;
  page.show();
}

function toggle(what) {
  page[what] = !page[what];
  document.querySelector(`[data-do=${what}]`).setAttribute("aria-pressed", page[what]);
  page.show();
}

/** The next click on the picture says what is neutral. */
function pick() {
  if (page.bench.tool) page.bench.put("");
  page.picking = !page.picking;
  document.querySelector("[data-do=pick]")?.setAttribute("aria-pressed", page.picking);
  document.getElementById("picture").classList.toggle("picking", page.picking);
  if (page.picking) tell("Click on something that is grey or white in the scene.");
}
document.querySelector(".mat").addEventListener("click", (event) => {
  if (!page.picking) return;
  const box = event.currentTarget.getBoundingClientRect();
  const [x, y] = picture.toPicture(event.clientX - box.left, event.clientY - box.top);
  const { url } = document.querySelector("[data-do=pick]").dataset;
  pick();
  post(url, { x, y });
});

function saveLook(url) {
  const name = document.getElementById("look-name").value;
  if (!name.trim()) { document.getElementById("look-name").focus(); return tell("Write a name for this look first."); }
  return post(url, { name }).then(() => tell(`Saved as ${name.trim()}.`));
}

function leaveOut() { return post(`/scene/${page.state.scene}/gather/leave-out`, { frame: page.chosen, stage: page.stage }); }

function blink() {
  page.blinking = !page.blinking;
  document.querySelector("[data-do=blink]")?.setAttribute("aria-pressed", page.blinking);
  if (page.blinking && page.chosen === page.state.reference) {
    const other = page.state.frames.find((f) => f.kept && f.id !== page.chosen);
    if (other) page.choose(other.id);
  }
  page.view = "frame";
  page.show();
}

// ---- fields of benches that post by themselves ----

document.addEventListener("change", (event) => {
  const field = event.target, url = field.dataset.post;
  if (field.id === "zones") return zones.toggle();
  if (!url) return;
  if (field.id === "frame-name") return post(url, { frame: page.chosen, name: field.value });
  if (field.id === "exposure" || field.id === "exposure-all") return useExposure();
  if (field.id === "drift") return post(url, { on: field.checked ? 1 : 0 });
  if (field.id === "reference") return post(url, { frame: field.value });
  if (field.name === "canvas") return post(url, { canvas: field.value });
  if (field.id === "ratio") return crop.ratio(field.value);
  post(url, { name: field.dataset.name, value: field.value });
});

/** One exposure for the chosen frame, or the same place in the bracket for all. */
function useExposure() {
  const choice = document.getElementById("exposure");
  return post(choice.dataset.post, { frame: page.chosen, use: choice.value, all: document.getElementById("exposure-all").checked ? 1 : 0 });
}

// ---- dragging frames on the rail ----

let dragged = null;
document.addEventListener("pointerdown", (event) => {
  const item = event.target.closest("#rail .frame");
  if (item && page.stage === "gather" && event.button === 0) dragged = { item, y: event.clientY, moving: false };
});
document.addEventListener("pointermove", (event) => {
  if (!dragged) return;
  if (!dragged.moving && Math.abs(event.clientY - dragged.y) > 8) { dragged.moving = true; dragged.item.classList.add("dragged"); }
  if (!dragged.moving) return;
  for (const item of document.querySelectorAll("#rail .frame")) {
    const box = item.getBoundingClientRect();
    item.classList.toggle("drop", item !== dragged.item && event.clientY > box.top && event.clientY < box.bottom);
  }
});
document.addEventListener("pointerup", () => {
  if (dragged?.moving) {
    const target = document.querySelector("#rail .frame.drop");
    dragged.item.classList.remove("dragged");
    if (target) {
      const to = page.state.frames.findIndex((f) => f.id === target.dataset.frame);
      target.classList.remove("drop");
      post(`/scene/${page.state.scene}/gather/move`, { frame: dragged.item.dataset.frame, to });
    }
  }
  dragged = null;
});
document.addEventListener("dragstart", (event) => { if (event.target.closest("#rail")) event.preventDefault(); });

// ---- keys ----

document.addEventListener("keydown", (event) => {
  if (typing(event) || event.altKey || document.getElementById("keys").open) return;
  const key = event.key.toLowerCase();
  if (event.ctrlKey || event.metaKey) {
    if (key === "z") {
      event.preventDefault();
      const button = document.querySelector(`#history [data-do=${event.shiftKey ? "redo" : "undo"}]`);
      if (button.disabled) tell(button.title); else button.click();
    }
    return;
  }
  const does = {
    j: () => step(-1), k: () => step(1), 0: () => page.setView("weave"), l: leaveOut, b: blink,
    n: () => note(event.shiftKey ? -1 : 1),
    f: () => picture.fit(), h: () => picture.closer(), c: () => page.setView("compare"), v: () => before("whole"),
    o: () => (page.stage === "gather" ? zones.toggle() : page.stage === "weave" || page.stage === "mend" ? page.setView(page.view === "share" ? "weave" : "share") : toggle("clipping")),
    m: () => { const p = document.getElementById("picture"); p.dataset.mat = (Number(p.dataset.mat) + 1) % 3; },
    r: () => brush.turn(), s: () => brush.through(true), " ": () => brush.pause(true),
    ",": () => brush.nudge("width", -4), ".": () => brush.nudge("width", 4), ";": () => brush.nudge("softness", 10), "'": () => brush.nudge("softness", -10),
  };
  if (/^[1-9]$/.test(key) && page.state.frames[key - 1]) { page.choose(page.state.frames[key - 1].id); return; }
  if (key === " " && event.target.closest("button, a")) return;
  if (does[key]) { event.preventDefault(); does[key](); }
});
document.addEventListener("keyup", (event) => {
  if (event.key.toLowerCase() === "s") brush.through(false);
  if (event.key === " ") brush.pause(false);
});

function note(by) {
  const all = [...document.querySelectorAll(".note[data-frame]")];
  if (!all.length) return tell("The notebook has no remark on a frame.");
  const at = all.indexOf(document.activeElement);
  all[(at + by + all.length + (at < 0 && by < 0 ? 1 : 0)) % all.length].focus();
  page.choose(document.activeElement.dataset.frame);
}
document.addEventListener("keydown", (event) => { if (event.key === "Enter" && event.target.closest(".note[data-frame]")) page.choose(event.target.dataset.frame); });

// ---- begin ----

page.chosen = page.state.reference || page.state.frames[0]?.id || "";
fold();
entered();
page.choose(page.chosen, false);
page.bench.dress();
if (!page.state.size || page.state.busy) refresh(false);
