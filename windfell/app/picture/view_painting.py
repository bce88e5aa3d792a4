"""How the picture view paints: its source and its tiles, compared with another, tools above them, words and tags."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from windfell.app import theme
from windfell.app.picture.source import TILE, PictureSource
from windfell.app.screen import draw_picture

DOUBLED = 1  # a difference is shown twice as strong


class ViewPainting:
    """The painting half of a widget that has sources, a way of comparing, a tool and an overlay."""

    def paint_all(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), QColor(self.surround or theme.current().surround))
        if self.source.shown is None:
            self._paint_words(painter, self.source.error or self.teach)
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        rect = self.picture_rect()
        self._paint_compared(painter, rect)
        if self.overlay:
            self.overlay(painter, rect, self.zoom)
        if self.in_hand is not None:
            self.in_hand.paint(painter, rect, self.zoom)
        if self._line is not None:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for name, width in (("sheet", 4.4), ("gorse", 2.0)):
                painter.setPen(QPen(theme.colour(name), width))
                painter.drawLine(*self._line)

    def _paint_compared(self, painter: QPainter, rect: QRectF) -> None:
        before = self.before.shown
        if before is None or not self.wants_before:
            self._paint_source(painter, self.source, rect)
            return
        if self.held or (self.compare == "blink" and self._blink_on):
            self._paint_source(painter, self.before, rect)
            self._paint_tag(painter, self.tags[0])
            return
        if self.compare == "difference":
            self._paint_difference(painter, rect)
            self._paint_tag(painter, " - ".join(self.tags))
            return
        self._paint_source(painter, self.source, rect)
        if self.compare == "ghost":
            painter.setOpacity(0.5)
            self._paint_source(painter, self.before, rect)
            painter.setOpacity(1.0)
        elif self.compare == "divide":
            x = rect.x() + self.divide * rect.width()
            painter.save()
            painter.setClipRect(QRectF(0, 0, x, self.height()))
            painter.fillRect(self.rect(), QColor(self.surround or theme.current().surround))
            self._paint_source(painter, self.before, rect)
            painter.restore()
            painter.setPen(QPen(theme.colour("gorse"), 2))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
            self._paint_tag(painter, "  |  ".join(self.tags), x)

    def _paint_difference(self, painter: QPainter, rect: QRectF) -> None:
        """How far both pictures are from each other, channel by channel, on black."""
        image = QImage(self.size() * self.devicePixelRatioF(), QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(self.devicePixelRatioF())
        image.fill(Qt.GlobalColor.black)
        inner = QPainter(image)
        inner.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        self._paint_source(inner, self.source, rect)
        inner.setCompositionMode(QPainter.CompositionMode.CompositionMode_Difference)
        self._paint_source(inner, self.before, rect)
        inner.setCompositionMode(QPainter.CompositionMode.CompositionMode_Plus)
        for _ in range(DOUBLED):
            inner.drawImage(0, 0, image.copy())
        inner.end()
        painter.save()
        painter.setClipRect(rect)
        painter.drawImage(0, 0, image)
        painter.restore()

    def _paint_source(self, painter: QPainter, source: PictureSource, rect: QRectF) -> None:
        image = source.shown.image
        draw_picture(painter, rect, image)
        device = self.devicePixelRatioF()
        zoom = rect.width() / source.shown.width  # its own: the picture before may be of another size
        if zoom * device * 1.02 < image.width() / source.shown.width or not source.sharp:
            return
        level = max(0, int(np.floor(-np.log2(max(zoom * device, 1e-6)) + 1e-6)))
        if 2.0**-level * source.shown.width <= image.width():
            return
        side = TILE * 2**level * zoom
        view = rect.intersected(QRectF(self.rect()))
        columns = range(int((view.left() - rect.left()) / side), int((view.right() - rect.left() - 1) / side) + 1)
        rows = range(int((view.top() - rect.top()) / side), int((view.bottom() - rect.top() - 1) / side) + 1)
        wanted = [(c, r) for r in rows for c in columns]
        for c, r in wanted:
            tile = source.tile(level, c, r)
            if tile is not None:
                k = 2**level * zoom
                at = QRectF(rect.x() + c * side, rect.y() + r * side, tile.width() * k, tile.height() * k)
                draw_picture(painter, _on_pixels(at, device), tile)
        centre = (view.center() - rect.topLeft()) / side
        wanted.sort(key=lambda t: (t[0] + 0.5 - centre.x()) ** 2 + (t[1] + 0.5 - centre.y()) ** 2)
        source.want_tiles(level, wanted)

    def _paint_words(self, painter: QPainter, words: str) -> None:
        if not words:
            return
        painter.setFont(theme.words_font(12))
        box = QRectF(self.rect()).adjusted(80, 20, -80, -20)
        flags = int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
        text = painter.boundingRect(box, flags, words).adjusted(-22, -14, 22, 14)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("sheet"))
        painter.drawRoundedRect(text, 8, 8)
        painter.setPen(theme.colour("rowan" if self.source.error else "ink"))
        painter.drawText(box, flags, words)

    def _paint_tag(self, painter: QPainter, words: str, x: float | None = None) -> None:
        painter.setFont(theme.words_font(10, bold=True))
        width = painter.fontMetrics().horizontalAdvance(words) + 20
        left = 12 if x is None else float(np.clip(x - width / 2, 4, self.width() - width - 4))
        box = QRectF(left, 10, width, 24)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("sheet", 230))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(theme.colour("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def _on_pixels(rect: QRectF, device: float) -> QRectF:
    """The rectangle with its sides between pixels of the screen, so that tiles meet and 1:1 is sharp."""
    left, top, right, bottom = (round(v * device) / device for v in (
        rect.left(), rect.top(), rect.right(), rect.bottom()))
    return QRectF(left, top, right - left, bottom - top)
