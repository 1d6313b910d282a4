// The viewer looks for something to draw at every frame of the screen; while nothing moves and nobody touches it, ten times a second will do.
const AWAKE = 700, IDLE = 100;
const waiting = new Map();
let awake = 0, last = 0;

function begin(id, work) {
  const run = (now) => { waiting.delete(id); work(now); };
  if (performance.now() < awake) { const frame = requestAnimationFrame(run); waiting.set(id, { work, end: () => cancelAnimationFrame(frame) }); }
  else { const timer = setTimeout(() => run(performance.now()), IDLE); waiting.set(id, { work, idle: true, end: () => clearTimeout(timer) }); }
}

/** Something is about to move: what waits is done at the next frame, and for a while so is all that follows. */
export function wake() {
  awake = performance.now() + AWAKE;
  for (const [id, { work, idle, end }] of [...waiting]) if (idle) { end(); begin(id, work); }
}

/** Takes the viewer's clock in hand, before there is one. */
export function quiet() {
  OpenSeadragon.requestAnimationFrame = (work) => { begin(++last, work); return last; };
  OpenSeadragon.cancelAnimationFrame = (id) => { waiting.get(id)?.end(); waiting.delete(id); };
  for (const event of ["pointermove", "pointerdown", "pointerup", "wheel", "keydown", "touchmove", "input"]) document.addEventListener(event, wake, { capture: true, passive: true });
  addEventListener("resize", wake);
}

/** A viewer whose pictures have come, or that is on its way somewhere, is drawn at once. */
export function rouse(viewer) {
  for (const event of ["open", "animation", "viewport-change", "tile-loaded", "resize", "rotate"]) viewer.addHandler(event, wake);
}
