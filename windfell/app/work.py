"""Background answers: the newest request of a channel wins. What runs is dropped, or finished first if so asked."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from windfell.engine.inner_errors import noted
from windfell.errors import WindfellError
from windfell.job import CORES, Cancelled, Job, Progress, Seats

WORKERS = 4
NICENESS = 15
# how long after what a hand did it counts as moving
HAND_MS = 300


def _give_way() -> None:
    """Threads that compute, and those that they start, leave the processor to the window when it has something to do.

    On Linux niceness belongs to a thread (sched(7)); where it cannot be had, nothing is lost but that.
    """
    with contextlib.suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), NICENESS)


@dataclass
class _Request:
    ticket: int
    job: Job
    done: Callable[[Any], None]
    failed: Callable[[str], None] | None
    stopped: Callable[[], None] | None = None
    quiet: bool = False
    progress: Progress | None = None


class Desk(QObject):
    """Takes requests from views and answers them on the interface thread."""

    progressed = Signal()
    failed = Signal(str)
    _answered = Signal(str, int, object, object)
    _reported = Signal(str, int, object)

    def __init__(self) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(WORKERS, thread_name_prefix="windfell", initializer=_give_way)
        self._soon = ThreadPoolExecutor(WORKERS, thread_name_prefix="windfell-soon")
        self._seats, self._count = Seats(), CORES
        self._hand = QTimer(self, singleShot=True, interval=HAND_MS)
        self._hand.timeout.connect(self._seat)
        self._running: dict[str, _Request] = {}
        self._waiting: dict[str, tuple[tuple, dict]] = {}
        self._tickets = 0
        self._stopping = self._closed = False
        queued = Qt.ConnectionType.QueuedConnection
        self._answered.connect(self._on_answer, queued)
        self._reported.connect(self._on_report, queued)

    def use_seats(self, count: int) -> None:
        """So many threads of what nobody waits for compute at once."""
        self._count = count
        self._seat()

    def hand_moves(self) -> None:
        """Somebody does something: for a moment what is quiet leaves a core to the window, which would wait for
        whoever of many threads has the interpreter.
        """
        moved = self._hand.isActive()
        self._hand.start()
        if not moved:
            self._seat()

    def _seat(self) -> None:
        self._seats.use(self._count, max(1, self._count // 2) if self._hand.isActive() else None)

    def ask(
        self,
        channel: str,
        work: Callable[[Job], Any],
        done: Callable[[Any], None],
        failed: Callable[[str], None] | None = None,
        stopped: Callable[[], None] | None = None,
        quiet: bool = False,
        soon: bool = False,
    ) -> None:
        """Run `work(job)` in the background, then `done(result)`; an older request ends unseen.

        A failure's sentence goes to `failed`, or to the signal of that name. `stopped` is
        called if everything is told to stop. A quiet request does not show in the status
        line. `soon`: a hand waits for it, so that it gives way to nothing.
        """
        self.drop(channel)
        if self._closed:
            return
        if self._stopping:
            if stopped:
                stopped()
            return
        self._tickets += 1
        ticket = self._tickets
        job = Job(lambda p: self._reported.emit(channel, ticket, p), None if soon else self._seats, quiet)
        self._running[channel] = _Request(ticket, job, done, failed, stopped, quiet)
        (self._soon if soon else self._pool).submit(self._work, channel, ticket, work, job)
        self.progressed.emit()

    def follow(self, channel: str, *request, **more) -> None:
        """As `ask`, but what runs on the channel is finished and seen; of what comes meanwhile the newest waits."""
        if channel in self._running and not self._stopping:
            self._waiting[channel] = request, more
        else:
            self.ask(channel, *request, **more, soon=True)

    def _work(self, channel: str, ticket: int, work: Callable[[Job], Any], job: Job) -> None:
        try:
            result, error = work(job), None
        except Cancelled:
            result, error = None, ""
        except (WindfellError, MemoryError) as problem:
            result, error = None, str(problem) or "There is not enough memory."
        except Exception as problem:  # noqa: BLE001 (a defect must be seen, not freeze a view)
            result, error = None, noted(problem)
        self._answered.emit(channel, ticket, result, error)

    def _on_answer(self, channel: str, ticket: int, result: Any, error: str | None) -> None:
        request = self._running.get(channel)
        if request is None or request.ticket != ticket:
            return
        del self._running[channel]
        waiting = self._waiting.pop(channel, None)
        if waiting is not None:
            self.ask(channel, *waiting[0], **waiting[1], soon=True)
        self.progressed.emit()
        if error is None:
            request.done(result)
        elif error and request.failed:
            request.failed(error)
        elif error:
            self.failed.emit(error)

    def _on_report(self, channel: str, ticket: int, progress: Progress) -> None:
        request = self._running.get(channel)
        if request is not None and request.ticket == ticket:
            request.progress = progress
            self.progressed.emit()

    def drop(self, channel: str) -> None:
        """End a channel's request; its answer will not be seen."""
        self._waiting.pop(channel, None)
        request = self._running.pop(channel, None)
        if request:
            request.job.stop()
            self.progressed.emit()

    def stop_all(self) -> None:
        """End everything that runs, as the user's Stop does; what is asked meanwhile is stopped too."""
        running = list(self._running.items())
        self._stopping = True
        try:
            for channel, _ in running:
                self.drop(channel)
            for _, request in running:
                if request.stopped:
                    request.stopped()
        finally:
            self._stopping = False

    def runs(self, channel: str) -> bool:
        """Whether something is on its way on a channel."""
        return channel in self._running

    def progress_of(self, channel: str) -> Progress | None:
        """How far what runs on a channel is."""
        request = self._running.get(channel)
        return None if request is None else request.progress

    @property
    def busy(self) -> bool:
        return bool(self._running)

    def foremost(self) -> Progress | None:
        """The progress to show: of the oldest request that is not quiet."""
        for request in self._running.values():
            if not request.quiet:
                return request.progress or Progress("starting", 0.0, None)
        return None

    def close(self) -> None:
        self.stop_all()
        self._closed = True
        for pool in (self._pool, self._soon):
            pool.shutdown(wait=False, cancel_futures=True)
