"""The scene page: its frame around every stage, its picture, its decisions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for
from numpy.typing import NDArray
from pydantic import ValidationError

from ...core.deliver.sheet import written
from ...core.develop.develop import for_screen, histogram
from ...core.develop.look import NEUTRAL, Look
from ...core.develop.tone import through_points
from ...core.finish.settings import PARTS, Finish
from ...core.weave.span import Span
from ...imaging.cms import Paper
from ...parameter import Control
from ...pipeline.decisions import decide
from ...pipeline.view import View, ViewOptions, overview, screen, viewport
from ...recipe import Recipe
from ...store import scenes
from ..desk import desk
from ..security import refuse
from .opened import ScenePage, opened
from .stages import STAGES
from .told import notes, rail, state

blueprint = Blueprint("scene", __name__, template_folder="templates", static_folder="static", static_url_path="/static/scene")
blueprint.add_app_template_global(notes, "scene_notes")
blueprint.add_app_template_global(rail, "scene_rail")
blueprint.add_app_template_global(state, "scene_state")
AT = "/scene/<int:number>"
TILE = 512
WIDEST = 4096
PASSING = 80
"""Quality of pictures that the next movement of a slider replaces."""
FOREVER = "private, max-age=31536000, immutable"


# ---- pages and pieces -------------------------------------------------------------------------------------


def stage_page(number: int, slug: str) -> str:
    """A stage as a whole page, or its pieces where the page is there already."""
    scene = _with_missing_read(opened(number))
    if request.headers.get("HX-Request"):
        return pieces(scene, slug, bench=True)
    back, on = scenes.steps_left(desk().db, number)
    return render_template("scene/page.html", scene=scene, current=slug, back=back, on=on, **STAGES[slug].bench(scene))


def _with_missing_read(scene: ScenePage) -> ScenePage:
    """The scene; frames whose pixels are not in the cache, as after an update or when it was cleared, are read again."""
    desk().worker.looked_at = scene.number
    if scene.last_job is not None and (scene.last_job["kind"], scene.last_job["state"]) == ("inspect", "cancelled"):
        # somebody did not want it; "Look again" in Gather asks for it
        return scene
    missing = [f for f in scene.recipe.kept() if f.id not in scene.there.read and all(i in scene.files and scene.files[i].path.exists() for i in f.sources())]
    if not missing or scene.busy:
        return scene
    desk().queue.inspect(scene.number)
    return opened(scene.number)


def pieces(scene: ScenePage, slug: str, bench: bool = False, head: bool = False) -> str:
    """What a decision changed on the page, each piece put in its place; the bench and the queue's head where asked for."""
    back, on = scenes.steps_left(desk().db, scene.number)
    return render_template("scene/pieces.html", scene=scene, current=slug, with_bench=bench, with_head=head, back=back, on=on, **STAGES[slug].bench(scene))


def decided(number: int, slug: str, what: str, change: Callable[[Recipe], Recipe], bench: bool = False) -> str:
    """Make a decision and answer with what it changed."""
    if scenes.scene(desk().db, number) is None:
        abort(404)
    try:
        decide(desk().library, number, what, change)
    except ValidationError as error:
        first = error.errors()[0]
        refuse(f"{'.'.join(str(p) for p in first['loc'])}: {first['msg']}. Undo something first, or start with fewer.")
    return pieces(opened(number), slug, bench)


def queued(number: int, slug: str, kind: str, **arguments: Any) -> Response:
    """Start a job for a scene and answer with the page's pieces, on the stage where its result will be seen."""
    scene = opened(number)
    desk().queue.add(kind, scene_id=number, megapixels=scene.megapixels, **arguments)
    return Response(pieces(opened(number), slug, bench=True, head=True), headers={"HX-Push-Url": url_for(f"{slug}.page", number=number)})


def posted(name: str) -> str:
    """A field of the form; 400 where it is missing."""
    value = request.form.get(name)
    if value is None:
        refuse(f"{name} is missing.")
    assert value is not None
    return value


def posted_number(name: str = "value") -> float:
    """A number of the form; 400 for anything else."""
    try:
        return float(posted(name))
    except ValueError:
        refuse("That is not a number.")


def posted_control(known: dict[str, Control]) -> tuple[Control, float]:
    """The control of a bench that was moved, and its new value; 400 for any other, or beyond its range."""
    control, value = known.get(posted("name")), posted_number()
    return checked_control(control, value), value


def checked_control(control: Control | None, value: float) -> Control:
    """A control that there is, if it takes a value; 400 otherwise."""
    if control is None:
        refuse("There is no such control.")
    if not control.low <= value <= control.high:
        refuse(f"{control.label} goes from {control.low:g} to {control.high:g}.")
    return control


@blueprint.get(AT + "/pieces/<slug>")
def refreshed(number: int, slug: str) -> str:
    if slug not in STAGES:
        abort(404)
    return pieces(opened(number), slug, bench=request.args.get("bench") == "1")


@blueprint.post(AT + "/rename")
def rename(number: int) -> str:
    if scenes.scene(desk().db, number) is None:
        abort(404)
    scenes.rename_scene(desk().db, number, posted("name"))
    return pieces(opened(number), request.form.get("stage", "gather") if request.form.get("stage") in STAGES else "gather")


@blueprint.post(AT + "/undo/<slug>")
def undo(number: int, slug: str) -> str:
    return _step(number, slug, forward=False)


@blueprint.post(AT + "/redo/<slug>")
def redo(number: int, slug: str) -> str:
    return _step(number, slug, forward=True)


def _step(number: int, slug: str, forward: bool) -> str:
    if slug not in STAGES or scenes.scene(desk().db, number) is None:
        abort(404)
    scenes.step_back(desk().db, number, forward)
    return pieces(opened(number), slug, bench=True)


# ---- the picture ------------------------------------------------------------------------------------------


def span_in(words: str) -> Span:
    """A sharp span told as `near,far`; 400 for anything else."""
    try:
        near, far = (float(v) for v in words.split(","))
        return Span(near=near, far=far)
    except ValueError:
        refuse("The sharp span goes from a nearer to a farther place. Move its ends apart.")


def view_of(number: int, what: str = "weave") -> tuple[ScenePage, View, str]:
    """What is to be seen of a scene, and the name of what is asked for in it: `variant:N` is the weave of another view, and so are the
    weave under a span that is being set and the `unpainted` one, without strokes."""
    scene = opened(number)
    view, (kind, _, place) = scene.view, what.partition(":")
    if kind == "variant":
        variants = scene.recipe.variants
        if not place.isdecimal() or int(place) >= len(variants):
            abort(404)
        view, what = scene.trying(scene.recipe.choosing(variants[int(place)])), "weave"
    elif kind == "unpainted" and scene.view is not None:
        view, what = replace(scene.view, recipe=scene.recipe.model_copy(update={"strokes": []})), "weave"
    elif "span" in request.args:
        view = scene.trying(scene.recipe.model_copy(update={"span": span_in(request.args["span"])}))
    if view is None:
        abort(404)
    return scene, view, what


def asked(scene: ScenePage) -> ViewOptions:
    """What is asked for with a picture: a look or a finish that is being tried, before, lost tones, finished."""
    args = request.args
    finish = scene.recipe.finish if args.get("finished") == "1" else None
    look = NEUTRAL if args.get("before") == "1" and finish is None else scene.recipe.look
    if request.method == "POST":
        try:
            if finish is None:
                look = Look.model_validate_json(request.get_data(cache=False))
            else:
                finish = Finish.model_validate_json(request.get_data(cache=False)).lined(finish)
        except ValidationError:
            refuse("That is outside of what the control can do.")
    if finish is not None and args.get("before") == "1":
        # before the finish: without one part of it, or all
        finish = finish.without(next((part for part in PARTS if part == args.get("part")), "all"))
    if finish is None:
        return ViewOptions(look, args.get("clipping") == "1")
    outputs, printed = scene.recipe.outputs, args.get("printed", "")
    output = outputs[int(printed)] if printed.isdecimal() and int(printed) < len(outputs) else None
    finish, sheet = written(finish, output or scene.recipe.delivery, scene.canvas)
    file = desk().library.brought_profiles().get(output.profile_file) if output and output.profile == "file" else None
    paper = Paper(file.read_bytes(), output.intent, output.black_point) if output and file else None
    return ViewOptions(look, args.get("clipping") == "1", finish, scene.canvas, sheet.size, paper)


def _screen(make: Callable[[], NDArray[np.uint8]]) -> NDArray[np.uint8]:
    try:
        return make()
    except (KeyError, ValueError, IndexError):
        abort(404)


def jpeg(picture: NDArray[np.uint8], quality: int, cache: str | None = None) -> Response:
    """A picture (h, w, 3) as an answer; `cache` is how it may be kept."""
    colours = cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444 if quality > PASSING else cv2.IMWRITE_JPEG_SAMPLING_FACTOR_420
    options = [cv2.IMWRITE_JPEG_QUALITY, quality, cv2.IMWRITE_JPEG_SAMPLING_FACTOR, colours]
    _, data = cv2.imencode(".jpg", np.ascontiguousarray(picture[..., ::-1]), options)
    response = Response(data.tobytes(), mimetype="image/jpeg")
    if cache:
        response.headers["Cache-Control"] = cache
    return response


@blueprint.get(AT + "/tile/<what>/<version>/<int:level>/<int:x>/<int:y>.jpg")
def tile(number: int, what: str, version: str, level: int, x: int, y: int) -> Response:
    """A tile; `version` tells states of the picture apart in the browser's memory."""
    scene, view, what = view_of(number, what)
    sizes = next(iter(view.frames.values())).codes.sizes
    if level >= len(sizes) or x * TILE >= sizes[level][0] or y * TILE >= sizes[level][1]:
        abort(404)
    box = view.box_inside(level, (x * TILE, y * TILE, TILE, TILE))
    shown = asked(scene)
    return jpeg(_screen(lambda: screen(view, what, level, box, shown)), 95 if level == 0 else 90, FOREVER if request.args.get("s") == scene.version else None)


@blueprint.route(AT + "/viewport/<what>.jpg", methods=["GET", "POST"])
def seen(number: int, what: str) -> Response:
    """What is in view, in one piece: for sliders and strokes, which cannot wait for tiles. A look that is tried is posted."""
    scene, view, what = view_of(number, what)
    try:
        x, y, w, h = (float(request.args[k]) for k in ("x", "y", "w", "h"))
        wide = int(request.args["wide"])
    except (KeyError, ValueError):
        abort(400)
    if not (np.isfinite([x, y, w, h]).all() and 0 < w < 1e6 and 0 < h < 1e6 and abs(x) < 1e6 and abs(y) < 1e6 and 0 < wide <= WIDEST and h / w < 20):
        abort(400)
    shown = asked(scene)
    box = (0, 0, 0, 0)

    def make() -> NDArray[np.uint8]:
        nonlocal box
        picture, box = viewport(view, what, (x, y, w, h), wide, shown)
        return picture

    response = jpeg(_screen(make), PASSING if request.method == "POST" else 88, None)
    response.headers["X-Box"] = ",".join(str(v) for v in box)
    return response


@blueprint.get(AT + "/thumb/<what>/<version>.jpg")
def thumb(number: int, what: str, version: str) -> Response:
    scene, view, _ = view_of(number)
    shown = ViewOptions(scene.recipe.look)
    picture = _screen(lambda: viewport(view, what, (0, 0, *view.size), 480 if request.args.get("large") else 184, shown)[0])
    now = scene.version if what == "weave" else view.frame_version(what.removeprefix("frame:")) + scene.look_version if what.removeprefix("frame:") in view.frames else ""
    # an address that asks for another state than this one must not stand for it
    return jpeg(picture, 85, FOREVER if version == now else None)


@blueprint.route(AT + "/tones.json", methods=["GET", "POST"])
def tones(number: int) -> Response:
    """Histogram of the weave or of a frame under the look, what is lost at both ends, and the tone curve, as points."""
    scene, view, _ = view_of(number)
    look = asked(scene).look
    what = request.args.get("what", "weave")
    screen = _screen(lambda: for_screen(overview(view, what if what.startswith("frame:") else "weave", 700, look)))
    counts = histogram(screen).astype(float)
    black, white = float((screen == 0).all(axis=-1).mean()), float((screen == 255).any(axis=-1).mean())
    top = np.sqrt(max(1.0, float(np.partition(counts[:, 2:254].ravel(), -4)[-4])))
    lines = [" ".join(f"{i},{60 - 58 * min(1.0, np.sqrt(v) / top):.1f}" for i, v in enumerate(channel)) for channel in counts]
    x = np.linspace(0, 1, 61)
    points = through_points(look.curve, x)
    pixels = view.size[0] * view.size[1]
    curve = " ".join(f"{100 * a:.1f},{100 - 100 * float(np.clip(b, 0, 1)):.1f}" for a, b in zip(x, points, strict=True))
    ends = {"black": round(100 * black, 2), "white": round(100 * white, 2), "blackPixels": round(black * pixels), "whitePixels": round(white * pixels)}
    return jsonify({"lines": dict(zip(("red", "green", "blue", "luma"), lines, strict=True)), "curve": curve, **ends})
