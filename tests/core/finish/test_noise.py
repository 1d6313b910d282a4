"""Noise that the weave has left: measured by zone, taken evenly, structure kept."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from scipy.ndimage import correlate1d, map_coordinates, uniform_filter

from eaveplane.core.finish.noise import REACH, changes, denoised, measure, shares_of
from eaveplane.core.finish.settings import NoiseLeft
from eaveplane.core.finish.shrink import WINDOW, Variance, shrink
from eaveplane.core.masks.parts import Site
from eaveplane.imaging.pyramid import Box

W, H = 640, 480
SIZE = (W, H)
QUIET, LOUD = 0.004, 0.012
BOTH = NoiseLeft(strength=70, colour=70)


def _scene() -> np.ndarray:
    """A smooth sky, a ridge, texture below and lines across both."""
    rng = np.random.default_rng(7)
    y, x = np.mgrid[:H, :W].astype(np.float32)
    picture = np.repeat((0.75 - 0.3 * y / H + 0.03 * np.sin(x / 60))[..., None], 3, axis=2) * np.array([0.9, 1.0, 1.1], np.float32)
    texture = cv2.GaussianBlur(rng.standard_normal((H, W)).astype(np.float32), (0, 0), 1.2)
    picture[320:] += 0.18 * texture[320:, :, None]
    for k in range(12):
        cv2.line(picture, (50 * k + 20, 100), (50 * k + 45, 400), (0.25, 0.22, 0.2), 2, cv2.LINE_AA)
    return picture.astype(np.float32)


def _stack(seed: int = 1) -> tuple[np.ndarray, np.ndarray, list[np.ndarray], np.ndarray]:
    """The scene; as two frames of unlike noise give it, left and right; those frames; and label weights."""
    rng = np.random.default_rng(seed)
    clean = _scene()
    frames = [(clean + sigma * rng.standard_normal(clean.shape)).astype(np.float32) for sigma in (QUIET, LOUD)]
    woven = frames[0].copy()
    woven[:, W // 2 :] = frames[1][:, W // 2 :]
    gates = np.zeros((2, H // 4, W // 4), np.float32)
    gates[0, :, : W // 8], gates[1, :, W // 8 :] = 1, 1
    return clean, woven, frames, gates


def _reader(picture: np.ndarray):  # type: ignore[no-untyped-def]
    def read(box: Box) -> np.ndarray:
        x, y, w, h = box
        return picture[y : y + h, x : x + w]

    return read


def _measured(woven: np.ndarray, frames: list[np.ndarray], gates: np.ndarray):  # type: ignore[no-untyped-def]
    return measure(_reader(woven), [_reader(frame) for frame in frames], SIZE, gates)


def test_each_zone_is_told_its_own_noise() -> None:
    _, woven, frames, gates = _stack()
    noise = _measured(woven, frames, gates)
    quiet, loud = noise.zones[0, 0, 0, 2], noise.zones[1, 0, 0, 2]
    assert loud / quiet == pytest.approx(LOUD / QUIET, rel=0.15)
    # both ways at once, of brightness from a quarter, a half and a quarter of three channels: 1 - 2 * 3/8 + (35/128 ...) of white noise
    kernel = np.outer(np.eye(1, 5, 2) - np.array([[1, 4, 6, 4, 1]]) / 16, np.eye(1, 5, 2) - np.array([[1, 4, 6, 4, 1]]) / 16)
    expected = np.sqrt((kernel**2).sum()) * np.sqrt(0.25**2 + 0.5**2 + 0.25**2)
    assert quiet == pytest.approx(QUIET * expected, rel=0.15) and loud == pytest.approx(LOUD * expected, rel=0.15)
    assert shares_of(gates)[2].max() == 0 and shares_of(np.full((3, 4, 4), 0.3, np.float32))[3].min() == 1


def test_it_comes_nearer_to_the_noise_free_weave_and_keeps_what_is_there() -> None:
    clean, woven, frames, gates = _stack(2)
    out = denoised(woven, BOTH, _measured(woven, frames, gates), Site(SIZE, 0, (0, 0, W, H)))

    def off(picture: np.ndarray) -> float:
        return float(10 * np.log10(np.mean((picture - clean) ** 2)))

    assert off(woven) - off(out) >= 3
    gy, gx = np.gradient(cv2.GaussianBlur(clean.mean(axis=2), (0, 0), 0.7))
    py, px = np.gradient(cv2.GaussianBlur(out.mean(axis=2), (0, 0), 0.7))
    strong = np.hypot(gx, gy) > 0.02
    assert (gx * px + gy * py)[strong].sum() / (gx**2 + gy**2)[strong].sum() > 0.97


@pytest.mark.parametrize(("shape", "directions"), [((40, 33), 3), ((40, 33), 1), ((4, 9), 3), ((1, 1), 3), ((9, 2), 1)])
def test_a_scale_is_shrunk_as_it_is_written(shape: tuple[int, int], directions: int) -> None:
    rng = np.random.default_rng(9)
    plane, (h, w) = rng.random(shape, np.float32), shape
    zones, shares = (rng.random(of, np.float32) / 20 for of in ((2, directions), (2, 5, 4)))
    across, down = 4 / w, 5 / h
    kept, smooth = np.empty_like(plane), np.empty_like(plane)
    shrink(plane, Variance(zones, shares, 0.5 * across - 0.5, across, 0.5 * down - 0.5, down), 1.3, kept, smooth)

    spline = np.array([1, 4, 6, 4, 1]) / 16
    along = [correlate1d(plane.astype(float), spline, axis=axis, mode="reflect") for axis in (1, 0)]
    both = correlate1d(along[1], spline, axis=1, mode="reflect")
    bands = [along[1] - both, along[0] - both, plane - along[0] - along[1] + both] if directions == 3 else [plane - both]
    places = np.meshgrid(np.clip((np.arange(h) + 0.5) * down - 0.5, 0, 4), np.clip((np.arange(w) + 0.5) * across - 0.5, 0, 3), indexing="ij")
    here = [map_coordinates(share.astype(float), places, order=1, mode="nearest") for share in shares]
    expected = np.zeros(shape)
    for q, band in enumerate(bands):
        there = uniform_filter(band * band, WINDOW, mode="reflect")
        noise = 1.3 * sum(zone[q] * share for zone, share in zip(zones, here, strict=True))
        expected += band * np.maximum(there - noise, 0) / (there + 1e-20)
    np.testing.assert_allclose(smooth, both, atol=1e-6)
    np.testing.assert_allclose(kept, expected, atol=2e-6)


def test_no_seam_shows_between_a_quiet_and_a_noisy_frame() -> None:
    clean, woven, frames, gates = _stack(3)
    out = denoised(woven, NoiseLeft(strength=100, colour=100), _measured(woven, frames, gates), Site(SIZE, 0, (0, 0, W, H)))
    sky = np.s_[10:90]
    before, after = ([float((picture - clean)[sky, part].std()) for part in (slice(20, 300), slice(340, 620))] for picture in (woven, out))
    assert before[1] / before[0] > 2.5
    # what is left on both sides hardly differs in what the eye can see of it
    assert after[1] - after[0] < 0.12 * before[1] and after[1] < 0.35 * before[1]


def test_pieces_agree_with_the_whole_and_mixing_back_is_linear() -> None:
    _, woven, frames, gates = _stack(4)
    noise = _measured(woven, frames, gates)
    whole = denoised(woven, BOTH, noise, Site(SIZE, 0, (0, 0, W, H)))
    for x, y in ((101, 57), (100, 120)):
        box = (x, y, 260, 220)
        piece = denoised(np.ascontiguousarray(woven[y : y + 220, x : x + 260]), BOTH, noise, Site(SIZE, 0, box))
        inner = np.s_[REACH:-REACH, REACH:-REACH]
        np.testing.assert_allclose(piece[inner], whole[y : y + 220, x : x + 260][inner], atol=2e-5)
    half = denoised(woven, BOTH.model_copy(update={"mixed": 50.0}), noise, Site(SIZE, 0, (0, 0, W, H)))
    np.testing.assert_allclose(half, (whole + woven) / 2, atol=1e-6)
    assert not changes(NoiseLeft()) and not changes(NoiseLeft(strength=50, mixed=100)) and changes(BOTH)


def test_without_noise_nothing_is_taken() -> None:
    clean = _scene()
    gates = np.ones((1, H // 4, W // 4), np.float32)
    noise = _measured(clean, [clean], gates)
    out = denoised(clean, NoiseLeft(strength=100, colour=100), noise, Site(SIZE, 0, (0, 0, W, H)))
    assert np.abs(out - clean).max() < 0.02 and np.sqrt(np.mean((out - clean) ** 2)) < 1e-3
    # a picture that is white all over tells nothing, and nothing is done to it
    white = np.ones((H, W, 3), np.float32)
    np.testing.assert_allclose(denoised(white, BOTH, _measured(white, [white], gates), Site(SIZE, 0, (0, 0, W, H))), 1, atol=1e-6)
