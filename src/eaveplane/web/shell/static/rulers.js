// Rulers: slider and field are one control; double click and Delete reset it.

/** Show a value on a ruler, within its range; the value shown. */
export function write(ruler, value) {
  const range = ruler.querySelector("[type=range]"), number = ruler.querySelector("[type=number]");
  const step = Number(ruler.dataset.step), decimals = step < 1 ? Math.ceil(-Math.log10(step)) : 0;
  const clamped = Math.max(Number(range.min), Math.min(Number(range.max), Number(value) || 0));
  range.value = clamped;
  number.value = clamped.toFixed(decimals);
  ruler.classList.toggle("changed", Math.abs(clamped - Number(ruler.dataset.start)) > 1e-9);
  return clamped;
}

/** What a value of a ruler means: one that stands where the picture came may be kept as "as it came" rather than as a number. */
export function meant(ruler, value) {
  const { cameAs, start } = ruler.dataset;
  return cameAs !== undefined && Math.abs(value - Number(start)) < 1e-9 ? Number(cameAs) : Number(value);
}

/** Set a value at a path such as areas.0.parts.1.soft. */
export function put(object, path, value) {
  const way = path.split("."), last = way.pop();
  way.reduce((at, key) => at?.[key], object)[last] = value;
}

/** An object with what the rulers say that are posted to an address. */
export function withRulers(object, url) {
  for (const ruler of document.querySelectorAll(".bench .ruler[data-name]")) {
    const range = ruler.querySelector("[type=range]");
    if (range.dataset.url?.endsWith(url)) put(object, ruler.dataset.name, meant(ruler, range.value));
  }
  return object;
}

/** Keep all rulers of the page in step: `live` while a slider is held, `set` when a value stands. */
export function listen(live, set) {
  let before = null;
  const of = (event) => event.target.closest?.(".ruler[data-name]");
  document.addEventListener("input", (event) => {
    const ruler = of(event);
    if (ruler && event.target.type === "range") { write(ruler, event.target.value); live(ruler); }
  });
  document.addEventListener("change", (event) => { const ruler = of(event); if (ruler) set(ruler, event.target.value); });
  // Escape gives the keyboard back to what had it before the ruler was taken
  document.addEventListener("focusin", (event) => { if (of(event) && !event.relatedTarget?.closest?.(".ruler")) before = event.relatedTarget; });
  document.addEventListener("keydown", (event) => {
    const ruler = of(event);
    if (!ruler || event.key !== "Escape") return;
    event.preventDefault();
    event.target.blur();
    if (before?.isConnected) before.focus();
  });
  document.addEventListener("dblclick", (event) => { const ruler = of(event); if (ruler && event.target.type === "range") set(ruler, ruler.dataset.start); });
  document.addEventListener("keydown", (event) => {
    const ruler = of(event);
    if (ruler && event.target.type === "range" && (event.key === "Delete" || event.key === "Backspace")) { event.preventDefault(); set(ruler, ruler.dataset.start); }
  });
}
