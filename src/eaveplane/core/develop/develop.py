"""From woven light to a developed picture: haze, light, areas, relief, tones and colours, in one pass over each row.

Tones multiply all channels alike, so hue is kept; colours are adjusted in Oklab, and those that cannot be shown are
drawn in along their own hue and lightness. A part of the look that is at zero is not run at all.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import LUMA, XYZ_FROM_WORK, FloatArray, Matrix, encode_srgb, rgb_to_xyz
from ...imaging.oklab import LAB_FROM_ROOT, ROOT_FROM_LAB, WHITE_LMS_FROM_WORK, hue_of_turn, reach
from ...imaging.rows import by_rows
from ..masks.parts import Site
from .areas import Area, mask_of, reach_of
from .kernels import HUE_STEPS, PUSH, Colours, Gamut, Local, Masked, Spaces, Toning, develop_rows
from .look import HuePoint, Light, Look, balance, white_balance
from .relief import Guide
from .tone import ENCODED, STEPS, Tones, factors, shaped, tone_curve

WIDEST = np.pi / 3
"""How far on the ring a hue's adjustment reaches where no other hue stands nearer."""
SMOOTHED = 0.45
"""Share of relief that is taken away at -100: with all of it edges would turn round."""
BY_BAND = (0.5, 1.0, 0.5)
"""What an area's relief is in fine, middle and broad."""
MIRED = 2.0
"""Change of the light by one unit of an area's temperature."""
WHOLE = Guide((1, 1), np.zeros((3, 1, 1), np.float32), np.zeros((3, 1, 1), np.float32), np.zeros((2, 1, 1), np.float32), np.ones(3, np.float32))


@lru_cache(32)
def _tone_factors(tones: Tones) -> FloatArray:
    return factors(tone_curve(tones, ENCODED))


def tones_of(look: Look) -> Tones:
    """The tone curve of a look."""
    return Tones(look.contrast, look.highlights, look.shadows, look.pivot, look.white_end, look.black_end, look.shoulder, tuple(look.curve))


def hue_table(points: list[HuePoint]) -> FloatArray:
    """Cosine and sine of the shift, strength and lightness (HUE_STEPS + 1, 4) around the ring. Each point reaches as
    far as its neighbours, falling as a raised cosine, so two neighbours add up to one between them."""
    hue = hue_of_turn(np.linspace(0, 4, HUE_STEPS + 1))
    shift, strength, lightness = np.zeros((3, len(hue)))
    places = np.radians([p.hue for p in points])
    for k, point in enumerate(points):
        off = (hue - places[k] + np.pi) % (2 * np.pi) - np.pi
        up = (places[(k + 1) % len(points)] - places[k]) % (2 * np.pi) or 2 * np.pi
        down = (places[k] - places[k - 1]) % (2 * np.pi) or 2 * np.pi
        width = np.where(off >= 0, min(up, WIDEST), min(down, WIDEST))
        share = 0.5 + 0.5 * np.cos(np.pi * np.minimum(np.abs(off) / width, 1))
        shift += share * np.radians(point.shift)
        strength += share * point.strength / 100
        lightness += share * 0.4 * point.lightness / 100
    return np.stack([np.cos(shift), np.sin(shift), strength, lightness], axis=1).astype(np.float32)


def _tints(look: Look) -> FloatArray:
    pairs = [(look.tint_darks, look.tint_darks_hue), (look.tint_middles, look.tint_middles_hue), (look.tint_lights, look.tint_lights_hue)]
    return np.array([[0.12 * s / 100 * np.cos(np.radians(h)), 0.12 * s / 100 * np.sin(np.radians(h))] for s, h in pairs], np.float32)


def _strength_of(value: float) -> float:
    return value / 100 * (1 if value > 0 else SMOOTHED)


@dataclass(frozen=True, eq=False)
class _AreaTables:
    light: FloatArray
    tone: FloatArray
    values: FloatArray


def _area_tables(areas: list[Area], look: Look, shot: Light) -> _AreaTables:
    """For each area: matrix of its light, tone factors, and haze, saturation, relief, whether its light changes, EV, whether tones change."""
    count = len(areas)
    light, tone, values = np.zeros((count, 3, 3), np.float32), np.ones((count, STEPS), np.float32), np.zeros((count, 6), np.float32)
    for k, area in enumerate(areas):
        # a warmer picture is that of a scene whose light is taken for cooler
        kelvin = 1e6 / np.clip(1e6 / shot.kelvin - MIRED * area.warmth, 40, 598)
        light[k] = balance(float(kelvin), shot.tint - area.tint, shot)
        changed = area.contrast != 0 or area.highlights != 0 or area.shadows != 0
        if changed:
            tone[k] = factors(np.maximum(shaped(Tones(area.contrast, area.highlights, area.shadows, look.pivot), ENCODED), 0))
        values[k] = area.haze / 100, area.saturation / 100, _strength_of(area.relief), float(area.warmth != 0 or area.tint != 0), area.exposure, float(changed)
    return _AreaTables(light, tone, values)


def needs_guide(look: Look) -> bool:
    """Whether a look asks for what only the whole picture can tell."""
    areas = [area for area in look.areas if area.on]
    return bool(look.fine or look.middle or look.broad or look.haze or any(a.relief or a.haze or any(p.kind == "distance" for p in a.parts) for a in areas))


def reaches(look: Look, level: int) -> int:
    """Pixels around a box, at a level, that its development depends on."""
    return reach_of(look.areas, level)


def develop(
    root: FloatArray, look: Look, shot: Light, primaries: str, site: Site | None = None, guide: Guide | None = None, gamut: Matrix | None = None
) -> FloatArray:
    """Apply a look to a picture (h, w, 3) in the weaving encoding (square root of linear Rec. 2020 light).

    The result is the signed square root of linear light in the named output primaries, of which 0..1 is shown.
    With a neutral look nothing changes but the primaries. `site` says where the piece lies; without it the picture is
    taken for the whole, and without a `guide` there is neither relief nor haze nor distance. `gamut` (3, 3) makes the channels
    that colours are drawn into of working light, where they are not those of the output primaries.
    """
    height, width = root.shape[:2]
    site = site or Site((width, height), 0, (0, 0, width, height))
    areas = [area for area in look.areas if area.on and area.parts and area.changes()]
    tables = _area_tables(areas, look, shot)
    toning, colours = _toning(look, shot), _colours(look, bool(tables.values[:, 1].any()))
    local = _Local(look, tables, guide)
    if primaries == "rec2020" and not (areas or toning.on or colours.on or local.relief or local.veiled or look.exposure or look.scale_ev or look.kelvin or look.tint):
        return root
    from_work = np.linalg.inv(rgb_to_xyz(primaries)) @ XYZ_FROM_WORK
    lms, lab, unlab, show, last = (m.astype(np.float32) for m in (WHITE_LMS_FROM_WORK, LAB_FROM_ROOT, ROOT_FROM_LAB, from_work @ np.linalg.inv(WHITE_LMS_FROM_WORK), from_work))
    spaces, drawing = Spaces(lms, lab, unlab, show, last), _gamut(look, reach(from_work if gamut is None else gamut))
    out = np.empty(root.shape, np.float32)
    margin = reach_of(areas, site.level)

    def strip(a: int, b: int) -> None:
        masks = np.zeros((len(areas), b - a, width), np.float32)
        if areas:
            above, below = max(0, a - margin), min(height, b + margin)
            around = root[above:below]
            light, wide = around * np.abs(around), site.rows(above, below)
            for k, area in enumerate(areas):
                masks[k] = mask_of(area, wide, light, guide.distance if guide else None)[a - above : b - above]
        masked = Masked(masks, np.asarray(masks.any(axis=2)), tables.light, tables.tone, tables.values)
        develop_rows(root[a:b], masked, local.at(site.rows(a, b)), toning, colours, drawing, spaces, out[a:b])

    # maps and masks take as much room as the picture: few rows at a time, but many more than the masks' softness
    chunk = max(128, 4 * margin)

    def rows(a: int, b: int) -> None:
        for first_row in range(a, b, chunk):
            strip(first_row, min(first_row + chunk, b))

    by_rows(rows, height, width)
    return out


def _toning(look: Look, shot: Light) -> Toning:
    first = (white_balance(look, shot) * 2.0 ** (look.exposure + look.scale_ev)).astype(np.float32)
    tones = tones_of(look)
    on = tones != Tones(pivot=look.pivot)
    return Toning(first, _tone_factors(tones) if on else np.ones(2, np.float32), on, LUMA)


def _colours(look: Look, in_areas: bool) -> Colours:
    hues, tints = hue_table(look.hues), _tints(look)
    hued, tinted = any(p.shift or p.strength or p.lightness for p in look.hues), bool(np.abs(tints).max() > 0)
    on = bool(look.saturation or look.boost or hued or tinted or _compression(look) or in_areas)
    return Colours(on, look.saturation / 100, look.boost / 100, hues, hued, tints, tinted, look.tint_balance / 100)


def _compression(look: Look) -> float:
    # what pushes colours apart must not push them over the edge
    return min(1.0, max([look.compress, PUSH * look.boost, *(PUSH * p.strength for p in look.hues)]) / 100)


def _gamut(look: Look, most: FloatArray) -> Gamut:
    # squared chroma below which no hue of a lightness needs to be drawn in
    safe = (0.8 * most.min(axis=1)) ** 2
    return Gamut(_compression(look), most, np.minimum(safe, np.append(safe[1:], 0)))


class _Local:
    """What relief and haze do place by place, as the guide of the whole picture tells it."""

    def __init__(self, look: Look, tables: _AreaTables, guide: Guide | None) -> None:
        amounts = tuple(_strength_of(v) for v in (look.fine, look.middle, look.broad))
        self.area_relief = guide is not None and bool(tables.values[:, 2].any())
        self.relief = guide is not None and (any(amounts) or self.area_relief)
        self.veiled = guide is not None and bool(look.haze or tables.values[:, 0].any())
        self.haze, known = look.haze / 100, guide or WHOLE
        self.air = known.air
        self.lines = _pair(known, amounts) if self.relief else None
        self.area_lines = _pair(known, BY_BAND) if self.area_relief else None
        self.veil = np.ascontiguousarray(np.moveaxis(known.clear, 0, -1)) if self.veiled else None

    def at(self, site: Site) -> Local:
        """The maps at the pixels of a piece."""
        veil, lines, area_lines = (np.zeros((1, 1, 2), np.float32) if maps is None else site.spread(maps) for maps in (self.veil, self.lines, self.area_lines))
        return Local(veil, self.veiled, self.air, self.haze, lines, self.relief, area_lines, self.area_relief)


@lru_cache(8)
def _pair(guide: Guide, amounts: tuple[float, ...]) -> FloatArray:
    """Slope and offset (h, w, 2) of relief with three amounts."""
    pair = np.zeros((*guide.slopes.shape[1:], 2), np.float32)
    for k in np.flatnonzero(amounts):
        pair[..., 0] += np.float32(amounts[k]) * guide.slopes[k]
        pair[..., 1] += np.float32(amounts[k]) * guide.offsets[k]
    return pair


_SCREEN = np.clip(np.rint(encode_srgb((np.linspace(0, 1, 4096) ** 2).astype(np.float32)) * 255), 0, 255).astype(np.uint8)


def for_screen(developed: FloatArray) -> NDArray[np.uint8]:
    """8-bit sRGB codes (h, w, 3) of a picture that `develop` made in sRGB primaries."""
    out = np.empty(developed.shape, np.uint8)
    by_rows(lambda a, b: _codes(developed[a:b], _SCREEN, out[a:b]), *developed.shape[:2])
    return out


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _codes(developed: np.ndarray, table: np.ndarray, out: np.ndarray) -> None:
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            for k in range(3):
                out[j, i, k] = table[min(np.uint32(min(max(developed[j, i, k] * np.float32(4095) + np.float32(0.5), np.float32(0.0)), np.float32(4095.0))), np.uint32(4095))]


def histogram(screen: NDArray[np.uint8]) -> NDArray[np.int64]:
    """Counts (4, 256) of 8-bit codes: red, green, blue and luma."""
    luma = np.rint(screen @ np.array([0.2126, 0.7152, 0.0722], np.float32)).astype(np.uint8)
    return np.stack([np.bincount(c.ravel(), minlength=256) for c in (*np.moveaxis(screen, -1, 0), luma)])


def clipped(developed: FloatArray) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where a developed picture is lost in black in every channel, and where it is lost in white in any."""
    black, white = developed <= 0.008, developed >= 1.0
    return np.asarray(black.all(axis=-1)), np.asarray(white.any(axis=-1))
