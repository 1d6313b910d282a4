"""What is compiled once for the code as it is."""

from __future__ import annotations

import os
from pathlib import Path

from eaveplane.pipeline.warm import KEPT, given_up


def test_kernels_of_the_last_few_states_of_the_code_are_kept(tmp_path: Path) -> None:
    for age in range(KEPT + 3):
        (tmp_path / "kernels" / f"state{age}").mkdir(parents=True)
        os.utime(tmp_path / "kernels" / f"state{age}", (1e9 - age, 1e9 - age))
    gone = {folder.name for folder in given_up(tmp_path / "kernels" / "state4")}
    assert gone == {f"state{age}" for age in range(KEPT, KEPT + 3)} - {"state4"}
    # a folder that somebody named holds nothing of ours beside it
    (tmp_path / "own" / "here").mkdir(parents=True)
    (tmp_path / "own" / "letters").mkdir()
    assert given_up(tmp_path / "own" / "here") == []
