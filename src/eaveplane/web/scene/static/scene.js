// The scene page: its state, the frame chosen on the rail, keys, and how pieces from the server come in.
//
// What a stage does is its own: each has a part, in its folder, with any of
//   stages            at which it is at work; `begins` the view that is shown on entering them
//   arrived(before)   new pieces are there; left() one of its stages is left; dress() its bench was drawn anew
//   draw(), moved()   the picture shows something else, was moved or zoomed; chosen() another frame is chosen
//   clicked(event), changed(field), set(ruler, value)   take something that a hand did; what is taken returns something true
//   does, keys        by name of a button, by key, at its stages; `everywhere` keys at all stages, `let` keys let go
//   live(ruler)       a slider is held; holds: the picture stays in view when another frame is chosen
import { post, pressing, released, tell, typing } from "../shell/page.js";
import { Picture } from "./picture.js";
import { Rulers } from "./rulers.js";
import { Gather } from "../gather/gather.js";
import { Even } from "../even/even.js";
import { Register } from "../register/register.js";
import { Weave } from "../weave/weave.js";
import { Mend } from "../mend/mend.js";
import { Finish } from "../finish/finish.js";
import { Deliver } from "../deliver/deliver.js";

const page = {
  state: read(),
  stage: document.getElementById("state").dataset.stage,
  chosen: "",
  view: "weave",
  before: "",
  clipping: false,
  blinking: "",
  pairing: false,
  spanning: null,
  against: "",
  parts: {},
};

function read() { return JSON.parse(document.getElementById("state").dataset.state); }
/** A frame by its id, or a single exposure of one. */
function frame(id) { return page.state.frames.find((f) => f.id === id) ?? page.state.frames.flatMap((f) => f.exposures).find((e) => e.id === id); }
page.frame = frame;

page.refresh = refresh;
const all = () => Object.values(page.parts);
/** Tell all parts of something that they may do something for. */
page.tell = (what, ...values) => { for (const part of all()) part[what]?.(...values); };
const at = (stage) => all().filter((part) => part.stages.includes(stage));
/** The parts at work at the stage that the page is at. */
page.here = () => at(page.stage);
const picture = page.picture = new Picture(page);
for (const [name, Part] of Object.entries({ gather: Gather, even: Even, register: Register, weave: Weave, mend: Mend, finish: Finish, deliver: Deliver })) page.parts[name] = new Part(page);
new Rulers(page);

// ---- which frame, which view ----

/** Choose a frame; `show` also brings it into view. */
page.choose = (id, show = true) => {
  page.chosen = id;
  for (const item of document.querySelectorAll("#rail .frame")) item.firstElementChild.setAttribute("aria-pressed", item.dataset.frame === id);
  document.querySelector(`#rail [data-frame="${id}"]`)?.scrollIntoView({ block: "nearest" });
  page.tell("chosen");
  if (show && ["weave", "share"].includes(page.view) && !all().some((part) => part.holds)) page.view = "frame";
  page.show();
};

page.show = () => {
  const { state } = page;
  const labelled = state.labelled, there = state.registered;
  for (const button of document.querySelectorAll("[data-view]")) {
    const view = button.dataset.view;
    button.setAttribute("aria-pressed", view === page.view || `${view}-alone` === page.view);
    if (view === "veils") continue;
    button.disabled = (["share", "mask"].includes(view) && !labelled) || (["difference", "matched", "outlines"].includes(view) && !there);
  }
  picture.show(page.view);
  page.tell("draw");
  for (const button of document.querySelectorAll("[data-before]")) button.setAttribute("aria-pressed", button.dataset.before === page.before);
};

page.setView = (view) => {
  if (view === "compare" && page.view === "compare") view = "weave";
  if (view === "mask" && page.view === "mask") view = "mask-alone";
  page.view = view;
  page.blinking = "";
  page.pairing = false;
  page.show();
};

function step(by) {
  const { frames } = page.state;
  const place = frames.findIndex((f) => f.id === page.chosen);
  const next = frames[Math.max(0, Math.min(frames.length - 1, place + by))];
  if (next) page.choose(next.id);
}

// ---- pieces from the server ----

function arrived() {
  const element = document.getElementById("state");
  const before = page.state, stage = page.stage;
  page.state = read();
  page.stage = element.dataset.stage;
  if (!page.state.frames.some((f) => f.id === page.chosen)) page.chosen = page.state.reference || page.state.frames[0]?.id || "";
  fold();
  if (stage !== page.stage) entered(stage);
  page.tell("arrived", before);
  page.choose(page.chosen, false);
  page.tell("dress");
}

// ---- answers that come at the wrong moment ----

// they are heard of at the body (hx-target): who asked may have been drawn anew meanwhile
const sent = new WeakMap();
let count = 0, newest = 0;
document.body.addEventListener("htmx:beforeSend", (event) => sent.set(event.detail.xhr, ++count));
document.body.addEventListener("htmx:beforeSwap", (event) => {
  const { xhr, requestConfig: { path, verb } } = event.detail;
  const of = xhr.responseText.match(/id="state"[^>]*data-stage="(\w+)"/)?.[1];
  if (!of) return;
  const moves = path.endsWith("/go") || (verb === "get" && !path.includes("/pieces/"));
  // asked for before something that has been answered already: what was decided meanwhile may be missing
  const late = sent.get(xhr) < newest, elsewhere = of !== document.getElementById("state").dataset.stage && !moves;
  // what is still on its way when a decision is answered may have been read before it was made, even if it was asked for after it
  newest = Math.max(newest, verb === "get" ? sent.get(xhr) : count + 1);
  // the way to another stage is gone all the same, and what is there is asked for anew
  if (late && moves) setTimeout(() => { settle(); refresh(true); });
  else if (late) refresh(true);
  else if (elsewhere) refresh();
  if ((late && verb === "get" && !moves) || elsewhere) event.detail.shouldSwap = false;
  else if (pressing() && !moves) {
    event.detail.shouldSwap = false;
    released(() => refresh(true));
  }
});

let waiting = 0;
document.body.addEventListener("htmx:oobAfterSwap", () => {
  cancelAnimationFrame(waiting);
  waiting = requestAnimationFrame(settle);
});
function settle() {
  cancelAnimationFrame(waiting);
  if (waiting) { waiting = 0; arrived(); }
}
// a key or a click that comes before that is meant for what is seen already
for (const event of ["keydown", "click"]) document.addEventListener(event, settle, true);

function entered(before) {
  for (const part of at(before)) part.left?.();
  page.before = "";
  page.view = at(page.stage).find((part) => part.begins)?.begins ?? "weave";
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
  const remark = on(".note[data-frame]");
  if (remark) return page.choose(remark.dataset.frame);
  const view = on("[data-view]")?.dataset.view;
  if (view) return page.setView(view);
  const way = on("[data-before]")?.dataset.before;
  if (way) return before(way);
  const reset = on("[data-reset]");
  if (reset) return post(reset.dataset.url, { group: reset.dataset.reset });
  if (at(page.stage).some((part) => part.clicked?.(event))) return undefined;
  const button = on("[data-do]"), what = button?.dataset.do;
  return (at(page.stage).find((part) => part.does?.[what])?.does ?? DOES)[what]?.(button);
});

const DOES = {
  clipping: () => toggle("clipping"),
  fit: () => picture.fit(),
  one: () => picture.zoomTo(1),
  two: () => picture.zoomTo(2),
  blink: () => page.blink("two"),
  fold: () => { page.folded = !document.body.classList.contains("folded"); fold(); },
};

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

/** Blink `two`, the chosen frame and the reference, or `all` frames; once more ends it. */
page.blink = (which) => {
  page.blinking = page.blinking === which ? "" : which;
  if (page.blinking === "two" && page.chosen === page.state.reference) {
    const other = page.state.frames.find((f) => f.kept && f.id !== page.chosen);
    if (other) page.choose(other.id);
  }
  page.view = "frame";
  page.show();
  page.tell("dress");
};

// ---- fields of benches that post by themselves ----

document.addEventListener("change", (event) => {
  const field = event.target, url = field.dataset.post;
  if (at(page.stage).some((part) => part.changed?.(field)) || !url) return;
  post(url, { name: field.dataset.name, value: field.value });
});

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
  if (/^[1-9]$/.test(key) && page.state.frames[key - 1]) { page.choose(page.state.frames[key - 1].id); return; }
  if (key === " " && event.target.closest("button, a")) return;
  const does = at(page.stage).find((part) => part.keys?.[key])?.keys ?? all().find((part) => part.everywhere?.[key])?.everywhere ?? KEYS;
  if (does[key]) { event.preventDefault(); does[key](event); }
});
document.addEventListener("keyup", (event) => {
  for (const part of all()) part.let?.[event.key.toLowerCase()]?.();
});

const KEYS = {
  j: () => step(-1), k: () => step(1), 0: () => page.setView("weave"), b: () => page.blink("two"),
  n: (event) => note(event.shiftKey ? -1 : 1),
  f: () => picture.fit(), h: () => picture.closer(), c: () => page.setView("compare"), v: () => before("whole"),
  o: () => toggle("clipping"),
  m: () => { const p = document.getElementById("picture"); p.dataset.mat = (Number(p.dataset.mat) + 1) % 3; },
};

function note(by) {
  const remarks = [...document.querySelectorAll(".note[data-frame]")];
  if (!remarks.length) return tell("The notebook has no remark on a frame.");
  const now = remarks.indexOf(document.activeElement);
  remarks[(now + by + remarks.length + (now < 0 && by < 0 ? 1 : 0)) % remarks.length].focus();
  page.choose(document.activeElement.dataset.frame);
}
document.addEventListener("keydown", (event) => { if (event.key === "Enter" && event.target.closest(".note[data-frame]")) page.choose(event.target.dataset.frame); });

// ---- begin ----

page.chosen = page.state.reference || page.state.frames[0]?.id || "";
fold();
entered("");
page.choose(page.chosen, false);
page.tell("dress");
if (!page.state.size || page.state.busy) refresh(false);
