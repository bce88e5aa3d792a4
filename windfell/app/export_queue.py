"""The queue: many sets and outputs written one after another."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from enum import StrEnum
from itertools import count
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from windfell.app.session import Session
from windfell.engine.export import Written, export
from windfell.job import Job
from windfell.recipe.model import Project
from windfell.recipe.output import Output
from windfell.recipe.project_file import Masks

CHANNEL, WRITING_STAGE = "queue", "making the full-size picture"


class State(StrEnum):
    WAITING = "waiting"
    WRITING = "writing"
    DONE = "written"
    FAILED = "failed"
    STOPPED = "stopped"


@dataclass
class Entry:
    """A set to be written to a place as an output says, as its project was when it was put here."""

    project: Project
    set_id: str
    path: Path
    number: int
    state: State = State.WAITING
    words: str = ""
    share: float = 0.0
    begun: float = 0.0
    seconds: float = 0.0
    left_s: float | None = None
    masks: Masks = field(default_factory=dict)

    @property
    def name(self) -> str:
        return self.project.set(self.set_id).name

    @property
    def remaining_s(self) -> float | None:
        """About how long it will still take, if that can be told."""
        return self.left_s if self.state is State.WRITING else None


class ExportQueue(QObject):
    """Writes one entry after the other while it is not held. `changed` when anything did; `ended`: how many are done,
    and how many are not.
    """

    changed = Signal()
    written = Signal(object)
    ended = Signal(int, int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.entries: list[Entry] = []
        self.held = False
        self._numbers = count(1)
        session.desk.progressed.connect(self.look)

    @property
    def running(self) -> Entry | None:
        return next((e for e in self.entries if e.state is State.WRITING), None)

    @property
    def waiting(self) -> list[Entry]:
        return [e for e in self.entries if e.state is State.WAITING]

    def add(self, project: Project, set_id: str, output: Output, path: Path) -> Entry:
        """Put an export at the end; it begins at once if nothing else is being written."""
        own = replace(project.set(set_id), output=output)
        entry = Entry(project.with_set(own), set_id, Path(path), next(self._numbers), masks=dict(
            self._session.engine.masks))
        self.entries.append(entry)
        self._next()
        return entry

    def hold(self, on: bool) -> None:
        """Begin nothing more, or go on. What is being written is finished."""
        self.held = on
        self._next()

    def remove(self, number: int) -> None:
        """Take an entry out; one that is being written is stopped, and nothing of it stays."""
        entry = next((e for e in self.entries if e.number == number), None)
        if entry is None:
            return
        if entry.state is State.WRITING:
            self._session.desk.drop(CHANNEL)
        self.entries.remove(entry)
        self._next()

    def again(self, number: int) -> None:
        """Let an entry that failed or was stopped wait once more."""
        for entry in self.entries:
            if entry.number == number and entry.state in (State.FAILED, State.STOPPED):
                entry.state, entry.words = State.WAITING, ""
        self._next()

    def clear_done(self) -> None:
        self.entries = [e for e in self.entries if e.state in (State.WAITING, State.WRITING)]
        self.changed.emit()

    def _next(self) -> None:
        if self.running is None and self.waiting and not self.held:
            self._begin(self.waiting[0])
        self.changed.emit()

    def _begin(self, entry: Entry) -> None:
        entry.state, entry.begun, entry.share = State.WRITING, time.monotonic(), 0.0
        engine = self._session.engine
        # another project may have been opened since
        engine.masks = {**entry.masks, **engine.masks}

        def work(job: Job) -> Written:
            return export(engine, entry.project, entry.set_id, entry.path, job)

        self._session.desk.ask(
            CHANNEL, work, lambda w: self._done(entry, w), lambda words: self._failed(entry, words),
            lambda: self._stopped(entry))

    def look(self) -> None:
        """Take up how far the export is."""
        entry, progress = self.running, self._session.desk.progress_of(CHANNEL)
        if entry is not None and progress is not None:
            writing = progress.stage == WRITING_STAGE
            entry.share, entry.left_s = (progress.fraction, progress.remaining_s) if writing else (entry.share, None)
            entry.words = progress.stage
            self.changed.emit()

    def _done(self, entry: Entry, written: Written) -> None:
        entry.words = ""
        entry.state, entry.share, entry.seconds = State.DONE, 1.0, time.monotonic() - entry.begun
        self.written.emit(written)
        self._after()

    def _failed(self, entry: Entry, words: str) -> None:
        entry.state, entry.words = State.FAILED, words
        self._after()

    def _stopped(self, entry: Entry) -> None:
        entry.state, entry.words = State.STOPPED, "Stopped; nothing was written."
        self.held = True
        self._after()

    def _after(self) -> None:
        self._next()
        if self.running is None and not self.waiting:
            good = sum(e.state is State.DONE for e in self.entries)
            self.ended.emit(good, len(self.entries) - good)
