"""Weaves focus stacks of landscapes into pictures that are sharp from the feet to the horizon."""

import hashlib
import os
from pathlib import Path

COMPILED_FROM = ("imaging", "optics", "core", "fieldcam")


def _kernels() -> Path:
    """Where compiled kernels are kept: a folder of their own for every state of the code they are made from, since they hold
    other modules' constants and the compiler looks at each kernel's own file alone."""
    here = Path(__file__).parent
    state = hashlib.sha256()
    for folder in COMPILED_FROM:
        for path in sorted((here / folder).rglob("*.py")):
            about = path.stat()
            state.update(f"{path}{about.st_size}{about.st_mtime_ns}".encode())
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "eaveplane" / "kernels" / state.hexdigest()[:16]


os.environ.setdefault("NUMBA_CACHE_DIR", str(_kernels()))
# what is large is worked on side by side in threads of the program's own; matrices are small, and threads waiting for the next one only take time from others
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
