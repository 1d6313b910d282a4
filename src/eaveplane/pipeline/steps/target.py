"""What an output is written in: an encoding, and a profile that was brought in."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from ...core.deliver.delivery import Delivery
from ...imaging.colour import Matrix
from ...imaging.errors import PictureError
from ...imaging.icc import Encoding, standard_encoding
from ...recipe import Recipe
from .frame import Frame, encoding_of


def given_profile(output: Delivery, profiles: Mapping[str, Path]) -> bytes | None:
    """The profile of a paper or a printer that an output is written in; None for a standard one. Raises PictureError."""
    if output.profile != "file":
        return None
    file = profiles.get(output.profile_file)
    try:
        return file.read_bytes() if file else _missing(output)
    except OSError:
        return _missing(output)


def _missing(output: Delivery) -> bytes:
    raise PictureError(Path(output.profile_name or "profile.icc"), f"is the profile that {output.title} is written in, and it is not there.", "Bring it in again, or choose another profile.")


def output_encoding(source: Frame, recipe: Recipe) -> Encoding:
    """What the result is written in: the input's own encoding (sRGB for raw), or the one chosen; wide where a printer's profile follows."""
    chosen = recipe.delivery.profile
    if chosen != "input":
        return standard_encoding("rec2020" if chosen == "file" else chosen)
    # frames that were corrected or merged are kept in an encoding of our own: what the file said is kept beside it
    profile = (source.folder / "profile.icc").read_bytes()
    return standard_encoding("srgb") if source.raw or not profile else encoding_of(profile)


def shown_by(target: Encoding) -> Matrix:
    """What makes channels of an encoding of working light."""
    return np.asarray(np.linalg.inv(target.to_work), np.float64)
