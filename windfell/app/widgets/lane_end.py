"""The end of a lane: the picture that its set will give. A press goes to where it is worked on."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.picture.images import draw_fitted
from windfell.app.set_pictures import SetPicture
from windfell.app.widgets.kept import KeptPainting

WIDE, FOOT, POINT = 250, 24, 12


class LaneEnd(QWidget):
    """Painted as a sign that points on: the picture, and below it the station it leads to."""

    pressed = Signal()

    def __init__(self, station: str, high: int) -> None:
        super().__init__()
        self._station, self._found, self._newest = station, SetPicture(), False
        self._down = False
        self._kept = KeptPainting(self)
        self.setFixedSize(QSize(WIDE, high))
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._describe()

    def show_station(self, station: str) -> None:
        if station != self._station:
            self._station = station
            self._describe()
            self.update()

    def show_picture(self, found: SetPicture, newest: bool) -> None:
        if found is not self._found or newest != self._newest:
            self._found, self._newest = found, newest
            self._describe()
            self.update()

    def _describe(self) -> None:
        words = self._found.problem or "What this set will give, coarse"
        self.setToolTip(f"{words.rstrip('.')}. Press to go to {self._station.title()}.")
        self.setAccessibleName(f"The picture of this set; go to {self._station.title()}")

    def mousePressEvent(self, event) -> None:
        self._down = event.button() == Qt.MouseButton.LeftButton

    def mouseReleaseEvent(self, event) -> None:
        if self._down and self.rect().contains(event.position().toPoint()):
            self.pressed.emit()
        self._down = False

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        image = self._found.image.cacheKey() if self._found.image is not None else 0
        self._kept.show((self._station, self._newest, self._found.problem, image), self._paint)

    def _paint(self, p: QPainter) -> None:
        w, h = self.width() - 1.5, self.height() - 1.5
        p.setPen(QPen(theme.colour("tarn" if self.hasFocus() else "line"), 2 if self.hasFocus() else 1))
        p.setBrush(theme.colour("sheet"))
        sign = [(1, 1), (w - POINT, 1), (w, h / 2), (w - POINT, h), (1, h)]
        p.drawPolygon(QPolygonF([QPointF(x, y) for x, y in sign]))
        self._paint_picture(p, QRectF(7, 7, w - POINT - 12, h - FOOT - 8))
        p.setFont(theme.words_font(8.5))
        foot = QRectF(9, h - FOOT + 1, w - POINT - 16, FOOT - 4)
        p.setPen(theme.colour("tarn"))
        p.drawText(foot, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self._station.title())
        if not self._newest:
            p.setPen(theme.colour("quiet"))
            p.drawText(foot, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, "being made")
        elif self._found.problem:
            p.setPen(theme.colour("rowan"))
            p.drawText(foot, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, "no picture")

    def _paint_picture(self, p: QPainter, room: QRectF) -> None:
        if self._found.image is not None:
            p.setOpacity(1.0 if self._newest else 0.45)
            draw_fitted(p, self._found.image, room)
            p.setOpacity(1.0)
        elif self._found.problem:
            p.setFont(theme.words_font(8))
            p.setPen(theme.colour("quiet"))
            p.drawText(room, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, _shortened(self._found.problem))


def _shortened(sentence: str, most: int = 130) -> str:
    return sentence if len(sentence) <= most else sentence[: most - 1].rsplit(" ", 1)[0] + " …"
