"""A small piece of the picture as other seams would make it, while a ruler is moved."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...core.develop.develop import develop, for_screen, needs_guide
from ...core.develop.look import Look
from ...core.gather.detail import POOL
from ...core.masks.parts import Site
from ...core.weave.laid import Weaving
from ...core.weave.weave import found_in
from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box
from ..steps import Evidence, evidence
from .view import View

FEW_PIXELS = 300e6
"""Of all frames, up to which what quiet areas are found from is gathered before it is asked for."""
AROUND = 64
"""Cells of the pooled grid around a piece from which its sharp zones are found anew."""


def seams_tried(view: View, weaving: Weaving, box: Box, look: Look) -> NDArray[np.uint8]:
    """8-bit sRGB (h, w, 3) of a box of the full size as `weaving` would make it without joint light, whose place crisp seams take. Raises
    ValueError before sharp zones are found."""
    if view.laid is None or view.gates is None or view.plan is None:
        raise ValueError("there are no sharp zones yet")
    way = "crisp-seams" if weaving.way == "joint-light" else weaving.way
    gates = view.gates if weaving.quiet == view.recipe.weaving.quiet else _gates_around(view, weaving.quiet, box)
    picture = found_in(view.laid, gates, weaving.model_copy(update={"way": way}), box, 0)[0]
    return for_screen(develop(picture, look, view.shot, "srgb", Site(view.size, 0, box), view.guide() if needs_guide(look) else None))


def make_ready(view: View) -> None:
    """Gather what quiet areas are found from, so that the first piece tried need not wait for it; nothing before frames are registered, or
    where they are so many that it would keep the machine busy for a ruler that nobody may touch."""
    if view.plan is not None and view.registered is not None and len(view.plan.ids) * view.size[0] * view.size[1] <= FEW_PIXELS:
        _evidence(view)


def _evidence(view: View) -> Evidence:
    assert view.plan is not None and view.registered is not None
    labelled, frames, registered = view.plan.labelled, [view.frames[id] for id in view.plan.ids], view.registered
    places = view.laid.places if view.laid else None
    told: Evidence = view.pictures.get(("evidence", labelled.registered.key, labelled.found, places), lambda: evidence(frames, registered, labelled.found, places))
    return told


def _gates_around(view: View, quiet: float, box: Box) -> FloatArray:
    """Label weights found anew around a box, of the whole grid; those there are elsewhere."""
    assert view.gates is not None
    told = _evidence(view)
    x, y, w, h = box
    part = np.s_[max(0, y // POOL - AROUND) : (y + h) // POOL + AROUND, max(0, x // POOL - AROUND) : (x + w) // POOL + AROUND]
    gates = view.gates.copy()
    gates[(slice(None), *part)] = told.gates(quiet, part)
    return gates
