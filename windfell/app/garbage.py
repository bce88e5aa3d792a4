"""Python's cycle collector kept to the interface thread.

A collection may fall on any thread; one that frees a widget on a working thread ends
the program. So the automatic one is off and a timer on the interface thread stands in.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

EVERY_MS = 1500


class InterfaceThreadCollector(QObject):
    """Collects the generations that are due."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        # what was there at the start stays: to look through it again and again would stop the window each time
        gc.freeze()
        timer = QTimer(self, interval=EVERY_MS)
        timer.timeout.connect(self.collect)
        timer.start()

    def collect(self) -> None:
        counts, limits = gc.get_count(), gc.get_threshold()
        for generation in (2, 1, 0):
            if counts[generation] > limits[generation]:
                gc.collect(generation)
                return
