"""Found edges over the picture: solid where straight, dashed where bent; a press on one picks it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF

from windfell.app import theme
from windfell.app.picture.tool import Tool, on_view
from windfell.engine.shape_marks import EdgeOnPicture

STRAIGHT_PCT = 0.5
NEAR = 9.0
SHOWN = 40


class EdgePicker(Tool):
    """`picked(edge)`. The edges are painted by `paint_edges`, whatever tool is in hand."""

    picked = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.edges: list[EdgeOnPicture] = []

    def _near(self, at: QPointF, rect: QRectF) -> EdgeOnPicture | None:
        best, least = None, NEAR
        for edge in self.edges[:SHOWN]:
            off = (edge.spots - [at.x(), at.y()]) * [rect.width(), rect.height()]
            a, run = off[:-1], np.diff(off, axis=0)
            t = np.clip(-(a * run).sum(1) / np.maximum((run * run).sum(1), 1e-9), 0, 1)[:, None]
            far = float(np.linalg.norm(a + t * run, axis=1).min())
            if far < least:
                best, least = edge, far
        return best

    def over(self, at: QPointF, rect: QRectF) -> Qt.CursorShape:
        return Qt.CursorShape.PointingHandCursor if self._near(at, rect) else Qt.CursorShape.ArrowCursor

    def press(self, at: QPointF, rect: QRectF) -> bool:
        edge = self._near(at, rect)
        if edge is not None:
            self.picked.emit(edge)
        return edge is not None

    def paint_edges(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """Draw the longest edges on the picture."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for edge in self.edges[:SHOWN]:
            line = QPolygonF([on_view(QPointF(*p), rect) for p in edge.spots])
            bent = edge.bend_pct > STRAIGHT_PCT
            painter.setPen(QPen(theme.colour("sheet", 200), 4))
            painter.drawPolyline(line)
            style = Qt.PenStyle.DashLine if bent else Qt.PenStyle.SolidLine
            painter.setPen(QPen(theme.colour("rowan" if bent else "moss"), 2, style))
            painter.drawPolyline(line)
