"""Drawing an area on the picture: brush, outline, gradient, ellipse, strokes that find a thing, spots to read."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QApplication

from windfell.app import theme
from windfell.app.picture.tool import Tool, on_view

LEAST_STEP = 3.0
LEAST_DRAG = 6.0
SMALLEST, LARGEST = 4.0, 600.0
KINDS = (
    ("brush", "Brush", "Paint; Shift goes straight from the last spot, Ctrl takes away, Ctrl and wheel size it"),
    ("outline", "Outline", "Draw around what belongs to it"),
    ("gradient", "Gradient", "Drag from where it holds wholly to where it ends"),
    ("ellipse", "Ellipse", "Drag from the middle outwards"),
    ("find", "Find", "A rough stroke finds the thing; Ctrl: what is not it"),
    ("bright", "As bright", "Press on a brightness: only where the picture is as bright"),
    ("hue", "As coloured", "Press on a colour: only where the picture has that hue"))
PATHS = ("brush", "outline", "find")


@dataclass(frozen=True)
class Drawn:
    """What a hand drew: its kind, points in shares of the picture, the pressure at each, whether it takes away."""

    kind: str
    points: tuple[tuple[float, float], ...]
    pressure: tuple[float, ...]
    takes: bool


class AreaTool(Tool):
    """`made` has what was drawn, `resized` the brush's new size in px of the screen."""

    made = Signal(Drawn)
    resized = Signal(float)
    hovers = True

    def __init__(self) -> None:
        super().__init__()
        self.kind, self.takes = "brush", False
        self.size, self.softness = 60.0, 50.0
        self.colour = QColor("#c98a00")
        self.pressure: float | None = None
        self.veil: QImage | None = None
        self.alone = False
        self._points: list[QPointF] = []
        self._pressures: list[float] = []
        self._last: QPointF | None = None
        self._at: QPointF | None = None
        self._away = False
        self._waiting: tuple[str, list[QPointF], bool] | None = None

    def press(self, at: QPointF, rect: QRectF) -> bool:
        keys = QApplication.keyboardModifiers()
        self._away = self.takes != bool(keys & Qt.KeyboardModifier.ControlModifier)
        straight = self.kind == "brush" and self._last is not None and bool(keys & Qt.KeyboardModifier.ShiftModifier)
        self._points = [self._last, at] if straight else [at]
        self._pressures = [self.pressure if self.pressure is not None else 1.0] * len(self._points)
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        self._at = at
        if not self._points:
            return
        if self.kind not in PATHS:
            self._points = [self._points[0], at]
            return
        step = at - self._points[-1]
        if abs(step.x() * rect.width()) + abs(step.y() * rect.height()) >= LEAST_STEP:
            self._points.append(at)
            self._pressures.append(self.pressure if self.pressure is not None else 1.0)

    def release(self, at: QPointF, rect: QRectF) -> None:
        points, self._points = self._points, []
        if not points:
            return
        first, last = points[0], points[-1]
        run = abs((last - first).x() * rect.width()) + abs((last - first).y() * rect.height())
        if self.kind in ("gradient", "ellipse") and run < LEAST_DRAG:
            return
        if self.kind == "outline" and len(points) < 3:
            return
        self._last = last
        pressed = self._pressures if min(self._pressures, default=1.0) < 1 else []
        self._waiting = self.kind, points, self._away
        self.made.emit(Drawn(self.kind, tuple((p.x(), p.y()) for p in points), tuple(pressed), self._away))

    def over(self, at: QPointF, rect: QRectF) -> Qt.CursorShape:
        self._at = at
        return Qt.CursorShape.BlankCursor if self.kind == "brush" else Qt.CursorShape.CrossCursor

    def wheel(self, steps: float) -> bool:
        """Ctrl and the wheel size the brush; else the view has it."""
        if not QApplication.keyboardModifiers() & Qt.KeyboardModifier.ControlModifier:
            return False
        self.size = min(max(self.size * 1.15**steps, SMALLEST), LARGEST)
        self.resized.emit(self.size)
        return True

    def show_veil(self, veil: QImage | None) -> None:
        """The area as it is on the picture; what was just drawn is in it."""
        self.veil, self._waiting = veil, None

    def forget(self) -> None:
        """What was drawn before is of another area."""
        self._points, self._last, self._waiting, self.veil = [], None, None, None

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.veil is not None:
            painter.drawImage(rect, self.veil)
        if self._waiting is not None:
            self._paint_drawn(painter, rect, *self._waiting)
        if self._points:
            self._paint_drawn(painter, rect, self.kind, self._points, self._away)
        if self._at is not None and self.kind in ("brush", "find"):
            self._paint_brush(painter, on_view(self._at, rect))

    def _paint_drawn(self, painter: QPainter, rect: QRectF, kind: str, points: list[QPointF], away: bool) -> None:
        spots = QPolygonF([on_view(p, rect) for p in points])
        colour = QColor("#000000" if away else self.colour)
        colour.setAlpha(110)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if kind in ("brush", "find"):
            width = self.size if kind == "brush" else max(6.0, self.size / 4)
            pen = QPen(colour, width * (1 - self.softness / 200), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap,
                       Qt.PenJoinStyle.RoundJoin)
            painter.setPen(pen)
            painter.drawPolyline(spots) if len(points) > 1 else painter.drawPoint(spots[0])
            return
        for name, width in (("sheet", 4.0), ("ink", 1.6)):
            painter.setPen(QPen(theme.colour(name), width))
            if kind == "outline":
                painter.drawPolygon(spots)
            elif kind == "gradient" and len(points) > 1:
                self._paint_gradient(painter, spots[0], spots[-1])
            elif kind == "ellipse" and len(points) > 1:
                out = spots[-1] - spots[0]
                painter.drawEllipse(spots[0], abs(out.x()), abs(out.y()))

    @staticmethod
    def _paint_gradient(painter: QPainter, a: QPointF, b: QPointF) -> None:
        way = b - a
        across = QPointF(-way.y(), way.x())
        painter.drawLine(a, b)
        painter.drawLine(a - 2 * across, a + 2 * across)
        painter.drawLine(b - 2 * across, b + 2 * across)

    def _paint_brush(self, painter: QPainter, at: QPointF) -> None:
        """The brush's rim, and within it where it is whole."""
        radius = self.size / 2 if self.kind == "brush" else max(3.0, self.size / 8)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for name, width in (("ink", 3.0), ("sheet", 1.2)):
            painter.setPen(QPen(theme.colour(name), width))
            painter.drawEllipse(at, radius, radius)
        inner = radius * (1 - self.softness / 100)
        if self.kind == "brush" and 3 < inner < radius - 2:
            painter.setPen(QPen(theme.colour("sheet"), 1, Qt.PenStyle.DotLine))
            painter.drawEllipse(at, inner, inner)
        away = self.takes != bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ControlModifier)
        painter.setPen(QPen(theme.colour("sheet"), 1.6))
        painter.drawLine(at - QPointF(4, 0), at + QPointF(4, 0))
        if not away:
            painter.drawLine(at - QPointF(0, 4), at + QPointF(0, 4))
