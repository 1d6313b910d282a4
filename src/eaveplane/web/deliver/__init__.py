"""Deliver: the finished picture written as one or several outputs, beside the originals or where it is wanted."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, request
from pydantic import ValidationError

from ...core.deliver.delivery import DEEP, LAYERED, SUFFIX, About, Delivery, Format, Intent, OutputSet, Profile, Size
from ...core.deliver.names import WORDS, file_name, unknown_words
from ...core.deliver.sheet import written
from ...imaging.cms import NotForPictures, name_of
from ...imaging.write import put_in_place
from ...jobs.deliver import scene_facts
from ...parameter import controls
from ...pipeline.naming import recipe_facts
from ...recipe import Recipe
from ...store import outputs
from ..desk import desk, download, folder_of
from ..scene import decided, posted, queued, stage_page
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse

blueprint = Blueprint("deliver", __name__, template_folder="templates", url_prefix="/scene/<int:number>/deliver")
FORMATS: dict[Format, str] = {"tiff": "TIFF", "png": "PNG", "jpeg": "JPEG", "avif": "AVIF", "ora": "OpenRaster, layers", "pages": "TIFF, layers as pages"}
PROFILES: dict[Profile, str] = {"input": "as the frames", "srgb": "sRGB", "p3": "Display P3", "rec2020": "Rec. 2020 (wide)", "file": "of a paper or printer …"}
SIZES: dict[Size, str] = {"full": "full", "edge": "long edge", "megapixels": "megapixels", "print": "print"}
INTENTS: dict[Intent, str] = {"relative": "relative colorimetric", "perceptual": "perceptual", "saturation": "saturation", "absolute": "absolute colorimetric"}
PAPERS = {"none": (0.0, 0.0), "A4": (29.7, 21.0), "A3": (42.0, 29.7), "A2": (59.4, 42.0), "A1": (84.1, 59.4), "30 × 40 cm": (40.0, 30.0), "50 × 70 cm": (70.0, 50.0)}
MOST_OUTPUTS = 12
LARGEST_PROFILE = 16 << 20
SWITCHES = ("ticked", "tiled", "black_point", "enlarge", "position", "recipe_inside", "provenance")


@stage("deliver", "Deliver")
def bench(scene: ScenePage) -> dict[str, Any]:
    library, recipe = desk().library, scene.recipe
    first = next((scene.files[i] for f in recipe.kept() for i in f.sources() if i in scene.files), None)
    beside = first.path.parent if first else None
    shown, facts, counter = [], scene_facts(library, scene.row, recipe), len(scene.results) + 1
    for output in recipe.outputs:
        sheet = written(recipe.finish, output, scene.canvas)[1]
        name = file_name(output.name, {**facts, **recipe_facts(recipe, output, sheet.paper or sheet.size, sheet.density, counter)})
        shown.append({"is": output, "sheet": sheet, "will_be": name + SUFFIX[output.format], "told": told(output, sheet.size), "folder": output.folder or beside or ""})
    reference = scene.view.frames.get(scene.view.middle) if scene.view else None
    return {
        "outputs": shown,
        "about": recipe.about,
        "frames_say": reference.meta if reference else None,
        "own": {c.name: c for c in controls(Delivery)},
        "choices": {"formats": FORMATS, "profiles": PROFILES, "sizes": SIZES, "intents": INTENTS, "papers": PAPERS},
        "deep": DEEP,
        "layered": LAYERED,
        "sets": outputs.saved_sets(desk().db),
        "words": WORDS,
        "delivered": [{"number": row["id"], "path": Path(row["path"]), "there": Path(row["path"]).exists()} for row in scene.results],
    }


def told(output: Delivery, size: tuple[int, int]) -> str:
    """An output in a few words."""
    bits = "16" if output.deep else "8"
    return f"{FORMATS[output.format].split(',')[0]} {bits}, {size[0]} × {size[1]} px"


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "deliver")


def _changed(recipe: Recipe, k: int, **change: Any) -> Recipe:
    """The recipe with an output changed and checked; 404 where it is gone."""
    if k >= len(recipe.outputs):
        refuse("That output is not there any more. It may have been taken away in another tab.", 404)
    made = Delivery(**{**recipe.outputs[k].model_dump(), **change})
    return recipe.model_copy(update={"outputs": [*recipe.outputs[:k], made, *recipe.outputs[k + 1 :]]})


@blueprint.post("/set/<int:output>")
def set_value(number: int, output: int) -> str:
    """One setting of an output."""
    name, value = posted("name"), posted("value").strip()
    if name == "paper":
        if value not in PAPERS:
            refuse("There is no such paper.")
        change: dict[str, Any] = dict(zip(("paper_w", "paper_h"), PAPERS[value], strict=True))
    elif name not in Delivery.model_fields or name in ("profile_file", "profile_name"):
        refuse("There is no such setting.")
    elif name in SWITCHES:
        change = {name: value == "1"}
    else:
        change = {name: _typed(name, value)}
    if name == "folder" and value and folder_of(value) is None:
        refuse(f"{value} is not a folder. Write its whole path, or nothing to deliver beside the originals.")
    if name == "name" and (unknown := unknown_words(value)):
        refuse(f"{{{unknown[0]}}} stands for nothing. Words are {', '.join(f'{{{w}}}' for w in WORDS)}.")
    try:
        Delivery(**{**Delivery().model_dump(), **change})
    except ValidationError:
        refuse(f"{value or 'Nothing'} cannot be used here.")
    return decided(number, "deliver", f"Output {output + 1}: {name.replace('_', ' ')}", lambda r: _changed(r, output, **change), bench=True)


def _typed(name: str, value: str) -> Any:
    """What was posted, as the kind of value that a setting takes; 400 where it is none."""
    try:
        kind = Delivery.model_fields[name].annotation
        return int(value or 0) if name in ("long_edge", "bits") else float(value or 0) if kind is float else value
    except ValueError:
        refuse(f"{value} is not a number.")


@blueprint.post("/outputs")
def change_outputs(number: int) -> str:
    """Add an output, copy one, or take one away."""
    does, k = posted("does"), posted("output")
    at = int(k) if k.isdecimal() else -1

    def change(recipe: Recipe) -> Recipe:
        listed = list(recipe.outputs)
        if does == "add":
            listed.append(Delivery(title=f"Output {len(listed) + 1}"))
        elif not 0 <= at < len(listed):
            refuse("That output is not there any more. It may have been taken away in another tab.", 404)
        elif does == "copy":
            listed.insert(at + 1, listed[at].model_copy(update={"title": f"{listed[at].title} 2"[:60]}))
        elif len(listed) == 1:
            refuse("One output has to stay. Untick it, or change it.")
        else:
            del listed[at]
        if len(listed) > MOST_OUTPUTS:
            refuse(f"There is room for {MOST_OUTPUTS} outputs. Take one away first.")
        return recipe.model_copy(update={"outputs": listed})

    if does not in ("add", "copy", "remove"):
        refuse("There is nothing of that name to do.")
    return decided(number, "deliver", {"add": "Output added", "copy": "Output copied", "remove": "Output taken away"}[does], change, bench=True)


@blueprint.post("/about")
def set_about(number: int) -> str:
    """What files say of the picture."""
    name, value = posted("name"), posted("value").strip()
    if name not in About.model_fields:
        refuse("There is no such setting.")
    try:
        About(**{name: value})
    except ValidationError:
        refuse(f"That is too long for {name}.")
    return decided(number, "deliver", f"Says: {name}", lambda r: r.model_copy(update={"about": r.about.model_copy(update={name: value})}), bench=True)


# ---- sets of outputs ----------------------------------------------------------------------------------------


@blueprint.post("/set")
def use_set(number: int) -> str:
    """Take, save or forget a set of outputs; a set brings author and rights where it has them."""
    does, name = posted("does"), posted("set").strip()
    if not name or len(name) > 60:
        refuse("Give the set a name of up to 60 letters.")
    if does == "save":
        recipe = opened(number).recipe
        outputs.save_set(desk().db, name, OutputSet(outputs=recipe.outputs, author=recipe.about.author, rights=recipe.about.rights))
    elif does == "forget":
        outputs.forget_set(desk().db, name)
    else:
        found = outputs.saved_set(desk().db, name)
        if found is None:
            refuse("That set is not there any more.", 404)
        return decided(number, "deliver", f"Outputs: {name}", lambda r: with_set(r, found), bench=True)
    return stage_page(number, "deliver")


def with_set(recipe: Recipe, chosen: OutputSet) -> Recipe:
    """A recipe that delivers a set."""
    about = recipe.about.model_copy(update={"author": chosen.author or recipe.about.author, "rights": chosen.rights or recipe.about.rights})
    return recipe.model_copy(update={"outputs": chosen.outputs, "about": about})


@blueprint.post("/profile/<int:output>")
def bring_profile(number: int, output: int) -> str:
    """A profile of a paper or a printer, for an output."""
    file = request.files.get("file")
    if file is None:
        refuse("No file came along. Choose one.")
    assert file is not None
    data, shown = file.read(LARGEST_PROFILE + 1), Path(file.filename or "The profile").name
    if len(data) > LARGEST_PROFILE:
        refuse(f"{shown} is larger than any profile.")
    try:
        name = name_of(data)
    except NotForPictures as error:
        refuse(f"{shown} {error}")
    digest = hashlib.sha256(data).hexdigest()[:16]
    folder = desk().library.profiles
    folder.mkdir(exist_ok=True)

    def fill(part: Path) -> None:
        part.write_bytes(data)

    put_in_place(folder / f"{digest}.icc", fill, replace=True)
    return decided(number, "deliver", f"Output {output + 1}: {name}"[:120], lambda r: _changed(r, output, profile="file", profile_file=digest, profile_name=name), bench=True)


@blueprint.post("/go")
def go(number: int) -> Response:
    recipe = opened(number).recipe
    if not recipe.ticked():
        refuse("No output is ticked. Tick one.")
    return queued(number, "deliver", "deliver", recipe=recipe.to_json())


@blueprint.post("/frames")
def write_frames(number: int) -> Response:
    """The registered frames as files, beside what is delivered."""
    return queued(number, "deliver", "frames", recipe=opened(number).recipe.to_json())


@blueprint.get("/recipe.json")
def recipe(number: int) -> Response:
    """The recipe in force, as the command line takes it."""
    scene = opened(number)
    written_out = scene.recipe.standing_alone(scene.view.size) if scene.view else scene.recipe
    return download(written_out.to_json(), f"{scene.row['name']}.recipe.json")


from . import recipes, results  # noqa: E402, F401  their addresses belong to this blueprint
