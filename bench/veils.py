"""What lifting the veil gains over the same weave without it, on layered stacks by seed.

`python -m bench.veils 340 341 …` makes those stacks in .bench/ways/ once and prints the table. What lifting goes by was found on other
stacks, but for what bounds it and what two frames may show, which were found on 340 to 348 and 361 to 379.
"""

from __future__ import annotations

import sys

import cv2
import numpy as np

from bench import run
from bench.layered import kept
from bench.ways import Truth, by_seed

SEEDS = range(340, 360)


def section(seeds: list[int] | None = None) -> list[str]:
    """The table, as lines."""
    cv2.setNumThreads(2)
    lines = ["Layered stacks by seed (`python -m bench.veils`), PSNR whole / edge band / outside it with veils left, and what lifting them gains:", ""]
    lines += ["| seed | what | left | lifted | lifted in | weaving took |", "|---|---|---|---|---|---|"]
    gains = []
    for seed in seeds or SEEDS:
        order = by_seed(seed)
        paths, true = kept(f"seed_{seed}", order, run.HERE / "ways")
        left, before = Truth(true).woven(paths, "--veil", "leave", "--leave-out", "none")
        lifted, after = Truth(true).woven(paths, "--veil", "lift", "--leave-out", "none")
        gains.append([a - b for a, b in zip(lifted, left, strict=True)])
        moved = [f"wind {order.wind_px:.0f} px"] * (order.wind_px > 0) + [f"sway {order.sway_px:.0f} px"] * (order.sway_px > 0)
        what = ", ".join([*order.things, f"{order.count} frames", f"{order.step_px:.1f} px", *moved])
        took = after["seconds"]["weave"] / max(before["seconds"]["weave"], 1e-3)
        lines.append(f"| {seed} | {what} | {' / '.join(f'{v:.2f}' for v in left)} | {' / '.join(f'{v:+.2f}' for v in gains[-1])} | {100 * after['veil_lifted']:.1f} % | {took:.1f} × |")
        print(lines[-1], flush=True)
    mean, least = np.nanmean(gains, axis=0), np.nanmin(gains, axis=0)
    lines += [f"| mean | | | {' / '.join(f'{v:+.2f}' for v in mean)} | | |", f"| least | | | {' / '.join(f'{v:+.2f}' for v in least)} | | |"]
    return lines


if __name__ == "__main__":
    print("\n".join(section([int(s) for s in sys.argv[1:]])))
