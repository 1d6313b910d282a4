// A frame that is dragged onto something: it is known by its id and found where it is now, since what shows it may be drawn anew while it is held.

const FAR = 9;

/**
 * Let frames be dragged. `held(event)` gives the frame under a press, if it may be dragged; `onto(event, id)` what it would be dropped on, of those
 * that `targets` selects; `drop(id, target)` carries it out. A drag that is called off, by Escape or by the browser, has no consequence.
 */
export function dragging({ frames, targets, held, onto, drop }) {
  let dragged = null;
  const show = (target) => {
    for (const item of document.querySelectorAll(frames)) item.classList.toggle("dragged", Boolean(dragged?.moving) && item.dataset.frame === dragged.id);
    for (const item of document.querySelectorAll(targets)) item.classList.toggle("drop", item === target);
  };
  const end = () => {
    const was = dragged;
    dragged = null;
    if (was?.moving) show(null);
    return was;
  };
  document.addEventListener("pointerdown", (event) => {
    const frame = event.button === 0 ? held(event) : null;
    if (frame) dragged = { id: frame.dataset.frame, x: event.clientX, y: event.clientY, moving: false };
  });
  document.addEventListener("pointermove", (event) => {
    if (!dragged) return;
    dragged.moving ||= Math.hypot(event.clientX - dragged.x, event.clientY - dragged.y) > FAR;
    if (dragged.moving) show(onto(event, dragged.id));
  });
  document.addEventListener("pointerup", (event) => {
    const was = end(), target = was?.moving ? onto(event, was.id) : null;
    if (was?.moving) drop(was.id, target);
  });
  document.addEventListener("pointercancel", end);
  document.addEventListener("keydown", (event) => {
    if (event.key !== "Escape" || !dragged?.moving) return;
    event.stopPropagation();
    end();
  }, true);
  // pictures must not be dragged by the browser itself
  document.addEventListener("dragstart", (event) => { if (event.target.closest(frames)) event.preventDefault(); });
}
