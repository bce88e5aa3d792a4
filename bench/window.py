"""A real window for benches, driven by events; how long the interface thread was at each turn of them is noted.

A turn is one event sent, or all that waited: no event took longer than its turn.
"""

from __future__ import annotations

import faulthandler
import os
import re
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import IO

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication

from windfell.app import theme
from windfell.app.start import application

STALL_S, IDLE_S = 0.12, 0.0005
FRAME = re.compile(r'File "([^"]*windfell/[^"]*)", line (\d+) in (\S+)')


class Turns:
    """The interface thread's turns: (seconds, what) in `events`."""

    def __init__(self) -> None:
        self.app = application()
        theme.apply(self.app, theme.LIMESTONE)
        self.events: list[tuple[float, str]] = []
        self._log: IO[str] | None = None

    def watch(self) -> None:
        """Note from now on where the interface thread is when a turn takes long. Now and then that ends the process:
        it looks at a running thread from outside.
        """
        self._log = tempfile.TemporaryFile("w+")  # noqa: SIM115 (it lives as long as the process)

    def timed(self, what: str, do: Callable[[], object]) -> None:
        """Do something on the interface thread as one turn."""
        begun = time.perf_counter()
        if self._log:
            # from outside of Python: whoever held a frame of ours would keep its painters alive beyond their time
            faulthandler.dump_traceback_later(STALL_S, file=self._log)
        try:
            do()
        finally:
            if self._log:
                faulthandler.cancel_dump_traceback_later()
            seconds = time.perf_counter() - begun
            if seconds > IDLE_S:
                self.events.append((seconds, what))

    @property
    def stalls(self) -> Counter:
        """Where the interface thread was when a turn took long, by how often."""
        found: Counter = Counter()
        if self._log is None:
            return found
        self._log.seek(0)
        for dump in self._log.read().split("Timeout (")[1:]:
            # the interface thread is the one that the bench's own doings end in
            own = next((part for part in dump.split("\n\n") if "in timed" in part), "")
            words = _places(own)
            if not words:
                # it waits for the interpreter: what the others do there
                words = "; ".join(sorted({_places(part) for part in dump.split("\n\n") if part != own} - {""}))
                words = f"meanwhile {words}" if words else ""
            found[words] += 1
        return found

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


def _places(trace: str) -> str:
    """The innermost functions of ours in a thread's trace, with their lines."""
    return " < ".join(f"{Path(m[1]).name}:{m[2]} {m[3]}" for m in list(FRAME.finditer(trace))[:4])
