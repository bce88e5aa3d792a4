"""Tools in hand over the picture: told of presses and moves in shares of the picture, they paint themselves on it."""

from __future__ import annotations

from itertools import pairwise

from PySide6.QtCore import QObject, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF

from windfell.app import theme

LEAST_STEP = 4.0
LEAST_PATH = 16.0


class Tool(QObject):
    """Base of the tools. `rect` is where the whole picture lies in the view, in its px. `hovers`: it paints something
    under the pointer. `pressure`: of a tablet's pen, 0..1.
    """

    cursor = Qt.CursorShape.CrossCursor
    hovers = False
    pressure: float | None = None

    def press(self, at: QPointF, rect: QRectF) -> bool:
        """A press at a share of the picture; False lets the view have it."""
        return False

    def move(self, at: QPointF, rect: QRectF) -> None:
        """The pointer moved while pressed."""

    def release(self, at: QPointF, rect: QRectF) -> None:
        """The press ended."""

    def wheel(self, steps: float) -> bool:
        """The wheel turned over the picture; False lets the view zoom."""
        return False

    def over(self, at: QPointF, rect: QRectF) -> Qt.CursorShape:
        """The pointer's form at a share of the picture."""
        return self.cursor

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """Draw on the picture."""


class Spot(Tool):
    """One press."""

    pressed = Signal(QPointF)

    def press(self, at: QPointF, rect: QRectF) -> bool:
        self.pressed.emit(at)
        return True


class Path(Tool):
    """A line drawn by hand, open or closed; `drawn` has its points."""

    drawn = Signal(list)

    def __init__(self, closed: bool = False) -> None:
        super().__init__()
        self._closed = closed
        self._points: list[QPointF] = []

    def press(self, at: QPointF, rect: QRectF) -> bool:
        self._points = [at]
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        if self._points:
            step = at - self._points[-1]
            if abs(step.x() * rect.width()) + abs(step.y() * rect.height()) >= LEAST_STEP:
                self._points.append(at)

    def release(self, at: QPointF, rect: QRectF) -> None:
        points, self._points = self._points, []
        long = sum(abs((b - a).x() * rect.width()) + abs((b - a).y() * rect.height()) for a, b in pairwise(points))
        if len(points) > 1 and long > LEAST_PATH:
            self.drawn.emit(points)

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        if len(self._points) < 2:
            return
        line = QPolygonF([on_view(p, rect) for p in self._points])
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for name, width in (("sheet", 4.4), ("gorse", 2.0)):
            painter.setPen(QPen(theme.colour(name), width))
            (painter.drawPolygon if self._closed else painter.drawPolyline)(line)


def on_view(share: QPointF, rect: QRectF) -> QPointF:
    """Where a share of the picture lies in the view."""
    return QPointF(rect.x() + share.x() * rect.width(), rect.y() + share.y() * rect.height())


class Box(Tool):
    """A rectangle drawn from corner to corner; `drawn` has it in shares of the picture."""

    drawn = Signal(QRectF)

    def __init__(self) -> None:
        super().__init__()
        self._from: QPointF | None = None
        self._to = QPointF()

    def press(self, at: QPointF, rect: QRectF) -> bool:
        self._from = self._to = at
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        self._to = at

    def release(self, at: QPointF, rect: QRectF) -> None:
        begun, self._from = self._from, None
        if begun is None:
            return
        box = QRectF(begun, at).normalized()
        if box.width() * rect.width() > LEAST_PATH / 2 and box.height() * rect.height() > LEAST_PATH / 2:
            self.drawn.emit(box)

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        if self._from is None:
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        box = QRectF(on_view(self._from, rect), on_view(self._to, rect)).normalized()
        for name, width in (("sheet", 3.4), ("gorse", 1.6)):
            painter.setPen(QPen(theme.colour(name), width))
            painter.drawRect(box)
