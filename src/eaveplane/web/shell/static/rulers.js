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

/** Keep all rulers of the page in step: `live` while a slider is held, `set` when a value stands. */
export function listen(live, set) {
  const of = (event) => event.target.closest?.(".ruler[data-name]");
  document.addEventListener("input", (event) => {
    const ruler = of(event);
    if (ruler && event.target.type === "range") { write(ruler, event.target.value); live(ruler); }
  });
  document.addEventListener("change", (event) => { const ruler = of(event); if (ruler) set(ruler, event.target.value); });
  document.addEventListener("dblclick", (event) => { const ruler = of(event); if (ruler && event.target.type === "range") set(ruler, ruler.dataset.start); });
  document.addEventListener("keydown", (event) => {
    const ruler = of(event);
    if (ruler && event.target.type === "range" && (event.key === "Delete" || event.key === "Backspace")) { event.preventDefault(); set(ruler, ruler.dataset.start); }
  });
}
