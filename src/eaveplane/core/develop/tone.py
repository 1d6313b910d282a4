"""Tones: from brightness to brightness, as one curve that never falls."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray

STEPS = 8192
MOST = 64.0
"""Light above which the tone curve is flat."""
BEND = 0.45
"""How far below white the strongest shoulder begins, in encoded brightness."""


@dataclass(frozen=True)
class Tones:
    """What a tone curve is made of, in percent, as a look has it; `curve` are points of encoded brightness 0..1."""

    contrast: float = 0
    highlights: float = 0
    shadows: float = 0
    pivot: float = 46
    white_end: float = 0
    black_end: float = 0
    shoulder: float = 0
    curve: tuple[tuple[float, float], ...] = ()


def shaped(tones: Tones, y: NDArray[np.float64]) -> NDArray[np.float64]:
    """Encoded brightness after shadows, highlights and contrast alone; never falls."""
    pivot = tones.pivot / 100
    inside = np.clip(y, 0, 1)
    lift, pull = tones.shadows / 100, tones.highlights / 100
    y = y + lift * (1.8 if lift > 0 else 0.8) * inside * (1 - inside) ** 3
    inside = np.clip(y, 0, 1)
    y = y + pull * (1.8 if pull < 0 else 0.8) * inside**3 * (1 - inside)
    steep = tones.contrast / 100
    if steep > 0:
        inside = np.clip(y, 0, 1)
        k = 5 * steep
        # both halves keep their end and meet in the pivot with one slope
        low, high = np.tanh(k * pivot / 2), np.tanh(k * (1 - pivot) / 2)
        bent = np.where(
            inside < pivot,
            pivot + np.tanh(k * (inside - pivot) / 2) * pivot / low,
            pivot + np.tanh(k * (inside - pivot) / 2) * (1 - pivot) / high,
        )
        y = y - inside + bent
    elif steep < 0:
        y = pivot + (y - pivot) * (1 + 0.6 * steep)
    return y


def through_points(points: Sequence[tuple[float, float]], y: NDArray[np.float64]) -> NDArray[np.float64]:
    """Encoded brightness after a curve through points: monotone between points that rise (PCHIP, Fritsch and Carlson
    1980), level before the first, and beyond the last carried on by what brightness rises there."""
    if not points:
        return y
    from scipy.interpolate import PchipInterpolator

    xs, ys = np.array(points).T
    ys = np.maximum.accumulate(ys)
    inside = np.clip(y, xs[0], xs[-1])
    return np.asarray(PchipInterpolator(xs, ys)(inside) + np.maximum(y - max(xs[-1], 1.0), 0))


def tone_curve(tones: Tones, x: NDArray[np.float64]) -> NDArray[np.float64]:
    """Encoded brightness after the tone controls, for encoded brightness `x` (0..1 and above); never falls."""
    black, white = -0.12 * tones.black_end / 100, 1 - 0.25 * tones.white_end / 100
    y = through_points(tones.curve, shaped(tones, (x - black) / (white - black)))
    room = BEND * tones.shoulder / 100
    # whatever its strength, the scale ends in white; less room than a thousandth of a 16-bit step is none
    if room > 1e-8:
        y = np.where(y > 1 - room, 1 - room * np.exp(-np.maximum(y - 1 + room, 0) / room), y)
    return np.maximum(y, 0)


def encode(light: NDArray[np.float64]) -> NDArray[np.float64]:
    """The sRGB curve, carried on above 1 by its own formula."""
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 1e-12) ** (1 / 2.4) - 0.055)


def decode(encoded: NDArray[np.float64]) -> NDArray[np.float64]:
    """The inverse of `encode`."""
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


SAMPLED = np.linspace(0, np.sqrt(MOST), STEPS) ** 2
SAMPLED[0] = SAMPLED[1] * 1e-3
ENCODED = encode(SAMPLED)


def factors(bent: NDArray[np.float64]) -> FloatArray:
    """Factor on light (STEPS,) for luminance whose square root runs evenly from 0 to sqrt(MOST), from the curve at ENCODED."""
    return (decode(bent) / SAMPLED).astype(np.float32)
