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


def _lab(srgb: Array) -> Array:
    light = np.where(srgb <= 0.04045, srgb / 12.92, ((np.clip(srgb, 0, None) + 0.055) / 1.055) ** 2.4)
    xyz = light @ np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]).T
    t = xyz / np.array([0.95047, 1.0, 1.08883])
    f = np.where(t > 216 / 24389, np.cbrt(t), (24389 / 27 * t + 16) / 116)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def ciede2000(a: Array, b: Array) -> Array:
    """Colour difference (...) of sRGB-encoded colours (..., 3) (Sharma, Wu and Dalal 2005)."""
    (l1, a1, b1), (l2, a2, b2) = (np.moveaxis(_lab(p), -1, 0) for p in (a, b))
    c = (np.hypot(a1, b1) + np.hypot(a2, b2)) / 2
    g = 0.5 * (1 - np.sqrt(c**7 / (c**7 + 25.0**7)))
    a1, a2 = (1 + g) * a1, (1 + g) * a2
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0
    turn = np.where(grey, 0, (h2 - h1 + 180) % 360 - 180)
    dl, dc, dh = l2 - l1, c2 - c1, 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn / 2))
    lm, cm = (l1 + l2) / 2, (c1 + c2) / 2
    far = np.abs(h1 - h2) > 180
    hm = np.where(grey, h1 + h2, np.where(far, (h1 + h2 + np.where(h1 + h2 < 360, 360, -360)) / 2, (h1 + h2) / 2))
    rad = np.radians
    t = 1 - 0.17 * np.cos(rad(hm - 30)) + 0.24 * np.cos(rad(2 * hm)) + 0.32 * np.cos(rad(3 * hm + 6)) - 0.20 * np.cos(rad(4 * hm - 63))
    sl = 1 + 0.015 * (lm - 50) ** 2 / np.sqrt(20 + (lm - 50) ** 2)
    sc, sh = 1 + 0.045 * cm, 1 + 0.015 * cm * t
    rt = -np.sin(rad(60 * np.exp(-(((hm - 275) / 25) ** 2)))) * 2 * np.sqrt(cm**7 / (cm**7 + 25.0**7))
    return np.asarray(np.sqrt((dl / sl) ** 2 + (dc / sc) ** 2 + (dh / sh) ** 2 + rt * (dc / sc) * (dh / sh)))


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
