"""Results kept by what they depend on: in memory under a budget, some on disk too."""

from __future__ import annotations

import hashlib
import os
import pickle
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any

import numpy as np

DISK_LIMIT_BYTES = 2 * 2**30
FORMAT = 23


def total_memory_bytes() -> int:
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")


def key_of(*parts: Any) -> str:
    """A short lasting key of plain values, tuples and frozen dataclasses (by their repr)."""
    return hashlib.sha256("\x1f".join(repr(p) for p in parts).encode()).hexdigest()[:32]


def size_of(value: Any) -> int:
    """About how many bytes a result holds."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, list | tuple):
        return 64 + sum(size_of(v) for v in value)
    if isinstance(value, dict):
        return 64 + sum(size_of(v) for v in value.values())
    if isinstance(getattr(value, "nbytes", None), int):
        return value.nbytes
    if is_dataclass(value):
        return 64 + sum(size_of(getattr(value, f.name)) for f in fields(value))
    return 64


class Cache:
    """Least recently used results, up to a budget of bytes. Safe between threads.

    Two askers of one key wait for one computation. `largest_first`: of what is kept the largest goes first.
    """

    def __init__(self, budget_bytes: int, folder: Path | None = None, largest_first: bool = False) -> None:
        self.budget_bytes = budget_bytes
        self._folder, self._largest_first = folder, largest_first
        self._kept: OrderedDict[str, tuple[Any, int]] = OrderedDict()
        self._used = 0
        self._lock = threading.Lock()
        self._busy: dict[str, threading.Lock] = {}

    def holds(self, key: str) -> bool:
        """Whether a result is kept in memory."""
        with self._lock:
            return key in self._kept

    def get(self, key: str, compute: Callable[[], Any], on_disk: bool | Callable[[Any], bool] = False) -> Any:
        """The result for `key`, computed now if it is nowhere. `on_disk`: whether it may be there, or of a new result
        whether it may go there: one that hangs on a file that could not be read just now may not.
        """
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][0]
            turn = self._busy.setdefault(key, threading.Lock())
        with turn:
            with self._lock:
                if key in self._kept:
                    return self._kept[key][0]
            value = self._from_disk(key) if on_disk else None
            if value is None:
                value = compute()
                if on_disk if isinstance(on_disk, bool) else on_disk(value):
                    self._to_disk(key, value)
            self._keep(key, value)
            with self._lock:
                self._busy.pop(key, None)
        return value

    def _keep(self, key: str, value: Any) -> None:
        size = size_of(value)
        with self._lock:
            self._kept[key] = (value, size)
            self._used += size
        self.limit(self.budget_bytes)

    def _next_to_go(self) -> str:
        if self._largest_first:
            return max(self._kept, key=lambda key: self._kept[key][1])
        return next(iter(self._kept))

    def forget(self, key: str) -> None:
        """Keep a result in memory no longer."""
        with self._lock:
            _, size = self._kept.pop(key, (None, 0))
            self._used -= size

    def clear(self) -> None:
        """Keep nothing of what is in memory."""
        with self._lock:
            self._kept.clear()
            self._used = 0

    def limit(self, budget_bytes: int) -> None:
        """Keep no more than so much from now on."""
        self.budget_bytes = budget_bytes
        with self._lock:
            while self._used > self.budget_bytes and len(self._kept) > 1:
                _, gone = self._kept.pop(self._next_to_go())
                self._used -= gone

    @property
    def used_bytes(self) -> int:
        return self._used

    def _path(self, key: str) -> Path | None:
        return None if self._folder is None else self._folder / f"{key}-{FORMAT}.bin"

    def _from_disk(self, key: str) -> Any:
        path = self._path(key)
        if path is None or not path.exists():
            return None
        try:
            with open(path, "rb") as file:
                value = pickle.load(file)
            os.utime(path)
            return value
        except (OSError, pickle.UnpicklingError, EOFError, AttributeError, ImportError):
            path.unlink(missing_ok=True)
            return None

    def _to_disk(self, key: str, value: Any) -> None:
        path = self._path(key)
        if path is None:
            return
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=self._folder)
            with os.fdopen(handle, "wb") as file:
                pickle.dump(value, file, protocol=5)
            os.replace(name, path)
        except OSError:
            return


def prune(folder: Path, limit_bytes: int = DISK_LIMIT_BYTES) -> None:
    """Remove the files of a cache folder longest unused until it is within its limit."""
    files = [(p.stat().st_mtime, p.stat().st_size, p) for p in folder.glob("*") if p.is_file()]
    used = sum(size for _, size, _ in files)
    for _, size, path in sorted(files):
        if used <= limit_bytes:
            return
        path.unlink(missing_ok=True)
        used -= size
