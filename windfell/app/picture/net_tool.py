"""The net over the picture: nodes that are dragged, smooth between them; a double press puts one back."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF

from windfell.app import theme
from windfell.app.picture.tool import Tool, on_view

REACH = 12.0


class NetTool(Tool):
    """`moved(column, row, right, down, starts)`: a node dragged by so much of the picture since its press;
    `put_back(column, row)`.
    """

    moved = Signal(int, int, float, float, bool)
    put_back = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.places: np.ndarray | None = None
        self.changed_nodes: set[tuple[int, int]] = set()
        self._held: tuple[int, int, QPointF] | None = None
        self._first = True

    def show_places(self, places: np.ndarray, changed: set[tuple[int, int]]) -> None:
        """Where the nodes (rows, columns, 2) lie, in shares of the picture."""
        self.places, self.changed_nodes = places, changed

    def _near(self, at: QPointF, rect: QRectF) -> tuple[int, int] | None:
        if self.places is None:
            return None
        off = (self.places - [at.x(), at.y()]) * [rect.width(), rect.height()]
        far = np.hypot(off[..., 0], off[..., 1])
        row, column = np.unravel_index(int(np.argmin(far)), far.shape)
        return (int(column), int(row)) if far[row, column] <= REACH else None

    def over(self, at: QPointF, rect: QRectF) -> Qt.CursorShape:
        return Qt.CursorShape.SizeAllCursor if self._near(at, rect) else Qt.CursorShape.ArrowCursor

    def press(self, at: QPointF, rect: QRectF) -> bool:
        found = self._near(at, rect)
        if found is None:
            return False
        self._held, self._first = (*found, at), True
        return True

    def twice(self, at: QPointF, rect: QRectF) -> bool:
        """A double press: the node goes back to its place."""
        found = self._near(at, rect)
        if found is None:
            return False
        self.put_back.emit(*found)
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        if self._held is None:
            return
        column, row, start = self._held
        self.moved.emit(column, row, at.x() - start.x(), at.y() - start.y(), self._first)
        self._first = False

    def release(self, at: QPointF, rect: QRectF) -> None:
        self._held = None

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        if self.places is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        spots = [[on_view(QPointF(*p), rect) for p in row] for row in self.places]
        painter.setPen(QPen(theme.colour("sheet", 150), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for row in spots:
            painter.drawPolyline(QPolygonF(row))
        for column in zip(*spots, strict=True):
            painter.drawPolyline(QPolygonF(list(column)))
        for j, row in enumerate(spots):
            for i, p in enumerate(row):
                moved = (i, j) in self.changed_nodes
                painter.setPen(QPen(theme.colour("ink"), 1.2))
                painter.setBrush(theme.colour("gorse" if moved else "sheet"))
                side = 5.0 if moved else 4.0
                if moved:
                    painter.drawPolygon(QPolygonF([
                        p + QPointF(0, -side - 2), p + QPointF(side + 2, 0), p + QPointF(0, side + 2),
                        p + QPointF(-side - 2, 0)]))
                else:
                    painter.drawEllipse(p, side, side)
