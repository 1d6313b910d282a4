"""Reading a file into a frame."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from pathlib import Path

import numpy as np

from ...imaging.carried import read_carried, to_json
from ...imaging.errors import PictureError
from ...imaging.formats.registry import read_picture
from ...imaging.pyramid import Pyramid
from ..cache import Cache, hash_file
from ..ticket import Ticket
from .frame import FrameStep

SMALL_SIDE = 800


@dataclass(frozen=True)
class Decode(FrameStep):
    """The codes of a file, upright and then `turned` by quarters to the left, at full size only or at halved sizes too. Raises PictureError."""

    name, version = "decode", 8
    sha256: str
    full_only: bool
    demosaic: str
    highlights: str
    turned: int
    path: Path = field(compare=False)

    def at_full_size_only(self) -> bool:
        return self.full_only

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        # the page may ask days after a file was brought in; the command line has only just read it
        if not self.full_only and hash_file(self.path) != self.sha256:
            raise PictureError(self.path, "is not the picture that was brought in: its content has changed.", "Put the original back, or bring the folder in again to use the new one.")
        ticket.tell(0.01)
        picture = read_picture(self.path, self.demosaic, self.highlights)
        ticket.tell(0.8)
        codes, encoding, meta = np.ascontiguousarray(np.rot90(picture.codes, self.turned)), picture.encoding, picture.meta
        height, width = codes.shape[:2]
        levels = Pyramid.create(folder / "codes", width, height, 3, codes.dtype.name, self.full_only)
        levels.write(0, 0, 0, codes)
        levels.halve_into_levels()
        (folder / "profile.icc").write_bytes(encoding.profile or b"")
        (folder / "carried.json").write_text(to_json(read_carried(self.path)))
        facts = {
            "raw": picture.raw,
            "to_work": encoding.to_work.tolist(),
            "size": [width, height],
            "shot": picture.shot,
            "lens": asdict(picture.lens) if picture.lens else None,
            "small_level": max(0, int(np.ceil(np.log2(max(width, height) / SMALL_SIDE)))),
            "meta": {**meta.__dict__, "taken": meta.taken.isoformat() if meta.taken else None},
        }
        if picture.peak > 1:
            facts |= {"peak": picture.peak, "linear": True}
        (folder / "frame.json").write_text(json.dumps(facts))
