"""What a scene tells: remarks for the notebook, the frames on the rail, and facts for the picture's scripts."""

from __future__ import annotations

import hashlib
from typing import Any

from ...core.even.drift import Trim
from ...core.finish.geometry import keystone
from ...core.gather.order import profiles
from ...core.mend.flaws.finding import BAD, KINDS
from ...core.weave.weave import woven_by
from ...imaging.colour import FloatArray
from ...pipeline.depth import depth_colour
from ...pipeline.steps import shares_of
from .opened import ScenePage


def notes(scene: ScenePage) -> list[dict[str, str]]:
    """Remarks on the scene, the gravest first: what is wrong with files, frames and fits."""
    found = [{"grave": "yes", "title": name, "text": problem, "frame": ""} for name, problem in scene.desk.library.outing_problems(scene.row["outing_id"])]
    if scene.last_job is not None and scene.last_job["state"] == "failed":
        found.insert(0, {"grave": "yes", "title": "The last step failed", "text": scene.last_job["message"], "frame": ""})
    numbers = {f.id: i + 1 for i, f in enumerate(scene.recipe.frames)}
    found += _of_turned(scene, numbers)
    if scene.view is not None and scene.view.registered is not None and scene.plan is not None:
        for id, fit in zip(scene.plan.ids, scene.view.registered.trusted, strict=True):
            if fit.said:
                found.append({"grave": "yes", "title": f"Frame {numbers[id]}: {'look at its fit' if fit.verdict == 'look at it' else 'its fit cannot be trusted'}", "text": fit.said, "frame": id})
            elif fit.residual is not None and fit.residual > 0.8:
                found.append({"grave": "", "title": f"Frame {numbers[id]} fits loosely", "text": f"{fit.residual:.1f} px remain; look at its edges.", "frame": id})
        found += _of_area(scene, numbers)
        times = scene.plan.noise_times(scene.view.laid.places) if scene.view.laid else []
        said = "times the noise of the others once it is as bright as they are. Where detail is faint it counts for less."
        found += [{"grave": "", "title": f"Frame {numbers[id]} is noisier", "text": f"It has {k:.1f} {said}", "frame": id} for id, k in zip(scene.plan.ids, times, strict=False) if k > LOUD]
    for flaw in [f for f in scene.flaws or [] if f.state == "open"][:MOST_FLAWS]:
        names = [str(numbers[id]) for id in scene.plan.ids] if scene.plan else []
        found.append({"grave": "yes" if flaw.found.severity >= BAD else "", "title": KINDS[flaw.found.kind], "text": f"{flaw.found.told(names)} In Mend, T leads there.", "frame": ""})
    for band in scene.gaps():
        found.append({"grave": "yes", "title": "Soft band", "text": band.told(), "frame": scene.band_side(band)})
    for id in scene.proposals():
        verdict = scene.inspected[id]
        found.append({"grave": "yes", "title": f"Frame {numbers[id]}: {verdict.flaw}", "text": verdict.evidence, "frame": id})
    for frame in scene.recipe.frames:
        if frame.state == "leave_out" and frame.reason != "marker":
            known = scene.inspected.get(frame.id)
            text = known.evidence if known and known.flaw == frame.reason else f"Left out: {frame.reason or 'by hand'}."
            found.append({"grave": "", "title": f"Frame {numbers[frame.id]} is left out", "text": text, "frame": frame.id})
    return found


LOUD = 1.5
"""Times the others' noise from which on it is told."""
MOST_FLAWS = 5
"""Flaws that the notebook tells; Mend has them all."""
DEAR = 0.04
"""Part of the common area that one frame alone may cost without a word."""


def _of_turned(scene: ScenePage, numbers: dict[str, int]) -> list[dict[str, str]]:
    """Remarks on frames that are turned as the others are."""
    turned = [f.id for f in scene.recipe.frames if any(scene.files[i].turned for i in f.all_files() if i in scene.files)]
    said = "Its file says that the camera was held another way up than for the others. It is read as if it had been held as for them."
    return [{"grave": "", "title": f"Frame {numbers[id]} was turned", "text": said, "frame": id} for id in turned]


def _of_area(scene: ScenePage, numbers: dict[str, int]) -> list[dict[str, str]]:
    """Remarks on frames that cost much of the common area."""
    if scene.recipe.canvas == "reference":
        return []
    dear = [(id, cost) for id, cost in scene.area_costs.items() if cost > DEAR]
    said = "It reaches less far than the others. In Register, under Area, it can be kept with what it has."
    return [{"grave": "", "title": f"Frame {numbers[id]} alone costs {100 * cost:.0f} % of the picture", "text": said, "frame": id} for id, cost in dear]


def rail(scene: ScenePage) -> list[dict[str, Any]]:
    """The frames, far first."""
    kept = scene.recipe.kept()
    place = {f.id: i for i, f in enumerate(kept)}
    shares = shares_of(scene.desk.library.cache, scene.plan.result.key) if scene.plan and scene.woven else None
    reference = scene.plan.ids[scene.plan.reference] if scene.plan else None
    lines = _profiles(scene)
    soft = {scene.band_side(band): band for band in scene.gaps() if band.near is not None and band.far is not None}
    out = []
    for number, frame in enumerate(scene.recipe.frames):
        verdict = scene.inspected.get(frame.id)
        files = frame.all_files()
        decoded = scene.view.frames.get(frame.id) if scene.view else None
        share = shares[place[frame.id]] if shares and frame.id in place else None
        out.append(
            {
                "id": frame.id,
                "number": number + 1,
                "place": number,
                "name": frame.name,
                "file": frame.file,
                "kept": frame.state == "keep",
                "mask": frame.mask,
                "reason": frame.reason or "by hand",
                "focus": decoded.meta.focus_m if decoded else None,
                "share": share if share is not None or verdict is None or frame.state != "keep" else verdict.share,
                "proposed": verdict.flaw if verdict and frame.state == "keep" else None,
                "exposures": len(frame.exposures) if not frame.use else 0,
                "face": files[len(files) // 2],
                "soft_beyond": soft.get(frame.id),
                "reference": frame.id == reference,
                "profile": lines.get(frame.id),
                "ready": decoded is not None,
                "trim": frame.trim if frame.trim != Trim() else None,
                "version": scene.view.frame_version(frame.id) if scene.view and decoded else "",
            }
        )
    return out[::-1]


def _profiles(scene: ScenePage) -> dict[str, str]:
    """Sharp-zone profiles of kept frames as the points of a line, 24 wide and 48 high."""
    if scene.view is None or scene.plan is None:
        return {}
    ids, frames = scene.plan.ids, scene.view.frames

    def measure() -> FloatArray:
        return profiles([frames[i].octaves() for i in ids])

    rows = scene.desk.kept.get(("profiles", scene.plan.registered.key), measure)
    return {id: " ".join(f"{1 + 22 * float(v):.1f},{y + 0.5:.1f}" for y, v in enumerate(line)) for id, line in zip(ids, rows, strict=True)}


def _dioptres(scene: ScenePage, id: str) -> float | None:
    """On what a frame was focused, by the metre; None where it does not tell."""
    focus = scene.view.frames[id].meta.focus_m if scene.view and id in scene.view.frames else None
    return 1 / focus if focus else None


def state(scene: ScenePage) -> dict[str, Any]:
    """What the picture's scripts need to know."""
    view = scene.view
    count = len(scene.recipe.in_depth())

    def beside(id: str) -> bool:
        return bool(view and view.laid and id in view.laid.beside)

    def colour(place: int) -> str:
        return "rgb({} {} {})".format(*depth_colour(place, count))

    return {
        "scene": scene.number,
        "version": scene.version,
        "busy": scene.busy,
        "job": scene.last_job["id"] if scene.last_job is not None else 0,
        "jobState": scene.last_job["state"] if scene.last_job is not None else "",
        "size": list(view.size) if view else None,
        "levels": len(next(iter(view.frames.values())).codes.sizes) if view else 0,
        "inspected": hashlib.sha256(f"{scene.row['inspected']}{[f.id for f in scene.recipe.kept()]}".encode()).hexdigest()[:10] if scene.inspection else "",
        "look": scene.look_version,
        "capture": hashlib.sha256(scene.recipe.capture.model_dump_json().encode()).hexdigest()[:8],
        "lookValues": scene.recipe.look.model_dump(),
        "finish": hashlib.sha256(f"{scene.recipe.finish.model_dump_json()}{scene.recipe.delivery.model_dump_json()}{scene.canvas}".encode()).hexdigest()[:10],
        "finishParts": scene.recipe.finish.in_use(),
        "finishValues": scene.recipe.finish.model_dump(exclude={"light": {"__all__": {"lines"}}}),
        "longEdge": scene.recipe.delivery.long_edge if scene.recipe.delivery.size == "edge" else 0,
        "weave": view.weave_version() if view else "",
        "registered": scene.registered,
        "labelled": bool(view and view.gates is not None),
        "woven": scene.woven,
        "sums": bool(view and view.laid and woven_by(view.laid, scene.recipe.weaving) == "joint-light"),
        "canvas": list(scene.canvas),
        "uprights": len(scene.recipe.finish.uprights),
        "keystone": keystone(scene.recipe.finish.uprights, scene.canvas).tolist() if len(scene.recipe.finish.uprights) > 1 else None,
        "straighten": scene.recipe.finish.straighten,
        "crop": scene.recipe.finish.crop.model_dump(),
        "ratio": scene.recipe.finish.ratio,
        "span": [scene.recipe.span.near, scene.recipe.span.far],
        "variants": [{"name": v.name, "version": hashlib.sha256(v.model_dump_json().encode()).hexdigest()[:8]} for v in scene.recipe.variants],
        "reference": scene.plan.ids[scene.plan.reference] if scene.plan else "",
        "frames": [
            {
                "id": f.id,
                "number": i + 1,
                "name": f.name,
                "kept": f.state == "keep",
                "mask": f.mask,
                "dioptres": _dioptres(scene, f.id),
                "drawable": f.state == "keep" or beside(f.id),
                "exposures": [
                    {"id": e.id, "number": f"{i + 1}.{k}", "file": e.file, "drawable": beside(e.id), "colour": colour(i), "version": view.frame_version(e.id) if view and e.id in view.frames else ""}
                    for k, e in enumerate(f.exposures, 1)
                ],
                "use": f.use,
                "trim": f.trim.model_dump(),
                "blur": scene.inspected[f.id].blur_px if f.id in scene.inspected else None,
                "colour": colour(i),
                "version": view.frame_version(f.id) if view and f.id in view.frames else "",
            }
            for i, f in enumerate(scene.recipe.frames)
        ],
    }
