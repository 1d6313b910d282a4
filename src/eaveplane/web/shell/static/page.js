// What every page does: tokens on requests, words for errors, pieces that renew themselves, themes, the sheet of keys.
const token = document.querySelector("meta[name=csrf]").content;

document.body.addEventListener("htmx:configRequest", (event) => { event.detail.headers["X-CSRFToken"] = token; });
document.body.addEventListener("htmx:responseError", (event) => tell(event.detail.xhr.responseText || "That did not work.", true));
document.body.addEventListener("htmx:sendError", () => tell("The program does not answer. Start it again; nothing that was decided is lost.", true));

/** Say something in a line that goes away by itself. */
export function tell(text, grave = false) {
  const told = document.getElementById("told");
  told.textContent = text;
  told.className = grave ? "grave shown" : "shown";
  clearTimeout(tell.timer);
  tell.timer = setTimeout(() => { told.className = ""; }, grave ? 9000 : 3500);
}

let posts = Promise.resolve();

/** Post values and put the pieces that come back in their places; one after the other, so that no decision is dropped for a later one. */
export function post(url, values) {
  // what goes wrong is told by the listeners above
  posts = posts.then(() => htmx.ajax("POST", url, { values, swap: "none", source: document.body })).catch(() => {});
  return posts;
}

/** A request of a script's own, with the token. */
export function send(url, options = {}) {
  return fetch(url, { ...options, headers: { "X-CSRFToken": token, "X-Plain": "1", ...options.headers } });
}

// A piece that renews itself must not go from under a finger: a click is lost when what was pressed is gone at the release.
// And it is not drawn anew when nothing has changed, so that the place of the keyboard and pictures stay.
const shown = new WeakMap(), waiting = [];
let pressed = null, down = false;
let late = null;
/** Whether something is held by a finger. */
export const pressing = () => down;
/** Do something once it has been let go, and the click that comes of it has been heard. */
export const released = (then) => waiting.push(then);
document.addEventListener("pointerdown", (event) => { pressed = event.target; down = true; }, true);
function letGo() {
  down = false;
  // after the click that follows
  setTimeout(() => {
    pressed = null;
    if (late?.asker.isConnected && late.target.isConnected) htmx.ajax("GET", late.asker.getAttribute("hx-get"), { source: late.asker, target: late.target, swap: "outerHTML" });
    late = null;
    for (const then of waiting.splice(0)) then();
  });
}
// where a menu opens, or another window, the release is not heard
for (const end of ["pointerup", "pointercancel", "contextmenu"]) document.addEventListener(end, letGo, true);
window.addEventListener("blur", letGo);
document.body.addEventListener("htmx:beforeSwap", (event) => {
  // the event's own elt is always its target: who asked is in the request
  const { target, serverResponse, requestConfig: { elt: asker, verb } } = event.detail;
  if (verb !== "get" || !target.id || !asker.hasAttribute("hx-get")) return;
  if (asker === target && shown.get(target) === serverResponse) event.detail.shouldSwap = false;
  else if (target.contains(pressed)) { event.detail.shouldSwap = false; late = { asker, target }; }
});
document.body.addEventListener("htmx:afterSwap", (event) => {
  const { elt, requestConfig, target, xhr } = event.detail;
  if (requestConfig.elt === target && requestConfig.verb === "get" && elt.id === target.id) shown.set(elt, xhr.responseText);
});

// What has the keyboard keeps it when the piece that holds it is drawn anew: it is found again by what it is.
const TAKES_KEYS = "a[href], button, input, select, textarea, [tabindex]";
let lost = null;
function sort(element) {
  const { dataset } = element;
  const own = [element.name, element.type, dataset.do, dataset.view, dataset.panel, dataset.move, dataset.reset, dataset.areaDo, element.getAttribute("href"), element.getAttribute("hx-post"), element.getAttribute("aria-label")];
  return element.id || [element.tagName, ...own, element.closest("[data-frame]")?.dataset.frame, element.closest("[data-area]")?.dataset.area].join("|");
}
function keep() {
  const held = document.activeElement;
  // drawings keep their own places
  if (!held || held === document.body || held instanceof SVGElement) return;
  const kind = sort(held), alike = [...document.querySelectorAll(TAKES_KEYS)].filter((one) => sort(one) === kind);
  lost = { held, kind, number: alike.indexOf(held), piece: held.closest("[id]:not(input, select, button)")?.id, main: held.matches(".main") };
}
function giveBack() {
  const { held, kind, number, piece: name, main } = lost ?? {};
  lost = null;
  if (!held || held.isConnected || (document.activeElement && document.activeElement !== document.body)) return;
  const alike = [...document.querySelectorAll(TAKES_KEYS)].filter((one) => sort(one) === kind);
  const piece = document.getElementById(name);
  // a stage's main action leads to the next one's; what is gone for good leaves the place where it was
  (alike[number] ?? alike[0] ?? (main ? piece?.querySelector(".main") : null) ?? piece?.querySelector(TAKES_KEYS))?.focus({ preventScroll: true });
}
for (const event of ["htmx:beforeSwap", "htmx:oobBeforeSwap"]) document.body.addEventListener(event, keep);
for (const event of ["htmx:afterSettle", "htmx:oobAfterSwap"]) document.body.addEventListener(event, () => setTimeout(giveBack, 0));
// a key that comes before that goes where it was meant to; Escape lets go, and a later key must not find the field again
document.addEventListener("keydown", (event) => { if (event.key === "Escape") lost = null; else giveBack(); }, true);

function theme() {
  const root = document.documentElement;
  root.dataset.bsTheme = root.dataset.bsTheme === "dark" ? "light" : "dark";
  try { localStorage.setItem("theme", root.dataset.bsTheme); } catch { /* not kept then */ }
  nameTheme();
}

function nameTheme() {
  const button = document.querySelector("[data-do=theme]");
  button.textContent = document.documentElement.dataset.bsTheme === "dark" ? "Day" : "Dusk";
}

const keys = document.getElementById("keys");
document.addEventListener("click", (event) => {
  const what = event.target.closest("[data-do]")?.dataset.do;
  if (what === "theme") theme();
  if (what === "keys") keys.showModal();
});
document.addEventListener("keydown", (event) => {
  if (event.key === "?" && !typing(event)) keys.open ? keys.close() : keys.showModal();
});
document.addEventListener("submit", (event) => {
  const sure = event.target.dataset.sure;
  if (sure && !confirm(sure)) event.preventDefault();
});

/** Whether a key belongs to a field that is being written in. */
export function typing(event) {
  const field = event.target.closest("input, select, textarea");
  return Boolean(field && field.type !== "range" && field.type !== "checkbox" && field.type !== "radio");
}

nameTheme();
