"""What was found of two frames before: they are not matched again when others join or leave them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import fields
from typing import Generic, TypeVar

import numpy as np

T = TypeVar("T")
BUDGET_BYTES = 64 * 2**20
EMPTY_BYTES = 512


class Known(Generic[T]):
    """Results (dataclasses, arrays among their fields) by their keys, those asked for last, up to a budget of bytes.
    Safe between threads.
    """

    def __init__(self, budget_bytes: int = BUDGET_BYTES) -> None:
        self.budget_bytes = budget_bytes
        self._kept: OrderedDict[tuple, T] = OrderedDict()
        self._used = 0
        self._lock = threading.Lock()

    def get(self, key: tuple, find: Callable[[], T]) -> T:
        """The result for `key`, found now if it is not known."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        found = find()
        with self._lock:
            if key not in self._kept:
                self._kept[key] = found
                self._used += _bytes_of(found)
            while self._used > self.budget_bytes and len(self._kept) > 1:
                self._used -= _bytes_of(self._kept.popitem(last=False)[1])
        return found

    def clear(self) -> None:
        with self._lock:
            self._kept.clear()
            self._used = 0


def _bytes_of(found: object) -> int:
    values = (getattr(found, f.name) for f in fields(found))
    return EMPTY_BYTES + sum(v.nbytes for v in values if isinstance(v, np.ndarray))
