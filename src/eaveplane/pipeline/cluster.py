"""The processes of a Dask cluster as an executor: scenes go to its workers as they would to processes of this machine."""

from __future__ import annotations

import hashlib
import os
import platform
from collections.abc import Callable
from concurrent.futures import Executor, Future
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


class Cluster(Executor):
    """A cluster that was connected to, as an executor; what a lost worker had is done again by another. Raises ValueError where it cannot be used,
    and says why."""

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError:
            raise ValueError("A cluster needs the optional part: pip install 'eaveplane[cluster]'.") from None
        try:
            self.client: Any = Client(address, timeout=PATIENCE, set_as_default=False)  # type: ignore[no-untyped-call]
        except (OSError, ValueError, TimeoutError) as error:
            raise ValueError(f"There is no cluster at {address} ({type(error).__name__}). Start its scheduler, or do without it.") from error
        self._executor: Any = self.client.get_executor(pure=False)  # type: ignore[no-untyped-call]
        theirs = self.client.run(version_here)
        if not theirs:
            self.shutdown()
            raise ValueError(f"The cluster at {address} has no workers. Start some: dask worker {address} --nthreads 1")
        unlike = {worker: version for worker, version in theirs.items() if version != version_here()}
        if unlike:
            worker, version = next(iter(unlike.items()))
            self.shutdown()
            raise ValueError(f"{len(unlike)} of {len(theirs)} workers have another version: {worker} has {version}, here it is {version_here()}. Install the same on all.")

    def check_sees(self, folder: Path) -> None:
        """Raises ValueError where a worker does not see a folder that steps read and write under its own path."""
        blind = [worker for worker, sees in self.client.run(os.path.isdir, str(folder)).items() if not sees]
        if blind:
            raise ValueError(f"{blind[0]} does not see {folder}. Keep the library in a folder that all machines have mounted at the same place.")

    def submit(self, function: Callable[..., Any], /, *args: Any, **kwargs: Any) -> Future[Any]:
        future: Future[Any] = self._executor.submit(function, *args, **kwargs)
        return future

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self.client.close()
