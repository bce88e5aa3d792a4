"""Undo and redo: the list of projects with the words that led from one to the next."""

from __future__ import annotations

from windfell.recipe.edits import Edit
from windfell.recipe.model import Project


class History:
    """Projects as they came to be. One step back gives the equal project back.

    `continues`: whether the last change went on with the one before, as while a control is dragged.
    """

    def __init__(self, project: Project) -> None:
        self._steps: list[Edit] = [Edit("", project)]
        self._at = 0
        self.continues = False

    @property
    def project(self) -> Project:
        return self._steps[self._at].project

    @property
    def undo_words(self) -> str | None:
        """What one step back would undo, or None at the start."""
        return self._steps[self._at].words if self._at else None

    @property
    def redo_words(self) -> str | None:
        return self._steps[self._at + 1].words if self._at + 1 < len(self._steps) else None

    def do(self, edit: Edit, starts_anew: bool = False) -> bool:
        """Take an edit; False if it changed nothing.

        An edit that continues the last one (the same `merge`, as while a control is
        dragged) takes its place, with words from where the drag began.
        """
        if edit.project == self.project:
            return False
        self.continues = False
        last = self._steps[self._at]
        del self._steps[self._at + 1 :]
        if edit.merge and edit.merge == last.merge and self._at and not starts_anew:
            self.continues = True
            self._steps[self._at] = Edit(_joined(last.words, edit.words), edit.project, edit.merge)
        else:
            self._steps.append(edit)
            self._at += 1
        return True

    def undo(self) -> None:
        self.continues = False
        self._at = max(0, self._at - 1)

    def redo(self) -> None:
        self.continues = False
        self._at = min(len(self._steps) - 1, self._at + 1)


def _joined(first: str, last: str) -> str:
    parts = []
    for a, b in zip(first.split(", "), last.split(", "), strict=False):
        parts.append(f"{a.rpartition(' to ')[0]} to {b.rpartition(' to ')[2]}")
    return ", ".join(parts) if len(parts) == len(last.split(", ")) else last
