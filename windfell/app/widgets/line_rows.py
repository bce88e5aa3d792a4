"""A line drawn on the picture as a row: what it is to be, how far it is off, its strength."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QToolButton, QWidget

from windfell.app import theme
from windfell.app.widgets.typed import typed_number


class LineRow(QWidget):
    """`strength_changed(number, percent)`, `removed(number)`."""

    strength_changed = Signal(int, float)
    removed = Signal(int)

    def __init__(self, number: int) -> None:
        super().__init__()
        self._number, self._strength = number, 100.0
        self.words, self.off = QLabel(""), QLabel("")
        self.words.setFixedWidth(84)
        self.off.setProperty("role", "quiet")
        self.off.setToolTip("How far it is off, in % of its length: before and after")
        self.field = QLineEdit()
        self.field.setFixedWidth(56)
        self.field.setFont(theme.numbers_font())
        self.field.setAccessibleName(f"Strength of line {number + 1} in per cent")
        self.field.setToolTip("How far the picture bends for it, in %")
        self.field.editingFinished.connect(self._typed)
        self.remove = QToolButton(text="Remove")
        self.remove.setAccessibleName(f"Remove line {number + 1}")
        self.remove.clicked.connect(lambda: self.removed.emit(self._number))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 4, 0)
        row.setSpacing(6)
        row.addWidget(self.words)
        row.addWidget(self.off, 1)
        row.addWidget(self.field)
        row.addWidget(self.remove)

    def show_line(self, kind: str, strength_pct: float) -> None:
        self.words.setText(f"{self._number + 1}  {kind}")
        self._strength = strength_pct
        self.field.setText(f"{strength_pct:g} %")

    def show_off(self, before: float, after: float) -> None:
        self.off.setText(f"{before:.1f} → {after:.1f} %")

    def _typed(self) -> None:
        typed = typed_number(self.field.text(), "%")
        value = self._strength if typed is None else min(max(typed, 0.0), 100.0)
        self.field.setText(f"{value:g} %")
        if value != self._strength:
            self._strength = value
            self.strength_changed.emit(self._number, value)
