"""The frames column: number, thumbnail, on or off, one line of what matters at this station."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.frame_tile import FrameTile
from windfell.recipe import edits
from windfell.recipe.model import Frame

WIDE, FOLDED = 128, 34


class FrameTick(FrameTile):
    """One frame. Click selects it; the mark at its upper right switches it on or off."""

    def __init__(self, number: int, frame: Frame, thumbnails: Thumbnails) -> None:
        super().__init__(number, frame, thumbnails)
        self.note, self.wrong, self.folded = "", False, False
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(FOLDED - 8, 22) if self.folded else QSize(WIDE - 22, 104)

    def is_on_mark(self, at: QPointF) -> bool:
        return not self.folded and at.x() > self.width() - 26 and at.y() < 24

    @property
    def shown(self) -> tuple:
        return self.note, self.wrong, self.folded

    def paint(self, p: QPainter) -> None:
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        p.setPen(QPen(theme.colour("gorse" if self.chosen else "line"), 2 if self.chosen else 1))
        p.setBrush(theme.colour("sheet"))
        p.drawRoundedRect(box, 5, 5)
        p.setFont(theme.numbers_font(8))
        p.setPen(theme.colour("ink" if self.frame.on else "quiet"))
        if self.folded:
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, str(self.number))
            return
        p.drawText(QRectF(8, 4, 40, 16), Qt.AlignmentFlag.AlignVCenter, str(self.number))
        self.paint_mark(p, QRectF(self.width() - 22, 5, 14, 14))
        self.paint_thumbnail(p, QRectF(7, 22, self.width() - 14, self.height() - 42))
        p.setFont(theme.numbers_font(7.6))
        p.setPen(theme.colour("rowan" if self.wrong else "quiet"))
        note = self.note if self.frame.on else "kept aside"
        shown = p.fontMetrics().elidedText(note, Qt.TextElideMode.ElideRight, self.width() - 12)
        p.drawText(QRectF(6, self.height() - 19, self.width() - 12, 16), Qt.AlignmentFlag.AlignCenter, shown)
        if self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(theme.colour("tarn"), 2))
            p.drawRoundedRect(box.adjusted(2, 2, -2, -2), 4, 4)


class FramesColumn(QScrollArea):
    """All frames of the set in hand, in order."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session, self._thumbnails = session, thumbnails
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedWidth(WIDE)
        self.setAccessibleName("Frames")
        self.folded = False
        self._notes: dict[str, tuple[str, bool]] = {}
        self._ticks: list[FrameTick] = []
        self._shown: tuple = ()
        inner = QWidget()
        self._layout = QVBoxLayout(inner)
        self._layout.setContentsMargins(4, 4, 4, 4)
        self._layout.setSpacing(4)
        self._layout.addStretch(1)
        self.setWidget(inner)
        session.changed.connect(self._changed)
        session.rested.connect(self.refresh)
        session.selected.connect(self.refresh)
        thumbnails.arrived.connect(self._repaint)

    def fold(self, on: bool) -> None:
        """Show only numbers, to leave the picture more room."""
        self.folded = on
        self.setFixedWidth(FOLDED if on else WIDE)
        self._shown = ()
        self.refresh()

    def set_notes(self, notes: dict[str, tuple[str, bool]]) -> None:
        """One line a frame: (words, whether something is wrong), by frame id."""
        self._notes = notes
        self._write_notes()

    def _changed(self) -> None:
        if not self._session.dragging:
            self.refresh()

    def refresh(self) -> None:
        frame_set = self._session.frame_set
        frames = frame_set.frames if frame_set else ()
        if (frames, self.folded) != self._shown:
            self._shown = (frames, self.folded)
            self._take(frames)
        for tick in self._ticks:
            chosen = tick.frame.id == self._session.frame_id
            if tick.chosen != chosen:
                tick.chosen = chosen
                tick.update()
        self._write_notes()

    def _take(self, frames: tuple[Frame, ...]) -> None:
        """Show these frames; ticks that are there go on, so that the keyboard stays where it is."""
        for tick in self._ticks[len(frames) :]:
            self._layout.removeWidget(tick)
            tick.hide()
            tick.deleteLater()
        del self._ticks[len(frames) :]
        for tick, frame in zip(self._ticks, frames, strict=False):
            if tick.folded != self.folded:
                tick.folded = self.folded
                tick.updateGeometry()
            tick.frame = frame
            tick.update()
        for n, frame in list(enumerate(frames))[len(self._ticks) :]:
            tick = FrameTick(n + 1, frame, self._thumbnails)
            tick.folded = self.folded
            tick.picked.connect(self._session.select_frame)
            tick.switched.connect(self._switch)
            self._layout.insertWidget(n, tick)
            self._ticks.append(tick)

    def _switch(self, frame_id: str, on: bool) -> None:
        s = self._session
        s.edit(edits.switch_frame(s.project, s.set_id, frame_id, on))

    def _write_notes(self) -> None:
        for tick in self._ticks:
            note = self._notes.get(tick.frame.id, ("", False))
            if note != (tick.note, tick.wrong):
                tick.note, tick.wrong = note
                tick.setToolTip(f"{tick.note}. {tick.usual_tip}" if tick.note else tick.usual_tip)
                tick.update()

    def _repaint(self) -> None:
        for tick in self._ticks:
            tick.update()
