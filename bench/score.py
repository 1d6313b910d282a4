"""How near a picture is to the truth: PSNR, SSIM, gradient kept, CIEDE2000, registration error."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def fitted(picture: Array, truth: Array, inside: NDArray[np.bool_]) -> Array:
    """The picture after one gain and offset a channel, chosen for the least squares against truth within `inside`."""
    out = np.empty_like(picture)
    for c in range(3):
        a = np.stack([picture[..., c][inside], np.ones(int(inside.sum()))], axis=1)
        gain, offset = np.linalg.lstsq(a, truth[..., c][inside], rcond=None)[0]
        out[..., c] = gain * picture[..., c] + offset
    return out


def psnr(picture: Array, truth: Array, inside: NDArray[np.bool_]) -> float:
    """Peak signal to noise in dB of sRGB-encoded pictures (h, w, 3), 0..1, within `inside`; nan where that is empty."""
    if not inside.any():
        return float("nan")
    return float(-10 * np.log10(np.mean((picture - truth)[inside] ** 2) + 1e-12))


def ssim(picture: Array, truth: Array, inside: NDArray[np.bool_]) -> float:
    """Structural similarity of luma (Wang, Bovik, Sheikh and Simoncelli 2004), Gaussian window of 1.5 px."""
    a, b = (np.asarray(p @ np.array([0.2126, 0.7152, 0.0722])) for p in (picture, truth))

    def soft(x: Array) -> Array:
        return np.asarray(cv2.GaussianBlur(x, (11, 11), 1.5), np.float64)

    ma, mb = soft(a), soft(b)
    va, vb, vab = soft(a * a) - ma * ma, soft(b * b) - mb * mb, soft(a * b) - ma * mb
    index = (2 * ma * mb + 0.01**2) * (2 * vab + 0.03**2) / ((ma**2 + mb**2 + 0.01**2) * (va + vb + 0.03**2))
    return float(index[inside].mean())


def gradient_kept(picture: Array, truth: Array, inside: NDArray[np.bool_]) -> float:
    """Share of truth's gradient energy that the picture has along truth's gradient."""
    gray = [np.asarray(p @ np.array([0.2126, 0.7152, 0.0722])) for p in (picture, truth)]
    (px, py), (tx, ty) = ((np.gradient(g, axis=1)[inside], np.gradient(g, axis=0)[inside]) for g in gray)
    return float((px * tx + py * ty).sum() / ((tx**2 + ty**2).sum() + 1e-12))


def depth_edges(distance: NDArray[np.floating], within: int) -> NDArray[np.bool_]:
    """Where a step in distance lies within some pixels: a jump of more than 0.08 dioptres between neighbours."""
    dioptres = (1 / np.asarray(distance)).astype(np.float32)
    step = cv2.dilate(dioptres, np.ones((3, 3))) - cv2.erode(dioptres, np.ones((3, 3))) > 0.08
    size = 2 * within + 1
    return np.asarray(cv2.dilate(step.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))) > 0)


def corner_error(fit: Array, true: Array, size: tuple[int, int]) -> float:
    """RMS distance in pixels at the four corners of a frame of `size` (w, h) between a fit and the true one."""
    w, h = size[0] - 1, size[1] - 1
    corners = np.array([[[0, 0], [w, 0], [0, h], [w, h]]], np.float64)
    off = cv2.perspectiveTransform(corners, fit) - cv2.perspectiveTransform(corners, true)
    return float(np.sqrt((off**2).sum(axis=-1).mean()))


def nearest_moment(picture: Array, moments: Array, side: int = 48) -> Array:
    """Truth (h, w, 3) put together tile by tile from that of `moments` (m, h, w, 3) which is nearest to the picture."""
    near = moments[0].astype(np.float64)
    if len(moments) == 1:
        return near
    for y in range(0, near.shape[0], side):
        for x in range(0, near.shape[1], side):
            tile = np.s_[y : y + side, x : x + side]
            near[tile] = moments[np.argmin([((picture[tile] - m[tile]) ** 2).mean() for m in moments])][tile]
    return near
