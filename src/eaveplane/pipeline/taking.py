"""What can be taken from another recipe: found in a recipe's file or inside a delivered picture, and carried over by parts."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import Literal, get_args

from pydantic import ValidationError

from ..imaging.carried import read_carried
from ..imaging.errors import PictureError
from ..imaging.xmp import recipe_in
from ..recipe import Recipe, told_fault

Part = Literal["corrections", "look", "weaving", "finish", "delivery"]
PARTS: tuple[Part, ...] = get_args(Part)
LABELS: dict[Part, str] = {
    "corrections": "Corrections: raw conversion, lens, noise, evening out",
    "look": "Look, with its areas",
    "weaving": "Weaving: way, seams, veils, common area",
    "finish": "Finish, with its maps and crop",
    "delivery": "Delivery: outputs, author and rights",
}
MOST_BYTES = 1 << 26


def recipe_from(path: Path, name: str = "") -> Recipe:
    """The recipe in a recipe's file, or inside a delivered picture. Raises PictureError, naming the file (`name` if given)."""
    shown = Path(name) if name else path
    try:
        with path.open("rb") as file:
            head = file.read(64).lstrip()
        if head[:1] == b"{":
            if path.stat().st_size > MOST_BYTES:
                raise PictureError(shown, "is larger than any recipe.", "Choose a recipe or a delivered picture.")
            text = path.read_text("utf-8", "replace")
        else:
            text = recipe_in(read_carried(path).xmp) or ""
    except OSError as error:
        raise PictureError(shown, f"cannot be read ({error.strerror or error}).", "Check the file.") from error
    if not text:
        raise PictureError(shown, "holds no recipe.", "Choose a file that ends in .recipe.json, or a picture that was delivered with its recipe inside.")
    try:
        return Recipe.model_validate_json(text)
    except ValidationError as error:
        raise PictureError(shown, f"is not a recipe this version understands: {told_fault(error)}.", "Choose another one.") from error


def taking(recipe: Recipe, other: Recipe, parts: Collection[str], size: tuple[int, int]) -> Recipe:
    """A recipe for frames of a size (w, h) with parts of another; areas, maps and crop keep their place in the frame."""
    change: dict[str, object] = {}
    there = other.onto(size)
    if "corrections" in parts:
        change |= {"capture": other.capture, "even_out": other.even_out}
    if "look" in parts:
        change["look"] = there.look
    if "weaving" in parts:
        change |= {"weaving": other.weaving, "veil": other.veil, "veil_strength": other.veil_strength, "canvas": other.canvas, "camera_moved": other.camera_moved}
    if "finish" in parts:
        change["finish"] = there.finish
    if "delivery" in parts:
        about = recipe.about.model_copy(update={"author": other.about.author, "rights": other.about.rights})
        change |= {"outputs": other.outputs, "about": about}
    return recipe.model_copy(update=change)
