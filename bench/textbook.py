"""Methods from the textbooks, done plainly, on frames that are registered already. Frames are linear light (h, w, 3)."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from eaveplane.imaging.colour import encode_srgb, luminance

Array = NDArray[np.float32]


def mean(frames: list[Array]) -> Array:
    """The plain mean."""
    return np.asarray(np.mean(frames, axis=0), np.float32)


def arg_max(frames: list[Array], sigma: float = 4.0) -> Array:
    """At each pixel the frame with the largest squared Laplacian, smoothed by a Gaussian."""
    energies = [cv2.GaussianBlur(cv2.Laplacian(encode_srgb(luminance(f)), cv2.CV_32F) ** 2, (0, 0), sigma) for f in frames]
    best = np.argmax(energies, axis=0)
    out = frames[0].copy()
    for k, frame in enumerate(frames):
        out[best == k] = frame[best == k]
    return out


def laplacian_pyramid(frames: list[Array], octaves: int = 6) -> Array:
    """At each coefficient of a Laplacian pyramid the frame with the most local energy (Burt and Kolczynski 1993)."""

    def bands(picture: Array) -> list[Array]:
        out = []
        for _ in range(octaves):
            small = cv2.pyrDown(picture)
            out.append(picture - cv2.pyrUp(small, dstsize=(picture.shape[1], picture.shape[0])))
            picture = small
        return [*out, picture]

    pyramids = [bands(np.sqrt(np.maximum(f, 0))) for f in frames]
    chosen = []
    for octave in range(octaves):
        level = [p[octave] for p in pyramids]
        best = np.argmax([cv2.blur((b**2).sum(axis=2), (5, 5)) for b in level], axis=0)
        chosen.append(np.choose(best[..., None], level) if len(level) <= 32 else level[0])
    picture = np.mean([p[-1] for p in pyramids], axis=0).astype(np.float32)
    for band in reversed(chosen):
        picture = cv2.pyrUp(picture, dstsize=(band.shape[1], band.shape[0])) + band
    return np.asarray(picture * np.abs(picture), np.float32)


def exposure_fusion(frames: list[Array]) -> Array:
    """Exposure fusion weighted by contrast alone (Mertens, Kautz and Van Reeth 2007), as in OpenCV."""
    encoded = [np.clip(encode_srgb(f), 0, 1).astype(np.float32) * 255 for f in frames]
    fused = np.clip(cv2.createMergeMertens(1.0, 0.0, 0.0).process(encoded), 0, 1)
    return np.asarray(np.where(fused <= 0.04045, fused / 12.92, ((fused + 0.055) / 1.055) ** 2.4), np.float32)


def _guided(weight: Array, guide: Array, radius: int, eps: float) -> Array:
    """The guided filter (He, Sun and Tang 2013) with a grey guide."""
    size = (2 * radius + 1, 2 * radius + 1)
    mean_g, mean_w = cv2.blur(guide, size), cv2.blur(weight, size)
    a = (cv2.blur(guide * weight, size) - mean_g * mean_w) / (cv2.blur(guide * guide, size) - mean_g * mean_g + eps)
    b = mean_w - a * mean_g
    return np.asarray(cv2.blur(a, size) * guide + cv2.blur(b, size), np.float32)


def guided_filter_fusion(frames: list[Array]) -> Array:
    """Two scales with weights refined by the guided filter (Li, Kang and Hu 2013), with the paper's parameters."""
    pictures = [np.clip(encode_srgb(f), 0, 1).astype(np.float32) for f in frames]
    grey = [np.asarray(p.mean(axis=2), np.float32) for p in pictures]
    saliency = [cv2.GaussianBlur(np.abs(cv2.Laplacian(g, cv2.CV_32F)), (11, 11), 5) for g in grey]
    best = np.argmax(saliency, axis=0)
    total: list[Array] = [np.zeros_like(grey[0]), np.zeros_like(grey[0])]
    sums: list[Array] = [np.zeros_like(pictures[0]), np.zeros_like(pictures[0])]
    for k, picture in enumerate(pictures):
        base = cv2.blur(picture, (31, 31))
        for scale, (part, radius, eps) in enumerate(((base, 45, 0.3), (picture - base, 7, 1e-6))):
            weight = np.clip(_guided((best == k).astype(np.float32), grey[k], radius, eps), 0, 1) + 1e-6
            sums[scale] += part * weight[..., None]
            total[scale] += weight
    fused = np.clip(sums[0] / total[0][..., None] + sums[1] / total[1][..., None], 0, 1)
    return np.asarray(np.where(fused <= 0.04045, fused / 12.92, ((fused + 0.055) / 1.055) ** 2.4), np.float32)


def smoothed_labels(frames: list[Array], sigma: float = 4.0, octaves: int = 5) -> Array:
    """Arg-max labels smoothed by two rounds of majority, blended in octave bands (Burt and Adelson 1983)."""
    energies = [cv2.GaussianBlur(cv2.Laplacian(encode_srgb(luminance(f)), cv2.CV_32F) ** 2, (0, 0), sigma) for f in frames]
    labels = np.argmax(energies, axis=0)
    for _ in range(2):
        labels = np.argmax([cv2.blur((labels == k).astype(np.float32), (17, 17)) for k in range(len(frames))], axis=0)
    out: list[Array] = []
    for k, frame in enumerate(frames):
        picture, mask = np.sqrt(np.maximum(frame, 0)), (labels == k).astype(np.float32)
        for octave in range(octaves + 1):
            if octave < octaves:
                small = cv2.pyrDown(picture)
                band = picture - cv2.pyrUp(small, dstsize=(picture.shape[1], picture.shape[0]))
            else:
                small, band = picture, picture
            part = np.asarray(band * mask[..., None], np.float32)
            if k == 0:
                out.append(part)
            else:
                out[octave] += part
            picture, mask = small, cv2.pyrDown(mask) if octave < octaves else mask
    fused = out[-1]
    for band in reversed(out[:-1]):
        fused = cv2.pyrUp(fused, dstsize=(band.shape[1], band.shape[0])) + band
    return np.asarray(fused * np.abs(fused), np.float32)
