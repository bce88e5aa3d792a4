"""Videos kept open for a moment, so that instants asked for one after the other are decoded in one go."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

MOST_OPEN, CLOSED_AFTER_S = 4, 5.0
NEAR_S = 1.0
EPSILON_S = 1e-4


class Reader:
    """Goes forward through an opened video; `decoded` gives its frames, from a key frame on."""

    def __init__(self, container: Any, decoded: Iterator[Any]) -> None:
        self._container, self._decoded = container, decoded
        self._shown = self._ahead = None
        self._key_s: float | None = None
        self._between_s = NEAR_S

    def close(self) -> None:
        self._container.close()

    def reaches(self, time_s: float) -> bool:
        """Whether going on to a time costs no more than seeking it."""
        if self._shown is None or self._shown.time is None or self._shown.time > time_s + EPSILON_S:
            return False
        return time_s - self._shown.time <= max(NEAR_S, self._between_s)

    @property
    def at_s(self) -> float:
        return self._shown.time

    def frame_at(self, time_s: float) -> Any:
        """The frame that is shown at a time, not before where the reader stands; None: there is none."""
        while True:
            if self._ahead is None:
                self._ahead = next(self._decoded, None)
            ahead = self._ahead
            if ahead is None or (
                    self._shown is not None and ahead.time is not None and ahead.time > time_s + EPSILON_S):
                return self._shown
            if ahead.time is not None:
                if ahead.key_frame:
                    if self._key_s is not None:
                        self._between_s = max(self._between_s, ahead.time - self._key_s)
                    self._key_s = ahead.time
                elif self._key_s is not None:
                    self._between_s = max(self._between_s, ahead.time - self._key_s)
            self._shown, self._ahead = ahead, None


class Open:
    """The readers that are open and idle, by the file they read."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._idle: list[tuple[str, Reader]] = []
        self._timer: threading.Timer | None = None

    @contextmanager
    def reader(self, name: str, time_s: float, make: Callable[[], Reader]) -> Iterator[Reader]:
        """A reader of a file (`name` is of its content) that reaches a time, made if there is none."""
        with self._lock:
            fit = [n for n, (own, r) in enumerate(self._idle) if own == name and r.reaches(time_s)]
            best = max(fit, key=lambda n: self._idle[n][1].at_s, default=None)
            found = self._idle.pop(best)[1] if best is not None else None
        found = found or make()
        try:
            yield found
        except BaseException:
            found.close()
            raise
        with self._lock:
            self._idle.append((name, found))
            gone = self._idle[:-MOST_OPEN]
            self._idle = self._idle[-MOST_OPEN:]
            if self._timer is not None:
                self._timer.cancel()
            self._timer = threading.Timer(CLOSED_AFTER_S, self.close)
            self._timer.daemon = True
            self._timer.start()
        for _, reader in gone:
            reader.close()

    def close(self) -> None:
        """Let go of all files."""
        with self._lock:
            gone, self._idle = self._idle, []
        for _, reader in gone:
            reader.close()


OPEN = Open()
