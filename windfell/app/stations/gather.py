"""Gather: a wall of frames in lanes, one lane a set."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtSvgWidgets import QSvgWidget
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.bars import Bars
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.frame_tile import FrameTile
from windfell.errors import WindfellError
from windfell.frames.metadata import said
from windfell.frames.still import metadata_of
from windfell.recipe import edits
from windfell.recipe.model import FileSource, Frame, FrameSet, Kind

CARD_HIGH = 132


class FrameCard(FrameTile):
    """A frame in its lane. Click selects; double click or the mark leaves it out or takes it in."""

    def __init__(self, number: int, frame: Frame, thumbnails: Thumbnails) -> None:
        super().__init__(number, frame, thumbnails)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self._fit_to_thumbnail()

    def _fit_to_thumbnail(self) -> None:
        found = self._thumbnails.of(self.frame)
        ratio = 0.75
        if found is not None and found.image is not None:
            ratio = found.image.width() / found.image.height()
        self.setFixedSize(QSize(int(max(66, min(230, (CARD_HIGH - 30) * ratio))) + 8, CARD_HIGH))

    def arrived(self) -> None:
        self._fit_to_thumbnail()
        self.update()

    def is_on_mark(self, at: QPointF) -> bool:
        return at.x() > self.width() - 28 and at.y() > self.height() - 26

    def mouseDoubleClickEvent(self, event) -> None:
        self.switch()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        edge = "tarn" if self.hasFocus() else "gorse" if self.chosen else "line"
        p.setPen(QPen(theme.colour(edge), 2 if self.chosen or self.hasFocus() else 1))
        p.setBrush(theme.colour("sheet"))
        p.drawRoundedRect(box, 5, 5)
        self.paint_thumbnail(p, box.adjusted(3, 3, -3, -25))
        p.setFont(theme.numbers_font(8))
        p.setPen(theme.colour("ink" if self.frame.on else "quiet"))
        words = str(self.number) if self.frame.on else f"{self.number} out"
        p.drawText(QRectF(9, self.height() - 23, 60, 18), Qt.AlignmentFlag.AlignVCenter, words)
        self.paint_mark(p, QRectF(self.width() - 24, self.height() - 22, 15, 15))


class Lane(QFrame):
    """A set: its name, what it is to become, its frames."""

    def __init__(self, session: Session, frame_set: FrameSet, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session, self.set_id = session, frame_set.id
        self.setObjectName("lane")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 8, 10, 8)
        outer.addLayout(self._header(frame_set))
        strip = QWidget()
        row = QHBoxLayout(strip)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.cards = []
        for n, frame in enumerate(frame_set.frames):
            card = FrameCard(n + 1, frame, thumbnails)
            card.picked.connect(self._pick)
            card.switched.connect(self._switch)
            row.addWidget(card)
            self.cards.append(card)
        row.addStretch(1)
        area = QScrollArea()
        area.setWidget(strip)
        area.setWidgetResizable(True)
        area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFixedHeight(CARD_HIGH + 14)
        outer.addWidget(area)

    def _header(self, frame_set: FrameSet) -> QHBoxLayout:
        header = QHBoxLayout()
        self.name = QLineEdit(frame_set.name)
        self.name.setFixedWidth(180)
        self.name.setAccessibleName("Name of the set")
        self.name.editingFinished.connect(self._rename)
        header.addWidget(self.name)
        used = len(frame_set.used)
        words = f"{used} of {len(frame_set.frames)} frames" if used < len(frame_set.frames) else f"{used} frames"
        count = QLabel(words)
        count.setProperty("role", "quiet")
        header.addWidget(count)
        self.kind = Choice("", (
            ("panorama", "Panorama", "Frames taken by turning the camera become one wide picture"),
            ("stack", "Stack", "Frames of one view become one picture"),
        ))
        self.kind.set_value(str(frame_set.kind))
        self.kind.picked.connect(self._change_kind)
        header.addWidget(self.kind)
        header.addStretch(1)
        self.remove = QPushButton("Remove set")
        self.remove.setToolTip("The frames' files stay as they are; this can be undone")
        self.remove.clicked.connect(self._remove)
        header.addWidget(self.remove)
        return header

    def mark(self, active: bool, frame_id: str | None) -> None:
        edge = theme.current().gorse if active else theme.current().line
        self.setStyleSheet(
            f"QFrame#lane {{ border: {2 if active else 1}px solid {edge}; border-radius: 7px; }}"
        )
        for card in self.cards:
            card.chosen = card.frame.id == frame_id
            card.update()

    def _pick(self, frame_id: str) -> None:
        self._session.select_set(self.set_id)
        self._session.select_frame(frame_id)

    def _switch(self, frame_id: str, on: bool) -> None:
        s = self._session
        s.edit(edits.switch_frame(s.project, self.set_id, frame_id, on))

    def _rename(self) -> None:
        words = self.name.text().strip()
        s = self._session
        if words and words != s.project.set(self.set_id).name:
            s.edit(edits.set_values(s.project, self.set_id, {"name": words}), True)

    def _change_kind(self, kind: str) -> None:
        s = self._session
        s.select_set(self.set_id)
        s.edit(edits.change_kind(s.project, self.set_id, Kind(kind)))

    def _remove(self) -> None:
        s = self._session
        s.try_edit(lambda: edits.remove_set(s.project, self.set_id))


class Wall(QStackedWidget):
    """All lanes, or what to do while there are none."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session, self._thumbnails = session, thumbnails
        self.lanes: list[Lane] = []
        self._shown = None
        self.demo = QPushButton("Open the demo")
        self.add = QPushButton("Add frames…")
        self.addWidget(self._empty())
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self.addWidget(self._area)
        thumbnails.arrived.connect(self._arrived)

    def _empty(self) -> QWidget:
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.addStretch(1)
        mark = QSvgWidget(str(theme.ASSETS / "windfell.svg"))
        mark.setFixedSize(72, 72)
        layout.addWidget(mark, 0, Qt.AlignmentFlag.AlignCenter)
        layout.addSpacing(6)
        title = QLabel("Drop frames here")
        title.setProperty("role", "title")
        words = QLabel(
            "JPEG, PNG or TIFF files, or a whole folder. Overlapping frames become a panorama,\n"
            "frames of one view become a stack; Windfell proposes which. Nothing is ever written to them."
        )
        words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        for part in (title, words):
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
            layout.addWidget(part)
        row = QHBoxLayout()
        row.addStretch(1)
        self.demo.setProperty("main", True)
        row.addWidget(self.demo)
        row.addWidget(self.add)
        row.addStretch(1)
        layout.addSpacing(10)
        layout.addLayout(row)
        layout.addStretch(1)
        return page

    def refresh(self) -> None:
        project = self._session.project
        self.setCurrentIndex(1 if project.sets else 0)
        sets = tuple((s.id, s.name, s.kind, s.frames) for s in project.sets)
        look = (sets, theme.current().name)
        if look != self._shown:
            self._shown = look
            self._rebuild()
        for lane in self.lanes:
            lane.mark(lane.set_id == self._session.set_id, self._session.frame_id)

    def _rebuild(self) -> None:
        at = self._area.verticalScrollBar().value()
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(12, 12, 12, 12)
        column.setSpacing(10)
        self.lanes = []
        for frame_set in self._session.project.sets:
            lane = Lane(self._session, frame_set, self._thumbnails)
            column.addWidget(lane)
            self.lanes.append(lane)
        column.addStretch(1)
        self._put_away(self._area.takeWidget())
        self._area.setWidget(inner)
        self._area.verticalScrollBar().setValue(at)

    def _put_away(self, old: QWidget | None) -> None:
        """Let the old lanes go later: one of them may be what was just pressed."""
        if old is not None:
            old.hide()
            old.setParent(self)
            old.deleteLater()

    def _arrived(self) -> None:
        for lane in self.lanes:
            for card in lane.cards:
                card.arrived()


class Gather(Station):
    """Controls: add frames or a folder, vary a set. Instrument: the chosen frame, sharpness."""

    name = "gather"

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__(session)
        self._thumbnails = thumbnails
        self.page = Wall(session, thumbnails)
        self.add = QPushButton("Add frames…")
        self.folder = QPushButton("Choose a folder…")
        self.vary = QPushButton("Vary this set")
        self.vary.setToolTip("A second variant of the set in hand, sharing its frames")
        self.vary.clicked.connect(self._vary)
        self.nest = QPushButton("Use as a frame…")
        self.nest.setToolTip("Make the picture of another set a frame of the set in hand")
        grid = QGridLayout()
        grid.setSpacing(6)
        for n, button in enumerate((self.add, self.folder, self.vary, self.nest)):
            grid.addWidget(button, n // 2, n % 2)
        self.column.addWidget(self.title("Gather"))
        self.column.addLayout(grid)
        self._count = self.quiet()
        self.column.addWidget(self._count)
        self.column.addStretch(1)
        self._facts = self.quiet()
        self.sharpness = Bars("Sharpness of the frames, compared", "")
        self.sharpness.low_is_bad = True
        self.sharpness.picked.connect(self._pick)
        self.instrument = QWidget()
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(12, 12, 16, 10)
        layout.addWidget(self._facts)
        layout.addWidget(self.sharpness, 1)
        thumbnails.arrived.connect(self._show_sharpness)

    def refresh(self) -> None:
        self.page.refresh()
        frame_set = self.session.frame_set
        for button in (self.vary, self.nest):
            button.setEnabled(frame_set is not None)
        sets = len(self.session.project.sets)
        total = sum(len(s.frames) for s in self.session.project.sets)
        self._count.setText(f"{total} frames in {sets} set{'' if sets == 1 else 's'}" if sets else "No frames yet")
        self._show_facts()
        self._show_sharpness()

    @property
    def settled(self) -> bool:
        return self._thumbnails.settled

    def _show_facts(self) -> None:
        frame_set = self.session.frame_set
        chosen = [f for f in frame_set.frames if f.id == self.session.frame_id] if frame_set else []
        if not chosen:
            self._facts.setText("Choose a frame to see what it is. Space or a double click leaves it out.")
            return
        source = chosen[0].source
        if isinstance(source, FileSource):
            try:
                self._facts.setText(said(source.path, metadata_of(source.path)))
            except WindfellError as error:
                self._facts.setText(str(error))
        else:
            self._facts.setText("This frame is the picture of another set.")

    def _show_sharpness(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None:
            self.sharpness.show_values([])
            return
        found = [self._thumbnails.of(f) for f in frame_set.frames]
        ids = [f.id for f in frame_set.frames]
        chosen = ids.index(self.session.frame_id) if self.session.frame_id in ids else None
        self.sharpness.show_values([t.sharpness if t else None for t in found], chosen)

    def _pick(self, n: int) -> None:
        self.session.select_frame(self.session.frame_set.frames[n].id)

    def _vary(self) -> None:
        s = self.session
        s.edit(edits.vary(s.project, s.set_id))
        s.select_set(s.project.sets[-1].id)
