"""The look: the development that all frames of a scene and their weave share."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import BRADFORD, D65_XY, LUMA, WORK_FROM_XYZ, XYZ_FROM_WORK, FloatArray, Matrix, adaptation, encode_srgb, rgb_to_xyz, temperature_of, white_of, white_xyz
from ...imaging.rows import by_rows
from ...parameter import Parameters, parameter

TONE_STEPS = 4096
TONE_MOST = 4.0
"""Light above which the tone curve is flat."""
DARKEST_NEUTRAL = 0.004
KNEE = 0.75
"""Encoded brightness above which the shoulder bends, where a look has one."""


class Look(Parameters):
    """All zero is the picture as it came; temperature 0 stands for the light as shot."""

    kelvin: float = parameter(0, 0, 15000, 50, "Temperature", "Colour of the light that is to look white; 0 is as shot.", "K", "White balance")
    tint: float = parameter(0, -100, 100, 1, "Tint", "Green against magenta, on top of the light as shot.", "", "White balance")
    saturation: float = parameter(0, -100, 100, 1, "Saturation", "Strength of all colours.", "%", "White balance")
    boost: float = parameter(0, -100, 100, 1, "Muted colours", "Strength of weak colours; what is strong already and the tones of skin and dusk are spared.", "%", "White balance")
    exposure: float = parameter(0, -4, 4, 0.05, "Exposure", "Brightness in steps of a doubling.", "EV", "Tone")
    contrast: float = parameter(0, -100, 100, 1, "Contrast", "Steepness around the middle tones. Keep it low before weaving.", "%", "Tone")
    highlights: float = parameter(0, -100, 100, 1, "Highlights", "Bright tones, darker or lighter.", "%", "Tone")
    shadows: float = parameter(0, -100, 100, 1, "Shadows", "Dark tones, darker or lighter.", "%", "Tone")
    white_end: float = parameter(0, -100, 100, 1, "White end", "Where the scale ends in white.", "%", "Tone")
    black_end: float = parameter(0, -100, 100, 1, "Black end", "Where the scale ends in black.", "%", "Tone")
    shoulder: float = parameter(0, 0, 100, 1, "Shoulder", "How gently the brightest tones run into white.", "%", "Tone")


NEUTRAL = Look()
RAW_LOOK = Look(contrast=14, saturation=8, shadows=10, shoulder=60)
"""What raw frames start from."""


@dataclass(frozen=True)
class Light:
    """The light as shot: temperature in kelvin and tint, as the file's white balance names it."""

    kelvin: float = 6504.0
    tint: float = 0.0


def white_balance(look: Look, shot: Light) -> Matrix:
    """Matrix (3, 3) on working light that makes the chosen light look white instead of the light as shot."""
    if look.kelvin == 0 and look.tint == 0:
        return np.eye(3)
    kelvin = float(np.clip(look.kelvin or shot.kelvin, 1667, 25000))
    chosen = white_of(kelvin, shot.tint - look.tint)
    change = adaptation(chosen, white_of(shot.kelvin, shot.tint))
    return np.asarray(WORK_FROM_XYZ @ change @ XYZ_FROM_WORK)


def neutral_light(seen: NDArray[np.float64], shot: Light) -> Light:
    """The light under which a colour (3,), linear Rec. 2020 under the light as shot, is neutral. Raises ValueError for
    what is too dark, or too colourful to have been neutral under any light."""
    xyz = XYZ_FROM_WORK @ np.asarray(seen, np.float64)
    if xyz[1] < DARKEST_NEUTRAL or (seen <= 0).any():
        raise ValueError("That is too dark to tell its colour. Pick something brighter.")
    cones = (BRADFORD @ white_of(shot.kelvin, shot.tint)) * (BRADFORD @ (xyz / xyz[1])) / (BRADFORD @ white_xyz(D65_XY))
    light = np.linalg.solve(BRADFORD, cones)
    kelvin, tint = temperature_of(light / light[1])
    if not 1700 < kelvin < 24000 or abs(tint) > 150:
        raise ValueError("Under no light would that be neutral. Pick something grey or white.")
    return Light(kelvin, tint)


def tone_curve(look: Look, x: NDArray[np.float64]) -> NDArray[np.float64]:
    """Encoded brightness after the tone controls, for encoded brightness `x` (0..1 and above); never falls."""
    black, white = -0.12 * look.black_end / 100, 1 - 0.25 * look.white_end / 100
    y = (x - black) / (white - black)
    inside = np.clip(y, 0, 1)
    lift, pull = look.shadows / 100, look.highlights / 100
    y = y + lift * (1.8 if lift > 0 else 0.8) * inside * (1 - inside) ** 3
    inside = np.clip(y, 0, 1)
    y = y + pull * (1.8 if pull < 0 else 0.8) * inside**3 * (1 - inside)
    steep, pivot = look.contrast / 100, 0.46
    if steep > 0:
        inside = np.clip(y, 0, 1)
        k = 5 * steep
        low, high = np.tanh(-k * pivot / 2), np.tanh(k * (1 - pivot) / 2)
        y = y - inside + (np.tanh(k * (inside - pivot) / 2) - low) / (high - low)
    elif steep < 0:
        y = pivot + (y - pivot) * (1 + 0.6 * steep)
    if look.shoulder > 0:
        room, over = 1 - KNEE, np.maximum(y - KNEE, 0)
        bent = KNEE + room * (1 - np.exp(-over / room))
        y = np.where(y > KNEE, y + (bent - y) * look.shoulder / 100, y)
    return np.maximum(y, 0)


def _encode(light: NDArray[np.float64]) -> NDArray[np.float64]:
    """The sRGB curve, carried on above 1 by its own formula."""
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 1e-12) ** (1 / 2.4) - 0.055)


def _decode(encoded: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


def _tone_factors(look: Look) -> FloatArray:
    """Factor on light for luminance whose square root runs evenly from 0 to sqrt(TONE_MOST)."""
    luma = np.linspace(0, np.sqrt(TONE_MOST), TONE_STEPS) ** 2
    luma[0] = luma[1] * 1e-3
    return (_decode(tone_curve(look, _encode(luma))) / luma).astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True)
def _develop(root: np.ndarray, first: np.ndarray, tone: np.ndarray, toned: bool, weights: np.ndarray, saturation: float, boost: float, last: np.ndarray, out: np.ndarray) -> None:
    reach = np.float32((tone.shape[0] - 1) / 2.0)
    for j in range(root.shape[0]):
        for i in range(root.shape[1]):
            a, b, c = root[j, i, 0], root[j, i, 1], root[j, i, 2]
            a, b, c = a * abs(a), b * abs(b), c * abs(c)
            r = first[0, 0] * a + first[0, 1] * b + first[0, 2] * c
            g = first[1, 0] * a + first[1, 1] * b + first[1, 2] * c
            b = first[2, 0] * a + first[2, 1] * b + first[2, 2] * c
            luma = weights[0] * r + weights[1] * g + weights[2] * b
            if toned:
                t = min(np.sqrt(max(luma, np.float32(0.0))) * reach, np.float32(tone.shape[0] - 1.001))
                n = int(t)
                f = tone[n] + (tone[n + 1] - tone[n]) * (t - n)
                r, g, b, luma = r * f, g * f, b * f, luma * f
            strength = saturation
            if boost != 0:
                most, least = max(r, max(g, b)), max(min(r, min(g, b)), np.float32(0.0))
                strong = (most - least) / (most + np.float32(1e-6))
                weak = (1 - strong) * (1 - strong)
                # from red over orange to yellow, where skin and dusk lie
                warm = min(max((g - b) / (most - least + np.float32(1e-6)), np.float32(0.0)), np.float32(1.0)) if r >= g and g >= b else np.float32(0.0)
                strength = saturation + boost * weak * (1 - np.float32(0.6) * warm)
            if strength != 0:
                r, g, b = r + (r - luma) * strength, g + (g - luma) * strength, b + (b - luma) * strength
            for k in range(3):
                v = last[k, 0] * r + last[k, 1] * g + last[k, 2] * b
                out[j, i, k] = np.sqrt(v) if v >= 0 else -np.sqrt(-v)


def develop(root: FloatArray, look: Look, shot: Light, primaries: str) -> FloatArray:
    """Apply a look to a picture (h, w, 3) in the weaving encoding (square root of linear Rec. 2020 light).

    The result is the signed square root of linear light in the named output primaries, of which 0..1 is shown.
    With a neutral look nothing changes but the primaries.
    """
    if look == NEUTRAL and primaries == "rec2020":
        return root
    toned = look.model_copy(update={"kelvin": 0.0, "tint": 0.0, "saturation": 0.0, "boost": 0.0, "exposure": 0.0}) != NEUTRAL
    first = (white_balance(look, shot) * 2.0**look.exposure).astype(np.float32)
    last = (np.linalg.inv(rgb_to_xyz(primaries)) @ XYZ_FROM_WORK).astype(np.float32)
    tone = _tone_factors(look)
    out = np.empty(root.shape, np.float32)
    by_rows(lambda a, b: _develop(root[a:b], first, tone, toned, LUMA, look.saturation / 100, look.boost / 100, last, out[a:b]), *root.shape[:2])
    return out


_SCREEN = np.clip(np.rint(encode_srgb((np.linspace(0, 1, 4096) ** 2).astype(np.float32)) * 255), 0, 255).astype(np.uint8)


def for_screen(developed: FloatArray) -> NDArray[np.uint8]:
    """8-bit sRGB codes (h, w, 3) of a picture that `develop` made in sRGB primaries."""
    return np.asarray(_SCREEN[np.clip(developed * np.float32(4095) + np.float32(0.5), 0, 4095).astype(np.uint16)])


def histogram(screen: NDArray[np.uint8]) -> NDArray[np.int64]:
    """Counts (3, 256) of 8-bit codes."""
    return np.stack([np.bincount(screen[..., c].ravel(), minlength=256) for c in range(3)])


def clipped(developed: FloatArray) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where a developed picture is lost in black in every channel, and where it is lost in white in any."""
    black, white = developed <= 0.008, developed >= 1.0
    return np.asarray(black.all(axis=-1)), np.asarray(white.any(axis=-1))


