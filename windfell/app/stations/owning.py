"""Owning by hand at Join: a frame seen in its place, what it owns, and areas that it keeps or never owns."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from windfell.app.area_hand import AreaHand, AreaTarget, veil_of
from windfell.app.picture.images import image_of
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.engine.owning import candidates_at, given_spot, next_owner
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.edits import Edit
from windfell.recipe.giving import forget_given, given_area, with_given
from windfell.recipe.model import Project, picture_parts

SIDE = 1200
GHOST = 0.28
SPOT_SHARE = 0.024


class Owning(QWidget):
    """Works on the frame chosen in the column of frames. `overlay` is what it lays over the picture, or None."""

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__()
        self.session, self._view, self.hand = session, view, hand
        self.overlay: QImage | None = None
        self._asked: tuple | None = None
        self.words = Station.quiet()
        self.sees = Choice("See", (
            ("picture", "Picture", "The joined picture"),
            ("alone", "Frame", "The chosen frame in its place, the others ghosted"),
            ("owned", "What it owns", "What of the picture comes from the chosen frame")))
        self.sees.set_value("picture")
        self.seeing = "picture"
        self.sees.picked.connect(self._see)
        self.keep = QPushButton("Keep here…", checkable=True)
        self.keep.setToolTip("Paint where the chosen frame must own the picture")
        self.never = QPushButton("Never here…", checkable=True)
        self.never.setToolTip("Paint where the chosen frame must not own the picture")
        self.forget = QPushButton("As it was")
        self.forget.setToolTip("Give nothing to the chosen frame by hand")
        self.keep.clicked.connect(lambda on: self.paint(True) if on else hand.put_away())
        self.never.clicked.connect(lambda on: self.paint(False) if on else hand.put_away())
        self.forget.clicked.connect(self._forget)
        row = QHBoxLayout()
        for button in (self.keep, self.never, self.forget):
            row.addWidget(button)
        row.addStretch(1)
        self.hint = Station.quiet("F chooses the frame under the pointer; Shift+F gives the spot there to the next.")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(7)
        column.addWidget(self.words)
        column.addWidget(self.sees)
        column.addLayout(row)
        column.addWidget(self.hint)
        column.addStretch(1)
        hand.taken.connect(self.refresh)

    @property
    def frame_id(self) -> str | None:
        own = self.session.frame_set
        return self.session.frame_id if own and self.session.frame_id in {f.id for f in own.used} else None

    def refresh(self) -> None:
        """Show what is given to the chosen frame now."""
        own, frame_id = self.session.frame_set, self.frame_id
        if own is None:
            return
        for part in (self.keep, self.never):
            part.setEnabled(frame_id is not None)
        held = self.hand.target
        mine = held is not None and held.frame == frame_id and held.set_id == own.id
        self.keep.setChecked(mine and held.name.startswith("Keep"))
        self.never.setChecked(mine and held.name.startswith("Never"))
        if frame_id is None:
            self.words.setText("Choose a frame in the column at the left, or point at it and press F.")
            self.forget.setEnabled(False)
        else:
            number = self._number(frame_id)
            given = [g for g in own.joining.given if g.frame == frame_id]
            masks = [m for m in own.frame(frame_id).masks if m.purpose in ("keep", "never")]
            self.forget.setEnabled(bool(given or masks))
            said = [("keeps" if g.keep else "never owns") + f" {len(g.area.parts)} drawn" for g in given]
            said += [f"{m.purpose} by a mask" for m in masks]
            self.words.setText(f"Frame {number}" + (": " + ", ".join(said) if said else ": nothing given by hand"))
        self._ask()

    def _number(self, frame_id: str) -> int:
        return self.session.frame_set.number_of(frame_id)

    def paint(self, keep: bool) -> None:
        """Take the chosen frame's area in hand."""
        frame_id, set_id = self.frame_id, self.session.set_id
        if frame_id is None:
            return

        def read(project: Project):
            own = next((s for s in project.sets if s.id == set_id), None)
            return given_area(own, frame_id, keep) if own and frame_id in {f.id for f in own.used} else None

        name = f"{'Keep' if keep else 'Never'} for frame {self._number(frame_id)}"
        self.hand.take(AreaTarget(
            set_id, name, read, lambda project, area: with_given(project, set_id, frame_id, keep, area), frame_id))

    def _forget(self) -> None:
        if self.frame_id is not None:
            self.session.edit(forget_given(self.session.project, self.session.set_id, self.frame_id), True)

    # -- by the pointer

    def take_frame(self) -> None:
        """The frame that owns what is under the pointer is chosen."""
        def done(frame_id: str) -> None:
            self.session.select_frame(frame_id)

        self._at_pointer(lambda stages, x, y, job: self._id(stages, candidates_at(stages, x, y, job)[0], job), done)

    def give_next(self) -> None:
        """The spot under the pointer goes to the next frame that shows it."""
        project = self.session.project

        def work(stages, x: float, y: float, job: Job) -> Edit:
            radius = SPOT_SHARE / 2 * stages.size(job)[0]
            return given_spot(stages, project, next_owner(stages, x, y, job), x, y, radius, job)

        def done(edit: Edit) -> None:
            if self.session.project is project:
                self.session.edit(edit, True)

        self._at_pointer(work, done)

    @staticmethod
    def _id(stages, n: int, job: Job) -> str | None:
        return None if n < 0 else stages.set.used[stages.registration(job).placed[n]].id

    def _at_pointer(self, work: Callable, done: Callable) -> None:
        s, at = self.session, self._view.pointer
        if at is None or s.frame_set is None:
            s.say("Point at the picture first.", "info")
            return
        engine, project, set_id = s.engine, self.hand.picture_of(s.project), s.set_id

        def ask(job: Job):
            stages = engine.stages(project, set_id)
            width, height = stages.size(job)
            return work(stages, at.x() * width - 0.5, at.y() * height - 0.5, job)

        s.desk.ask("owner at pointer", ask, done)

    # -- what is seen

    def _see(self, what: str) -> None:
        self.seeing = what
        self.overlay, self._asked = None, None
        self._ask()
        self._view.update()

    def _ask(self) -> None:
        s = self.session
        if "join" not in s.stations:
            self.overlay = None
            return
        if self.seeing == "picture" or self.frame_id is None or s.frame_set is None or s.moving:
            self.overlay = None if self.seeing == "picture" or self.frame_id is None else self.overlay
            return
        key = self.seeing, self.frame_id, picture_parts(s.project, s.set_id)
        if key == self._asked:
            return
        self._asked = key
        engine, project, set_id, frame_id, what = s.engine, s.project, s.set_id, self.frame_id, self.seeing

        def done(image: QImage | None) -> None:
            if self._asked == key:
                self.overlay = image
                self._view.update()

        def forget(*_) -> None:
            self._asked = None

        def look(job: Job) -> QImage | None:
            return frame_seen(engine, project, set_id, frame_id, what, self.hand.tool.colour, job)

        s.desk.ask("frame seen", look, done, forget, forget, quiet=True)

    def paint_over(self, painter: QPainter, rect: QRectF) -> None:
        if self.overlay is not None:
            painter.drawImage(rect, self.overlay)


def frame_seen(engine, project: Project, set_id: str, frame_id: str, what: str, colour, job: Job) -> QImage | None:
    """A frame in its place with the others ghosted ("alone"), or a veil over what it owns ("owned"); None if it has
    no place.
    """
    stages = engine.stages(project, set_id)
    ids = [stages.set.used[at].id for at in stages.registration(job).placed]
    if frame_id not in ids:
        return None
    n = ids.index(frame_id)
    width, height = stages.size(job)
    canvas = stages.canvas(job).scaled(min(1.0, SIDE / max(width, height)))
    region = Region(0, 0, canvas.width, canvas.height)
    if what == "owned":
        owned = stages.owners(canvas, region, job) == n
        return veil_of(owned.astype(np.float32), colour, False)
    seen = stages.warped_frame(n, canvas, region, job)
    out = np.zeros((canvas.height, canvas.width, 4), np.uint8)
    out[stages.owners(canvas, region, job) >= 0] = (*[round(150 * (1 - GHOST))] * 3, round(255 * (1 - GHOST)))
    if seen is not None:
        mask = seen.mask()
        out[mask, :3] = to_view(np.ascontiguousarray(seen.light))[mask]
        out[mask, 3] = 255
    return image_of(out)
