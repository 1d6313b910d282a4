"""The scenes of a folder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...core.gather.split import Taken, split
from ..cache import Cache
from ..frames import File, exposure_groups, in_order_at_first
from ..glance import Glance, glance_at, open_glance
from ..pictures import list_pictures
from ..runner import Runner


def sets(folder: Path, cache: Cache, runner: Runner) -> dict[str, Any]:
    """The scenes of a folder; names are paths as they would be given from where the folder was named."""
    paths, skipped = list_pictures(folder)
    results: list[Glance | BaseException] = runner.parts(9, 1)[0].run("Looking at files", [(glance_at, (str(cache.root), str(p))) for p in paths])
    seen: list[tuple[Path, Glance]] = []
    left_over = [str(p) for p in skipped]
    known: set[str | None] = set()
    for path, result in zip(paths, results, strict=True):
        if isinstance(result, BaseException):
            raise result
        if result.problem is not None or result.sha256 in known:
            left_over.append(str(path))
        else:
            known.add(result.sha256)
            seen.append((path, result))
    metas = [found.facts.meta for _, found in seen if found.facts]
    files = [File.of(path, found.sha256 or "", found.facts) for path, found in seen if found.facts]
    glimpses = [open_glance(cache, f.sha256)[0] for f in files]
    runner.tell("Sorting into scenes", 0.95)
    found = split(glimpses, [Taken(m.taken, f.stored, m.focal_mm, str(f.path.parent)) for m, f in zip(metas, files, strict=True)])
    scenes = []
    for group in found.scenes:
        positions = [[group[i] for i in p] for p in exposure_groups([metas[i] for i in group], [glimpses[i] for i in group])]
        middle = [p[len(p) // 2] for p in positions]
        order = in_order_at_first(cache, [files[i] for i in middle], [metas[i] for i in middle])
        brackets = [[str(seen[i][0]) for i in positions[k]] for k in order]
        bracketed = any(len(b) > 1 for b in brackets)
        kind = "single" if len(brackets) == 1 else "focus+exposure" if bracketed else "focus"
        frames = [str(seen[i][0]) for k in order for i in positions[k]]
        scenes.append({"frames": frames, "brackets": brackets if bracketed else [], "kind": kind, "uncertain": group[0] in found.doubts})
    runner.tell("Sorted", 1.0)
    return {"schema": 1, "scenes": scenes, "markers": [str(seen[i][0]) for i in found.markers()], "left_over": left_over}
