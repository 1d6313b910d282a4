"""Colour: exact where formulas are exact, reversible, and as an independent colour engine sees it."""

from __future__ import annotations

import contextlib
import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageCms

from eaveplane.imaging.colour import D65_XY, LUMA, SRGB_FROM_WORK, XYZ_FROM_WORK, adaptation, decode_srgb, encode_srgb, rgb_to_xyz, temperature_of, white_of, white_xyz
from eaveplane.imaging.icc import NotAMatrixProfile, linear_encoding, make_profile, read_profile, standard_encoding
from eaveplane.imaging.light import to_codes, to_light, to_root


def test_primaries_agree_with_the_published_matrix() -> None:
    published = [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
    np.testing.assert_allclose(rgb_to_xyz("srgb"), published, atol=3e-4)
    np.testing.assert_allclose(XYZ_FROM_WORK[1], LUMA, atol=1e-4)
    np.testing.assert_allclose(SRGB_FROM_WORK @ np.ones(3), np.ones(3), atol=1e-12)


@given(st.floats(0, 1))
def test_srgb_curve_goes_back(value: float) -> None:
    assert float(encode_srgb(np.float32(decode_srgb(np.array(value))))) == pytest.approx(value, abs=2e-6)


# between the two loci, from 3500 to 4000 K, lines of equal temperature cross and tint is told only roughly
@given(st.floats(2300, 3300) | st.floats(4300, 15000), st.floats(-40, 40))
def test_temperature_and_tint_go_back(kelvin: float, tint: float) -> None:
    found, off = temperature_of(white_of(kelvin, tint))
    assert 1e6 / found == pytest.approx(1e6 / kelvin, abs=6)
    assert off == pytest.approx(tint, abs=1.5)


def test_daylight_is_where_the_standard_has_it() -> None:
    x, y, z = white_of(6504, 0)
    assert (x / (x + y + z), y / (x + y + z)) == pytest.approx(D65_XY, abs=4e-4)
    x, y, z = white_of(2856, 0)
    assert (x / (x + y + z), y / (x + y + z)) == pytest.approx((0.4476, 0.4074), abs=1e-3)


def test_adaptation_takes_white_to_white() -> None:
    a, b = white_xyz(D65_XY), white_of(3200, 5)
    np.testing.assert_allclose(adaptation(a, b) @ a, b, rtol=1e-9)
    np.testing.assert_allclose(adaptation(a, b) @ adaptation(b, a), np.eye(3), atol=1e-9)


@pytest.mark.parametrize("primaries", ["srgb", "p3", "rec2020"])
def test_our_profiles_read_back_and_satisfy_a_colour_engine(primaries: str) -> None:
    read, made = read_profile(make_profile(primaries)), standard_encoding(primaries)
    np.testing.assert_allclose(read.curves, made.curves, atol=3e-5)
    np.testing.assert_allclose(read.to_work, made.to_work, atol=2e-4)
    codes = np.random.default_rng(2).integers(40, 200, (8, 8, 3), np.uint8)
    source = ImageCms.ImageCmsProfile(io.BytesIO(make_profile(primaries)))
    seen = ImageCms.profileToProfile(Image.fromarray(codes), source, ImageCms.createProfile("sRGB"), renderingIntent=1)
    assert seen is not None
    ours = encode_srgb(np.clip(to_light(codes, made) @ SRGB_FROM_WORK.T.astype(np.float32), 0, 1)) * 255
    assert np.abs(ours - np.asarray(seen, float)).max() < 2.0


@given(st.binary(max_size=400))
def test_any_bytes_are_a_profile_or_are_refused(data: bytes) -> None:
    with pytest.raises(NotAMatrixProfile):
        read_profile(data)


@given(st.integers(128, 420), st.integers(0, 255))
def test_a_damaged_profile_is_read_or_refused(at: int, value: int) -> None:
    data = bytearray(make_profile("srgb"))
    data[at] = value
    with contextlib.suppress(NotAMatrixProfile):
        assert np.isfinite(read_profile(bytes(data)).to_work).all()


@pytest.mark.parametrize("primaries", ["srgb", "rec2020"])
def test_codes_through_light_and_back_change_by_one_at_most(primaries: str) -> None:
    ramp = np.arange(65536, dtype=np.uint16).reshape(256, 256)
    codes = np.stack([ramp, ramp[::-1], ramp.T], axis=-1)
    encoding = standard_encoding(primaries)
    back = to_codes(to_root(codes, encoding), encoding)
    assert np.abs(back.astype(int) - codes).max() <= 1


def test_gain_multiplies_light() -> None:
    codes = np.full((2, 2, 3), 8000, np.uint16)
    encoding = linear_encoding(np.eye(3))
    np.testing.assert_allclose(to_light(codes, encoding, (2, 1, 0.5)), to_light(codes, encoding) * [2, 1, 0.5], rtol=1e-6)
