"""Looking for flaws in a weave."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...core.gather.detail import BANDS, POOL_LEVEL, lay_on, pooled_shape, signal
from ...core.mend.flaws.examine import examined, flaws_in, to_cells
from ...core.mend.flaws.finding import Finding, ranked
from ...core.mend.flaws.refused import halos
from ...core.weave.laid import RegisteredFrames
from ...imaging.rows import side_by_side
from ..cache import Cache
from ..ticket import Ticket
from .frame import open_frame
from .label import open_labels
from .lift import Lift, open_veils
from .register import open_registration
from .step import Step
from .weave import Weave, found_frames, open_weave


@dataclass(frozen=True)
class Flaws(Step):
    """What may be wrong with a weave, worst first, without what is made by hand."""

    name, version = "flaws", 4
    result: Weave | Lift

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        woven = self.result.woven if isinstance(self.result, Lift) else self.result
        numbers, found = woven.labelled.found, list[Finding]()
        if len(numbers) > 1:
            laid = found_frames(cache, woven).alone
            picture, gates = open_weave(cache, self.result.key), open_labels(cache, woven.labelled.key)[list(numbers)]
            # small frames have no quarter of their size
            only = len(open_frame(cache, woven.labelled.registered.frames[0]).codes.sizes) <= POOL_LEVEL
            seen, luma = examined(laid, gates, contrasts_of(cache, woven, laid), lambda box: np.asarray(picture.read(0, box)), only, ticket.within(0, 0.6))
            found = flaws_in(seen, luma, laid.placements)
            ticket.tell(0.95)
            if isinstance(self.result, Lift):
                refused = open_veils(cache, self.result.key).read(0, (0, 0, *laid.size))[..., 1]
                found = ranked([*found, *halos(seen, to_cells(refused.astype(np.float32) / 255))])
        told = [asdict(replace(flaw, frames=tuple(numbers[k] for k in flaw.frames))) for flaw in found]
        (folder / "flaws.json").write_text(json.dumps(told))


def open_flaws(cache: Cache, key: str) -> list[Finding]:
    """The findings of a key; frames are numbered as they are woven."""
    told = json.loads((cache.path(key) / "flaws.json").read_text())
    return [Finding(t["kind"], tuple(t["box"]), tuple((x, y) for x, y in t["outline"]), t["severity"], tuple(t["frames"]), t["said"], t["stops"]) for t in told]


def contrasts_of(cache: Cache, woven: Weave, laid: RegisteredFrames) -> NDArray[np.float16]:
    """Roots of the fine energies (n, 3, h, w) of the frames that are woven by themselves, on the pooled grid, in the light to which they are evened out."""
    registered, numbers = woven.labelled.registered, woven.labelled.found
    found, shape = open_registration(cache, registered.key), pooled_shape(laid.size[1], laid.size[0])
    out = np.empty((len(numbers), BANDS, *shape), np.float16)

    def one(i: int) -> None:
        k = numbers[i]
        energy = lay_on(signal(open_frame(cache, registered.frames[k]).detail()), laid.placements[i], shape) * woven.trims[k].gains()[1]
        out[i] = np.sqrt(found.evened(k, energy) if woven.even_out else energy)

    for _ in side_by_side(one, range(len(numbers))):
        pass
    return out
