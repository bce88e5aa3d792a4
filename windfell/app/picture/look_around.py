"""Looking around inside a panorama: drag turns, the wheel zooms."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QWidget

from windfell.app import theme
from windfell.app.picture.images import image_of
from windfell.app.screen import draw_picture
from windfell.app.session import Session
from windfell.engine.around import Around, around_of
from windfell.recipe.model import Kind, picture_parts

COARSE, FINE = 1400, 4200
NARROWEST, WIDEST, FIRST = 10.0, 130.0, 80.0
SHRUNK = 0.6


class LookAround(QWidget):
    """`left` when it is put away. Made of the picture as the recipe has it now; coarse first, then finer."""

    left = Signal()
    turned = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.yaw, self.pitch, self.hfov = 0.0, 0.0, FIRST
        self.around: Around | None = None
        self._parts: tuple | None = None
        self._held: tuple[QPointF, float, float] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Look around")

    @property
    def possible(self) -> bool:
        own = self.session.frame_set
        return own is not None and own.kind is Kind.PANORAMA and bool(own.used)

    def show_now(self) -> None:
        """Ask for the picture, unless it is the one that is here."""
        s = self.session
        if not self.possible:
            return
        parts = s.set_id, picture_parts(s.project, s.set_id)
        if parts == self._parts:
            return
        if self._parts is None or self._parts[0] != s.set_id:
            self.around = None
            self.yaw, self.pitch, self.hfov = 0.0, 0.0, FIRST
        self._parts = parts
        engine, project, set_id = s.engine, s.project, s.set_id

        def ask(side: int, then) -> None:
            s.desk.ask("look around", lambda job: around_of(engine, project, set_id, side, job), then, self._forget,
                       self._forget)

        def fine(around: Around) -> None:
            self._have(around)
            if self._parts == parts and max(around.canvas.width, around.canvas.height) >= COARSE:
                ask(FINE, self._have)

        ask(COARSE, fine)

    def _have(self, around: Around) -> None:
        self.around = around
        self.update()

    def _forget(self, *_) -> None:
        self._parts = None

    def mousePressEvent(self, event) -> None:
        self._held = event.position(), self.yaw, self.pitch

    def mouseMoveEvent(self, event) -> None:
        if self._held is None:
            return
        start, yaw, pitch = self._held
        moved = event.position() - start
        per_px = self.hfov / max(1, self.width())
        self._turn(yaw - moved.x() * per_px / max(0.2, np.cos(np.radians(pitch))), pitch + moved.y() * per_px)

    def mouseReleaseEvent(self, event) -> None:
        self._held = None
        self.update()

    def wheelEvent(self, event) -> None:
        self.hfov = float(np.clip(self.hfov * 0.9 ** (event.angleDelta().y() / 120), NARROWEST, WIDEST))
        self._turn(self.yaw, self.pitch)

    def keyPressEvent(self, event) -> None:
        step = self.hfov / 12
        moves = {Qt.Key.Key_Left: (-step, 0), Qt.Key.Key_Right: (step, 0), Qt.Key.Key_Up: (0, step),
                 Qt.Key.Key_Down: (0, -step)}
        if event.key() in moves:
            dx, dy = moves[event.key()]
            self._turn(self.yaw + dx, self.pitch + dy)
        else:
            super().keyPressEvent(event)

    def _turn(self, yaw: float, pitch: float) -> None:
        self.yaw, self.pitch = (yaw + 180) % 360 - 180, float(np.clip(pitch, -90, 90))
        self.turned.emit(f"yaw {self.yaw:.0f}°  pitch {self.pitch:.0f}°  {self.hfov:.0f}° wide")
        self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), theme.colour("surround"))
        if self.around is None:
            p.setPen(theme.colour("sheet"))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Making the picture to look around in…")
            return
        # while it is turned, a little coarser
        k = (SHRUNK if self._held else 1.0) * min(1.0, 1600 / max(self.width(), 1))
        size = max(16, round(self.width() * k)), max(16, round(self.height() * k))
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        draw_picture(p, QRectF(self.rect()), image_of(self.around.view(self.yaw, self.pitch, self.hfov, *size)))
        p.setFont(theme.words_font(10, bold=True))
        words = "Looking around: drag turns, the wheel zooms, Q leaves"
        wide = p.fontMetrics().horizontalAdvance(words) + 20
        tag = QRectF(12, 10, wide, 24)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("sheet", 220))
        p.drawRoundedRect(tag, 5, 5)
        p.setPen(theme.colour("ink"))
        p.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)
