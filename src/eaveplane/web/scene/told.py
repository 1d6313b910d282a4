"""What a scene tells: remarks for the notebook, and facts for the picture's scripts."""

from __future__ import annotations

import hashlib
from typing import Any

from ...pipeline.depth import depth_colour
from .opened import ScenePage


def notes(scene: ScenePage) -> list[dict[str, str]]:
    """Remarks on the scene, the gravest first: what is wrong with files, frames and fits."""
    found = [{"grave": "yes", "title": name, "text": problem, "frame": ""} for name, problem in scene.desk.library.outing_problems(scene.row["outing_id"])]
    if scene.last_job is not None and scene.last_job["state"] == "failed":
        found.insert(0, {"grave": "yes", "title": "The last step failed", "text": scene.last_job["message"], "frame": ""})
    numbers = {f.id: i + 1 for i, f in enumerate(scene.recipe.frames)}
    if scene.view is not None and scene.view.registered is not None and scene.plan is not None:
        for id, warning, residual in zip(scene.plan.ids, scene.view.registered.warnings, scene.view.registered.residual, strict=True):
            if warning:
                found.append({"grave": "yes", "title": f"Frame {numbers[id]} may not fit", "text": warning, "frame": id})
            elif residual is not None and residual > 0.8:
                found.append({"grave": "", "title": f"Frame {numbers[id]} fits loosely", "text": f"{residual:.1f} px remain; look at its edges.", "frame": id})
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


def state(scene: ScenePage) -> dict[str, Any]:
    """What the picture's scripts need to know."""
    view = scene.view
    count = len(scene.recipe.in_depth())
    area = list(view.registered.area) if view and view.registered else [0, 0, *(view.size if view else (0, 0))]
    canvas = area if scene.recipe.canvas == "common" else [0, 0, *(view.size if view else (0, 0))]
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
        "sharpening": f"{scene.recipe.finish.sharpen:g}-{scene.recipe.finish.radius:g}-{scene.recipe.finish.spare:g}-{scene.output:.4f}",
        "longEdge": scene.recipe.delivery.long_edge,
        "weave": view.weave_version() if view else "",
        "registered": scene.registered,
        "labelled": bool(view and view.gates is not None),
        "woven": scene.woven,
        "area": area,
        "canvas": canvas,
        "straighten": scene.recipe.finish.straighten,
        "crop": scene.recipe.finish.crop.model_dump(),
        "ratio": scene.recipe.finish.ratio,
        "reference": scene.plan.ids[scene.plan.reference] if scene.plan else "",
        "frames": [
            {
                "id": f.id,
                "number": i + 1,
                "name": f.name,
                "kept": f.state == "keep",
                "exposures": [{"id": e.id, "file": e.file} for e in f.exposures],
                "use": f.use,
                "trim": f.trim.model_dump(),
                "blur": scene.inspected[f.id].blur_px if f.id in scene.inspected else None,
                "colour": "rgb({} {} {})".format(*depth_colour(i, count)),
                "version": view.frame_version(f.id) if view and f.id in view.frames else "",
            }
            for i, f in enumerate(scene.recipe.frames)
        ],
    }
