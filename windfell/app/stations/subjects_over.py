"""What Subjects draws over the picture: outlines, a matte by itself with its holes and leaks, signs of doubt."""

from __future__ import annotations

from collections.abc import Collection

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from windfell.app import theme
from windfell.app.picture.tool import on_view
from windfell.areas.mending import Blemishes, blemishes
from windfell.engine.pieces_laid import piece_mask
from windfell.engine.shelf import Shelf
from windfell.engine.stack_subjects import Subjects
from windfell.subjects.standing import Standing

SMALL_SHARE = 5e-4
SIGN_PX = 13
RING = QColor("#e06a00")  # on black and white alike


class SubjectsOver:
    """Keeps the matte that was drawn last."""

    def __init__(self) -> None:
        self._matte: tuple[int, QImage, Blemishes] | None = None

    def forget(self) -> None:
        self._matte = None

    def matte(self, painter: QPainter, rect: QRectF, shelf: Shelf, n: int) -> None:
        """The matte of a mover, its holes and specks ringed."""
        image, found = self.matte_of(shelf, n)
        painter.drawImage(rect, image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(RING, 2))
        kx, ky = rect.width() / image.width(), rect.height() / image.height()
        for line in (*found.holes, *found.specks):
            (left, top), (right, bottom) = line.min(axis=0), line.max(axis=0)
            box = QRectF(rect.x() + left * kx, rect.y() + top * ky, (right - left) * kx, (bottom - top) * ky)
            painter.drawEllipse(box.adjusted(-5, -5, 5, 5))
        words = f"{len(found.holes) or 'no'} hole{'s' * (len(found.holes) != 1)}, " + (
            f"{len(found.specks) or 'no'} leak{'s' * (len(found.specks) != 1)}")
        painter.setFont(theme.words_font(10, bold=True))
        painter.setPen(QColor("white"))
        painter.drawText(rect.adjusted(12, 8, -12, -8), words)

    def matte_of(self, shelf: Shelf, n: int) -> tuple[QImage, Blemishes]:
        if self._matte is None or self._matte[0] != n:
            mask = piece_mask(shelf.found.movers[n], False)
            h, w = mask.shape
            image = QImage(mask.tobytes(), w, h, w, QImage.Format.Format_Grayscale8).copy()
            self._matte = n, image, blemishes(mask / 255.0, SMALL_SHARE * mask.size)
        return self._matte[1], self._matte[2]

    @staticmethod
    def outlines(painter: QPainter, rect: QRectF, shelf: Shelf, taken: Collection[int], held: int | None) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        w, h = shelf.found.size
        for k in {*taken, *([] if held is None else [held])}:
            if k >= len(shelf.shown):
                continue
            for line in shelf.shown[k].outlines:
                shape = QPolygonF([on_view(QPointF(x / w, y / h), rect) for x, y in line])
                style = Qt.PenStyle.SolidLine if k in taken else Qt.PenStyle.DotLine
                painter.setPen(QPen(theme.colour("ink", 150), 3.2 if k == held else 2.4))
                painter.drawPolygon(shape)
                painter.setPen(QPen(theme.colour("gorse"), 2.0 if k == held else 1.2, style))
                painter.drawPolygon(shape)

    @staticmethod
    def place(painter: QPainter, rect: QRectF, box: tuple[int, int, int, int], size: tuple[int, int]) -> None:
        """A frame around a box (x, y, width, height) of a picture of `size` px."""
        low, high = (on_view(QPointF(x / size[0], y / size[1]), rect)
                     for x, y in (box[:2], (box[0] + box[2], box[1] + box[3])))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(theme.colour("ink", 150), 3.2), QPen(theme.colour("gorse"), 1.6, Qt.PenStyle.DashLine)):
            painter.setPen(pen)
            painter.drawRect(QRectF(low, high))

    @staticmethod
    def signs(painter: QPainter, rect: QRectF, found: Subjects) -> None:
        """Where the ground cannot be told: a frame around the place, and a sign to press."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for place in found.standing:
            if place.sure:
                continue
            box, at = place_on_view(found, place, rect)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.colour("heather"), 1.6, Qt.PenStyle.DashLine))
            painter.drawRect(box)
            painter.setPen(QPen(theme.colour("heather"), 2))
            painter.setBrush(theme.colour("sheet"))
            s = SIGN_PX
            painter.drawPolygon(QPolygonF([at + QPointF(0, -s), at + QPointF(s, s * 0.8), at + QPointF(-s, s * 0.8)]))
            painter.setFont(theme.words_font(10, bold=True))
            painter.setPen(theme.colour("ink"))
            painter.drawText(QRectF(at.x() - s, at.y() - s * 0.8, 2 * s, 1.9 * s), Qt.AlignmentFlag.AlignCenter, "?")


def place_on_view(found: Subjects, place: Standing, rect: QRectF) -> tuple[QRectF, QPointF]:
    """Where a place at which frames show different things lies in the view, and its sign."""
    x, y, w, h = cv2.boundingRect((place.mask > 127).astype(np.uint8))
    x, y = x + place.box[0], y + place.box[1]
    wide, high = found.size[0] * found.scale, found.size[1] * found.scale
    corner = on_view(QPointF(x / wide, y / high), rect)
    out = QRectF(corner, on_view(QPointF((x + w) / wide, (y + h) / high), rect))
    return out, out.center()
