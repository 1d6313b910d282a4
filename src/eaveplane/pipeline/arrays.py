"""Arrays as steps keep them on disk."""

from __future__ import annotations

from pathlib import Path
from threading import Lock

import numpy as np
from numpy.typing import NDArray

_ONE_READS = Lock()
"""Python before 3.12 parses in one thread at a time or, rarely, fails (`AST constructor recursion depth mismatch`), and the head of an
array's file is parsed."""


def array(path: Path) -> NDArray:
    """The array in a file; OSError or ValueError if there is none."""
    with _ONE_READS:
        return np.asarray(np.load(path))


def arrays(path: Path, *names: str) -> dict[str, NDArray]:
    """The named arrays in a file, or all; OSError, ValueError, KeyError or zipfile.BadZipFile if they are not there."""
    with _ONE_READS, np.load(path) as stored:
        return {name: stored[name] for name in names or stored.files}
