"""What was put by hand stays on the thing it was put on, whichever frame is the reference."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError

from eaveplane.core.develop.areas import Area
from eaveplane.core.finish.settings import Crop
from eaveplane.core.masks.parts import Elliptical
from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.register.nudge import STILL, Nudge
from eaveplane.imaging.grey import keep_grey, read_grey
from eaveplane.imaging.placement import Placement
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline.decisions import Placed, carried, decide, placed
from eaveplane.pipeline.library import Library
from eaveplane.pipeline.steps import digest_of
from eaveplane.recipe import FrameChoice, Recipe
from eaveplane.store import jobs, scenes
from tests.conftest import CAMERA, Set
from tests.pipeline.test_work import brought_in, card, done, library, worker

pytestmark = pytest.mark.slow

__all__ = ["library", "worker"]


def registered(library: Library, worker: Worker, scene: int) -> dict[str, Placement]:
    """Placements by frame id after registering."""
    job = jobs.add_job(library.db, "register", scene_id=scene)
    worker.wake()
    assert done(library, job)["state"] == "done"
    found = placed(library, scene)
    assert found is not None
    return found.placements


def under(placement: Placement, point: tuple[float, float]) -> np.ndarray:
    """The place in a frame of a point of the reference."""
    return placement.back(np.array([point]))[0]


def test_a_new_reference_takes_strokes_areas_and_crop_along(library: Library, worker: Worker, handheld: Set, tmp_path: Path) -> None:
    outing = brought_in(library, worker, card(tmp_path / "card", handheld))
    (row,) = scenes.scenes_of(library.db, outing)
    scene = row["id"]
    first = registered(library, worker, scene)
    recipe = scenes.recipe_of(library.db, scene)
    ids = [f.id for f in recipe.kept()]
    old = next(i for i in ids if np.allclose(first[i].matrix, np.eye(3)))
    stroke = Stroke(action="in", frame=ids[0], width=40, softness=0.5, opacity=1, points=[(300, 400), (420, 380)])
    area = Area(exposure=1, parts=[Elliptical(x=700, y=300, rx=90, ry=50, angle=10)])
    # a mask that was brought in, round about a place of the old reference
    down, right = np.mgrid[0 : CAMERA.height, 0 : CAMERA.width]
    codes = np.clip(65535 * np.exp(-((right - 620) ** 2 + (down - 330) ** 2) / 2 / 20**2), 0, 65535).astype(np.uint16)
    keep_grey(library.masks / f"{digest_of(codes)}.tif", codes)
    masked, masked_frame = {"mask": "given", "mask_file": digest_of(codes)}, next(i for i in ids if i != old)
    decide(library, scene, "A mask", lambda r: r.model_copy(update={"frames": [f.model_copy(update=masked) if f.id == masked_frame else f for f in r.frames]}))
    decide(
        library,
        scene,
        "Painted",
        lambda r: r.model_copy(
            update={"strokes": [stroke], "look": r.look.model_copy(update={"areas": [area]}), "finish": r.finish.model_copy(update={"crop": Crop(x=0.2, y=0.25, w=0.5, h=0.5)})}
        ),
    )
    before = placed(library, scene)
    assert before is not None
    painted = scenes.recipe_of(library.db, scene)
    box = before.canvas(painted, old)

    # the reference is left out: another takes its place
    decide(library, scene, "Left out", lambda r: r.model_copy(update={"frames": [f.model_copy(update={"state": "leave_out", "reason": "by hand"}) if f.id == old else f for f in r.frames]}))
    assert "the reference now, and what was painted and drawn went along" in (scenes.steps_left(library.db, scene)[0] or "")
    moved = scenes.recipe_of(library.db, scene)
    second = registered(library, worker, scene)
    new = next(i for i in second if np.allclose(second[i].matrix, np.eye(3)))
    assert new != old and len(second) == len(ids) - 1
    # what lies under the brush in a frame that both registrations know is the same
    witness = next(i for i in second if i != new)
    for point, now in zip(stroke.points, moved.strokes[0].points, strict=True):
        was_at, is_at = under(first[witness], point), under(second[witness], now)
        assert np.hypot(*(was_at - is_at)) < 1.0
        assert np.hypot(point[0] - now[0], point[1] - now[1]) > 4
    ellipse = moved.look.areas[0].parts[0]
    assert isinstance(ellipse, Elliptical)
    assert np.hypot(*(under(first[witness], (700, 300)) - under(second[witness], (ellipse.x, ellipse.y)))) < 1.0
    carried_mask = next(f.mask_file for f in moved.frames if f.id == masked_frame)
    there_now = read_grey(library.masks / f"{carried_mask}.tif", (CAMERA.width, CAMERA.height)).astype(float)
    middle_now = tuple(float((axis * there_now).sum() / there_now.sum()) for axis in (right, down))
    assert carried_mask != digest_of(codes) and np.hypot(*(under(first[witness], (620, 330)) - under(second[witness], middle_now))) < 1.0  # type: ignore[arg-type]
    after = placed(library, scene)
    assert after is not None
    canvas = after.canvas(moved, new)
    middle = (box[0] + 0.45 * box[2], box[1] + 0.5 * box[3])
    crop = moved.finish.crop
    now = (canvas[0] + (crop.x + crop.w / 2) * canvas[2], canvas[1] + (crop.y + crop.h / 2) * canvas[3])
    assert np.hypot(*(under(first[witness], middle) - under(second[witness], now))) < 2.0

    # one step back is the old reference with the old strokes
    scenes.step_back(library.db, scene)
    assert scenes.recipe_of(library.db, scene) == painted
    # chosen and taken back by hand, everything is where it was
    decide(library, scene, "Chosen", lambda r: r.model_copy(update={"reference": new}))
    decide(library, scene, "Back", lambda r: r.model_copy(update={"reference": ""}))
    there = scenes.recipe_of(library.db, scene)
    np.testing.assert_allclose(there.strokes[0].points, stroke.points, atol=1e-6)
    assert there.strokes[0].width == pytest.approx(40) and there.finish.crop.x == pytest.approx(0.2, abs=2e-3)


def test_without_a_registration_nothing_is_moved_and_it_is_said(library: Library) -> None:
    from eaveplane.store import outings

    stroke = Stroke(action="in", frame="a", width=4, softness=0, opacity=1, points=[(3, 4)])
    outing = outings.add_outing(library.db, "O", Path("/"))
    scene = scenes.add_scene(library.db, outing, "S", Recipe(frames=[FrameChoice(id=i) for i in "abc"], strokes=[stroke]))
    decide(library, scene, "Chosen", lambda r: r.model_copy(update={"reference": "a"}))
    assert scenes.recipe_of(library.db, scene).strokes == [stroke]
    assert scenes.steps_left(library.db, scene)[0] == "Chosen; what was painted and drawn may lie aside"
    assert carried(Recipe(), Recipe(), None) == Recipe()


def test_what_could_not_be_read_again_is_not_stored(library: Library) -> None:
    from eaveplane.store import outings

    stroke = Stroke(action="in", frame="a", width=4, softness=0, opacity=1, points=[(3, 4)])
    outing = outings.add_outing(library.db, "O", Path("/"))
    scene = scenes.add_scene(library.db, outing, "S", Recipe(strokes=[stroke] * 5000))
    with pytest.raises(ValidationError, match="at most 5000"):
        decide(library, scene, "One more", lambda r: r.model_copy(update={"strokes": [*r.strokes, stroke]}))
    assert len(scenes.recipe_of(library.db, scene).strokes) == 5000 and scenes.steps_left(library.db, scene)[0] is None


def test_a_registration_tells_its_size(library: Library, worker: Worker, small: Set, tmp_path: Path) -> None:
    outing = brought_in(library, worker, card(tmp_path / "card", small))
    (row,) = scenes.scenes_of(library.db, outing)
    registered(library, worker, row["id"])
    found = placed(library, row["id"])
    assert found is not None and found.size == (720, 480)


def test_frames_nudged_by_hand_lie_on_each_other_as_before_on_a_new_reference() -> None:
    size, rng = (600, 400), np.random.default_rng(3)
    fits = {id: Nudge(x=float(rng.uniform(-20, 20)), y=float(rng.uniform(-20, 20)), turn=float(rng.uniform(-1, 1))).matrix(size) for id in "bcd"} | {"a": np.eye(3)}
    nudges = {"a": STILL, "b": Nudge(x=3, y=-2, turn=0.4), "c": Nudge(x=-5, scale=0.3), "d": STILL}
    where = Placed({id: Placement(nudges[id].matrix(size) @ fits[id], size) for id in "abcd"}, size)
    before = Recipe(frames=[FrameChoice(id=id, nudge=nudges[id]) for id in "abcd"], reference="a")
    for new in "bd":
        after = carried(before, before.model_copy(update={"reference": new}), where)
        assert {f.id: f.nudge for f in after.frames}[new] == STILL
        for frame in after.frames:
            # registered anew, a frame lies as it did on the old reference; the hand's work comes on top
            laid = frame.nudge.matrix(size) @ np.linalg.inv(fits[new]) @ fits[frame.id]
            wanted = np.linalg.inv(where.placements[new].matrix) @ where.placements[frame.id].matrix
            np.testing.assert_allclose(laid, wanted, atol=2e-3)
    untouched = Recipe(frames=[FrameChoice(id=id) for id in "abcd"], reference="a")
    assert carried(untouched, untouched.model_copy(update={"reference": "c"}), where).frames == untouched.frames
