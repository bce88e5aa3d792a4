"""The session: the recipe in hand, its history, what is selected, what runs. One door for edits."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from windfell.app.screen import SCREEN
from windfell.app.work import Desk
from windfell.cache import total_memory_bytes
from windfell.engine.core import Engine
from windfell.engine.desktop_recents import told_desktop
from windfell.engine.folders import state_folder
from windfell.engine.proposals import propose
from windfell.engine.settings import Settings, read_or_shipped, write_settings
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.autosave import Autosave, abandoned, forget
from windfell.recipe.edits import Edit
from windfell.recipe.history import History
from windfell.recipe.model import FrameSet, Kind, Project
from windfell.recipe.project_file import SUFFIX, found_in, load_project, missing_files, save_project
from windfell.recipe.written import written_whole

AUTOSAVE_MS = 4000
REST_MS = 120
RECENT = 8
STATIONS = {
    Kind.PANORAMA: ("gather", "prepare", "align", "shape", "join", "finish", "export"),
    Kind.STACK: ("gather", "prepare", "align", "combine", "subjects", "finish", "export"),
}


class Session(QObject):
    """Views send edits here and listen to `changed`, `selected` and `station_changed`.

    `rested`: no edit came for a moment. What is slow waits for it, and gives way while the hand is `moving`.
    """

    changed = Signal()
    rested = Signal()
    selected = Signal()
    station_changed = Signal()
    said = Signal(str, str)
    set_up = Signal()

    def __init__(self, engine: Engine | None = None) -> None:
        super().__init__()
        self.settings, self.settings_fault = read_or_shipped()
        self.engine = engine or Engine.by_settings()
        self.desk = Desk()
        self.desk.failed.connect(lambda text: self.say(text, "wrong"))
        for deed in (self.changed, self.selected, self.station_changed):
            deed.connect(self.desk.hand_moves)
        self.history = History(Project())
        self.path: str | None = None
        self.station = "gather"
        self.set_id: str | None = None
        self.frame_id: str | None = None
        self._saved = self.history.project
        self._autosave = Autosave(state_folder() / "unsaved")
        self._timer = QTimer(self, singleShot=True, interval=AUTOSAVE_MS)
        self._timer.timeout.connect(self._keep_safe_aside)
        self._rest = QTimer(self, singleShot=True, interval=REST_MS)
        self._rest.timeout.connect(self.rested)

    @property
    def project(self) -> Project:
        return self.history.project

    @property
    def moving(self) -> bool:
        """Whether an edit came a moment ago, as while a control is dragged."""
        return self._rest.isActive()

    @property
    def dragging(self) -> bool:
        """Whether the hand goes on with what it began: of what is shown, most is as it was."""
        return self.moving and self.history.continues

    @property
    def frame_set(self) -> FrameSet | None:
        """The set being worked on, or None while there is none."""
        return next((s for s in self.project.sets if s.id == self.set_id), None)

    @property
    def unsaved(self) -> bool:
        return self.project != self._saved

    @property
    def stations(self) -> tuple[str, ...]:
        return STATIONS[self.frame_set.kind if self.frame_set else Kind.PANORAMA]

    def say(self, text: str, kind: str = "info") -> None:
        """A sentence for the status line; kind is info, good or wrong."""
        self.said.emit(text, kind)

    def use_settings(self, settings: Settings) -> bool:
        """Keep settings and act by them from now on."""
        if settings == self.settings:
            return True
        try:
            SCREEN.use(settings.screen_profile)
            write_settings(settings)
        except WindfellError as error:
            self.say(str(error), "wrong")
            return False
        self.settings = settings
        self.engine.cache.limit(settings.memory_bytes or total_memory_bytes() // 3)
        self.set_up.emit()
        return True

    def edit(self, edit: Edit, starts_anew: bool = False) -> None:
        if self.history.do(edit, starts_anew):
            self._after_change()

    def try_edit(self, make: Callable[[], Edit]) -> bool:
        """An edit that may be refused; the refusal is said where the user looks. Whether it was made."""
        try:
            self.edit(make())
        except WindfellError as error:
            self.say(str(error), "wrong")
            return False
        return True

    def change(self, path: str, value: object, starts_anew: bool = False) -> None:
        """Set one value of the set in hand."""
        if self.frame_set:
            self.edit(edits.set_values(self.project, self.set_id, {path: value}), starts_anew)

    def change_all(self, values: dict[str, object], starts_anew: bool = False) -> None:
        if self.frame_set:
            self.edit(edits.set_values(self.project, self.set_id, values), starts_anew)

    def undo(self) -> None:
        words = self.history.undo_words
        if words:
            self.history.undo()
            self._after_change()
            self.say(f"Undone: {words}")

    def redo(self) -> None:
        words = self.history.redo_words
        if words:
            self.history.redo()
            self._after_change()
            self.say(f"Done again: {words}")

    def _after_change(self) -> None:
        ids = [s.id for s in self.project.sets]
        if self.set_id not in ids:
            self.set_id = ids[0] if ids else None
        if self.frame_set is None or self.frame_id not in {f.id for f in self.frame_set.frames}:
            self.frame_id = None
        if self.station not in self.stations:
            self.station = "gather"
            self.station_changed.emit()
        self._timer.start()
        self._rest.start()
        self.changed.emit()

    def select_set(self, set_id: str) -> None:
        if set_id != self.set_id:
            self.set_id, self.frame_id = set_id, None
            if self.station not in self.stations:
                self.station = "shape" if "shape" in self.stations else "combine"
                self.station_changed.emit()
            self.selected.emit()
            self.changed.emit()

    def select_frame(self, frame_id: str | None) -> None:
        if frame_id != self.frame_id:
            self.frame_id = frame_id
            self.selected.emit()

    def go(self, station: str) -> None:
        if station in self.stations and station != self.station:
            self.station = station
            self.station_changed.emit()

    def add_files(self, paths: Sequence[str]) -> None:
        """Propose sets of dropped files in the background and add them."""
        first = len(self.project.sets) + 1
        self.desk.ask("gather", lambda job: propose(self.engine, paths, job, first), self._take_proposal)

    def _take_proposal(self, proposal) -> None:
        if proposal.sets:
            found = [replace(x, output=self.settings.output) for x in proposal.sets]
            self.edit(edits.add_sets(self.project, found))
            self.select_set(proposal.sets[0].id)
        for sentence in proposal.refused[:1]:
            more = len(proposal.refused) - 1
            self.say(sentence + (f" ({more} more could not be read.)" if more else ""), "wrong")

    def replace_all(self, project: Project, path: str | None, masks=None) -> None:
        """Begin with another project."""
        self.desk.stop_all()
        self.history = History(project)
        self._saved, self.path = project, path
        self.engine.masks = dict(masks or {})
        self.set_id = project.sets[0].id if project.sets else None
        self.frame_id = None
        self._after_change()
        self.selected.emit()

    def open_project(self, path: str) -> bool:
        try:
            project, masks = load_project(Path(path))
        except WindfellError as error:
            self.say(str(error), "wrong")
            return False
        self.replace_all(project, str(path), masks)
        self._remember(str(path))
        # on a network each look at a file takes a while
        self.desk.ask(
            "missing files", lambda _: missing_files(project), self._say_missing, lambda _: None, quiet=True)
        return True

    def point_to(self, folder: str) -> None:
        """Look for missing frames below a folder."""
        project = self.project

        def work(job: Job) -> tuple[Project, list[str]]:
            job.step("looking for the frames", 0.1)
            found = found_in(project, Path(folder))
            return found, missing_files(found)

        def done(answer: tuple[Project, list[str]]) -> None:
            found, gone = answer
            if self.project is project:
                self.edit(Edit("point to missing frames", found))
                self.say(f"{len(gone)} frames are still missing." if gone else "All frames are found.",
                         "wrong" if gone else "good")

        self.desk.ask("missing files", work, done)

    def _say_missing(self, gone: list[str]) -> None:
        if gone:
            self.say(
                f"{gone[0]}: the file is not there any more"
                + (f" ({len(gone)} files in all)" if len(gone) > 1 else "")
                + "; use \"Point to missing frames\" in the menu.", "wrong",
            )

    def save_to(self, path: str) -> bool:
        if not path.endswith(SUFFIX):
            path += SUFFIX
        try:
            save_project(Path(path), self.project, self.engine.masks)
        except WindfellError as error:
            self.say(str(error), "wrong")
            return False
        self.path, self._saved = path, self.project
        self._remember(path)
        self._autosave.drop()
        self.say(f"Saved to {path}", "good")
        self.changed.emit()
        return True

    def _keep_safe(self) -> None:
        if not self.unsaved:
            self._autosave.drop()
            return
        try:
            self._autosave.keep(self.project, self.engine.masks, self.path)
        except WindfellError as error:
            self.say(f"The safety copy could not be kept: {error}", "wrong")

    def _keep_safe_aside(self) -> None:
        """The safety copy written in the background; a large project takes a while."""
        if not self.unsaved:
            self._autosave.drop()
            return
        project, masks, path = self.project, dict(self.engine.masks), self.path
        drops = self._autosave.drops
        self.desk.ask(
            "safety copy", lambda job: self._autosave.keep(project, masks, path, drops), lambda _: None,
            lambda text: self.say(f"The safety copy could not be kept: {text}", "wrong"),
            stopped=self._timer.start, quiet=True)

    def recover(self) -> bool:
        """Take up work that a session which did not end well left behind."""
        found = abandoned(state_folder() / "unsaved")
        if not found:
            return False
        newest = found[0]
        self.replace_all(newest.project, newest.path, newest.masks)
        self._saved = Project()
        for old in found:
            forget(old.slot)
        self._keep_safe()
        self.say("The last session ended unexpectedly; its work is back as it was.", "good")
        return True

    def recent(self) -> list[str]:
        """Recently used project files that still exist, the newest first."""
        try:
            listed = json.loads((state_folder() / "recent.json").read_text())
        except (OSError, ValueError):
            return []
        return [p for p in listed if isinstance(p, str) and Path(p).is_file()]

    def _remember(self, path: str) -> None:
        path = str(Path(path).absolute())
        listed = [path, *[p for p in self.recent() if p != path]][:RECENT]
        try:
            with written_whole(state_folder() / "recent.json") as temporary:
                temporary.write_text(json.dumps(listed))
        except WindfellError as error:
            self.say(f"The list of recent projects could not be kept: {error}", "wrong")
        self.desk.ask("desktop's list", lambda job: told_desktop(path), lambda told: None, quiet=True)

    def close(self) -> None:
        """End well: nothing is left running, and no safety copy of saved work."""
        self._timer.stop()
        self._rest.stop()
        self.desk.close()
        if self.unsaved:
            self._keep_safe()
        else:
            self._autosave.drop()
