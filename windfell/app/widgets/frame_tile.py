"""A frame as a small tile: its thumbnail and the mark that switches it on or off."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPen
from PySide6.QtWidgets import QWidget

from windfell.app import theme
from windfell.app.picture.images import draw_fitted
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.kept import KeptPainting
from windfell.recipe.model import Frame

_TICK = (QPointF(0.21, 0.5), QPointF(0.43, 0.75), QPointF(0.82, 0.25))


class FrameTile(QWidget):
    """Base of the frames column's ticks and the lanes' cards: click or Enter picks the frame,
    its mark or Space switches it.
    """

    picked = Signal(str)
    switched = Signal(str, bool)

    def __init__(self, number: int, frame: Frame, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.number, self.frame, self.chosen = number, frame, False
        self._thumbnails = thumbnails
        self._kept = KeptPainting(self)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"Frame {number}")
        self.usual_tip = f"Frame {number}: a press chooses it, its mark or Space keeps it aside or takes it back"
        self.setToolTip(self.usual_tip)

    def is_on_mark(self, at: QPointF) -> bool:
        """Whether a press there is meant for the mark."""
        raise NotImplementedError

    def paint(self, p: QPainter) -> None:
        """All of the tile."""
        raise NotImplementedError

    @property
    def shown(self) -> tuple:
        """All that a tile of its kind shows beside its frame."""
        raise NotImplementedError

    @property
    def thumbnail(self) -> QImage | None:
        """The frame's small picture, if there is one by now."""
        found = self._thumbnails.of(self.frame)
        return None if found is None else found.image

    def paintEvent(self, event) -> None:
        found = self._thumbnails.of(self.frame)
        image = found.image.cacheKey() if found is not None and found.image is not None else found is not None
        self._kept.show((self.number, self.frame.on, self.chosen, image, self.shown), self.paint)

    def switch(self) -> None:
        self.switched.emit(self.frame.id, not self.frame.on)

    def mousePressEvent(self, event) -> None:
        self.switch() if self.is_on_mark(event.position()) else self.picked.emit(self.frame.id)

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Space:
            self.switch()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.picked.emit(self.frame.id)
        else:
            super().keyPressEvent(event)

    def paint_mark(self, p: QPainter, at: QRectF) -> None:
        p.setPen(QPen(theme.colour("moss" if self.frame.on else "quiet"), 1.8))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRoundedRect(at, 3, 3)
        if self.frame.on:
            side = at.width()
            p.drawPolyline([at.topLeft() + d * side for d in _TICK])

    def paint_thumbnail(self, p: QPainter, room: QRectF) -> None:
        """The thumbnail, pale while left out, or what stands for it."""
        found = self._thumbnails.of(self.frame)
        if found is not None and found.image is not None:
            p.setOpacity(1.0 if self.frame.on else 0.32)
            draw_fitted(p, found.image, room)
            p.setOpacity(1.0)
            return
        p.fillRect(room, theme.colour("line"))
        if found is not None:
            p.setPen(theme.colour("rowan"))
            p.setFont(theme.words_font(8.5))
            p.drawText(room, Qt.AlignmentFlag.AlignCenter, "unreadable")
