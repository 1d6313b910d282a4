"""Whether a remedy makes a place better, told without knowing the truth: by the fine detail that some frame shows there and the picture does not.

A frame drawn over a place brings its own detail and takes away that of what lies nearer or farther; beside a near thing it mostly takes more
than it brings. What moved is not judged by this alone: a thing at another moment is at another place.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from ....imaging.soft import noise_between
from ...gather.detail import LAPLACIAN
from ...weave.drawn import Below
from ...weave.laid import RegisteredFrames
from .finding import Finding, Kind
from .remedies import Remedy

OCTAVES = (0.7, 1.4, 2.8)
"""Pixels (sigma) of the finer of two blurs between which detail is looked at."""
FRAME_LEAVES, WAY_LEAVES, MOMENT_LEAVES = 0.95, 0.6, 1.3
"""Part of what is lost that a frame, another way of weaving, and another moment of what moved may leave to be offered: a way changes more than it
has to, and what moved covers other ground."""
LEAST = 0.005
"""Part of the detail there is of which a picture must lose so much for anything to be brought back."""
CLEAR = 2.0
"""Variance of noise that is taken for none of the detail, in its own: in small windows it is now more, now less."""
KEPT = 0.05
"""Part of the detail around a speck that another frame may lack to be drawn over it."""
MOST = 4
"""Remedies that are offered."""
BESIDE = 32
"""Pixels around a flaw in which it is judged what a remedy does."""
LARGE = 8_000_000
"""Pixels of all frames above which that is done in a smaller picture."""


@dataclass(frozen=True, eq=False)
class Judge:
    """The finest that frames show at a place, `best` (octaves, h, w) as contrast above noise, of `noise` (octaves,) in variance, against which pictures of
    it are judged, and what the picture that is there loses of it."""

    best: FloatArray
    noise: FloatArray
    lost_now: float

    @staticmethod
    def of(frames: Sequence[FloatArray], reach: Sequence[NDArray[np.bool_]], now: FloatArray, noise: float) -> Judge:
        """From the frames (n) of (h, w, 3), where (n) of (h, w) they are, and the picture (h, w, 3), in root light; `noise` is the variance that noise
        has in Laplacians of frames."""
        floor = np.asarray([CLEAR * noise / LAPLACIAN * noise_between(sigma) for sigma in OCTAVES], np.float32)
        best = np.max([_contrast(frame, floor) * inside for frame, inside in zip(frames, reach, strict=True)], axis=0)
        return Judge(best, floor, _lost(best, now, floor))

    @property
    def something_is_lost(self) -> bool:
        """Whether the picture that is there lacks what some frame shows."""
        return self.lost_now > LEAST * float(np.square(self.best).sum())

    def left(self, picture: FloatArray) -> float:
        """What a picture (h, w, 3) loses, as part of what is lost now, if anything is: 0 where all comes back, above 1 where it loses more."""
        return _lost(self.best, picture, self.noise) / self.lost_now

    def keeps(self, picture: FloatArray) -> bool:
        """Whether a picture (h, w, 3) has nearly all that is to be seen."""
        return _lost(self.best, picture, self.noise) <= KEPT * float(np.square(self.best).sum())


def offered(finding: Finding, tried: Sequence[Remedy], laid: RegisteredFrames, weave: Below, under: Callable[[Remedy], Below]) -> list[tuple[Remedy, float]]:
    """Those of the remedies tried for a flaw that make its place better than the `weave` is, each with what it leaves of what is lost there; see
    `worth_offering`. `under` reads the picture under one."""
    x, y, w, h = finding.box
    level = 0
    while (w * h * len(laid.names)) >> 2 * level > LARGE:
        level += 1
    width, height = laid.size_at(level)
    left, top, right, bottom = max(0, x - BESIDE) >> level, max(0, y - BESIDE) >> level, (x + w + BESIDE) >> level, (y + h + BESIDE) >> level
    box = left, top, min(right, width) - left, min(bottom, height) - top
    # what shows a speck does not tell what is right there
    showing = [k for k in range(len(laid.names)) if finding.kind != "speck" or k not in finding.frames]
    judge = Judge.of([laid.read(k, level, box) for k in showing], [laid.covers(k, level, box) for k in showing], weave(level, box), laid.noise * 0.25**level)
    return worth_offering(finding.kind, tried, judge, lambda remedy: under(remedy)(level, box))


def worth_offering(kind: Kind, remedies: Sequence[Remedy], judge: Judge, under: Callable[[Remedy], FloatArray]) -> list[tuple[Remedy, float]]:
    """Of remedies those that make the place better, with what they leave of what is lost there, the best first; moments of what moved stay in their
    order. `under` gives the picture (h, w, 3) under one. A remedy that heals is always offered, first; it leaves nothing of a speck."""
    if kind == "speck":
        return [(remedy, 0.0) for remedy in remedies if remedy.heals or judge.keeps(under(remedy))][:MOST]
    if not judge.something_is_lost:
        return []
    left = [(remedy, judge.left(under(remedy))) for remedy in remedies]
    good = [(remedy, part) for remedy, part in left if part < (MOMENT_LEAVES if kind == "ghost" else WAY_LEAVES if remedy.way else FRAME_LEAVES)]
    return (good if kind == "ghost" else sorted(good, key=lambda one: one[1]))[:MOST]


def _lost(best: FloatArray, picture: FloatArray, noise: FloatArray) -> float:
    return float(np.square(np.maximum(best - _contrast(picture, noise), 0)).sum())


def _contrast(picture: FloatArray, noise: FloatArray) -> FloatArray:
    """Contrast (octaves, h, w) of a picture (h, w, 3), without that of noise."""
    luma = root_luma(np.ascontiguousarray(picture, np.float32))
    out = np.empty((len(OCTAVES), *luma.shape), np.float32)
    for band, sigma, floor in zip(out, OCTAVES, noise, strict=True):
        detail = cv2.GaussianBlur(luma, (0, 0), sigma) - cv2.GaussianBlur(luma, (0, 0), 2 * sigma)
        band[:] = np.sqrt(np.maximum(cv2.GaussianBlur(detail * detail, (0, 0), 2 * sigma) - floor, 0))
    return out
