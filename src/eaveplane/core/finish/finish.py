"""The last steps on a developed picture: straighten, crop, size, sharpen for the output."""

from __future__ import annotations

import math
from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from ...imaging.colour import LUMA, FloatArray
from ...imaging.placement import Carry, around, carried
from ...imaging.pyramid import Box
from ...imaging.resample import warp
from ...parameter import Parameters, parameter

Ratio = Literal["frame", "free", "1:1", "5:4", "4:3", "3:2", "16:9", "2:1", "3:1"]


class Crop(Parameters):
    """A box in the canvas, as fractions of its width and height."""

    x: float = Field(0.0, ge=0, le=1)
    y: float = Field(0.0, ge=0, le=1)
    w: float = Field(1.0, gt=0, le=1)
    h: float = Field(1.0, gt=0, le=1)


    def moved(self, carry: Carry, before: Box, after: Box) -> Crop:
        """The same box on a picture into which `carry` leads; `before` and `after` are the canvases (x, y, w, h) of either."""
        if self == Crop():
            return self
        x, y = before[0] + (self.x + self.w / 2) * before[2], before[1] + (self.y + self.h / 2) * before[3]
        (cx, cy), (scale, _) = carried([(x, y)], carry)[0], around((x, y), carry)
        w, h = min(self.w * before[2] * scale / after[2], 1.0), min(self.h * before[3] * scale / after[3], 1.0)
        left, top = (min(max((c - at) / length - part / 2, 0.0), 1 - part) for c, at, length, part in ((cx, after[0], after[2], w), (cy, after[1], after[3], h)))
        return Crop(x=left, y=top, w=w, h=h)


class Finish(Parameters):
    """How the picture is cut and sharpened."""

    straighten: float = parameter(0, -15, 15, 0.1, "Straighten", "Turns the picture; its corners are cut so that nothing is invented.", "°", "Crop")
    ratio: Ratio = "frame"
    crop: Crop = Crop()
    sharpen: float = parameter(0, 0, 200, 5, "Sharpening", "For the output size, after everything else.", "%", "Sharpen for output")
    radius: float = parameter(0.8, 0.3, 3, 0.1, "Radius", "Width of the edges that are sharpened, in pixels of the output.", "px", "Sharpen for output")
    spare: float = parameter(20, 0, 100, 5, "Spare quiet areas", "Keeps noise in skies and other plain areas from being sharpened.", "%", "Sharpen for output")


def ratio_of(ratio: Ratio, canvas: tuple[int, int]) -> float | None:
    """Width over height, None where it is free.

    >>> ratio_of("3:2", (600, 500)), ratio_of("frame", (600, 500)), ratio_of("free", (600, 500))
    (1.5, 1.2, None)
    """
    if ratio == "free":
        return None
    if ratio == "frame":
        return canvas[0] / canvas[1]
    a, b = ratio.split(":")
    return float(a) / float(b)


def turned_size(width: int, height: int, degrees: float) -> tuple[int, int]:
    """The largest box of the same shape (w, h) inside a box turned by some degrees."""
    angle = abs(math.radians(degrees))
    if angle == 0:
        return width, height
    c, s = math.cos(angle), math.sin(angle)
    scale = min(width / (width * c + height * s), height / (width * s + height * c))
    return max(1, int(width * scale)), max(1, int(height * scale))


def straightened(picture: FloatArray, degrees: float) -> FloatArray:
    """The picture (h, w, c) turned clockwise about its middle and cut to the largest box without empty corners."""
    if degrees == 0:
        return picture
    height, width = picture.shape[:2]
    w, h = turned_size(width, height, degrees)
    angle = math.radians(degrees)
    c, s = math.cos(angle), math.sin(angle)
    cx, cy = (width - 1) / 2, (height - 1) / 2
    turn = np.array([[c, -s, cx - c * cx + s * cy], [s, c, cy - s * cx - c * cy], [0, 0, 1]])
    return warp(picture, turn, ((width - w) // 2, (height - h) // 2, w, h), repeat_edge=True)


def crop_box(crop: Crop, width: int, height: int) -> Box:
    """The crop in pixels (x, y, w, h), at least one each way and inside.

    >>> crop_box(Crop(x=0.25, y=0, w=0.5, h=0.001), 600, 400)
    (150, 0, 300, 1)
    """
    x, y = min(round(crop.x * width), width - 1), min(round(crop.y * height), height - 1)
    return x, y, max(1, min(round(crop.w * width), width - x)), max(1, min(round(crop.h * height), height - y))


def resized(picture: FloatArray, long_edge: int) -> FloatArray:
    """The picture with its long side at `long_edge` pixels, by area average; 0 or larger than it is: unchanged."""
    longest = max(picture.shape[:2])
    if not long_edge or long_edge >= longest:
        return picture
    size = [max(1, round(v * long_edge / longest)) for v in picture.shape[:2]]
    return np.asarray(cv2.resize(picture, (size[1], size[0]), interpolation=cv2.INTER_AREA))


def sharpened(picture: FloatArray, amount: float, radius: float, spare: float) -> FloatArray:
    """Unsharp masking on brightness, in the square root of light; `amount` and `spare` in percent."""
    if amount == 0:
        return picture
    luma = (picture @ LUMA).astype(np.float32)
    detail = luma - cv2.GaussianBlur(luma, (0, 0), radius)
    if spare:
        around = np.sqrt(cv2.GaussianBlur(detail * detail, (0, 0), 2 * radius + 1))
        level = 0.006 * spare / 20
        detail = detail * (around**2 / (around**2 + level**2))
    return picture + (amount / 100 * detail)[..., None]


def finish(picture: FloatArray, finishing: Finish, long_edge: int) -> FloatArray:
    """All of it, in order, on a developed picture (h, w, 3) in the square root of light."""
    picture = straightened(picture, finishing.straighten)
    x, y, w, h = crop_box(finishing.crop, picture.shape[1], picture.shape[0])
    picture = resized(np.ascontiguousarray(picture[y : y + h, x : x + w]), long_edge)
    return sharpened(picture, finishing.sharpen, finishing.radius, finishing.spare)
