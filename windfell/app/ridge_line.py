"""The ridge line: the set being worked on and its stages as stations on a line."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.widgets.kept import KeptPainting

TITLES = {
    "gather": "Gather", "prepare": "Prepare", "align": "Align", "shape": "Shape", "join": "Join",
    "combine": "Combine", "subjects": "Subjects", "finish": "Finish", "export": "Export",
}
STATES = {
    "far": "not reached yet", "made": "up to date", "anew": "being made again",
    "findings": "has findings",
}
HEIGHTS = (9, -4, 3, -7, 1, -3, 6)


class RidgeLine(QWidget):
    """Stations as marks on a ridge. A station's state shows by form:

    hollow circle not reached, filled circle up to date, half circle being made again,
    a cairn (triangle) with findings.
    """

    asked = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.stations: tuple[str, ...] = ()
        self.states: dict[str, str] = {}
        self.active = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Stations")
        self.setToolTip("The stations of the set in hand: a press, or its number key, opens one")
        self.setMouseTracking(True)
        self._hover = -1
        self._kept = KeptPainting(self)

    def sizeHint(self) -> QSize:
        return QSize(520, 60)

    def minimumSizeHint(self) -> QSize:
        return QSize(360, 60)

    def show_stations(self, stations: tuple[str, ...], active: str, states: dict[str, str]) -> None:
        if (stations, active, states) != (self.stations, self.active, self.states):
            self.stations, self.active, self.states = stations, active, states
            self.update()

    def _place(self, n: int) -> QPointF:
        step = min(130.0, (self.width() - 40) / max(1, len(self.stations)))
        return QPointF(20 + step * (n + 0.5), 23 + HEIGHTS[n % len(HEIGHTS)])

    def _at(self, x: float) -> int:
        step = min(130.0, (self.width() - 40) / max(1, len(self.stations)))
        n = int((x - 20) // step)
        return n if 0 <= n < len(self.stations) else -1

    def mousePressEvent(self, event) -> None:
        n = self._at(event.position().x())
        if n >= 0:
            self.asked.emit(self.stations[n])

    def mouseMoveEvent(self, event) -> None:
        n = self._at(event.position().x())
        if n != self._hover:
            self._hover = n
            if n >= 0:
                name = self.stations[n]
                state = STATES[self.states.get(name, "far")]
                self.setToolTip(f"{TITLES[name]} ({n + 1}): {state}")
            self.update()

    def leaveEvent(self, event) -> None:
        self._hover = -1
        self.update()

    def keyPressEvent(self, event) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(event.key())
        if step and self.active in self.stations:
            n = self.stations.index(self.active) + step
            if 0 <= n < len(self.stations):
                self.asked.emit(self.stations[n])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        if self.stations:
            states = tuple(self.states.get(n, "far") for n in self.stations)
            self._kept.show((tuple(self.stations), states, self.active, self._hover), self._paint)

    def _paint(self, p: QPainter) -> None:
        places = [self._place(n) for n in range(len(self.stations))]
        path = QPainterPath(QPointF(places[0].x() - 50, places[0].y() + 14))
        for place in places:
            path.lineTo(place)
        path.lineTo(QPointF(places[-1].x() + 50, places[-1].y() + 16))
        p.setPen(QPen(theme.colour("quiet"), 1.6, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap,
                      Qt.PenJoinStyle.RoundJoin))
        p.drawPath(path)
        for n, name in enumerate(self.stations):
            self._paint_station(p, n, name, places[n])
        if self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(theme.colour("tarn"), 2))
            p.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)

    def _paint_station(self, p: QPainter, n: int, name: str, at: QPointF) -> None:
        active, state = name == self.active, self.states.get(name, "far")
        radius = 8.0 if active else 6.5
        if active:
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(theme.colour("gorse", 70))
            p.drawEllipse(at, 14, 14)
        ring = theme.colour("gorse" if active else "rowan" if state == "findings" else "ink")
        p.setPen(QPen(ring, 2))
        p.setBrush(theme.colour("sheet"))
        if state == "findings":
            p.drawPolygon(QPolygonF([
                QPointF(at.x(), at.y() - radius - 2), QPointF(at.x() + radius + 2, at.y() + radius),
                QPointF(at.x() - radius - 2, at.y() + radius)]))
            p.drawLine(QPointF(at.x(), at.y() - 3), QPointF(at.x(), at.y() + 2))
        else:
            p.drawEllipse(at, radius, radius)
            p.setBrush(ring)
            inner = QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius).adjusted(3, 3, -3, -3)
            p.setPen(Qt.PenStyle.NoPen)
            if state == "made":
                p.drawEllipse(inner)
            elif state == "anew":
                p.drawPie(inner, 90 * 16, 180 * 16)
        p.setFont(theme.words_font(10, bold=active))
        p.setPen(theme.colour("ink" if active or n == self._hover else "quiet"))
        p.drawText(QRectF(at.x() - 60, 40, 120, 18), Qt.AlignmentFlag.AlignCenter, TITLES[name])
