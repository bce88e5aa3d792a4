"""The frame of a crop on the picture: drawn anew, moved, pulled at its corners and sides."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPen

from windfell.app import theme
from windfell.app.picture.tool import Tool, on_view
from windfell.recipe.outline import Crop

REACH = 9.0
LEAST = 0.01
SHAPES = {
    "w": Qt.CursorShape.SizeHorCursor, "e": Qt.CursorShape.SizeHorCursor,
    "n": Qt.CursorShape.SizeVerCursor, "s": Qt.CursorShape.SizeVerCursor,
    "nw": Qt.CursorShape.SizeFDiagCursor, "se": Qt.CursorShape.SizeFDiagCursor,
    "ne": Qt.CursorShape.SizeBDiagCursor, "sw": Qt.CursorShape.SizeBDiagCursor, "in": Qt.CursorShape.SizeAllCursor,
}


class CropFrame(Tool):
    """`changed(crop, starts)` while it is moved. `ratio` (width to height, of the picture in px) holds its form."""

    changed = Signal(Crop, bool)
    ended = Signal(Crop)

    def __init__(self) -> None:
        super().__init__()
        self.box = QRectF(0, 0, 1, 1)
        self.ratio: float | None = None
        self.size = (1, 1)
        self._held: tuple[str, QPointF, QRectF] | None = None
        self._first = True

    def show_crop(self, crop: Crop | None, size: tuple[int, int], ratio: float | None) -> None:
        """The crop as the recipe has it, of a picture of `size` px."""
        self.size, self.ratio = size, ratio
        if self._held is None:
            c = crop or Crop()
            self.box = QRectF(c.left_pct / 100, c.top_pct / 100, c.width_pct / 100, c.height_pct / 100)

    def _part(self, at: QPointF, rect: QRectF) -> str:
        """What lies under the pointer: a corner, a side, the inside, or nothing."""
        b = QRectF(on_view(self.box.topLeft(), rect), on_view(self.box.bottomRight(), rect))
        p = on_view(at, rect)
        near = lambda v, w: abs(v - w) <= REACH  # noqa: E731
        within_x = b.left() - REACH <= p.x() <= b.right() + REACH
        within_y = b.top() - REACH <= p.y() <= b.bottom() + REACH
        rows = "n" if near(p.y(), b.top()) else "s" if near(p.y(), b.bottom()) else ""
        columns = "w" if near(p.x(), b.left()) else "e" if near(p.x(), b.right()) else ""
        if within_x and within_y and (rows or columns):
            return rows + columns
        return "in" if b.contains(p) else ""

    def over(self, at: QPointF, rect: QRectF) -> Qt.CursorShape:
        return SHAPES.get(self._part(at, rect), Qt.CursorShape.CrossCursor)

    def press(self, at: QPointF, rect: QRectF) -> bool:
        part = self._part(at, rect)
        if not part or (part == "in" and self.box == QRectF(0, 0, 1, 1)):
            self._held = "se", at, QRectF(at, at)
        else:
            self._held = part, at, QRectF(self.box)
        self._first = True
        return True

    def move(self, at: QPointF, rect: QRectF) -> None:
        if self._held is None:
            return
        part, start, box = self._held
        d = at - start
        if part == "in":
            new = box.translated(d)
        else:
            left, top = box.left() + d.x() * ("w" in part), box.top() + d.y() * ("n" in part)
            right, bottom = box.right() + d.x() * ("e" in part), box.bottom() + d.y() * ("s" in part)
            new = self._formed(QRectF(QPointF(left, top), QPointF(right, bottom)).normalized(), part)
        if new.width() < LEAST or new.height() < LEAST:
            return
        self.box = new
        self.changed.emit(self._crop(), self._first)
        self._first = False

    def _formed(self, box: QRectF, part: str) -> QRectF:
        """The box brought to the ratio, held at the side that is not pulled."""
        if self.ratio is None:
            return box
        ratio = self.ratio * self.size[1] / self.size[0]
        wide, tall = box.width(), box.height()
        if part in ("n", "s") or (len(part) == 2 and wide < tall * ratio):
            wide = tall * ratio
        else:
            tall = wide / ratio
        x = box.right() - wide if "w" in part else box.left()
        y = box.bottom() - tall if "n" in part else box.top()
        return QRectF(x, y, wide, tall)

    def release(self, at: QPointF, rect: QRectF) -> None:
        held, self._held = self._held, None
        if held is not None and not self._first:
            self.ended.emit(self._crop())

    def _crop(self) -> Crop:
        b = self.box
        return Crop(*(round(100 * v, 3) for v in (b.left(), b.top(), b.width(), b.height())))

    def paint(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        box = QRectF(on_view(self.box.topLeft(), rect), on_view(self.box.bottomRight(), rect))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        outside = QPainterPath()
        outside.addRect(rect.united(box))
        inside = QPainterPath()
        inside.addRect(box)
        painter.fillPath(outside - inside, theme.colour("ink", 120))
        painter.setPen(QPen(theme.colour("sheet", 130), 1))
        for k in (1 / 3, 2 / 3):
            x, y = box.left() + k * box.width(), box.top() + k * box.height()
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        painter.setPen(QPen(theme.colour("sheet", 90), 1, Qt.PenStyle.DotLine))
        painter.drawLine(box.topLeft(), box.bottomRight())
        painter.drawLine(box.topRight(), box.bottomLeft())
        painter.drawLine(QPointF(box.center().x(), box.top()), QPointF(box.center().x(), box.bottom()))
        painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        for name, width in (("ink", 4.0), ("gorse", 2.0)):
            painter.setPen(QPen(theme.colour(name), width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
        painter.setBrush(theme.colour("gorse"))
        painter.setPen(QPen(theme.colour("ink"), 1))
        for x in (box.left(), box.center().x(), box.right()):
            for y in (box.top(), box.center().y(), box.bottom()):
                if (x, y) != (box.center().x(), box.center().y()):
                    painter.drawRect(QRectF(x - 4, y - 4, 8, 8))
        words = f"{round(self.box.width() * self.size[0])} x {round(self.box.height() * self.size[1])} px"
        painter.setFont(theme.numbers_font(9.5))
        wide = painter.fontMetrics().horizontalAdvance(words) + 16
        tag = QRectF(box.center().x() - wide / 2, box.bottom() - 28, wide, 22)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("sheet", 230))
        painter.drawRoundedRect(tag, 5, 5)
        painter.setPen(theme.colour("ink"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)
