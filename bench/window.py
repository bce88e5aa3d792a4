"""A real window for benches, driven by events; how long the interface thread was at each turn of them is noted.

An application class of our own that times each event would be finer, but overriding `notify` from Python ends the
process now and then. A turn is one event sent, or all that waited: no event took longer than its turn.
"""

from __future__ import annotations

import os
import sys
import threading
import time
import traceback
from collections import Counter
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication

from windfell.app import theme
from windfell.app.start import application

STALL_S, IDLE_S = 0.12, 0.0005


class Turns:
    """The interface thread's turns: (seconds, what) in `events`; `stalls`: where it was when one took long."""

    def __init__(self) -> None:
        self.app = application()
        theme.apply(self.app, theme.LIMESTONE)
        self.events: list[tuple[float, str]] = []
        self.stalls: Counter = Counter()
        self._begun: float | None = None
        threading.Thread(target=self._watch, args=(threading.get_ident(),), daemon=True).start()

    def _watch(self, interface: int) -> None:
        seen = None
        while True:
            time.sleep(0.02)
            begun = self._begun
            if begun is not None and begun != seen and time.perf_counter() - begun > STALL_S:
                seen = begun
                stack = traceback.extract_stack(sys._current_frames()[interface])
                own = [f"{Path(f.filename).name}:{f.name}" for f in stack if "windfell/" in f.filename]
                self.stalls[" > ".join(own[-6:])] += 1

    def timed(self, what: str, do: Callable[[], object]) -> None:
        """Do something on the interface thread as one turn."""
        begun = self._begun = time.perf_counter()
        try:
            do()
        finally:
            self._begun = None
            seconds = time.perf_counter() - begun
            if seconds > IDLE_S:
                self.events.append((seconds, what))

    def step(self) -> None:
        """All that waits."""
        self.timed("what waited", self.app.processEvents)

    def send(self, receiver: QObject, event: QEvent) -> None:
        name = f"{event.type().name} of {type(receiver).__name__}"
        self.timed(name, lambda: QApplication.sendEvent(receiver, event))

    def until(self, what: Callable[[], bool], limit_s: float) -> float:
        """Seconds until it is so, nan if it is not in time."""
        begun = time.perf_counter()
        while not what():
            if time.perf_counter() - begun > limit_s:
                return float("nan")
            self.step()
            time.sleep(0.002)
        return time.perf_counter() - begun
