"""Straighten, crop, size: where of the canvas the finished picture lies."""

from __future__ import annotations

import math
from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import through
from ...imaging.pyramid import Box
from ...imaging.resample import warp
from .settings import Crop, Finish, Upright

MOST_KEYSTONE = 0.35
"""How far sides may be drawn together, as a part of half the height."""


def keystone(uprights: Sequence[Upright], canvas: Box) -> NDArray[np.float64]:
    """The matrix (3, 3) on pixels of the reference frame under which two lines are upright, the middle of the canvas (x, y, w, h) and the
    scale there kept; the identity without two lines, or where that would bend the picture too far.

    >>> round(float(keystone([(0, 0, 10, 100), (90, 0, 80, 100)], (0, 0, 91, 101))[2, 1]), 4)
    -0.0025
    """
    x, y, w, h = canvas
    cx, cy = x + (w - 1) / 2, y + (h - 1) / 2
    meeting = _meeting(uprights, canvas)
    if meeting is None:
        return np.eye(3)
    # where both lines meet goes to infinity, straight up: u over v is how they lean, 1 over v how fast they run together
    u, v, scale = meeting
    bend = np.array([[1, -u / v, 0], [0, 1, 0], [0, -scale / v, 1]])
    return np.asarray(_moved(cx, cy) @ bend @ _moved(-cx, -cy))


def runs_together(uprights: Sequence[Upright], canvas: Box) -> bool:
    """Whether two lines can be made upright in a canvas (x, y, w, h): they lean and run together, but not too fast."""
    return _meeting(uprights, canvas) is not None


def _meeting(uprights: Sequence[Upright], canvas: Box) -> NDArray[np.float64] | None:
    """Where two lines meet, from the middle of a canvas, as (u, v, 1 / distance); None for others than two, and where it is too near."""
    if len(uprights) < 2:
        return None
    x, y, w, h = canvas
    cx, cy = x + (w - 1) / 2, y + (h - 1) / 2
    first, second = (np.cross([x0 - cx, y0 - cy, 1], [x1 - cx, y1 - cy, 1]) for x0, y0, x1, y1 in uprights)
    together = np.cross(first, second)
    meeting = together / max(np.abs(together).max(), 1e-12)
    u, v, scale = meeting
    too_near = abs(v) < 1e-9 or abs(u / v) > 0.5 or abs(scale / v) * h / 2 > MOST_KEYSTONE
    return None if too_near else np.asarray(meeting, np.float64)


def room_of(finish: Finish, canvas: Box) -> tuple[int, int]:
    """Pixels (w, h) of the largest box of the canvas's shape, about its middle, inside the canvas made upright and turned."""
    x, y, w, h = canvas
    if len(finish.uprights) < 2:
        return turned_size(w, h, finish.straighten)
    corners = np.array([[x, y], [x + w, y], [x + w, y + h], [x, y + h]], np.float64) - 0.5
    quad = through(corners, _to_turned(finish, canvas)) - [(w - 1) / 2, (h - 1) / 2]
    scale = 1.0
    for a, b in zip(quad, np.roll(quad, -1, axis=0), strict=True):
        out = np.array([b[1] - a[1], a[0] - b[0]])
        scale = min(scale, float(out @ a) / float(np.abs(out) @ [w / 2, h / 2]))
    return max(1, int(w * scale)), max(1, int(h * scale))


def turned_size(width: int, height: int, degrees: float) -> tuple[int, int]:
    """The largest box of the same shape (w, h) inside a box turned by some degrees; one without pixels, as before frames are read, stays so."""
    angle = abs(math.radians(degrees))
    if angle == 0 or 0 in (width, height):
        return width, height
    c, s = math.cos(angle), math.sin(angle)
    scale = min(width / (width * c + height * s), height / (width * s + height * c))
    return max(1, int(width * scale)), max(1, int(height * scale))


def turning(width: int, height: int, degrees: float) -> NDArray[np.float64]:
    """The matrix (3, 3) that turns a picture clockwise about its middle."""
    angle = math.radians(degrees)
    c, s = math.cos(angle), math.sin(angle)
    cx, cy = (width - 1) / 2, (height - 1) / 2
    return np.array([[c, -s, cx - c * cx + s * cy], [s, c, cy - s * cx - c * cy], [0, 0, 1]])


def straightened(picture: FloatArray, finish: Finish, canvas: Box) -> FloatArray:
    """A canvas (h, w, c) of the reference frame made upright, turned clockwise about its middle and cut to the largest box without empty corners."""
    if finish.straighten == 0 and len(finish.uprights) < 2:
        return picture
    x, y, width, height = canvas
    w, h = room_of(finish, canvas)
    return warp(picture, _to_turned(finish, canvas) @ _moved(x, y), ((width - w) // 2, (height - h) // 2, w, h), repeat_edge=True)


def crop_box(crop: Crop, width: int, height: int) -> Box:
    """The crop in pixels (x, y, w, h), at least one each way and inside.

    >>> crop_box(Crop(x=0.25, y=0, w=0.5, h=0.001), 600, 400)
    (150, 0, 300, 1)
    """
    x, y = min(round(crop.x * width), width - 1), min(round(crop.y * height), height - 1)
    return x, y, max(1, min(round(crop.w * width), width - x)), max(1, min(round(crop.h * height), height - y))


def cut_size(finish: Finish, canvas: Box) -> tuple[int, int]:
    """Pixels (w, h) of a canvas (x, y, w, h) that are left of it."""
    return crop_box(finish.crop, *room_of(finish, canvas))[2:]


def _to_cut(finish: Finish, canvas: Box) -> NDArray[np.float64]:
    """The matrix (3, 3) from pixels of the reference frame to those of the straightened and cropped canvas (x, y, w, h)."""
    _, _, w, h = canvas
    tw, th = room_of(finish, canvas)
    bx, by, _, _ = crop_box(finish.crop, tw, th)
    left, top = (w - tw) // 2 + bx, (h - th) // 2 + by
    return np.asarray(_moved(-left, -top) @ _to_turned(finish, canvas))


def _to_turned(finish: Finish, canvas: Box) -> NDArray[np.float64]:
    """The matrix (3, 3) from pixels of the reference frame to those of the whole canvas (x, y, w, h) made upright and turned."""
    x, y, w, h = canvas
    return np.asarray(turning(w, h, finish.straighten) @ _moved(-x, -y) @ keystone(finish.uprights, canvas))


def _moved(right: float, down: float) -> NDArray[np.float64]:
    return np.array([[1.0, 0, right], [0, 1, down], [0, 0, 1]])


def to_crop(finish: Finish, canvas: Box) -> NDArray[np.float64]:
    """The matrix (3, 3) from a pixel of the reference frame to the crop of a canvas (x, y, w, h), whose middle is at 0 and whose sides at 1.

    >>> to_crop(Finish(), (10, 0, 100, 50)) @ [10 - 0.5, 24.5, 1]
    array([-1.,  0.,  1.])
    """
    w, h = cut_size(finish, canvas)
    return np.asarray(np.array([[2 / w, 0, 1 / w - 1], [0, 2 / h, 1 / h - 1], [0, 0, 1]]) @ _to_cut(finish, canvas))


def to_output(finish: Finish, canvas: Box, size: tuple[int, int]) -> NDArray[np.float64]:
    """The matrix (3, 3) from a pixel of the reference frame to one of the finished picture of a size (w, h)."""
    across, down = (a / b for a, b in zip(size, cut_size(finish, canvas), strict=True))
    return np.asarray(np.array([[across, 0, across / 2 - 0.5], [0, down, down / 2 - 0.5], [0, 0, 1]]) @ _to_cut(finish, canvas))


def resized(picture: FloatArray, size: tuple[int, int]) -> FloatArray:
    """The picture (h, w, c) at a size (w, h): by area average where it becomes smaller, by a Lanczos kernel of 3 where it becomes larger."""
    height, width = picture.shape[:2]
    if size == (width, height):
        return picture
    if size[0] > width or size[1] > height:
        return warp(picture, _enlarging((width, height), size), (0, 0, *size), repeat_edge=True)
    return np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA))


def _enlarging(size: tuple[int, int], to: tuple[int, int]) -> NDArray[np.float64]:
    """The matrix (3, 3) from pixels of a picture of a size (w, h) to those of it at another."""
    across, down = to[0] / size[0], to[1] / size[1]
    return np.array([[across, 0, across / 2 - 0.5], [0, down, down / 2 - 0.5], [0, 0, 1]])


def _shares(length: int, count: int, first: int, number: int) -> tuple[int, FloatArray]:
    """Which pixel of `length` the first of `number` out of `count` begins in, and by how much each of them is which of the following: (number, n)."""
    step = length / count
    begins = np.arange(first, first + number) * step
    low, high = int(begins[0]), min(length, int(np.ceil(begins[-1] + step - 1e-9)))
    at = np.arange(low, high)[None, :]
    part = np.clip(np.minimum(at + 1, begins[:, None] + step) - np.maximum(at, begins[:, None]), 0, None)
    return low, np.asarray(part / step, np.float32)


def cut_part(piece: FloatArray, source: Box, finish: Finish, canvas: Box, size: tuple[int, int], box: Box) -> FloatArray:
    """A box (x, y, w, h) of a finished picture of a size (w, h), before sharpening, from a piece (h, w, 3) of the reference frame's grid that
    holds what it shows, `source` (x, y, w, h): the same pixels as `cut` makes of the whole canvas."""
    w, h = cut_size(finish, canvas)
    if size[0] > w or size[1] > h:
        scale, reach = size[0] / w, 4
        x0, y0 = (max(0, int(v / scale) - reach) for v in box[:2])
        x1, y1 = (min(length, int((a + b) / scale) + reach + 1) for length, a, b in ((w, box[0], box[2]), (h, box[1], box[3])))
        smaller = cut_part(piece, source, finish, canvas, (w, h), (x0, y0, x1 - x0, y1 - y0))
        return warp(smaller, _enlarging((w, h), size) @ _moved(x0, y0), box, repeat_edge=True)
    left, columns = _shares(w, size[0], box[0], box[2])
    top, lines = _shares(h, size[1], box[1], box[3])
    inner = (left, top, columns.shape[1], lines.shape[1])
    to_cut = _to_cut(finish, canvas) @ _moved(source[0], source[1])
    if finish.straighten == 0 and len(finish.uprights) < 2:
        x, y = (round(v) for v in (np.linalg.inv(to_cut) @ [left, top, 1])[:2])
        picture = piece[y : y + inner[3], x : x + inner[2]]
    else:
        picture = warp(piece, to_cut, inner, repeat_edge=True)
    if (w, h) == size:
        return np.array(picture, np.float32)
    across = np.einsum("ij,rjc->ric", columns, picture)
    return np.ascontiguousarray(np.einsum("ij,jrc->irc", lines, across), np.float32)


def cut(picture: FloatArray, finish: Finish, canvas: Box, size: tuple[int, int]) -> FloatArray:
    """A developed canvas (h, w, 3), which lies at (x, y, w, h) of the reference frame, made upright, straightened, cropped and brought to a size (w, h)."""
    picture = straightened(picture, finish, canvas)
    x, y, w, h = crop_box(finish.crop, picture.shape[1], picture.shape[0])
    return resized(np.ascontiguousarray(picture[y : y + h, x : x + w]), size)
