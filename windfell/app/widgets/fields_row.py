"""A stack's darks and flats: how many there are, more of them chosen, none."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLabel, QPushButton, QWidget

from windfell.app.session import Session
from windfell.recipe.calibrating import FIELDS, field_words, with_fields, without_fields

TIPS = {"darks": "Frames taken with the lens covered: their mean is taken off each frame, in linear light",
        "flats": "Frames of an even field: each frame is divided by their mean, so that falloff and dust go"}


class FieldsRow(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.words = QLabel()
        self.more: dict[str, QPushButton] = {}
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.words, 1)
        for fields in FIELDS:
            button = QPushButton(f"{fields.capitalize()}…")
            button.setToolTip(TIPS[fields])
            button.clicked.connect(lambda _=False, f=fields: self._ask(f))
            self.more[fields] = button
            row.addWidget(button)
        self.none = QPushButton("None")
        self.none.setToolTip("Neither darks nor flats")
        self.none.clicked.connect(lambda: session.edit(without_fields(session.project, session.set_id), True))
        row.addWidget(self.none)

    def refresh(self) -> None:
        own = self.session.frame_set
        if own is None:
            return
        c = own.combining
        self.words.setText(field_words(len(c.darks), len(c.flats)) or "No darks, no flats")
        self.none.setEnabled(bool(c.darks or c.flats))

    def _ask(self, fields: str) -> None:
        paths, _ = QFileDialog.getOpenFileNames(self, fields.capitalize())
        if paths:
            self.use(fields, paths)

    def use(self, fields: str, paths: Sequence[str]) -> None:
        """More darks or flats for the set in hand."""
        s = self.session
        s.try_edit(lambda: with_fields(s.project, s.set_id, fields, paths))
