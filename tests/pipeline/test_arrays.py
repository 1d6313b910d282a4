"""Arrays on disk, read from several threads."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from eaveplane.pipeline import arrays as module
from eaveplane.pipeline.arrays import array, arrays


def test_arrays_come_back_and_one_thread_reads_at_a_time(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    kept = {"a": np.arange(6.0).reshape(2, 3), "b": np.array(7)}
    np.savez(tmp_path / "many.npz", **kept)
    np.save(tmp_path / "one.npy", kept["a"])
    load, reading, most = np.load, 0, 0

    def watched(path: Path):  # type: ignore[no-untyped-def]
        nonlocal reading, most
        reading += 1
        most = max(most, reading)
        found = load(path)
        reading -= 1
        return found

    monkeypatch.setattr(module.np, "load", watched)
    with ThreadPoolExecutor(8) as threads:
        for found in threads.map(lambda k: arrays(tmp_path / "many.npz"), range(40)):
            assert found.keys() == kept.keys() and all((found[name] == kept[name]).all() for name in kept)
        for one in threads.map(lambda k: array(tmp_path / "one.npy"), range(40)):
            np.testing.assert_array_equal(one, kept["a"])
    assert most == 1
    assert list(arrays(tmp_path / "many.npz", "b")) == ["b"]
    with pytest.raises(OSError):
        array(tmp_path / "none.npy")
