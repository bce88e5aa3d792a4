"""Figures side by side, each a small cell; a press on one flies to where it is worst."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QGridLayout, QSizePolicy, QWidget

from windfell.app import theme


class Figure(QWidget):
    """A name and a value; `wrong` marks what an eye would notice."""

    pressed = Signal(str)

    def __init__(self, key: str, name: str, tip: str) -> None:
        super().__init__()
        self.key, self._name, self.value, self.wrong = key, name, "", False
        self.setToolTip(tip)
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(80, 25)

    def say(self, value: str, wrong: bool = False) -> None:
        if (value, wrong) != (self.value, self.wrong):
            self.value, self.wrong = value, wrong
            self.setAccessibleDescription(value + (", more than an eye overlooks" if wrong else ""))
            self.update()

    def mouseReleaseEvent(self, event) -> None:
        self.pressed.emit(self.key)

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.pressed.emit(self.key)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self.rect().adjusted(0, 0, -1, -1)
        p.setPen(QPen(theme.colour("tarn" if self.hasFocus() else "line"), 1))
        p.setBrush(theme.colour("sheet"))
        p.drawRoundedRect(box, 4, 4)
        p.setPen(theme.colour("quiet"))
        p.setFont(theme.words_font(8))
        p.drawText(box.adjusted(6, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, self._name)
        p.setPen(theme.colour("rowan" if self.wrong else "ink"))
        p.setFont(theme.numbers_font(9))
        words = ("! " if self.wrong else "") + self.value
        p.drawText(box.adjusted(4, 0, -5, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, words)


class Figures(QWidget):
    """A grid of them; `pressed(key)`."""

    pressed = Signal(str)

    def __init__(self, cells: tuple[tuple[str, str, str], ...], in_row: int) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self.cells: dict[str, Figure] = {}
        for n, (key, name, tip) in enumerate(cells):
            cell = Figure(key, name, tip)
            cell.pressed.connect(self.pressed)
            grid.addWidget(cell, n // in_row, n % in_row)
            self.cells[key] = cell
