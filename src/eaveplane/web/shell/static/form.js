// Forms made of rulers: what changes is shown on the ruler and sent with the form.
import { listen, write } from "./rulers.js";

const changed = (ruler) => ruler.closest("form")?.dispatchEvent(new Event("ruler", { bubbles: true }));
listen(changed, (ruler, value) => { write(ruler, value); changed(ruler); });
document.addEventListener("change", (event) => {
  if (!event.target.closest(".ruler")) event.target.closest("form.rulers")?.dispatchEvent(new Event("ruler", { bubbles: true }));
});
document.addEventListener("click", (event) => { if (event.target.closest("[data-print]")) window.print(); });
