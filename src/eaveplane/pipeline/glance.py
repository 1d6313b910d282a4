"""A first look at a file, quick enough for a full card: what it says, what it shows at screen size, how sharp that is."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.gather.composition import Glimpse, glimpse
from ..core.gather.detail import measure_detail
from ..core.gather.octaves import Octaves
from ..imaging.colour import decode_srgb, luminance
from ..imaging.errors import PictureError
from ..imaging.formats.registry import Facts, facts
from ..imaging.preview import read_preview
from .arrays import arrays
from .cache import Cache, hash_file, key_of

THUMB_SIDE = 320


def glance_key(sha256: str) -> str:
    return key_of("glance", 1, sha256)


@dataclass(frozen=True)
class Glance:
    """What a file turned out to be; `problem` where it cannot be used."""

    sha256: str | None
    facts: Facts | None
    problem: PictureError | None


def glance_at(root: str, path: str, ticket: str) -> Glance:
    """Hash a file, read what it says and keep its picture at screen size, a thumbnail and what tells compositions
    apart."""
    cache, file = Cache(Path(root)), Path(path)
    try:
        found = facts(file)
        sha256 = hash_file(file)
        cache.make(glance_key(sha256), lambda folder: _keep(folder, file, found.meta.orientation))
        return Glance(sha256, found, None)
    except PictureError as error:
        return Glance(None, None, error)
    except OSError as error:
        return Glance(None, None, PictureError(file, f"cannot be read ({error.strerror or error}).", "Check the card and try again."))
    except Exception as error:
        return Glance(None, None, PictureError(file, f"cannot be understood ({type(error).__name__}).", "Export it again from the program that wrote it."))


def _keep(folder: Path, path: Path, orientation: int) -> None:
    picture = read_preview(path)
    scale = THUMB_SIDE / max(picture.shape[:2])
    thumb = cv2.resize(picture, None, fx=min(scale, 1.0), fy=min(scale, 1.0), interpolation=cv2.INTER_AREA)
    for name, what, quality in (("thumb.jpg", thumb, 82), ("screen.jpg", picture, 88)):
        cv2.imwrite(str(folder / name), np.ascontiguousarray(what[..., ::-1]), [cv2.IMWRITE_JPEG_QUALITY, quality])
    # cameras pointed at the ground may not know which way up they are: compared is what they stored, not what they say
    seen = glimpse(_light(np.rot90(picture, 2) if orientation in (3, 8) else picture))
    octaves = measure_detail(np.sqrt(luminance(_light(picture)))).octaves
    np.savez(folder / "glance.npz", stops=seen.stops, exposed=seen.exposed, energy=octaves.energy, noise=octaves.noise, slopes=octaves.slopes)


def _light(picture: NDArray[np.uint8]) -> NDArray[np.float32]:
    return _TABLE[picture]


_TABLE = decode_srgb(np.arange(256) / 255.0).astype(np.float32)


def open_glance(cache: Cache, sha256: str) -> tuple[Glimpse, Octaves]:
    """What a first look kept."""
    stored = arrays(cache.path(glance_key(sha256)) / "glance.npz")
    return Glimpse(stored["stops"], stored["exposed"]), Octaves(stored["energy"], stored["noise"], stored["slopes"])
