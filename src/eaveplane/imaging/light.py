"""From codes to light and back, compiled; and the perceptual encoding in which pictures are woven.

Weaving works on the signed square root of linear light: steps in it are about equally visible and photon
noise is equally strong everywhere in it (Anscombe 1948).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .colour import LUMA, FloatArray
from .icc import STEPS, Encoding
from .rows import by_rows

ROOT_STEPS = 16384


# The kernels work on rows, one channel an array, so that their loops are compiled into vector instructions.


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _looked_up(codes: np.ndarray, curve: np.ndarray, scale: int, out: np.ndarray) -> None:
    for i in range(out.shape[0]):
        out[i] = curve[np.uint32(codes[i]) * np.uint32(scale)]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _mixed(a: np.ndarray, b: np.ndarray, c: np.ndarray, m: np.ndarray, root: bool, out: np.ndarray) -> None:
    m0, m1, m2 = m
    for i in range(out.shape[0]):
        v = m0 * a[i] + m1 * b[i] + m2 * c[i]
        out[i] = np.copysign(np.sqrt(abs(v)), v) if root else v


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _light(codes: np.ndarray, curves: np.ndarray, m: np.ndarray, scale: int, root: bool, out: np.ndarray) -> None:
    rows = np.empty((6, codes.shape[1]), np.float32)
    x, y, z = rows[3], rows[4], rows[5]
    for j in range(codes.shape[0]):
        for k in range(3):
            _looked_up(codes[j, :, k], curves[k], scale, rows[k])
        for k in range(3):
            _mixed(rows[0], rows[1], rows[2], m[k], root, rows[3 + k])
        line = out[j]
        for i in range(line.shape[0]):
            line[i, 0], line[i, 1], line[i, 2] = x[i], y[i], z[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _encoded(light: np.ndarray, table: np.ndarray) -> None:
    """Codes of light by a table that is spaced by its square root, where encodings are nearly straight; in place."""
    last, top = np.uint32(table.shape[0] - 2), np.float32(table.shape[0] - 1)
    for i in range(light.shape[0]):
        t = min(np.sqrt(max(light[i], np.float32(0.0))), np.float32(1.0)) * top
        n = min(np.uint32(t), last)
        light[i] = table[n] + (table[n + np.uint32(1)] - table[n]) * (t - np.float32(n)) + np.float32(0.5)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _codes(root: np.ndarray, m: np.ndarray, tables: np.ndarray, out: np.ndarray) -> None:
    rows = np.empty((6, root.shape[1]), np.float32)
    a, b, c, x, y, z = rows[0], rows[1], rows[2], rows[3], rows[4], rows[5]
    for j in range(root.shape[0]):
        line, to = root[j], out[j]
        for i in range(line.shape[0]):
            a[i], b[i], c[i] = line[i, 0] * abs(line[i, 0]), line[i, 1] * abs(line[i, 1]), line[i, 2] * abs(line[i, 2])
        for k in range(3):
            _mixed(a, b, c, m[k], False, rows[3 + k])
            _encoded(rows[3 + k], tables[k])
        for i in range(line.shape[0]):
            to[i, 0], to[i, 1], to[i, 2] = np.uint16(x[i]), np.uint16(y[i]), np.uint16(z[i])


def to_light(codes: NDArray[np.uint8] | NDArray[np.uint16], encoding: Encoding, gain: tuple[float, float, float] = (1, 1, 1)) -> FloatArray:
    """Linear Rec. 2020 light (h, w, 3) of codes (h, w, 3); `gain` multiplies its channels."""
    return _decode(codes, encoding, gain, False)


def to_root(codes: NDArray[np.uint8] | NDArray[np.uint16], encoding: Encoding, gain: tuple[float, float, float] = (1, 1, 1)) -> FloatArray:
    """The signed square root of `to_light`."""
    return _decode(codes, encoding, gain, True)


def _decode(codes: NDArray[np.uint8] | NDArray[np.uint16], encoding: Encoding, gain: tuple[float, float, float], root: bool) -> FloatArray:
    matrix = (np.asarray(gain)[:, None] * encoding.to_work).astype(np.float32)
    out = np.empty(codes.shape, np.float32)
    curves, scale = _curves32(encoding), 257 if codes.dtype == np.uint8 else 1
    by_rows(lambda a, b: _light(codes[a:b], curves, matrix, scale, root, out[a:b]), *codes.shape[:2])
    return out


def channels(codes: NDArray[np.uint8] | NDArray[np.uint16], encoding: Encoding) -> FloatArray:
    """Linear light (h, w, 3) in the file's own channels, before its matrix."""
    scale = 257 if codes.dtype == np.uint8 else 1
    curves = _curves32(encoding)
    return np.stack([curves[c][codes[..., c].astype(np.int32) * scale] for c in range(3)], axis=-1)


_KEPT: dict[int, tuple[Encoding, FloatArray]] = {}


def _curves32(encoding: Encoding) -> FloatArray:
    kept = _KEPT.get(id(encoding.curves))
    if kept is None:
        if len(_KEPT) > 16:
            _KEPT.clear()
        kept = _KEPT[id(encoding.curves)] = (encoding, encoding.curves.astype(np.float32))
    return kept[1]


def root_of(light: FloatArray) -> FloatArray:
    """Signed square root, any shape."""
    return np.copysign(np.sqrt(np.abs(light)), light)


def light_of(root: FloatArray) -> FloatArray:
    """The inverse of `root_of`."""
    return root * np.abs(root)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _luma(root: np.ndarray, weights: np.ndarray, out: np.ndarray) -> None:
    for j in range(root.shape[0]):
        for i in range(root.shape[1]):
            total = np.float32(0.0)
            for c in range(3):
                total += weights[c] * root[j, i, c] * abs(root[j, i, c])
            out[j, i] = np.sqrt(max(total, np.float32(0.0)))


def root_luma(root: FloatArray) -> FloatArray:
    """Square root of luminance (h, w) of a picture in the weaving encoding (h, w, 3)."""
    out = np.empty(root.shape[:2], np.float32)
    by_rows(lambda a, b: _luma(root[a:b], LUMA, out[a:b]), *root.shape[:2])
    return out


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _survey(codes: np.ndarray, curves: np.ndarray, m: np.ndarray, scale: int, weights: np.ndarray, step: int, luma: np.ndarray, small: np.ndarray) -> None:
    height, width = luma.shape
    m0, m1, m2, m3, m4, m5, m6, m7, m8 = m[0, 0], m[0, 1], m[0, 2], m[1, 0], m[1, 1], m[1, 2], m[2, 0], m[2, 1], m[2, 2]
    w0, w1, w2 = weights
    for row in range(small.shape[0]):
        for j in range(row * step, min(row * step + step, height)):
            for col in range(small.shape[1]):
                red, green, blue = np.float32(0), np.float32(0), np.float32(0)
                for i in range(col * step, min(col * step + step, width)):
                    a = curves[0, codes[j, i, 0] * scale]
                    b = curves[1, codes[j, i, 1] * scale]
                    c = curves[2, codes[j, i, 2] * scale]
                    r, g, u = m0 * a + m1 * b + m2 * c, m3 * a + m4 * b + m5 * c, m6 * a + m7 * b + m8 * c
                    red, green, blue = red + r, green + g, blue + u
                    luma[j, i] = np.sqrt(max(w0 * r + w1 * g + w2 * u, np.float32(0)))
                small[row, col, 0] += red
                small[row, col, 1] += green
                small[row, col, 2] += blue
        lines = min(step, height - row * step)
        for i in range(small.shape[1]):
            for k in range(3):
                small[row, i, k] /= lines * min(step, width - i * step)


def survey(codes: NDArray[np.uint8] | NDArray[np.uint16], encoding: Encoding, halvings: int) -> tuple[FloatArray, FloatArray]:
    """The square root of luminance (h, w) of codes (h, w, 3), and their light averaged over squares of 2**halvings pixels."""
    step = 1 << halvings
    height, width = codes.shape[:2]
    luma, small = np.empty((height, width), np.float32), np.zeros((-(-height // step), -(-width // step), 3), np.float32)
    curves, matrix, scale = _curves32(encoding), encoding.to_work.astype(np.float32), 257 if codes.dtype == np.uint8 else 1
    by_rows(lambda a, b: _survey(codes[a * step : b * step], curves, matrix, scale, LUMA, step, luma[a * step : b * step], small[a:b]), small.shape[0], width * step)
    return luma, small


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _into(root: np.ndarray, m: np.ndarray, out: np.ndarray) -> None:
    for j in range(root.shape[0]):
        for i in range(root.shape[1]):
            a, b, c = root[j, i, 0] * abs(root[j, i, 0]), root[j, i, 1] * abs(root[j, i, 1]), root[j, i, 2] * abs(root[j, i, 2])
            for k in range(3):
                v = m[k, 0] * a + m[k, 1] * b + m[k, 2] * c
                out[j, i, k] = np.copysign(np.sqrt(abs(v)), v)


def root_into(root: FloatArray, matrix: NDArray[np.float64]) -> FloatArray:
    """A picture (h, w, 3) in the square root of light in other channels, which a matrix (3, 3) makes of its light."""
    out = np.empty(root.shape, np.float32)
    to = np.asarray(matrix, np.float32)
    by_rows(lambda a, b: _into(root[a:b], to, out[a:b]), *root.shape[:2])
    return out


def inverse_tables(encoding: Encoding) -> FloatArray:
    """(3, ROOT_STEPS + 1): codes 0..65535 for light whose square root runs evenly over 0..1."""
    light = np.linspace(0, 1, ROOT_STEPS + 1) ** 2
    codes = np.arange(STEPS, dtype=np.float64)
    return np.stack([np.interp(light, curve, codes) for curve in encoding.curves]).astype(np.float32)


def to_codes(root: FloatArray, encoding: Encoding) -> NDArray[np.uint16]:
    """Codes (h, w, 3) of a picture in the weaving encoding, for a given encoding; clipped to its range."""
    matrix = np.linalg.inv(encoding.to_work).astype(np.float32)
    out = np.empty(root.shape, np.uint16)
    tables = inverse_tables(encoding)
    by_rows(lambda a, b: _codes(root[a:b], matrix, tables, out[a:b]), *root.shape[:2])
    return out
