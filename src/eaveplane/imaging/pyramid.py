"""Pictures kept on disk at full and at halved sizes, of which any box can be read without the rest."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .colour import FloatArray

Box = tuple[int, int, int, int]
"""x, y, width, height in pixels of the level meant."""
Size = tuple[int, int]
"""Width, height."""
SMALLEST = 512
HALVED = 512
"""Rows that are halved at a time."""


def meeting(one: Box, other: Box) -> tuple[tuple[slice, slice], tuple[slice, slice]]:
    """Where two boxes meet, as rows and columns of either.

    >>> meeting((0, 0, 10, 10), (6, 8, 10, 10))
    ((slice(8, 10, None), slice(6, 10, None)), (slice(0, 2, None), slice(0, 4, None)))
    """
    left, top = max(one[0], other[0]), max(one[1], other[1])
    right, bottom = min(one[0] + one[2], other[0] + other[2]), min(one[1] + one[3], other[1] + other[3])
    in_one, in_other = ((slice(top - y, bottom - y), slice(left - x, right - x)) for x, y in (one[:2], other[:2]))
    return in_one, in_other


def level_sizes(width: int, height: int) -> list[tuple[int, int]]:
    """Sizes (w, h) of the full picture and of its halvings, down to the first that fits into SMALLEST."""
    sizes = [(width, height)]
    while max(sizes[-1]) > SMALLEST:
        sizes.append((-(-sizes[-1][0] // 2), -(-sizes[-1][1] // 2)))
    return sizes


def _halved(part: NDArray[Any]) -> NDArray[Any]:
    """A piece (h, w, channels) at half its size; where that is odd its edge counts twice."""
    if part.shape[0] % 2 or part.shape[1] % 2:
        part = np.pad(part, ((0, part.shape[0] % 2), (0, part.shape[1] % 2), (0, 0)), mode="edge")
    small = cv2.resize(part, (part.shape[1] // 2, part.shape[0] // 2), interpolation=cv2.INTER_AREA)
    return np.asarray(small.reshape(part.shape[0] // 2, part.shape[1] // 2, part.shape[2]))


class Pyramid:
    """A folder with `0.bin`, `1.bin`, … in rows of (height, width, channels), and their shapes in `levels.json`."""

    def __init__(self, folder: Path) -> None:
        facts = json.loads((folder / "levels.json").read_text())
        self.folder = folder
        self.dtype = np.dtype(facts["dtype"])
        self.sizes: list[tuple[int, int]] = [(w, h) for w, h in facts["sizes"]]
        self.channels: int = facts["channels"]
        self.stored: int = facts["stored"]

    @classmethod
    def create(cls, folder: Path, width: int, height: int, channels: int, dtype: str, full_only: bool = False) -> Pyramid:
        """Make room for a picture; `full_only` keeps no halved sizes. Files are sparse until written."""
        folder.mkdir(parents=True, exist_ok=True)
        sizes = level_sizes(width, height)
        stored = 1 if full_only else len(sizes)
        facts = {"dtype": dtype, "sizes": sizes, "channels": channels, "stored": stored}
        for level, (w, h) in enumerate(sizes[:stored]):
            with (folder / f"{level}.bin").open("wb") as file:
                file.truncate(w * h * channels * np.dtype(dtype).itemsize)
        (folder / "levels.json").write_text(json.dumps(facts))
        return cls(folder)

    def _map(self, level: int, mode: str) -> NDArray[np.generic]:
        width, height = self.sizes[level]
        return np.memmap(self.folder / f"{level}.bin", self.dtype, mode, shape=(height, width, self.channels))  # type: ignore[call-overload]

    def read(self, level: int, box: Box) -> NDArray[Any]:
        """A copy of a box (h, w, channels); the box must lie inside. The file is not kept mapped. What is not kept in a size is halved as it would be."""
        x, y, w, h = box
        if level < self.stored:
            return np.array(self._map(level, "r")[y : y + h, x : x + w])
        out = np.empty((h, w, self.channels), self.dtype)
        width, height = self.sizes[level - 1]
        for top in range(y, y + h, HALVED):
            bottom = min(top + HALVED, y + h)
            part = self.read(level - 1, (2 * x, 2 * top, min(2 * w, width - 2 * x), min(2 * (bottom - top), height - 2 * top)))
            out[top - y : bottom - y] = _halved(part)
        return out

    def write(self, level: int, x: int, y: int, piece: NDArray[np.generic]) -> None:
        """Put a piece (h, w, channels) at (x, y)."""
        if piece.shape[1::-1] == self.sizes[level]:
            # in one go, which spares the kernel a fault for every page
            np.ascontiguousarray(piece, self.dtype).tofile(self.folder / f"{level}.bin")
            return
        mapped = self._map(level, "r+")
        mapped[y : y + piece.shape[0], x : x + piece.shape[1]] = piece

    def begin_as(self, other: Pyramid) -> None:
        """Take the full size of a picture of the same size and kind."""
        shutil.copyfile(other.folder / "0.bin", self.folder / "0.bin")

    def halve_into_levels(self, box: Box | None = None) -> None:
        """Bring the halved sizes up to date with the full one, everywhere or where `box` of the full size changed."""
        width, height = self.sizes[0]
        x, y, w, h = box or (0, 0, width, height)
        x1, y1 = x + w, y + h
        for level in range(1, self.stored):
            above, below = self._map(level - 1, "r"), self._map(level, "r+")
            x, y, x1, y1 = x // 2, y // 2, min(-(-x1 // 2), self.sizes[level][0]), min(-(-y1 // 2), self.sizes[level][1])
            for top in range(y, y1, HALVED):
                bottom = min(top + HALVED, y1)
                below[top:bottom, x:x1] = _halved(np.array(above[2 * top : 2 * bottom, 2 * x : 2 * x1]))

    def whole(self, level: int) -> FloatArray:
        """All of a level."""
        return self.read(level, (0, 0, *self.sizes[level]))
