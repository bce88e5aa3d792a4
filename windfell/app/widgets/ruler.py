"""The ruler: a line with ticks and a number field; double click resets, arrow keys step."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.widgets.kept import KeptPainting
from windfell.app.widgets.typed import typed_number


class _Line(QWidget):
    """The ticked line with its mark."""

    moved = Signal(float, bool)

    def __init__(self, low: float, high: float, rest: float, step: float) -> None:
        super().__init__()
        self.low, self.high, self.rest, self.step = low, high, rest, step
        self.value = rest
        self.mark: float | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._first = True
        self._kept = KeptPainting(self)

    def sizeHint(self) -> QSize:
        return QSize(150, 30)

    def _x(self, value: float) -> float:
        return 9 + (value - self.low) / (self.high - self.low) * (self.width() - 18)

    def _value(self, x: float) -> float:
        t = np.clip((x - 9) / max(1, self.width() - 18), 0, 1)
        value = self.low + t * (self.high - self.low)
        return float(round(value / self.step) * self.step)

    def mousePressEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._first = True
            self._move_to(self._value(event.position().x()))

    def mouseMoveEvent(self, event) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._move_to(self._value(event.position().x()))

    def mouseDoubleClickEvent(self, event) -> None:
        self._first = True
        self._move_to(self.rest)

    def keyPressEvent(self, event) -> None:
        sizes = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_Up: 1,
                 Qt.Key.Key_PageDown: -10, Qt.Key.Key_PageUp: 10}
        if event.key() in sizes:
            self._first = not event.isAutoRepeat()
            self._move_to(self.value + sizes[event.key()] * self.step)
        elif event.key() == Qt.Key.Key_Home:
            self._first = True
            self._move_to(self.rest)
        else:
            super().keyPressEvent(event)

    def _move_to(self, value: float) -> None:
        value = float(np.clip(value, self.low, self.high))
        if value != self.value:
            self.value = value
            self.update()
            self.moved.emit(value, self._first)
            self._first = False

    def paintEvent(self, event) -> None:
        self._kept.show((self.value, self.rest, self.low, self.high, self.mark), self._paint)

    def _paint(self, p: QPainter) -> None:
        y = 12.0
        p.setPen(QPen(theme.colour("quiet"), 1))
        p.drawLine(QPointF(9, y), QPointF(self.width() - 9, y))
        for k in range(21):
            x = 9 + k / 20 * (self.width() - 18)
            p.drawLine(QPointF(x, y), QPointF(x, y + (9 if k % 5 == 0 else 4)))
        rest, at = self._x(self.rest), self._x(self.value)
        if self.mark is not None:
            p.setPen(QPen(theme.colour("moss"), 2))
            p.setBrush(theme.colour("moss"))
            x = self._x(self.mark)
            p.drawLine(QPointF(x, y), QPointF(x, y + 11))
            p.drawPolygon(QPolygonF([QPointF(x, y + 6), QPointF(x - 5, y + 14), QPointF(x + 5, y + 14)]))
        p.setPen(QPen(theme.colour("gorse"), 3))
        p.drawLine(QPointF(rest, y), QPointF(at, y))
        p.setPen(QPen(theme.colour("ink"), 1.2))
        p.setBrush(theme.colour("gorse"))
        p.drawPolygon(QPolygonF([QPointF(at, y + 3), QPointF(at - 6, y - 9), QPointF(at + 6, y - 9)]))
        if self.hasFocus():
            p.setPen(QPen(theme.colour("tarn"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)


class Ruler(QWidget):
    """A named number. `changed(value, starts)` with starts at the beginning of each gesture."""

    changed = Signal(float, bool)

    def __init__(
        self, name: str, low: float, high: float, rest: float, unit: str, step: float = 0.1,
        label_wide: int = 62,
    ) -> None:
        super().__init__()
        self._unit, self._digits = unit, max(0, round(-np.log10(step)))
        self._line = _Line(low, high, rest, step)
        self._line.setAccessibleName(name)
        self._line.moved.connect(self._moved)
        label = QLabel(name)
        label.setFixedWidth(label_wide)
        self._field = QLineEdit()
        self._field.setFixedWidth(78)
        self._field.setFont(theme.numbers_font())
        self._field.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._field.setAccessibleName(f"{name} in {unit}" if unit else name)
        self._field.editingFinished.connect(self._typed)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        for part in (label, self._line, self._field):
            layout.addWidget(part)
        self.setToolTip(f"{name}: {low:g} to {high:g} {unit}. Double click: back to {rest:g}")
        self._write()

    @property
    def value(self) -> float:
        return self._line.value

    def set_mark(self, value: float | None) -> None:
        """A value that is suggested, marked below the line."""
        if value != self._line.mark:
            self._line.mark = value
            self._line.update()

    def set_value(self, value: float) -> None:
        """Show a value without sending it."""
        if value != self._line.value:
            self._line.value = value
            self._line.update()
        self._write()

    def _write(self) -> None:
        gap = "" if self._unit == "°" else " "
        words = f"{self._line.value:.{self._digits}f}{gap}{self._unit}"
        if words != self._field.text():
            self._field.setText(words)

    def _moved(self, value: float, starts: bool) -> None:
        self._write()
        self.changed.emit(value, starts)

    def _typed(self) -> None:
        typed = typed_number(self._field.text(), self._unit) if self._unit else typed_number(self._field.text())
        if typed is None:
            self._write()
            return
        value = min(max(typed, self._line.low), self._line.high)
        if value != self._line.value:
            self._line.value = value
            self._line.update()
            self.changed.emit(value, True)
        self._write()
