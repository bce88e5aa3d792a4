"""Subjects' best of a group: a person is pointed at, all frames' appearances side by side, the wished one laid in."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QToolButton, QVBoxLayout, QWidget

from windfell.app.picture.images import image_of_rgb
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.engine.best_of import Appearance, Box, appearances, best_layer
from windfell.engine.pointed import around_both, pointed_box
from windfell.job import Job
from windfell.recipe import pieces
from windfell.recipe.model import FrameSet

TILE = QSize(84, 84)
TEACH = ("Press a face or a figure on the picture, or draw a box around it; then press the wished appearance. Whose "
         "eyes are shut is not told: nothing fit for it ships with the vision library.")
NOTHING = "Nothing with an edge of its own lies there in most frames: draw a box instead."


class BestPage(QWidget):
    """`boxing`: a box is to be drawn on the picture. `placed`: another place is in hand."""

    boxing = Signal(bool)
    placed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.place: Box | None = None
        self.buttons: list[QToolButton] = []
        self._of: str | None = None
        self.draw = QPushButton("Box…", checkable=True)
        self.draw.setToolTip("Draw a box around one person on the picture, instead of pressing it")
        self.draw.clicked.connect(lambda on: self.boxing.emit(on))
        self.words = Station.quiet(TEACH)
        row = QHBoxLayout()
        row.addWidget(self.draw)
        row.addWidget(self.words, 1)
        self._row = QHBoxLayout()
        self._row.setSpacing(6)
        inside = QWidget()
        inside.setLayout(self._row)
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addWidget(scroll, 1)

    @property
    def settled(self) -> bool:
        return not any(self.session.desk.runs(name) for name in ("pointed", "appearances", "best"))

    def refresh(self) -> None:
        """Another set: nothing is boxed there yet."""
        own = self.session.frame_set
        if own is not None and own.id != self._of:
            self._of, self.place = own.id, None
            self._clear()
            self.words.setText(TEACH)

    def _clear(self) -> None:
        for button in self.buttons:
            button.deleteLater()
        self.buttons = []

    def box(self, share: QRectF, size: tuple[int, int]) -> None:
        """A box was drawn, in shares of a picture of `size` px: show all appearances of it."""
        w, h = size
        self.draw.setChecked(False)
        self._look((round(share.x() * w), round(share.y() * h), max(8, round(share.width() * w)),
                    max(8, round(share.height() * h))))

    def point(self, share: QPointF, size: tuple[int, int], more: bool) -> None:
        """A spot (in shares of a picture of `size` px) was pressed: find what lies there, `more` beside the place in
        hand.
        """
        s, own = self.session, self.session.frame_set
        spot, before = (share.x() * size[0], share.y() * size[1]), self.place if more else None
        engine, ground = s.engine, pieces.without_layers(s.project, own.id)

        def found(box: Box | None) -> None:
            if s.frame_set is None or s.set_id != own.id:
                return
            if box is None:
                s.say(NOTHING, "wrong")
            else:
                self._look(box if before is None else around_both(before, box))

        s.desk.ask("pointed", lambda job: pointed_box(engine.stages(ground, own.id), spot, job), found,
                   lambda words: s.say(words, "wrong"))

    def _look(self, place: Box) -> None:
        s, own = self.session, self.session.frame_set
        self.place = place
        self.placed.emit()
        engine, ground = s.engine, pieces.without_layers(s.project, own.id)

        def look(job: Job) -> list[Appearance]:
            return appearances(engine.stages(ground, own.id), place, job)

        s.desk.ask("appearances", look, lambda found: self._show(own, found), lambda words: s.say(words, "wrong"))

    def _show(self, own: FrameSet, found: list[Appearance]) -> None:
        self._clear()
        for one in found:
            button = QToolButton()
            button.setIcon(QIcon(QPixmap.fromImage(image_of_rgb(one.picture))))
            button.setIconSize(TILE)
            number = own.numbers[one.frame]
            button.setText(f"{number}   sharp {100 * one.sharpness:.0f} %")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setAccessibleName(f"Frame {number}")
            button.setToolTip(f"Lay frame {number} in here")
            button.clicked.connect(lambda _=False, n=one.frame: self.lay(n))
            self._row.insertWidget(self._row.count(), button)
            self.buttons.append(button)
        self.words.setText(f"{len(found)} appearances. Press one: it is laid in where it agrees with the picture.")

    def lay(self, frame: int) -> None:
        """Lay a frame into the box; what this box had before goes."""
        s, own, place = self.session, self.session.frame_set, self.place
        if own is None or place is None or frame >= len(own.used):
            return
        number = own.numbers[frame]
        project = pieces.whole_ground(s.project, own.id)
        there = [x for x in own.combining.layers if not self._same_place(x.name, place)]
        below = project.set(own.id)
        project = project.with_set(replace(below, combining=replace(below.combining, layers=tuple(there))))
        engine = s.engine

        def make(job: Job):
            return best_layer(engine.stages(project, own.id), frame, place, job)

        def done(found) -> None:
            if s.frame_set is None or s.set_id != own.id:
                return
            layer, mask = found
            layer = replace(layer, name=f"{layer.name} {self._mark(place)}")
            s.engine.masks[pieces.mask_of(layer)] = mask
            old = {pieces.mask_of(x) for x in s.frame_set.combining.layers if self._same_place(x.name, place)}
            s.edit(pieces.swap(s.project, s.set_id, old, [layer], f"best of frame {number}"), True)
            self.words.setText(f"Frame {number} is laid in: light by {layer.exposure_ev:+.2f} EV, moved by "
                               f"{abs(layer.right_px) + abs(layer.down_px):.0f} px.")

        s.desk.ask("best", make, done, lambda words: s.say(words, "wrong"))

    @staticmethod
    def _mark(place: Box) -> str:
        return "at {}, {}".format(*place[:2])

    def _same_place(self, name: str, place: Box) -> bool:
        return name.startswith("best: ") and name.endswith(f" {self._mark(place)}")
