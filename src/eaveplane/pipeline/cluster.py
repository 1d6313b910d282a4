"""The processes of a Dask cluster as an executor: scenes go to its workers as they would to processes of this machine."""

from __future__ import annotations

import hashlib
import platform
from concurrent.futures import Executor
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

PATIENCE = "10s"


@cache
def version_here() -> str:
    """What computes here: a digest of the program, and the versions of what it computes with."""
    package = Path(__file__).parent.parent
    state = hashlib.sha256()
    for path in sorted(package.rglob("*.py")):
        if path.relative_to(package).parts[0] not in ("web", "cli"):
            state.update(path.relative_to(package).as_posix().encode() + path.read_bytes())
    return f"{state.hexdigest()[:12]}, Python {platform.python_version()}, NumPy {np.__version__}"


class Cluster:
    """A cluster that was connected to; `executor` submits to it. Raises ValueError where it cannot be used, and says why."""

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError:
            raise ValueError("A cluster needs the optional part: pip install 'eaveplane[cluster]'.") from None
        try:
            self.client: Any = Client(address, timeout=PATIENCE, set_as_default=False)  # type: ignore[no-untyped-call]
        except (OSError, ValueError, TimeoutError) as error:
            raise ValueError(f"There is no cluster at {address} ({type(error).__name__}). Start its scheduler, or leave --cluster out.") from error
        theirs = self.client.run(version_here)
        if not theirs:
            self.close()
            raise ValueError(f"The cluster at {address} has no workers. Start some: dask worker {address} --nthreads 1")
        unlike = {worker: version for worker, version in theirs.items() if version != version_here()}
        if unlike:
            worker, version = next(iter(unlike.items()))
            self.close()
            raise ValueError(f"{len(unlike)} of {len(theirs)} workers have another version: {worker} has {version}, here it is {version_here()}. Install the same on all.")
        self.workers = len(theirs)

    @property
    def executor(self) -> Executor:
        """What scenes are submitted to; a scene whose worker is lost is done again by another."""
        executor: Executor = self.client.get_executor(pure=False)
        return executor

    def close(self) -> None:
        self.client.close()
