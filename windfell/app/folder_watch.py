"""A watched folder: new frames become sets, made by a recipe and queued by themselves, while one shoots."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from windfell.app.export_queue import ExportQueue
from windfell.app.session import Session
from windfell.engine.applying import free_place
from windfell.engine.places import make_folder
from windfell.engine.proposals import propose
from windfell.engine.watching import Watched
from windfell.errors import WindfellError
from windfell.job import Cancelled, Job
from windfell.output.writers import WRITERS
from windfell.recipe.edits import Edit
from windfell.recipe.manners import Recipe, applied
from windfell.recipe.model import Project
from windfell.recipe.nesting import outermost

LOOK_MS, SETTLE_S = 1000, 20.0
MADE = "made"


@dataclass(frozen=True)
class Came:
    """Files that came and what they are proposed as."""

    files: tuple[str, ...]
    proposal: object = None


class FolderWatch(QObject):
    """Looks at a folder while it is on; `changed` when that was switched."""

    changed = Signal()

    def __init__(self, session: Session, queue: ExportQueue) -> None:
        super().__init__()
        self._session, self._queue = session, queue
        self._watched: Watched | None = None
        self.folder: Path | None = None
        self.recipe: Recipe | None = None
        self._timer = QTimer(self, interval=LOOK_MS)
        self._timer.timeout.connect(self._look)

    @property
    def on(self) -> bool:
        return self._watched is not None

    def begin(self, folder: str, recipe: Recipe | None = None, settle_s: float = SETTLE_S) -> None:
        """Watch a folder; sets that come are made by the recipe, if there is one, and queued."""
        self.folder, self.recipe = Path(folder), recipe
        self._watched = Watched(folder, settle_s)
        self._timer.start()
        how = f", made by {recipe.name} and written to {self.folder / MADE}" if recipe else ""
        self._session.say(f"Watching {folder}: what comes becomes sets{how}.", "good")
        self.changed.emit()

    def end(self) -> None:
        self._timer.stop()
        self._watched = None
        self._session.desk.drop("watch")
        self.changed.emit()

    def _look(self) -> None:
        watched, s = self._watched, self._session
        if watched is None or s.desk.runs("watch") or s.dragging:
            return
        first = len(s.project.sets) + 1

        def look(job: Job) -> Came:
            files = tuple(watched.look(time.monotonic()))
            try:
                return Came(files, propose(s.engine, files, job, first) if files else None)
            except Cancelled:
                watched.put_back(files)
                raise

        s.desk.ask("watch", look, self._came, self._gone, quiet=True)

    def _gone(self, sentence: str) -> None:
        self._session.say(sentence, "wrong")
        self.end()

    def _came(self, came: Came) -> None:
        if came.proposal is None or self.folder is None:
            return
        output = self._session.settings.output
        sets = tuple(replace(x, proposed=self.recipe is None, output=output) for x in came.proposal.sets)
        if sets:
            self._take(sets)
        for sentence in came.proposal.refused[:1]:
            self._session.say(sentence, "wrong")

    def _take(self, sets: Sequence) -> None:
        s = self._session
        project = replace(s.project, sets=(*s.project.sets, *sets))
        outer = [x.id for x in outermost(project) if x in sets]
        if self.recipe is not None:
            for one in outer:
                project = applied(project, one, self.recipe)
        many = "a set" if len(outer) == 1 else f"{len(outer)} sets"
        s.edit(Edit(f"{many} came into {self.folder.name}", project))
        s.select_set(outer[0])
        if self.recipe is not None:
            self._write(project, outer)

    def _write(self, project: Project, outer: Sequence[str]) -> None:
        place = self.folder / MADE
        try:
            make_folder(place)
        except WindfellError as error:
            self._session.say(str(error), "wrong")
            return
        for one in outer:
            own = project.set(one)
            path = free_place(place, own.name, WRITERS[str(own.output.format)].suffix)
            self._queue.add(project, one, own.output, path)
