// Delivered files: two chosen, and two in step at 1:1.
import "../shell/page.js";

const list = document.querySelector(".results");
if (list) {
  const button = document.getElementById("compare");
  const chosen = () => [...list.querySelectorAll("input:checked")].map((box) => box.closest("[data-result]").dataset.result);
  list.addEventListener("change", () => { button.disabled = chosen().length !== 2; });
  button.addEventListener("click", () => { const [a, b] = chosen(); location.href = button.dataset.compare.replace(/0\/0$/, `${a}/${b}`); });
  // the job is seen where the scene is
  document.body.addEventListener("htmx:afterRequest", (event) => { const { after } = event.detail.elt.dataset; if (after && event.detail.successful) location.href = after; });
}

const panes = [...document.querySelectorAll("#compared figure")];
if (panes.length) {
  const at = { x: 0.5, y: 0.5 };
  const show = () => {
    for (const figure of panes) {
      const pane = figure.querySelector(".pane"), scale = window.devicePixelRatio || 1;
      const [w, h] = [Math.min(1400, Math.round(pane.clientWidth * scale)), Math.min(1400, Math.round(pane.clientHeight * scale))];
      const image = figure.querySelector("img");
      image.style.width = `${w / scale}px`;
      const url = `${figure.dataset.piece}?${new URLSearchParams({ x: at.x, y: at.y, w, h })}`;
      if (image.getAttribute("src") !== url) image.src = url;
    }
  };
  const move = (right, down, figure) => {
    const [w, h] = JSON.parse(figure.dataset.size), scale = window.devicePixelRatio || 1;
    at.x = Math.min(1, Math.max(0, at.x + (right * scale) / w));
    at.y = Math.min(1, Math.max(0, at.y + (down * scale) / h));
    show();
  };
  for (const figure of panes) {
    let from = null;
    figure.addEventListener("pointerdown", (event) => { from = event; figure.setPointerCapture(event.pointerId); });
    figure.addEventListener("pointermove", (event) => { if (from) { move(from.clientX - event.clientX, from.clientY - event.clientY, figure); from = event; } });
    for (const end of ["pointerup", "pointercancel"]) figure.addEventListener(end, () => { from = null; });
    figure.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: [-80, 0], ArrowRight: [80, 0], ArrowUp: [0, -80], ArrowDown: [0, 80] }[event.key];
      if (step) { event.preventDefault(); move(...step, figure); }
    });
  }
  addEventListener("resize", show);
  show();
}
