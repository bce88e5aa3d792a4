"""Autosave and recovery: the work in hand survives a crash."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

from windfell.errors import WindfellError
from windfell.recipe.model import Project
from windfell.recipe.project_file import Masks, load_project, save_project
from windfell.recipe.written import running, written_whole


@dataclass(frozen=True)
class Recovered:
    """Work that a session which did not end well left behind."""

    project: Project
    masks: Masks
    path: str | None
    slot: Path


class Autosave:
    """One session's safety copy in a folder; it is removed when the session ends well."""

    def __init__(self, folder: Path) -> None:
        self._folder = Path(folder)
        self._folder.mkdir(parents=True, exist_ok=True)
        self._slot = self._folder / f"session-{os.getpid()}.windfell"
        self._lock = Lock()
        self.drops = 0

    def keep(self, project: Project, masks: Masks, path: str | None, drops: int | None = None) -> None:
        """Write the safety copy; `path` is the project's own file, if it has one.

        From another thread: nothing is written if, since `drops` was read, the copy was dropped.
        """
        with self._lock:
            if drops is not None and drops != self.drops:
                return
            save_project(self._slot, project, masks)
            note = self._slot.with_suffix(".json")
            with written_whole(note) as temporary:
                temporary.write_text(json.dumps({"path": path, "pid": os.getpid()}))

    def drop(self) -> None:
        """Remove this session's safety copy."""
        with self._lock:
            self.drops += 1
            forget(self._slot)


def abandoned(folder: Path) -> list[Recovered]:
    """Safety copies whose sessions are no longer running, the newest first."""
    found = []
    slots = sorted(Path(folder).glob("session-*.windfell"), key=os.path.getmtime, reverse=True)
    for slot in slots:
        digits = slot.stem.partition("-")[2]
        pid = int(digits) if digits.isdigit() else 0
        if running(pid):
            continue
        try:
            project, masks = load_project(slot)
            note = json.loads(slot.with_suffix(".json").read_text())
            found.append(Recovered(project, masks, note.get("path"), slot))
        except (WindfellError, OSError, ValueError):
            forget(slot)
    return found


def forget(slot: Path) -> None:
    """Remove a safety copy and its note."""
    slot.unlink(missing_ok=True)
    slot.with_suffix(".json").unlink(missing_ok=True)
