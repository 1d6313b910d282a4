"""Colours on paper: through a made-up paper's profile, against the paper's own formula and another engine's route."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageCms

from eaveplane.fieldcam.paper import NAME, TINT, WHITE, paper_profile, printed
from eaveplane.imaging.cms import NotForPictures, Paper, name_of, proofed, to_profile
from eaveplane.imaging.colour import SRGB_FROM_WORK, decode_srgb, encode_srgb
from eaveplane.imaging.icc import make_profile

PAPER = paper_profile()
D50 = np.array([0.3457, 0.3585])


def _wide(srgb: np.ndarray) -> np.ndarray:
    """sRGB (h, w, 3) from 0 to 1 as codes of wide primaries."""
    light = decode_srgb(srgb) @ np.linalg.inv(SRGB_FROM_WORK).T
    return np.round(encode_srgb(light.astype(np.float32)).astype(np.float64) * 65535).astype(np.uint16)


def test_a_paper_tells_its_name_and_another_engine_takes_it() -> None:
    assert name_of(PAPER) == NAME
    profile = ImageCms.ImageCmsProfile(io.BytesIO(PAPER))
    assert profile.profile.profile_description == NAME and profile.profile.device_class == "prtr"


def _lab(srgb: np.ndarray, white: tuple[float, float, float] = (100.0, 0.0, 0.0)) -> np.ndarray:
    """CIE L*a*b* under D50 of sRGB (..., 3) from 0 to 1, beside a white."""
    # it takes seconds to load, for which not every worker need wait
    import colour

    xyz = colour.RGB_to_XYZ(srgb, "sRGB", illuminant=D50, chromatic_adaptation_transform="Bradford", apply_cctf_decoding=True)
    shown_white = colour.Lab_to_XYZ(np.array(white), D50)
    return np.asarray(colour.XYZ_to_Lab(xyz / shown_white * colour.Lab_to_XYZ(np.array([100.0, 0, 0]), D50), D50))


@pytest.mark.parametrize("intent", ["perceptual", "relative", "saturation", "absolute"])
def test_codes_are_those_that_show_the_colour(intent: str) -> None:
    # muted colours, which the paper has, are shown as they are: beside its own white, or, absolutely, beside a perfect one
    muted = np.random.default_rng(4).uniform(0.45, 0.6, (6, 7, 3))
    shown = printed(to_profile(_wide(muted), PAPER, intent, False) / 65535)
    wanted = _lab(muted, (WHITE, 0.0, TINT) if intent == "absolute" else (100.0, 0.0, 0.0))
    assert np.linalg.norm(shown - wanted, axis=-1).max() < 1.0


def test_black_is_brought_to_the_papers_black_or_cut_off() -> None:
    dark = np.repeat(np.linspace(0, 0.16, 9)[None, :, None], 3, axis=2)
    with_point, without = (to_profile(_wide(dark), PAPER, "relative", on).mean(axis=(0, 2)) for on in (True, False))
    assert (np.diff(with_point) > 0).all() and (np.diff(without)[:4] < 600).all() and with_point[-1] > without[-1]
    white = to_profile(np.full((1, 1, 3), 65535, np.uint16), PAPER, "relative", True)
    assert (white > 65300).all()


def test_the_same_codes_as_another_route_through_the_engine() -> None:
    grey = np.linspace(0.2, 0.9, 12)
    srgb = np.stack([grey, grey[::-1] * 0.9, np.full(12, 0.5)], axis=-1)[None]
    ours = to_profile(_wide(srgb), PAPER, "relative", False)
    source = ImageCms.ImageCmsProfile(io.BytesIO(make_profile("rec2020")))
    target = ImageCms.ImageCmsProfile(io.BytesIO(PAPER))
    picture = Image.fromarray(np.round(_wide(srgb) / 257).astype(np.uint8))
    theirs = np.asarray(ImageCms.profileToProfile(picture, source, target, renderingIntent=1))
    assert np.abs(ours / 257 - theirs).max() < 2


def test_a_proof_shows_the_papers_black_and_hatches_what_it_has_not() -> None:
    patches = np.array([[[0.0, 0, 0], [0.5, 0.5, 0.5], [1, 1, 1], [0.9, 0.05, 0.05], [0.5, 0.45, 0.4]]])
    shown, lost = proofed(np.round(patches * 65535).astype(np.uint16), Paper(PAPER, "relative", True))
    assert shown[0, 0].max() > 25 and shown[0, 2].min() > 240
    assert lost[0, 3] and not lost[0, [1, 2, 4]].any()


@given(st.binary(max_size=400))
def test_what_is_no_profile_is_refused_in_words(data: bytes) -> None:
    for bad in (data, PAPER[:16] + b"CMYK" + PAPER[20:], PAPER[:12] + b"link" + PAPER[16:], PAPER[:900]):
        with pytest.raises(NotForPictures, match=r"\."):
            name_of(bad)
