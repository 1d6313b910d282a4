"""Names of delivered files."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from eaveplane.core.deliver.names import file_name


@given(st.text(max_size=60), st.text(max_size=30))
def test_a_name_is_never_a_path(template: str, scene: str) -> None:
    name = file_name(template, {"scene": scene})
    assert name and not set('/\\:*?"<>|\0\n') & set(name) and name not in (".", "..") and len(name) <= 120


def test_a_name_tells_the_settings() -> None:
    assert file_name("{scene} {frames}f {other}", {"scene": "Pan 1", "frames": "5"}) == "Pan 1 5f {other}"
