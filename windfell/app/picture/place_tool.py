"""What is in hand, placed on the picture: dragged anywhere it moves; by the handles of a ring it turns and grows."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QApplication

from windfell.app import theme
from windfell.app.picture.move_tool import MoveTool
from windfell.app.picture.tool import on_view

REACH, HANDLE = 13.0, 5.5
RING = 0.26
LEAST_OUT = 8.0
SOLID = Qt.PenStyle.SolidLine

Share = tuple[float, float]


class PlaceTool(MoveTool):
    """Besides `moved`: `turned(degrees clockwise, starts)` and `sized(factor, starts)` since the press. The ring
    stands about `middle` (a share of the picture; None: no ring), its handles turned by `angle` degrees.
    `origin`: the share where what it shows comes from. `shift`: whether that key was held when it was pressed.
    """

    turned = Signal(float, bool)
    sized = Signal(float, bool)
    hovers = True

    def __init__(self) -> None:
        super().__init__()
        self.middle: QPointF | None = None
        self.origin: QPointF | None = None
        self.angle, self.shift = 0.0, False
        self._held: str | None = None
        self._out = QPointF()
        self._turns, self._last = 0.0, 0.0

    def stand(self, middle: Share | None, origin: Share | None = None) -> None:
        """Stand the ring about a share of the picture; not where the picture has no place for it."""
        self.middle, self.origin = (None if p is None or not all(map(math.isfinite, p)) else QPointF(*p)
                                    for p in (middle, origin))

    def handle(self, name: str, rect: QRectF) -> QPointF:
        """Where a handle (`turn`, above, or `size`, to the right) lies in the view."""
        angle = math.radians(self.angle - (90 if name == "turn" else 0))
        radius = RING * min(rect.width(), rect.height())
        return on_view(self.middle, rect) + radius * QPointF(math.cos(angle), math.sin(angle))

    def _near(self, at: QPointF, rect: QRectF) -> str | None:
        if self.middle is None:
            return None
        spot = on_view(at, rect)
        for name in ("turn", "size"):
            off = spot - self.handle(name, rect)
            if math.hypot(off.x(), off.y()) <= REACH:
                return name
        return None

    def press(self, at: QPointF, rect: QRectF) -> bool:
        self._held = self._near(at, rect)
        self.shift = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
        if self._held is None:
            return super().press(at, rect)
        self._first, self._out = True, on_view(at, rect) - on_view(self.middle, rect)
        self._turns, self._last = 0.0, math.degrees(math.atan2(self._out.y(), self._out.x()))
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        if self._held is None:
            super().move(at, rect)
            return
        if self.middle is None:
            return
        out = on_view(at, rect) - on_view(self.middle, rect)
        if self._held == "turn":
            now = math.degrees(math.atan2(out.y(), out.x()))
            self._turns += (now - self._last + 180) % 360 - 180
            self._last = now
            self.turned.emit(self._turns, self._first)
        else:
            far, begun = (max(math.hypot(v.x(), v.y()), LEAST_OUT) for v in (out, self._out))
            self.sized.emit(far / begun, self._first)
        self._first = False

    def release(self, at: QPointF, rect: QRectF) -> None:
        self._held = None
        super().release(at, rect)

    def over(self, at: QPointF, rect: QRectF) -> Qt.CursorShape:
        return Qt.CursorShape.PointingHandCursor if self._near(at, rect) else self.cursor

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        if self.middle is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle, radius = on_view(self.middle, rect), RING * min(rect.width(), rect.height())
        turn, size = self.handle("turn", rect), self.handle("size", rect)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for name, width in (("sheet", 3.4), ("ink", 1.2)):
            painter.setPen(QPen(theme.colour(name, 170), width, Qt.PenStyle.DotLine if name == "ink" else SOLID))
            if self.origin is not None:
                origin = on_view(self.origin, rect)
                painter.drawLine(middle, origin)
                painter.drawEllipse(origin, HANDLE, HANDLE)
            painter.setPen(QPen(theme.colour(name, 170), width))
            painter.drawEllipse(middle, radius, radius)
            painter.drawLine(middle - QPointF(6, 0), middle + QPointF(6, 0))
            painter.drawLine(middle - QPointF(0, 6), middle + QPointF(0, 6))
        painter.setPen(QPen(theme.colour("ink"), 1.4))
        painter.setBrush(theme.colour("gorse"))
        painter.drawEllipse(turn, HANDLE, HANDLE)
        painter.drawRect(QRectF(size.x() - HANDLE, size.y() - HANDLE, 2 * HANDLE, 2 * HANDLE))
