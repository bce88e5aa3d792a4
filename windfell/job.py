"""Long work: how far it is, how long yet, and the way to stop it."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")

CORES = max(1, len(os.sched_getaffinity(0)))
REPORT_EVERY_S = 0.1
SEAT_WAIT_S, PATIENT_S = 0.3, 1.0


class Cancelled(Exception):
    """The work was told to stop; whatever it had is thrown away."""


@dataclass(frozen=True)
class Progress:
    """Where the work stands: the stage in words, its fraction 0..1, seconds left or None."""

    stage: str
    fraction: float
    remaining_s: float | None


class Seats:
    """How many threads of several jobs compute at once. Of many threads on few cores, the one that holds the
    interpreter waits for a core, and a window that wants to paint waits for it.

    Nobody waits longer than `wait` seconds for a seat, or `patient` if few are for what is patient: the one who sits
    may be waiting for what this one makes.
    """

    def __init__(self, count: int = CORES, wait: float = SEAT_WAIT_S, patient: float = PATIENT_S) -> None:
        self._count, self._for_patient, self._sitting = count, count, 0
        self._wait, self._patient = wait, patient
        self._changed = threading.Condition()

    def use(self, count: int, for_patient: int | None = None) -> None:
        """So many seats from now on, so many of them (all) for patient work; nobody is made to stand up."""
        with self._changed:
            self._count, self._for_patient = count, count if for_patient is None else for_patient
            self._changed.notify_all()

    @contextmanager
    def taken(self, patient: bool = False) -> Iterator[None]:
        """On a seat, or without one after a while."""
        with self._changed:
            few = patient and self._for_patient < self._count
            seated = self._changed.wait_for(
                lambda: self._sitting < (self._for_patient if patient else self._count),
                self._patient if few else self._wait)
            self._sitting += seated
        try:
            yield
        finally:
            with self._changed:
                self._sitting -= seated
                self._changed.notify()


class Job:
    """One piece of long work, watched by whoever asked for it.

    The report is called from the working thread, at most ten times a second. The items of a job's streams share
    `seats` with those of other jobs, if given; it is `patient` if others go first while a hand moves.
    """

    def __init__(
        self, report: Callable[[Progress], None] | None = None, seats: Seats | None = None, patient: bool = False,
    ) -> None:
        self._report_to = report
        self._seats, self._patient = seats, patient
        self._stop = threading.Event()
        self._stage = ""
        self._stage_start = 0.0
        self._last_report = 0.0
        self._idle: list[ThreadPoolExecutor] = []

    def stop(self) -> None:
        """Ask the work to end; it raises Cancelled at its next step."""
        self._stop.set()

    @property
    def stopped(self) -> bool:
        return self._stop.is_set()

    def check(self) -> None:
        """Raises Cancelled if the work was told to stop."""
        if self._stop.is_set():
            raise Cancelled(self._stage)

    def step(self, stage: str, fraction: float) -> None:
        """Say how far a stage is; raises Cancelled if told to stop."""
        self.check()
        now = time.monotonic()
        if stage != self._stage:
            self._stage, self._stage_start, self._last_report = stage, now, 0.0
        if self._report_to is None or now - self._last_report < REPORT_EVERY_S:
            return
        self._last_report = now
        spent = now - self._stage_start
        left = spent * (1.0 - fraction) / fraction if fraction > 0.05 else None
        self._report_to(Progress(stage, fraction, left))

    def over(self, items: Sequence[T], stage: str) -> Iterator[T]:
        """The items one by one, reported as they go by."""
        for n, item in enumerate(items):
            self.step(stage, n / len(items))
            yield item

    def map(self, work: Callable[[T], R], items: Sequence[T], stage: str) -> list[R]:
        """Results of `work` for every item, in order, computed on threads.

        Told to stop, it raises Cancelled within a twentieth of a second even if a
        worker is still inside its last item; that item's result is dropped.
        """
        results: dict[int, R] = {}
        for n, result in self.stream(work, items, stage, ordered=False):
            results[n] = result
        return [results[n] for n in range(len(items))]

    def beside(self, work: Callable[[T], object], items: Iterable[T]) -> None:
        """Begin work whose results are kept elsewhere, on a thread of its own; nobody waits for it.

        It ends early when the job is told to stop, or when an item cannot be worked on: who needs it will hear.
        """
        def all_of_them() -> None:
            for item in items:
                if self._stop.is_set():
                    return
                work(item)

        pool = ThreadPoolExecutor(max_workers=1)
        pool.submit(all_of_them)
        pool.shutdown(wait=False)

    def stream(
        self, work: Callable[[T], R], items: Sequence[T], stage: str, ordered: bool = True, total: int | None = None,
    ) -> Iterator[tuple[int, R]]:
        """(index, result) as threads finish; in order, few ahead, if `ordered`.

        Whoever iterates may add items meanwhile, up to `total` if that is to be told of the progress.
        """
        try:
            pool = self._idle.pop()
        except IndexError:
            pool = ThreadPoolExecutor(max_workers=CORES)
        try:
            yield from self._stream(pool, work, items, stage, ordered, total)
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            raise
        # starting threads takes a while: the next stage has these; they end with the job
        self._idle.append(pool)

    def _one(self, work: Callable[[T], R], item: T) -> R:
        if self._seats is None:
            return work(item)
        with self._seats.taken(self._patient):
            self.check()
            return work(item)

    def _stream(self, pool, work, items, stage, ordered, total):
        pending, ready, sent, given = {}, {}, 0, 0
        while given < len(items):
            while sent < len(items) and len(pending) + len(ready) < CORES + 2:
                pending[pool.submit(self._one, work, items[sent])] = sent
                sent += 1
            self.step(stage, given / (total or len(items)))
            done, _ = wait(pending, timeout=0.05, return_when=FIRST_COMPLETED)
            for future in done:
                ready[pending.pop(future)] = future.result()
            while ready and (not ordered or given in ready):
                n = given if ordered else next(iter(ready))
                given += 1
                yield n, ready.pop(n)
