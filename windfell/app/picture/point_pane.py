"""One of two frames side by side: control points, lines and ignored areas drawn on it, tools that draw them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QImage, QPainter, QPainterPath, QPen, QPolygonF

from windfell.app import theme
from windfell.app.picture.source import PictureSource
from windfell.app.picture.view import PictureView
from windfell.app.screen import SCREEN

FAIR_PX, POOR_PX = 1.0, 3.0
GRAB = 7.0
CROWD = 120
LOUPE, LOUPE_TIMES = 92.0, 4.0


@dataclass(frozen=True)
class Mark:
    """A control point on this frame: px of its full size, its error, made by hand or not, its row in the list."""

    x: float
    y: float
    error: float
    by_hand: bool
    row: int


def mark_form(error: float, by_hand: bool) -> tuple[str, str]:
    """(form, colour name): a circle is good, a diamond fair, a cross poor; by hand they are filled."""
    if error <= FAIR_PX:
        return "circle", "moss"
    return ("diamond", "gorse") if error <= POOR_PX else ("cross", "rowan")


class PointPane(PictureView):
    """`tool`: "points", "level", "upright", "straight", or "ignore", when the view's tool has the picture. Places go
    out in px of the full size.
    """

    clicked = Signal(float, float)
    chosen = Signal(int)
    dragged = Signal(int, float, float, bool)
    lined = Signal(list)
    hovered = Signal(float, float)
    line_chosen = Signal(int)

    def __init__(self, source: PictureSource, before: PictureSource) -> None:
        super().__init__(source, before)
        self.marks: list[Mark] = []
        self.row: int | None = None
        self.lines: list[tuple[str, list[tuple[float, float]], str]] = []
        self.line: int | None = None
        self.ignored: QImage | None = None
        self.tool = "points"
        self.pending: tuple[float, float] | None = None
        self.loupe_at: tuple[float, float] | None = None
        self._stroke: list[tuple[float, float]] = []
        self._grabbed: int | None = None
        self._pressed: QPointF | None = None
        self._wish: tuple[float, float, str] | None = None
        source.arrived.connect(self._follow_wish)
        self.overlay = self._paint_over

    def to_px(self, at: QPointF) -> tuple[float, float] | None:
        """The frame's px under a place of the view, or None beyond the frame."""
        rect, shown = self.picture_rect(), self.source.shown
        if shown is None or rect.isEmpty() or not rect.contains(at):
            return None
        return ((at.x() - rect.x()) / rect.width() * shown.width - 0.5,
                (at.y() - rect.y()) / rect.height() * shown.height - 0.5)

    def to_view(self, x: float, y: float, rect: QRectF | None = None) -> QPointF:
        """The place of a px of the frame; `rect`: the picture's, if it is known."""
        rect, shown = rect or self.picture_rect(), self.source.shown
        return QPointF(rect.x() + (x + 0.5) / shown.width * rect.width(),
                       rect.y() + (y + 0.5) / shown.height * rect.height())

    def centre_on(self, x: float, y: float, set_id: str) -> None:
        """Look at a px of a set's picture at a scale at which it can be judged, as soon as it is there."""
        self._wish = x, y, set_id
        self._follow_wish()

    def _follow_wish(self) -> None:
        shown = self.source.shown
        if self._wish is None or shown is None or shown.set_id != self._wish[2]:
            return
        x, y, _ = self._wish
        self._wish = None
        zoom = max(self.zoom, min(1.0, 3 * self.fit_zoom))
        self.look_at((x + 0.5) / shown.width, (y + 0.5) / shown.height, zoom)

    def mousePressEvent(self, event) -> None:
        at = self.to_px(event.position())
        if event.button() != Qt.MouseButton.LeftButton or at is None or self.tool == "ignore":
            super().mousePressEvent(event)
            return
        self._pressed = event.position()
        if self.tool == "straight":
            self._stroke.append(at)
            self.update()
            return
        if self.tool != "points":
            self._stroke = [at]
            return
        self._grabbed = self._nearest(event.position())
        if self._grabbed is None:
            super().mousePressEvent(event)
        else:
            self.chosen.emit(self._grabbed)

    def _nearest(self, at: QPointF) -> int | None:
        best, distance = None, GRAB
        for mark in self.marks:
            offset = self.to_view(mark.x, mark.y) - at
            d = float(np.hypot(offset.x(), offset.y()))
            if d < distance:
                best, distance = mark.row, d
        return best

    def mouseMoveEvent(self, event) -> None:
        at = self.to_px(event.position())
        if at is not None:
            self.hovered.emit(*at)
        pressed = bool(event.buttons() & Qt.MouseButton.LeftButton)
        if pressed and self._grabbed is not None and at is not None:
            self.dragged.emit(self._grabbed, *at, False)
        elif pressed and self._stroke and at is not None and self.tool in ("level", "upright"):
            self._stroke = [self._stroke[0], at]
            self.update()
        else:
            super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event) -> None:
        at = self.to_px(event.position())
        still = self._pressed is not None and (event.position() - self._pressed).manhattanLength() < 4
        if self._grabbed is not None:
            if at is not None and not still:
                self.dragged.emit(self._grabbed, *at, True)
        elif self.tool == "points" and still and at is not None:
            self.clicked.emit(*at)
        elif self.tool in ("level", "upright") and self._stroke:
            self._end_line(still, event.position())
        self._grabbed, self._pressed = None, None
        super().mouseReleaseEvent(event)
        self.update()

    def _end_line(self, still: bool, at: QPointF) -> None:
        stroke, self._stroke = self._stroke, []
        if not still and len(stroke) == 2:
            self.lined.emit(stroke)
            return
        for n, (_, points, _) in enumerate(self.lines):
            a, b = self.to_view(*points[0]), self.to_view(*points[-1])
            d, v = np.array([b.x() - a.x(), b.y() - a.y()]), np.array([at.x() - a.x(), at.y() - a.y()])
            t = float(np.clip(v @ d / max(d @ d, 1e-9), 0, 1))
            if np.linalg.norm(v - t * d) < GRAB:
                self.line_chosen.emit(n)
                return

    def mouseDoubleClickEvent(self, event) -> None:
        if self.tool == "straight":
            stroke, self._stroke = self._stroke, []
            if len(stroke) >= 3:
                self.lined.emit(stroke)
            self.update()
        elif self.tool == "points" and self._nearest(event.position()) is None:
            super().mouseDoubleClickEvent(event)

    def leaveEvent(self, event) -> None:
        super().leaveEvent(event)
        self.hovered.emit(float("nan"), float("nan"))

    def _paint_over(self, p: QPainter, rect: QRectF, zoom: float) -> None:
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.ignored is not None:
            p.setOpacity(0.9)
            p.drawImage(rect, self.ignored)
            p.setOpacity(1.0)
        for n, (kind, points, words) in enumerate(self.lines):
            self._paint_line(p, points, f"{kind} {words}", n == self.line)
        if self._stroke:
            self._paint_line(p, self._stroke, "", True)
        for mark in self.marks:
            if mark.row != self.row:
                self._paint_mark(p, mark, False, rect)
        for mark in self.marks:
            if mark.row == self.row:
                self._paint_mark(p, mark, True, rect)
        if self.pending is not None:
            at = self.to_view(*self.pending)
            p.setPen(QPen(theme.colour("heather"), 2))
            p.drawLine(at - QPointF(11, 0), at + QPointF(11, 0))
            p.drawLine(at - QPointF(0, 11), at + QPointF(0, 11))
        if self.loupe_at is not None:
            self._paint_loupe(p)

    def _paint_mark(self, p: QPainter, mark: Mark, chosen: bool, rect: QRectF) -> None:
        at, form = self.to_view(mark.x, mark.y, rect), mark_form(mark.error, mark.by_hand)
        crowded = len(self.marks) > CROWD and not mark.by_hand
        r = 6.5 if chosen else 2.6 if crowded else 4.0
        p.setBrush(theme.colour(form[1], 150) if mark.by_hand else Qt.BrushStyle.NoBrush)
        strokes = ((form[1], 1.3),) if crowded and not chosen else (("sheet", 3.6), (form[1], 1.7))
        for name, width in strokes:
            p.setPen(QPen(theme.colour(name, 210 if name == "sheet" else 255), width))
            if form[0] == "circle":
                p.drawEllipse(at, r, r)
            elif form[0] == "diamond":
                p.drawPolygon(QPolygonF([at + QPointF(*d) for d in ((0, -r), (r, 0), (0, r), (-r, 0))]))
            else:
                p.drawLine(at - QPointF(r, r), at + QPointF(r, r))
                p.drawLine(at - QPointF(r, -r), at + QPointF(r, -r))
        if chosen:
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(theme.colour("gorse"), 1.6))
            p.drawEllipse(at, 12, 12)

    def _paint_line(self, p: QPainter, points: list, words: str, chosen: bool) -> None:
        path = QPolygonF([self.to_view(*q) for q in points])
        for name, width in (("sheet", 4.4), ("gorse" if chosen else "heather", 2.0)):
            p.setPen(QPen(theme.colour(name, 200 if name == "sheet" else 255), width))
            p.drawPolyline(path)
        p.setBrush(theme.colour("heather"))
        p.setPen(QPen(theme.colour("sheet"), 1))
        for q in points:
            p.drawEllipse(self.to_view(*q), 3, 3)
        if words:
            p.setFont(theme.words_font(9))
            middle = path[len(points) // 2] if len(points) > 2 else (path[0] + path[1]) / 2
            width = p.fontMetrics().horizontalAdvance(words) + 12
            box = QRectF(middle.x() + 8, middle.y() - 9, width, 19)
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(theme.colour("sheet", 225))
            p.drawRoundedRect(box, 4, 4)
            p.setPen(theme.colour("ink"))
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _paint_loupe(self, p: QPainter) -> None:
        """The surroundings of a px much larger, in the corner away from it."""
        x, y = self.loupe_at
        at = self.to_view(x, y)
        left = at.x() > self.width() / 2
        side = 2 * LOUPE
        box = QRectF(12 if left else self.width() - side - 12, self.height() - side - 12, side, side)
        path = QPainterPath()
        path.addEllipse(box)
        image, shown = self.source.shown.image, self.source.shown
        k = image.width() / shown.width
        reach = LOUPE / LOUPE_TIMES / max(self.zoom, min(1.0, k))
        p.save()
        p.setClipPath(path)
        p.fillRect(box, theme.colour("surround"))
        part = QRectF((x + 0.5 - reach) * k, (y + 0.5 - reach) * k, 2 * reach * k, 2 * reach * k)
        p.drawImage(box, SCREEN.shown(image), part)
        p.setPen(QPen(theme.colour("gorse"), 1))
        p.drawLine(box.center() - QPointF(LOUPE, 0), box.center() + QPointF(LOUPE, 0))
        p.drawLine(box.center() - QPointF(0, LOUPE), box.center() + QPointF(0, LOUPE))
        p.restore()
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.colour("sheet"), 3))
        p.drawEllipse(box)


def hatched(mask: np.ndarray) -> QImage:
    """An ignored area (h, w, 255 inside) as a hatched image."""
    h, w = mask.shape
    image = QImage(w, h, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    p = QPainter(image)
    p.fillRect(image.rect(), QBrush(theme.colour("heather"), Qt.BrushStyle.BDiagPattern))
    p.fillRect(image.rect(), theme.colour("heather", 140))
    p.end()
    stencil = QImage(np.ascontiguousarray(mask).data, w, h, w, QImage.Format.Format_Alpha8).copy()
    p = QPainter(image)
    p.setCompositionMode(QPainter.CompositionMode.CompositionMode_DestinationIn)
    p.drawImage(0, 0, stencil)
    p.end()
    return image
