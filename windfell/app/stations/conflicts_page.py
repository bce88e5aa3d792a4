"""Subjects' conflicts: pairs of taken pieces that share a place, solved by order, by a cut, by dropping one."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QPushButton, QVBoxLayout, QWidget

from windfell.app.stations.station import Station

DEEDS = (
    ("first", "First in front", "The first of the pair before the second"),
    ("second", "Second in front", "The second before the first"),
    ("cut", "Cut between", "Each keeps its side of a line along which both frames look alike"),
    ("drop first", "Drop first", "Leave the first"), ("drop second", "Drop second", "Leave the second"))


class ConflictsPage(QWidget):
    """`asked(deed, first, second)`: what is to be done with a pair of pieces, by index; `pointed`: one of them."""

    asked = Signal(str, int, int)
    pointed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.pairs: list[tuple[int, int]] = []
        self.words = Station.quiet()
        self.list = QListWidget()
        self.list.setAccessibleName("Pairs that share a place")
        self.list.setToolTip("Pairs of pieces that share a place; a press flies there")
        self.list.currentRowChanged.connect(self._picked)
        self.buttons = {}
        row = QHBoxLayout()
        for deed, words, tip in DEEDS:
            button = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, d=deed: self._ask(d))
            self.buttons[deed] = button
            row.addWidget(button)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.list, 1)
        column.addLayout(row)

    def show_pairs(self, pairs: Sequence[tuple[int, int, str]]) -> None:
        """Pairs of pieces (index, index) in words."""
        found = [(a, b) for a, b, _ in pairs]
        words = [w for *_, w in pairs]
        if found != self.pairs or words != [self.list.item(n).text() for n in range(self.list.count())]:
            at = self.list.currentRow()
            self.pairs = found
            self.list.blockSignals(True)
            self.list.clear()
            self.list.addItems(words)
            self.list.setCurrentRow(min(max(at, 0), len(pairs) - 1))
            self.list.blockSignals(False)
        self.words.setText("Pieces taken that share a place: choose a pair and what is to be done with it." if pairs
                           else "No two of the pieces taken share a place.")
        for button in self.buttons.values():
            button.setEnabled(bool(pairs))

    def _picked(self, row: int) -> None:
        if 0 <= row < len(self.pairs):
            self.pointed.emit(self.pairs[row][0])

    def _ask(self, deed: str) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self.pairs):
            self.asked.emit(deed, *self.pairs[row])
