// The parts of a bench that are shown one at a time.
export class Panels {
  /** `bench` is the bench's class; `first` the part that is shown at first; `turned` hears of another one. */
  constructor(bench, first, turned = () => {}) { this.bench = bench; this.shown = first; this.turned = turned; }

  get nav() { return document.querySelectorAll(`.${this.bench} .panels [data-panel]`); }

  dress() {
    for (const button of this.nav) button.setAttribute("aria-pressed", button.dataset.panel === this.shown);
    for (const part of document.querySelectorAll(`.${this.bench} [data-panel-of]`)) part.hidden = part.dataset.panelOf !== this.shown;
  }

  clicked(event) {
    const panel = event.target.closest(`.${this.bench} .panels [data-panel]`)?.dataset.panel;
    if (!panel) return false;
    this.shown = panel;
    this.dress();
    this.turned(panel);
    return true;
  }
}
