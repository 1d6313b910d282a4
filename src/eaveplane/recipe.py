"""Everything decided about a scene, as data: the same frames and the same recipe give the same pixels."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError, field_validator, model_validator

from .core.deliver.delivery import About, Delivery
from .core.develop.look import NEUTRAL, Look
from .core.even.capture.settings import Capture
from .core.even.drift import Trim
from .core.finish.settings import Crop, Finish
from .core.masks.strokes import Stroke
from .core.register.moved import CameraMoved
from .core.register.nudge import STILL, Nudge
from .core.weave.laid import REGIONS, Weaving
from .core.weave.span import Limits, Span, limits_of
from .imaging.placement import Carry
from .imaging.pyramid import Box
from .parameter import Parameters, parameter

SCHEMA = 2
"""Of recipes; what earlier versions wrote is brought up to it as it is read."""
Reason = Literal["shaken", "overshot", "redundant", "marker", "settings", "intruder", "by hand", "unreadable"]


class Exposure(Parameters):
    """One exposure of a bracket: the start of its content's hash, and the file."""

    id: str = Field(max_length=64)
    file: str = Field("", max_length=1000)


class FrameChoice(Parameters):
    """A frame of the scene. `id` is the start of its content's hash; recipes name frames by it.

    A frame that stands for an exposure bracket has `exposures`, dark to bright, and an id made of theirs; they are
    merged unless `use` is the id of one of them. `nudge` moves it from where it was registered; where it does not count,
    the common area may reach beyond it. Its `mask` is found, or made by hand from nothing, from all of it, or from the file whose
    codes `mask_file` names.
    """

    id: str = Field(max_length=64)
    file: str = Field("", max_length=1000)
    name: str = Field("", max_length=80)
    state: Literal["keep", "leave_out"] = "keep"
    reason: Reason | None = None
    exposures: list[Exposure] = Field(default_factory=list, max_length=20)
    use: str = Field("", max_length=64)
    trim: Trim = Trim()
    nudge: Nudge = STILL
    counts: bool = True
    mask: Literal["found", "hidden", "whole", "given"] = "found"
    mask_file: str = Field("", max_length=64, pattern="^[0-9a-f]*$")

    def sources(self) -> list[str]:
        """Ids of the files it is made of."""
        if not self.exposures:
            return [self.id]
        return [self.use] if self.use in [e.id for e in self.exposures] else [e.id for e in self.exposures]

    def all_files(self) -> list[str]:
        """Ids of all files that stand behind it, those not used too."""
        return [e.id for e in self.exposures] or [self.id]


def _strength() -> Any:
    return parameter(100, 0, 100, 5, "Strength", "How much of a veil is lifted. Below 100 % some of it stays, everywhere alike; nothing is woven anew for it.", "%", "Veil")


class Variant(Parameters):
    """A way of weaving that is kept under a name, to be compared with others or chosen."""

    name: str = Field(min_length=1, max_length=60)
    weaving: Weaving
    veil: Literal["lift", "leave"] = "lift"
    veil_strength: float = _strength()

    def as_in(self, recipe: Recipe) -> bool:
        """Whether a recipe weaves so."""
        return (self.weaving, self.veil, self.veil_strength) == (recipe.weaving, recipe.veil, recipe.veil_strength)


class Recipe(Parameters):
    """`frames` stand in order from near to far; `reference` is a frame's id or empty for the one suggested. `weaving`, `veil` and its strength are
    those chosen; `variants` lie beside them. `accepted` names the flaws that a hand left as they are. `size` (w, h) is that of the frames, told where the
    recipe is written to a file. The ticked ones of `outputs` are delivered."""

    schema_version: Literal[2] = Field(2, alias="schema")
    frames: list[FrameChoice] = Field(default_factory=list, max_length=2000)
    reference: str = Field("", max_length=64)
    camera_moved: CameraMoved = "auto"
    even_out: bool = True
    capture: Capture = Capture()
    look: Look = NEUTRAL
    weaving: Weaving = Weaving()
    veil: Literal["lift", "leave"] = "lift"
    veil_strength: float = _strength()
    strokes: list[Stroke] = Field(default_factory=list, max_length=5000)
    accepted: list[Annotated[str, Field(max_length=40)]] = Field(default_factory=list, max_length=500)
    span: Span = Span()
    variants: list[Variant] = Field(default_factory=list, max_length=12)
    canvas: Literal["common", "free", "reference"] = "common"
    finish: Finish = Finish()
    size: tuple[int, int] | None = None
    outputs: list[Delivery] = Field(default=[Delivery()], min_length=1, max_length=12)
    about: About = About()

    @model_validator(mode="before")
    @classmethod
    def _upgraded(cls, told: Any) -> Any:
        return upgraded(told)

    @field_validator("strokes")
    @classmethod
    def _known_ways(cls, strokes: list[Stroke]) -> list[Stroke]:
        unknown = {s.way for s in strokes if s.action == "way"} - {"", *REGIONS}
        if unknown:
            raise ValueError(f"there is no way to weave called {sorted(unknown)[0]}")
        return strokes

    @property
    def delivery(self) -> Delivery:
        """The output that is looked at where one has to be: the first that is ticked."""
        return next((output for output in self.outputs if output.ticked), self.outputs[0])

    def beside(self) -> list[FrameChoice]:
        """What has no part of its own in the weave but can be drawn from: frames that are left out, and the single exposures of brackets."""
        exposures = [FrameChoice(id=e.id, file=e.file, state="leave_out") for f in self.frames for e in f.exposures]
        return [*(f for f in self.frames if f.state != "keep"), *exposures]

    def drawn_beside(self) -> list[FrameChoice]:
        """Those of them that strokes draw from."""
        drawn = {s.frame for s in self.strokes if s.action == "draw"}
        return [f for f in self.beside() if f.id in drawn]

    def ticked(self) -> list[Delivery]:
        """The outputs that are written."""
        return [output for output in self.outputs if output.ticked]

    def writing(self, output: Delivery) -> Recipe:
        """The recipe of exactly one output, as it lies beside its file."""
        return self.model_copy(update={"outputs": [output.model_copy(update={"ticked": True})]})

    def kept(self) -> list[FrameChoice]:
        """The frames that are woven, near to far."""
        return [f for f in self.frames if f.state == "keep"]

    def in_depth(self) -> list[FrameChoice]:
        """The frames that have a place from near to far: all but markers."""
        return [f for f in self.frames if f.reason != "marker"]

    def found(self) -> tuple[int, ...]:
        """Which of the frames kept have masks that are found."""
        return tuple(k for k, f in enumerate(self.kept()) if f.mask == "found")

    def choosing(self, variant: Variant) -> Recipe:
        """The recipe with a variant chosen."""
        return self.model_copy(update={"weaving": variant.weaving, "veil": variant.veil, "veil_strength": variant.veil_strength})

    def limits(self) -> Limits | None:
        """What the sharp span sets to those frames."""
        kept = self.kept()
        return limits_of(self.span, [f.id for f in self.in_depth()], [kept[k].id for k in self.found()])

    def trimmed(self) -> bool:
        """Whether some frame departs from the look on purpose."""
        return any(f.trim != Trim() for f in self.frames)

    def by_hand(self) -> bool:
        """Whether anything was painted, drawn, nudged or cropped at a place of the picture."""
        nudged, finished = any(f.nudge != STILL for f in self.frames), self.finish.light or self.finish.uprights or self.finish.crop != Crop()
        return bool(self.strokes or nudged or finished or any(part.moved(lambda points: points + 9) != part for area in self.look.areas for part in area.parts))

    def moved(self, carry: Carry, before: Box, after: Box) -> Recipe:
        """Strokes, areas and crop carried to a picture into which `carry` leads; `before` and `after` are the canvases
        (x, y, w, h) of either."""
        middle = (before[0] + before[2] / 2, before[1] + before[3] / 2)
        look = self.look.model_copy(update={"areas": [area.moved(carry, middle) for area in self.look.areas]})
        finish = self.finish.moved(carry, before, after)
        return self.model_copy(update={"strokes": [stroke.moved(carry) for stroke in self.strokes], "look": look, "finish": finish})

    def onto(self, size: tuple[int, int]) -> Recipe:
        """A recipe from elsewhere on frames of a size (w, h): areas, painted light, uprights and crop keep their place in the frame."""
        w, h = self.size or size
        finish = self.finish
        if (w, h) != size:
            factors = np.array([size[0] / w, size[1] / h])
            finish = finish.moved(lambda points: points * factors, (0, 0, w, h), (0, 0, *size))
        return self.model_copy(update={"look": self.look.onto(size), "finish": finish, "size": None})

    def standing_alone(self, size: tuple[int, int]) -> Recipe:
        """The recipe as it is written to files, for these frames of a size (w, h) or for others."""
        return self.model_copy(update={"look": self.look.told_in(size), "size": size})

    def to_json(self) -> str:
        """The recipe as it is written beside a result."""
        return self.model_dump_json(by_alias=True, indent=1)


def upgraded(told: Any) -> Any:
    """What an earlier version wrote, as this one reads it; anything else as it is."""
    if isinstance(told, dict) and told.get("schema") == 1:
        told = {**told, "schema": 2}
        delivery = told.pop("delivery", None)
        if isinstance(delivery, dict):
            # a long edge was all that could be asked of the size, and deliveries had no titles
            told["outputs"] = [{**delivery, "size": "edge" if delivery.get("long_edge") else "full"}]
    return told


def read_recipe(path: Path) -> Recipe:
    """Read a recipe file. Raises ValueError with a sentence that names the file and the first fault."""
    try:
        return Recipe.model_validate_json(path.read_bytes())
    except FileNotFoundError:
        raise ValueError(f"{path.name}: there is no such recipe.") from None
    except (OSError, UnicodeDecodeError) as error:
        raise ValueError(f"{path.name}: the recipe cannot be read ({error}).") from error
    except ValidationError as error:
        raise ValueError(f"{path.name} is not a recipe this version understands: {told_fault(error)}.") from error


def told_fault(error: ValidationError) -> str:
    """The first fault of a recipe, in words."""
    first = error.errors()[0]
    where = ".".join(str(part) for part in first["loc"])
    return f"{where + ': ' if where else ''}{first['msg']}"
