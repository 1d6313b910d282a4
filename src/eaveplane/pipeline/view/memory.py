"""What is kept in memory, within so many bytes."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np
from cachetools import LRUCache


class Memory:
    """The last things made, by key, as many as fit into `most` bytes; safe between threads, and made by one of them while the
    others wait for it."""

    def __init__(self, most: int) -> None:
        self._items: LRUCache[Any, Any] = LRUCache(most, getsizeof=size_of)
        self._lock = threading.Lock()
        self._making: dict[Any, threading.Lock] = {}

    def get(self, key: Any, make: Callable[[], Any]) -> Any:
        """What is kept under a key, made if it is not there."""
        with self._lock:
            if key in self._items:
                return self._items[key]
            making = self._making.setdefault(key, threading.Lock())
        with making:
            with self._lock:
                if key in self._items:
                    return self._items[key]
            try:
                made = make()
                with self._lock:
                    # what is larger than all there is room for is used and not kept
                    if size_of(made) <= self._items.maxsize:
                        self._items[key] = made
            finally:
                with self._lock:
                    self._making.pop(key, None)
        return made

    def peek(self, key: Any) -> Any:
        """What is kept under a key; None where nothing is."""
        with self._lock:
            return self._items.get(key)

    def clear(self) -> None:
        with self._lock:
            self._items.clear()


LEAST_SIZE = 4096


def size_of(thing: Any) -> int:
    """Bytes that a thing of ours holds on to: its arrays, however deep they lie in dataclasses, lists and dicts."""
    if isinstance(thing, np.ndarray):
        return LEAST_SIZE if isinstance(thing, np.memmap) else thing.nbytes + 128
    if isinstance(thing, list | tuple):
        return LEAST_SIZE + sum(size_of(part) for part in thing if not isinstance(part, int | float | str))
    if isinstance(thing, dict):
        return LEAST_SIZE + sum(size_of(part) for part in thing.values() if not isinstance(part, int | float | str))
    if is_dataclass(thing):
        return LEAST_SIZE + sum(size_of(getattr(thing, f.name)) for f in fields(thing) if isinstance(getattr(thing, f.name), np.ndarray | list | tuple | dict))
    return LEAST_SIZE
