"""What was painted, stored once: recipes as they lie in the tables refer to the points of strokes and brushed lines by what they hold.

The JSON that leaves the program is whole; so are recipes in memory.
"""

from __future__ import annotations

import hashlib
import json
import re
import sqlite3
import threading
import zlib
from typing import Any

from cachetools import LRUCache

from ..recipe import Recipe

FEWEST = 4
"""Points from which it is worth storing them apart."""
REFERENCE = "painted:"
# by what they hold, so that they are the same in every library
_lock = threading.Lock()
_points: LRUCache[str, list[Any]] = LRUCache(32 << 20, getsizeof=lambda points: 120 * len(points))


def packed(connection: sqlite3.Connection, recipe: Recipe) -> str:
    """A recipe as it is stored, its points put where they are kept, within the connection's transaction."""

    def put(points: list[Any]) -> str:
        text = json.dumps(points, separators=(",", ":")).encode()
        name = hashlib.sha256(text).hexdigest()[:40]
        connection.execute("INSERT OR IGNORE INTO painted (hash, points) VALUES (?, ?)", (name, zlib.compress(text, 6)))
        return REFERENCE + name

    return json.dumps(_exchanged(json.loads(recipe.to_json()), lambda points: put(points) if isinstance(points, list) and len(points) >= FEWEST else points))


def unpacked(connection: sqlite3.Connection, text: str) -> Recipe:
    """The recipe that was stored. Raises ValueError where it cannot be read, or what was painted is gone."""
    if REFERENCE not in text:
        return Recipe.model_validate_json(text)

    def take(points: Any) -> Any:
        if not isinstance(points, str):
            return points
        name = points.removeprefix(REFERENCE)
        with _lock:
            found = _points.get(name)
        if found is None:
            row = connection.execute("SELECT points FROM painted WHERE hash = ?", (name,)).fetchone()
            if row is None:
                raise ValueError(f"what was painted as {name} is not there")
            try:
                found = json.loads(zlib.decompress(row[0]))
            except zlib.error as error:
                raise ValueError(f"what was painted as {name} is damaged") from error
            with _lock:
                # what is larger than all there is room for is used and not kept
                if 120 * len(found) <= _points.maxsize:
                    _points[name] = found
        return found

    return Recipe.model_validate(_exchanged(json.loads(text), take))


def sweep(connection: sqlite3.Connection) -> int:
    """Take away points that no decision and no delivered file refers to any more, within the connection's transaction; how many."""
    needed: set[str] = set()
    for table in ("decision", "result"):
        for row in connection.execute(f"SELECT recipe FROM {table}"):
            needed.update(re.findall(REFERENCE + r"(\w+)", row[0] or ""))
    there = [row[0] for row in connection.execute("SELECT hash FROM painted")]
    lost = [(name,) for name in there if name not in needed]
    connection.executemany("DELETE FROM painted WHERE hash = ?", lost)
    return len(lost)


def _exchanged(value: Any, exchange: Any) -> Any:
    """JSON with what stands under `points` exchanged, however deep."""
    if isinstance(value, dict):
        return {k: exchange(v) if k == "points" else _exchanged(v, exchange) for k, v in value.items()}
    return [_exchanged(v, exchange) for v in value] if isinstance(value, list) else value
