"""Looks: a finish kept under a name or as a file, used, taken to other sets."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QPushButton

from windfell.app.session import Session
from windfell.engine.folders import state_folder
from windfell.errors import WindfellError
from windfell.recipe import adjusting
from windfell.recipe.finishes import read_finish, without_masks, write_finish
from windfell.recipe.finishing import Adjustment, Finish
from windfell.recipe.kept import Kept


class LookButton(QPushButton):
    """Its menu holds all that can be done with the finish of the set in hand as a whole."""

    def __init__(self, session: Session, chosen: Callable[[], Adjustment | None]) -> None:
        """`chosen`: the adjustment in hand."""
        super().__init__("Look")
        self._session, self._chosen = session, chosen
        self.copied: Adjustment | None = None
        self.menu_of = QMenu(self)
        self.setMenu(self.menu_of)
        self.menu_of.aboutToShow.connect(self.fill)

    def fill(self) -> None:
        self.menu_of.clear()
        self.menu_of.addAction("Keep under a name…", self._ask_name)
        kept = self.looks.all()
        for name, finish in kept.items():
            self.menu_of.addAction(f"Use: {name}", lambda x=finish, w=name: self.use(x, w))
        forget = self.menu_of.addMenu("Forget")
        for name in kept:
            forget.addAction(name, lambda w=name: self.looks.drop(w))
        forget.setEnabled(bool(kept))
        self.menu_of.addSeparator()
        self.menu_of.addAction("Keep as a file…", self._ask_keep)
        self.menu_of.addAction("Use a file…", self._ask_use)
        self.menu_of.addSeparator()
        chosen = self._chosen()
        name = chosen.name if chosen and chosen.name else "the adjustment"
        self.menu_of.addAction(f"Copy {name}", self.copy).setEnabled(chosen is not None)
        said = f"Paste {self.copied.name or 'it'}" if self.copied else "Paste"
        self.menu_of.addAction(said, self.paste).setEnabled(self.copied is not None)
        others = [x for x in self._session.project.sets if x.id != self._session.set_id]
        only = self.menu_of.addMenu(f"Take {name} to")
        only.setEnabled(chosen is not None and bool(others))
        for one in others:
            only.addAction(one.name, lambda i=one.id: self.take_one([i]))
        if others:
            self.menu_of.addSeparator()
            self.menu_of.addAction("Take to all other sets", lambda: self.take_to([x.id for x in others]))
            for one in others:
                self.menu_of.addAction(f"Take to {one.name}", lambda i=one.id: self.take_to([i]))

    @property
    def looks(self) -> Kept[Finish]:
        return Kept(state_folder() / "looks.json", Finish)

    def _ask_name(self) -> None:
        name, ok = QInputDialog.getText(self, "Keep this look", "Its name:")
        if ok and name.strip():
            self.keep_look(name.strip())

    def keep_look(self, name: str) -> None:
        """Keep this finish under a name, without what belongs to this picture alone."""
        try:
            self.looks.keep(name, without_masks(self._session.frame_set.finish))
            self._session.say(f"Kept as {name}.", "good")
        except WindfellError as error:
            self._session.say(str(error), "wrong")

    def use(self, finish: Finish, name: str) -> None:
        s = self._session
        s.edit(adjusting.use_finish(s.project, [s.set_id], finish, f"use the look {name}"), True)

    def take_to(self, ids: list[str]) -> None:
        """This finish for other sets."""
        s = self._session
        s.edit(adjusting.use_finish(s.project, ids, s.frame_set.finish, f"finish for {len(ids)} sets"), True)

    def copy(self) -> None:
        """The adjustment in hand is kept to be pasted, here or at another set."""
        self.copied = self._chosen()
        self._session.say(f"{self.copied.name or 'The adjustment'} is copied; paste it at any set.", "quiet")

    def paste(self) -> None:
        s = self._session
        s.edit(adjusting.add_copies(s.project, [s.set_id], self.copied), True)

    def take_one(self, ids: list[str]) -> None:
        """The adjustment in hand for other sets, after theirs."""
        s = self._session
        s.edit(adjusting.add_copies(s.project, ids, self._chosen()), True)

    def _ask_keep(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Keep this finish as", "finish.json", "Finish (*.json)")
        if path:
            self.keep_as(Path(path))

    def keep_as(self, path: Path) -> None:
        try:
            write_finish(path, self._session.frame_set.finish)
            self._session.say(f"Kept: {path}.")
        except WindfellError as error:
            self._session.say(str(error), "wrong")

    def _ask_use(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Use a finish", "", "Finish (*.json)")
        if path:
            self.use_file(Path(path))

    def use_file(self, path: Path) -> None:
        s = self._session
        try:
            s.edit(adjusting.use_finish(s.project, [s.set_id], read_finish(path), f"finish by {path.name}"), True)
        except WindfellError as error:
            s.say(str(error), "wrong")
