"""Two neighbouring frames at their overlap: the second drawn where its things lie in the first."""

from __future__ import annotations

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QTransform

from windfell.app import theme
from windfell.app.picture.source import TILE, PictureSource
from windfell.app.picture.view import PictureView
from windfell.app.screen import draw_picture
from windfell.geometry import planar

BURNT, BLACK = 254, 1


class PairView(PictureView):
    """`source` is the first frame, `before` the second; `onto` (3, 3) leads from fractions of the
    first to fractions of the second, None where they are not linked. One zoom for both.
    """

    spot_picked = Signal(float, float)

    def __init__(self, source: PictureSource, before: PictureSource) -> None:
        super().__init__(source, before)
        self.onto: np.ndarray | None = None
        self.picking = False
        self.clipping = False
        self._clips: dict[int, QImage] = {}
        self.setAccessibleName("Two neighbouring frames")
        source.arrived.connect(self._clips.clear)
        before.arrived.connect(self._clips.clear)

    def overlap_box(self) -> tuple[float, float, float, float] | None:
        """(left, top, right, bottom) of the overlap, in fractions of the first frame, or None."""
        if self.onto is None:
            return None
        corners = planar.apply(np.linalg.inv(self.onto), np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]]))
        if not np.all(np.isfinite(corners)) or np.abs(corners).max() > 10:
            return None
        low, high = np.clip(corners.min(axis=0), 0, 1), np.clip(corners.max(axis=0), 0, 1)
        return (*low, *high) if np.all(high - low > 0.01) else None

    def show_overlap(self) -> None:
        """Centre on what both frames show, so large that it fills the view."""
        box, shown = self.overlap_box(), self.source.shown
        if box is None or shown is None:
            self.fit()
            return
        wide, high = (box[2] - box[0]) * shown.width, (box[3] - box[1]) * shown.height
        zoom = min(0.5 * self.width() / wide, 2.5 * (self.height() - 30) / high, 1.0)
        zoom = max(zoom, self.fit_zoom)
        self.look_at((box[0] + box[2]) / 2, (box[1] + box[3]) / 2, zoom)
        self.divide = float(np.clip((box[0] + box[2]) / 2, 0, 1))

    def mousePressEvent(self, event) -> None:
        rect = self.picture_rect()
        if self.picking and not rect.isEmpty():
            at = event.position()
            self.spot_picked.emit((at.x() - rect.x()) / rect.width(), (at.y() - rect.y()) / rect.height())
            return
        super().mousePressEvent(event)

    def _paint_source(self, painter: QPainter, source: PictureSource, rect: QRectF) -> None:
        if source is self.source:
            super()._paint_source(painter, source, rect)
            if self.clipping:
                painter.drawImage(rect, self._clip_marks(source))
            return
        painter.save()
        painter.setTransform(self._into_view(rect), True)
        draw_picture(painter, QRectF(0, 0, 1, 1), source.shown.image)
        self._paint_second_tiles(painter, source, rect)
        if self.clipping:
            painter.drawImage(QRectF(0, 0, 1, 1), self._clip_marks(source))
        painter.restore()

    def _paint_second_tiles(self, painter: QPainter, source: PictureSource, rect: QRectF) -> None:
        """The second frame's tiles where they are sharper than its image; the painter counts fractions."""
        shown, fine = source.shown, self.zoom * self.devicePixelRatioF()
        if fine * 1.02 < shown.image.width() / shown.width or not source.sharp:
            return
        level = max(0, int(np.floor(-np.log2(max(fine, 1e-6)) + 1e-6)))
        if 2.0**-level * shown.width <= shown.image.width():
            return
        across, down = shown.width / (TILE * 2**level), shown.height / (TILE * 2**level)
        back, ok = self._into_view(rect).inverted()
        seen = back.mapRect(QRectF(self.rect())).intersected(QRectF(0, 0, 1, 1)) if ok else QRectF()
        if seen.isEmpty():
            return
        wanted = [
            (c, r) for r in range(int(seen.top() * down), int(np.ceil(seen.bottom() * down)))
            for c in range(int(seen.left() * across), int(np.ceil(seen.right() * across)))
        ]
        for c, r in wanted:
            tile = source.tile(level, c, r)
            if tile is not None:
                size = 2**level * tile.width() / shown.width, 2**level * tile.height() / shown.height
                draw_picture(painter, QRectF(c / across, r / down, *size), tile)
        middle = seen.center()
        wanted.sort(key=lambda t: ((t[0] + 0.5) / across - middle.x()) ** 2 + ((t[1] + 0.5) / down - middle.y()) ** 2)
        source.want_tiles(level, wanted)

    def _paint_compared(self, painter: QPainter, rect: QRectF) -> None:
        """Halves: each frame on the side to which it reaches."""
        box = self.overlap_box()
        if self.compare != "divide" or self.held or self.before.shown is None or (
                box is None or box[0] + box[2] <= 1.0):
            super()._paint_compared(painter, rect)
            return
        self._paint_source(painter, self.source, rect)
        x = rect.x() + self.divide * rect.width()
        painter.save()
        painter.setClipRect(QRectF(x, 0, self.width() - x, self.height()))
        painter.fillRect(self.rect(), QColor(self.surround or theme.current().surround))
        self._paint_source(painter, self.before, rect)
        painter.restore()
        painter.setPen(QPen(theme.colour("gorse"), 2))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        self._paint_tag(painter, "  |  ".join(reversed(self.tags)), x)

    def _into_view(self, rect: QRectF) -> QTransform:
        """From fractions of the second frame to the view."""
        if self.onto is None:
            turn = np.eye(3)
        else:
            turn = np.linalg.inv(self.onto)
        m = np.array([[rect.width(), 0, rect.x()], [0, rect.height(), rect.y()], [0, 0, 1]]) @ turn
        m = (m / m[2, 2]).T
        return QTransform(*(float(v) for v in m.ravel()))

    def _clip_marks(self, source: PictureSource) -> QImage:
        """Burnt-out spots in rowan, blocked-up black ones in tarn, over a frame's image."""
        image = source.shown.image
        if image.cacheKey() not in self._clips:
            h, w = image.height(), image.width()
            rgba = np.frombuffer(image.constBits(), np.uint8).reshape(h, image.bytesPerLine() // 4, 4)[:, :w]
            marks = np.zeros((h, w, 4), np.uint8)
            burnt, black = theme.colour("rowan"), theme.colour("tarn")
            rgba = np.ascontiguousarray(rgba)
            for low, high, colour in (((BURNT,) * 3, (255,) * 3, burnt), ((0,) * 3, (BLACK,) * 3, black)):
                where = cv2.inRange(rgba, (*low, 1), (*high, 255))
                marks[where > 0] = (colour.red(), colour.green(), colour.blue(), 255)
            made = QImage(marks.data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()
            self._clips[image.cacheKey()] = made
        return self._clips[image.cacheKey()]

