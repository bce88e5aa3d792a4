"""On a battery Windfell computes less that nobody waits for, and begins no more exports when it is nearly empty."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from windfell.app.export_queue import ExportQueue
from windfell.app.session import Session
from windfell.engine.power import Power, power
from windfell.job import CORES

LOOK_MS = 20_000
NEARLY_EMPTY_PCT = 8


class PowerWatch(QObject):
    """`read` says what the machine runs on; it is asked now and then."""

    def __init__(self, session: Session, queue: ExportQueue, read: Callable[[], Power] = power) -> None:
        super().__init__()
        self._session, self._queue, self.read = session, queue, read
        self.power = Power()
        # whether the queue was held for the battery, and whether it still is
        self._asked = self._ours = False
        self._timer = QTimer(self, interval=LOOK_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        QTimer.singleShot(0, self.look)

    @property
    def nearly_empty(self) -> bool:
        p = self.power
        return p.on_battery and p.percent is not None and p.percent <= NEARLY_EMPTY_PCT

    def look(self) -> None:
        """Take up what the machine runs on now. Who lets the queue go on on a nearly empty battery has decided so."""
        before, self.power = self.power, self.read()
        self._session.desk.use_seats(max(1, CORES // 2) if self.power.on_battery else CORES)
        if self.power.on_battery and not before.on_battery:
            self._session.say("On the battery: what nobody waits for takes half of the cores.", "info")
        self._ours = self._ours and self._queue.held
        if self.nearly_empty and self._queue.waiting and not self._queue.held and not self._asked:
            self._ours = self._asked = True
            self._queue.hold(True)
            self._session.say(f"The battery holds {self.power.percent} %: the queue waits. What is being written is "
                              "finished; “Go on” writes the rest.", "wrong")
        elif not self.power.on_battery:
            if self._ours:
                self._queue.hold(False)
                self._session.say("Power is back: the queue goes on.", "good")
            self._ours = self._asked = False
