"""A video as a strip of pictures: its start and end, the playhead, the instants that are taken."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.screen import draw_picture

RIM = 10


class FilmStrip(QWidget):
    """Drag the lower edge's handles to trim, anywhere else to scrub; arrow keys step a frame."""

    scrubbed = Signal(float)
    trimmed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.duration_s, self.step_s = 1.0, 0.04
        self.start_s, self.end_s, self.at_s = 0.0, 1.0, 0.0
        self.pictures: list[tuple[float, QImage]] = []
        self.instants: list[tuple[float, bool]] = []
        self._held = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(84)
        self.setAccessibleName("Video strip")
        self.setToolTip("The video; the ends are dragged to trim it, a press moves the playhead")

    def sizeHint(self) -> QSize:
        return QSize(420, 84)

    def show_video(self, duration_s: float, step_s: float, start_s: float, end_s: float) -> None:
        self.duration_s, self.step_s = max(duration_s, 1e-3), step_s
        self.start_s, self.end_s = start_s, end_s
        self.at_s = min(max(self.at_s, 0.0), self.last_s)
        self.update()

    @property
    def last_s(self) -> float:
        return max(0.0, self.duration_s - self.step_s)

    def _x(self, time_s: float) -> float:
        return RIM + time_s / max(self.last_s, 1e-6) * (self.width() - 2 * RIM)

    def _time(self, x: float) -> float:
        t = (x - RIM) / max(1.0, self.width() - 2 * RIM) * self.last_s
        t = round(t / self.step_s) * self.step_s
        return min(max(t, 0.0), self.last_s)

    def mousePressEvent(self, event) -> None:
        x, y = event.position().x(), event.position().y()
        self._held = "at"
        if y > self.height() - 22:
            near = min((abs(x - self._x(self.start_s)), "start"), (abs(x - self._x(self.end_s)), "end"))
            if near[0] < 14:
                self._held = near[1]
        self._move(x)

    def mouseMoveEvent(self, event) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._move(event.position().x())

    def mouseReleaseEvent(self, event) -> None:
        self._held = ""

    def _move(self, x: float) -> None:
        time_s = self._time(x)
        if self._held == "start":
            self.start_s = min(time_s, self.end_s)
        elif self._held == "end":
            self.end_s = max(time_s, self.start_s)
        self.go(time_s)
        if self._held in ("start", "end"):
            self.trimmed.emit()

    def go(self, time_s: float) -> None:
        """Put the playhead there."""
        self.at_s = min(max(time_s, 0.0), self.last_s)
        self.update()
        self.scrubbed.emit(self.at_s)

    def keyPressEvent(self, event) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_PageUp: -10, Qt.Key.Key_PageDown: 10}
        if event.key() in steps:
            self.go(self.at_s + steps[event.key()] * self.step_s)
        elif event.key() == Qt.Key.Key_Home:
            self.go(self.start_s)
        elif event.key() == Qt.Key.Key_End:
            self.go(self.end_s)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        film = QRectF(RIM, 14, self.width() - 2 * RIM, self.height() - 36)
        p.fillRect(film, theme.colour("line"))
        p.setClipRect(film)
        for n, (_, image) in enumerate(self.pictures):
            wide = film.width() / len(self.pictures)
            room = QRectF(film.x() + n * wide, film.y(), wide, film.height())
            k = max(room.width() / image.width(), room.height() / image.height())
            w, h = image.width() * k, image.height() * k
            p.setClipRect(room)
            draw_picture(p, QRectF(room.center().x() - w / 2, room.center().y() - h / 2, w, h), image)
        p.setClipping(False)
        shade = theme.colour("stone", 190)
        p.fillRect(QRectF(film.x(), film.y(), self._x(self.start_s) - film.x(), film.height()), shade)
        p.fillRect(QRectF(self._x(self.end_s), film.y(), film.right() - self._x(self.end_s), film.height()), shade)
        for time_s, on in self.instants:
            x = self._x(time_s)
            p.setPen(QPen(theme.colour("ink" if on else "quiet"), 1))
            p.setBrush(theme.colour("gorse") if on else theme.colour("sheet"))
            p.drawPolygon(QPolygonF([QPointF(x, 13), QPointF(x - 5, 3), QPointF(x + 5, 3)]))
        p.setPen(QPen(theme.colour("heather"), 2))
        at = self._x(self.at_s)
        p.drawLine(QPointF(at, 12), QPointF(at, self.height() - 20))
        p.setPen(QPen(theme.colour("ink"), 1.2))
        p.setBrush(theme.colour("tarn"))
        foot = self.height() - 20.0
        for x, d in ((self._x(self.start_s), 1), (self._x(self.end_s), -1)):
            p.drawPolygon(QPolygonF([QPointF(x, foot), QPointF(x, foot + 16), QPointF(x - 9 * d, foot + 16)]))
        p.setFont(theme.numbers_font(7.5))
        p.setPen(theme.colour("quiet"))
        words = f"{self.at_s:.2f} s of {self.duration_s:.2f} s   kept {self.start_s:.2f} to {self.end_s:.2f} s"
        p.drawText(QRectF(0, foot + 3, self.width(), 16), Qt.AlignmentFlag.AlignCenter, words)
        if self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(theme.colour("tarn"), 2))
            p.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)
