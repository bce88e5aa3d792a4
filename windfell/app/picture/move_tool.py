"""A drag over the picture that moves what is in hand."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal

from windfell.app.picture.tool import Tool


class MoveTool(Tool):
    """A drag over the picture: `moved(right, down, starts)` in shares of it since the press, which was at `start`."""

    cursor = Qt.CursorShape.SizeAllCursor
    moved = Signal(float, float, bool)

    def __init__(self) -> None:
        super().__init__()
        self._from: QPointF | None = None
        self.start = QPointF()
        self._first = True

    def press(self, at: QPointF, rect: QRectF) -> bool:
        self._from, self._first, self.start = at, True, at
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        if self._from is not None:
            self.moved.emit(at.x() - self._from.x(), at.y() - self._from.y(), self._first)
            self._first = False

    def release(self, at: QPointF, rect: QRectF) -> None:
        self._from = None
