"""The bench below the picture: a station's controls and its instrument; folded, a thin row of what is needed most."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from windfell.app import theme
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice

CONTROLS_WIDE, HIGH, THIN_HIGH, GRIP_HIGH = 372, 236, 46, 7
FOLDS_BELOW, MOST_SHARE = 0.6, 0.7


class Grip(QWidget):
    """The bench's upper border: dragged it moves, pressed twice it folds."""

    dragged = Signal(int)
    pressed_twice = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(GRIP_HIGH)
        self.setCursor(Qt.CursorShape.SizeVerCursor)
        self.setToolTip("Drag to make the bench higher or lower; press twice to fold it")
        self._from: float | None = None

    def mousePressEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._from = event.position().y()

    def mouseMoveEvent(self, event) -> None:
        if self._from is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self.dragged.emit(round(self._from - event.position().y()))

    def mouseReleaseEvent(self, event) -> None:
        self._from = None

    def mouseDoubleClickEvent(self, event) -> None:
        self._from = None
        self.pressed_twice.emit()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(Qt.PenStyle.NoPen)
        p.fillRect(QRectF(0, 0, self.width(), 1), theme.colour("line"))
        p.setBrush(theme.colour("quiet" if self.underMouse() else "line"))
        p.drawRoundedRect(QRectF(self.width() / 2 - 22, 2.5, 44, 3), 1.5, 1.5)

    def enterEvent(self, event) -> None:
        self.update()

    def leaveEvent(self, event) -> None:
        self.update()


class Bench(QWidget):
    """`folded` shows just the thin rows. The same widgets stand in them, so that nothing is told twice."""

    fold_asked = Signal()

    def __init__(self, stations: Iterable[Station]) -> None:
        super().__init__()
        self.setObjectName("bench")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.folded = False
        self.high = HIGH
        self.controls, self.instruments, self.rows = QStackedWidget(), QStackedWidget(), QStackedWidget()
        self.controls.setFixedWidth(CONTROLS_WIDE)
        self._thin: dict[str, QHBoxLayout] = {}
        self._stations = {s.name: s for s in stations}
        self._stand_ins: list[tuple[QWidget, QWidget]] = []
        for station in self._stations.values():
            self.controls.addWidget(station.controls)
            self.instruments.addWidget(station.instrument)
            self.rows.addWidget(self._row(station))
        self._whole = QWidget()
        row = QHBoxLayout(self._whole)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.controls)
        row.addWidget(self.instruments, 1)
        self.grip = Grip()
        self.grip.dragged.connect(self._drag)
        self.grip.pressed_twice.connect(self.fold_asked)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.grip)
        column.addWidget(self._whole, 1)
        column.addWidget(self.rows)
        self.rows.hide()
        self.setFixedHeight(HIGH)

    def _row(self, station: Station) -> QWidget:
        page = QWidget()
        row = QHBoxLayout(page)
        row.setContentsMargins(16, 0, 12, 4)
        row.setSpacing(14)
        row.addWidget(Station.title(station.name.title()))
        inner = QHBoxLayout()
        inner.setSpacing(14)
        row.addLayout(inner, 1)
        unfold = QToolButton(text="Unfold")
        unfold.setToolTip("The whole bench again (Shift+F4)")
        unfold.setProperty("bare", True)
        unfold.clicked.connect(self.fold_asked)
        row.addWidget(unfold)
        self._thin[station.name] = inner
        return page

    def show_station(self, station: Station) -> None:
        self.controls.setCurrentWidget(station.controls)
        self.instruments.setCurrentWidget(station.instrument)
        self.rows.setCurrentIndex(self.controls.currentIndex())

    def fold(self, on: bool) -> None:
        """Leave just the thin row, or bring everything back."""
        if on == self.folded:
            return
        self.folded = on
        for station in self._stations.values():
            if on:
                self._take(station)
        if not on:
            self._give_back()
        self._whole.setVisible(not on)
        self.rows.setVisible(on)
        self.setFixedHeight(THIN_HIGH + GRIP_HIGH if on else self.high)

    def _take(self, station: Station) -> None:
        for widget in station.needed:
            stand_in = QWidget()
            widget.parentWidget().layout().replaceWidget(widget, stand_in)
            self._thin[station.name].addWidget(widget, int(_grows(widget)))
            self._stand_ins.append((widget, stand_in))
            if isinstance(widget, Choice):
                widget.spread(True)
        self._thin[station.name].addStretch(0)

    def _give_back(self) -> None:
        for widget, stand_in in self._stand_ins:
            stand_in.parentWidget().layout().replaceWidget(stand_in, widget)
            stand_in.deleteLater()
            if isinstance(widget, Choice):
                widget.spread(False)
        self._stand_ins = []
        for inner in self._thin.values():
            while inner.count():
                inner.takeAt(0)

    def _drag(self, up: int) -> None:
        wanted = self.height() + up
        if self.folded != (wanted < FOLDS_BELOW * HIGH):
            self.fold_asked.emit()
        if not self.folded:
            self.high = int(min(max(wanted, HIGH), MOST_SHARE * self.window().height()))
            self.setFixedHeight(self.high)


def _grows(widget: QWidget) -> bool:
    """Whether a widget uses all the width it gets."""
    ways = widget.sizePolicy().expandingDirections()
    if widget.layout() is not None:
        ways |= widget.layout().expandingDirections()
    return bool(ways & Qt.Orientation.Horizontal)
