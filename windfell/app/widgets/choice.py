"""A choice among a few words, as a row of buttons of which one is pressed."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QGridLayout, QLabel, QPushButton, QWidget


class Choice(QWidget):
    """`picked(value)` when another is chosen. Options are (value, words, tooltip)."""

    picked = Signal(str)

    def __init__(self, name: str, options: Sequence[tuple[str, str, str]], in_row: int = 0) -> None:
        """`in_row`: so many buttons in a row, the rest below; 0: all in one."""
        super().__init__()
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        if name:
            label = QLabel(name)
            label.setFixedWidth(62)
            layout.addWidget(label, 0, 0)
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QPushButton] = {}
        self._in_row = in_row or len(options)
        for value, words, tip in options:
            button = QPushButton(words, checkable=True)
            button.setToolTip(tip)
            button.setAccessibleName(f"{name} {words}".strip())
            button.clicked.connect(lambda _=False, v=value: self.picked.emit(v))
            self._group.addButton(button)
            self._buttons[value] = button
        self.spread(False)
        layout.setColumnStretch(1 + len(options), 1)

    def spread(self, on: bool) -> None:
        """All in one row, or in as many as it was made with."""
        for n, button in enumerate(self._buttons.values()):
            row, column = divmod(n, len(self._buttons) if on else self._in_row)
            self.layout().addWidget(button, row, 1 + column)

    def set_value(self, value: str) -> None:
        """Show a value without sending it."""
        if value in self._buttons:
            self._buttons[value].setChecked(True)

    def set_enabled(self, value: str, on: bool) -> None:
        self._buttons[value].setEnabled(on)

    def set_shown(self, value: str, on: bool) -> None:
        """Whether a choice is offered at all."""
        self._buttons[value].setVisible(on)

    def press(self, value: str) -> None:
        self._buttons[value].click()
