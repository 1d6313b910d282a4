// The outing: one frame is chosen; keys, buttons and dragging deal frames out to scenes.
import { dragging } from "../shell/drag.js";
import { send, tell, typing } from "../shell/page.js";

const loupe = document.querySelector(".loupe");
const root = () => document.getElementById("strips");
const frames = () => [...document.querySelectorAll(".contact-frame[data-frame]")];
let chosen = "";

function item(id = chosen) { return frames().find((f) => f.dataset.frame === id); }

function choose(id, focus = true) {
  chosen = id;
  for (const frame of frames()) {
    const on = frame.dataset.frame === id;
    frame.setAttribute("aria-selected", on);
    frame.tabIndex = on ? 0 : -1;
  }
  const found = item();
  loupe.hidden = !found;
  if (!found) return;
  if (focus) found.focus({ preventScroll: true });
  found.scrollIntoView({ block: "nearest", inline: "nearest" });
  const { face, file, about, why } = found.dataset;
  const address = `/outing/${root().dataset.outing}/screen/${face}.jpg`;
  const picture = document.getElementById("loupe");
  if (!picture.src.endsWith(address)) picture.src = address;
  document.getElementById("loupe-name").textContent = file;
  document.getElementById("loupe-about").textContent = [about, why].filter(Boolean).join(". ");
}

async function arrange(what, values = {}) {
  const body = new URLSearchParams({ frame: chosen, ...values });
  const answer = await send(`/outing/${root().dataset.outing}/${what}`, { method: "POST", body }).catch(() => null);
  if (!answer) return tell("The program does not answer. Start it again; nothing that was decided is lost.", true);
  const text = await answer.text();
  if (!answer.ok) return tell(text, true);
  put(text);
  return undefined;
}

function put(text) {
  root().outerHTML = text;
  htmx.process(root());
  came();
}

/** Strips have come in anew: the chosen frame stays chosen, or the first one is. */
function came() {
  const all = frames();
  if (!all.length) { loupe.hidden = true; return; }
  choose(item() ? chosen : all[0].dataset.frame, document.activeElement === document.body || Boolean(document.activeElement.closest(".contact-frame")));
}

function act(what) {
  if (what === "undo" || what === "redo") return arrange(what);
  if (what === "above" || what === "below") return arrange("move", { to: what });
  return arrange(what);
}

function step(across, down) {
  const all = frames(), now = item();
  if (!now) return all[0] && choose(all[0].dataset.frame);
  if (across) {
    const next = all[all.indexOf(now) + across];
    return next && choose(next.dataset.frame);
  }
  const strips = [...document.querySelectorAll(".scene-strip[data-scene]")];
  const strip = now.closest(".scene-strip"), place = [...strip.querySelectorAll(".contact-frame")].indexOf(now);
  const beside = strips[strips.indexOf(strip) + down]?.querySelectorAll(".contact-frame");
  return beside && choose(beside[Math.min(place, beside.length - 1)].dataset.frame);
}

document.addEventListener("click", (event) => {
  const what = event.target.closest("[data-arrange]")?.dataset.arrange;
  if (what) return act(what);
  const frame = event.target.closest(".contact-frame[data-frame]");
  if (frame) choose(frame.dataset.frame);
});
document.addEventListener("dblclick", (event) => open(event.target.closest(".contact-frame[data-frame]")));
function open(frame) { frame?.closest(".scene-strip").querySelector("h2 a").click(); }

document.addEventListener("keydown", (event) => {
  if (typing(event) || event.altKey || document.getElementById("keys").open) return;
  const key = event.key;
  if (event.ctrlKey || event.metaKey) {
    if (key.toLowerCase() === "z") { event.preventDefault(); act(event.shiftKey ? "redo" : "undo"); }
    return;
  }
  const does = {
    ArrowLeft: () => step(-1, 0), ArrowRight: () => step(1, 0),
    ArrowUp: () => (event.shiftKey ? act("above") : step(0, -1)), ArrowDown: () => (event.shiftKey ? act("below") : step(0, 1)),
    t: () => act("split"), u: () => act("join"), g: () => act("marker"), l: () => act("leave-out"),
  };
  if (key === "Enter" && event.target.closest(".contact-frame")) { event.preventDefault(); return open(item()); }
  const run = does[key] || does[key.toLowerCase()];
  if (run) { event.preventDefault(); run(); }
});

// ---- dragging a frame to another strip ----

dragging({
  frames: ".contact-frame[data-frame]",
  targets: ".scene-strip",
  held: (event) => event.target.closest(".contact-frame[data-frame]"),
  onto: (event, id) => {
    const strip = document.elementFromPoint(event.clientX, event.clientY)?.closest(".scene-strip[data-scene]");
    return strip && strip !== item(id)?.closest(".scene-strip") ? strip : null;
  },
  drop: (id, target) => {
    chosen = id;
    if (target) arrange("move", { to: target.dataset.scene });
  },
});
document.body.addEventListener("htmx:afterSwap", (event) => { if (event.detail.elt?.id === "strips" || event.detail.target?.id === "strips") came(); });
came();
