"""What moved around a place: the whole of it is found, cut where frames agree, and laid over the weave it stands once."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.mend.flaws.remedies import strokes_over
from eaveplane.core.mend.moment import Moment, moments_at
from eaveplane.core.weave.drawn import draw_over
from eaveplane.core.weave.laid import HandMask, RegisteredFrames
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.light import root_of
from eaveplane.imaging.pyramid import Box
from tests.core.weave.test_joint_light import _defocused, _known, _laid, _texture

SIZE = (640, 560)
RADIUS = 26
PLACES = (2.0, 1.0, 0.0)
BLUR = (0.6, 0.0, 0.7)
STONES = ((200, 250), (240, 255), (285, 262))


def _stone(at: tuple[int, int]) -> np.ndarray:
    mask = np.zeros((SIZE[1], SIZE[0]), np.uint8)
    cv2.circle(mask, at, RADIUS, 1, -1)
    return mask > 0


def _frames(stones: tuple[tuple[int, int], ...] = STONES) -> list[np.ndarray]:
    """Light of a stone that lies elsewhere in each frame, on ground that all hold about sharp."""
    ground, stone = _texture(1), 0.6 * _texture(7)[::-1]
    return [_defocused(np.where(_stone(at)[..., None], stone, ground), blur) for at, blur in zip(stones, BLUR, strict=True)]


def _asked(frames: list[np.ndarray], light: np.ndarray, place: Box) -> tuple[RegisteredFrames, FloatArray, list[Moment]]:
    laid, _ = _laid(frames, _known(PLACES))
    woven = root_of(light)
    return laid, woven, moments_at(laid, lambda level, box: woven[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], place)


def test_a_stone_cut_in_two_is_whole_again() -> None:
    """The weave has the left half of one moment and the right half of the next."""
    frames = _frames()
    left = (np.arange(SIZE[0]) < 222)[None, :, None]
    laid, woven, found = _asked(frames, np.where(left, frames[0], frames[1]), (196, 246, 8, 8))
    moment = next(m for m in found if m.frame == 1)
    (x0, y0), (x1, y1) = np.min(moment.outline, axis=0), np.max(moment.outline, axis=0)
    # what is left of the first moment, and no more than that by a few cells
    assert 200 - RADIUS - 36 < x0 < 200 - RADIUS + 4 and y0 > 250 - RADIUS - 36 and y1 < 250 + RADIUS + 36 and x1 < 222 + 36
    strokes = strokes_over(moment.outline, laid.names[1])
    picture = woven.copy()
    draw_over(picture, laid, strokes, lambda level, box: woven[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], (0, 0, *SIZE), 0)
    around = _stone(STONES[0]) | _stone(STONES[1])
    before, after = (float(np.square(p - root_of(frames[1]))[around].mean()) for p in (woven, picture))
    assert after < 0.02 * before
    # nothing is laid where there was nothing to mend
    assert not (picture != woven)[:, 320:].any() and not (picture != woven)[:160].any()


def test_where_frames_agree_there_is_no_other_moment() -> None:
    frames = _frames()
    _, _, found = _asked(frames, frames[1], (60, 60, 8, 8))
    assert found == []
    laid, _ = _laid(frames, None)
    assert moments_at(laid, lambda level, box: root_of(frames[1])[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], (240, 255, 8, 8)) == []


def test_a_frame_that_is_far_out_of_focus_there_is_not_offered() -> None:
    frames = _frames()
    frames[2] = _defocused(frames[2], 9.0)
    _, _, found = _asked(frames, frames[1], (236, 251, 8, 8))
    assert 2 not in [m.frame for m in found]


def test_frames_are_named_as_all_are_though_one_has_its_mask_by_hand() -> None:
    frames = _frames()
    laid, woven, found = _asked(frames, frames[1], (286, 258, 8, 8))
    assert [m.frame for m in found] == [2]
    hidden = replace(laid, by_hand={0: HandMask()}, places=_known(PLACES[1:]))
    assert moments_at(hidden, lambda level, box: woven[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], (286, 258, 8, 8)) == found
    alone = replace(laid, by_hand={k: HandMask() for k in range(2)}, places=None)
    assert moments_at(alone, lambda level, box: woven[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], (286, 258, 8, 8)) == []


@settings(max_examples=5)
@given(st.integers(0, SIZE[0] - 1), st.integers(0, SIZE[1] - 1), st.integers(0, 60), st.integers(0, 60))
def test_any_place_is_answered_within_the_picture(x: int, y: int, w: int, h: int) -> None:
    frames = _frames(((30, 30), (50, 36), (610, 530)))
    _, _, found = _asked(frames, frames[0], (x, y, min(w, SIZE[0] - x), min(h, SIZE[1] - y)))
    for moment in found:
        assert 0 <= moment.frame < 3 and moment.fine > 0 and len(moment.outline) > 2
        assert np.min(moment.outline) > -16 and np.all(np.max(moment.outline, axis=0) < np.array(SIZE) + 16)
