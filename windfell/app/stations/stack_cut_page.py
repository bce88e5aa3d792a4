"""Combine's page Cut: a stack straightened, brought to a ratio, cropped, curves bent straight."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from windfell.app.picture.crop_frame import CropFrame
from windfell.app.picture.tool import Path
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ratio_box import RatioBox
from windfell.app.widgets.ruler import Ruler
from windfell.job import Job
from windfell.recipe.edits import field_at
from windfell.recipe.model import FrameSet, Project
from windfell.recipe.outline import BentLine, LineKind

HANDS = (
    ("crop", "Crop", "Draw, move and size the frame of the picture"),
    ("level", "Level", "Drag along something that is level: the picture turns"),
    ("upright", "Upright", "Drag along something that stands upright: the picture turns"),
    ("straight", "Straight", "Draw along a curve that is to be straight: the picture bends"),
    ("off", "Done", "Put the tool away"))


class StackCutPage(QWidget):
    """`curved`: a curve that is to be straight was drawn, over shares of the picture."""

    curved = Signal(list)

    def __init__(self, session: Session, view: PictureView) -> None:
        super().__init__()
        self.session, self._view = session, view
        limits = field_at("view.roll_deg").metadata
        self.roll = Ruler("Roll", limits["low"] / 4, limits["high"] / 4, 0.0, "°")
        self.roll.changed.connect(lambda v, first: session.change("view.roll_deg", v, first))
        self.hands = Choice("", HANDS, 3)
        self.hands.set_value("off")
        self.hands.picked.connect(self.take)
        self.ratio = RatioBox(session)
        self.uncrop, self.unbend = QPushButton("All of it"), QPushButton("Take the lines away")
        self.uncrop.setToolTip("Take the crop away")
        self.uncrop.clicked.connect(lambda: session.change("outline.crop", None, True))
        self.unbend.setToolTip("Nothing is bent straight any more")
        self.unbend.clicked.connect(lambda: session.change("outline.lines", (), True))
        self.pencil, self.frame, self.in_hand = Path(), CropFrame(), "off"
        self.pencil.drawn.connect(self.curved)
        self.frame.changed.connect(lambda crop, first: session.change("outline.crop", crop, first))
        view.lined.connect(self._straighten)
        rows = [QHBoxLayout(), QHBoxLayout()]
        for n, part in ((0, QLabel("Ratio")), (0, self.ratio), (0, self.uncrop), (1, self.unbend)):
            rows[n].addWidget(part)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.roll)
        column.addWidget(self.hands)
        for row in rows:
            row.addStretch(1)
            column.addLayout(row)
        column.addStretch(1)

    def take(self, hand: str) -> None:
        """Take a tool in hand: "crop", a line that is to be "level" or "upright", "straight", or "off"."""
        self.in_hand = hand
        self.hands.set_value(hand)
        self._view.take_tool({"crop": self.frame, "straight": self.pencil}.get(hand))
        self._view.lining = hand in ("level", "upright")
        own = self.session.frame_set
        if own is not None and own.outline.crop is not None:
            self.session.changed.emit()

    def refresh(self, own: FrameSet) -> None:
        self.roll.set_value(own.view.roll_deg)
        self.ratio.show_ratio(own.outline.ratio)
        self.uncrop.setEnabled(own.outline.crop is not None)
        self.unbend.setEnabled(bool(own.outline.lines))
        shown = self._view.source.shown
        if shown and shown.set_id == own.id and self.in_hand == "crop":
            ratio = own.outline.ratio
            self.frame.show_crop(own.outline.crop, (shown.width, shown.height), ratio and ratio.width / ratio.height)

    def picture_of(self, project: Project) -> Project:
        """While the crop is in hand, the picture around it is seen too."""
        own = project.set(self.session.set_id)
        if self.in_hand != "crop" or own.outline.crop is None:
            return project
        return project.with_set(replace(own, outline=replace(own.outline, crop=None)))

    def add_curve(self, points: list[QPointF], shown: Project) -> None:
        """A curve over shares of the picture of `shown` is to be straight; kept in shares of the reference."""
        s = self.session
        engine, project, set_id = s.engine, s.project, s.set_id

        def place(job: Job) -> tuple:
            stages = engine.stages(shown, set_id)
            cut = stages.cut(job)
            px = np.array([[p.x() * cut.size[0] - 0.5, p.y() * cut.size[1] - 0.5] for p in points])
            shares = (cut.onto_reference(1.0)(px) + 0.5) / stages.whole_size(job) * 100
            return tuple((round(float(x), 3), round(float(y), 3)) for x, y in shares)

        def done(spots: tuple) -> None:
            if s.project is project:
                line = BentLine(spots, LineKind.STRAIGHT)
                s.change("outline.lines", (*s.frame_set.outline.lines, line), True)

        s.desk.ask("stack line", place, done)

    def _straighten(self, start: QPointF, end: QPointF) -> None:
        """Turn the picture until the line is level or upright."""
        shown, own = self._view.source.shown, self.session.frame_set
        if self.session.station != "combine" or shown is None or own is None:
            return
        run = QPointF((end.x() - start.x()) * shown.width, (end.y() - start.y()) * shown.height)
        angle = math.degrees(math.atan2(run.y(), run.x()))
        if self.in_hand == "upright":
            angle -= 90
        off = (angle + 90) % 180 - 90
        limit = self.roll._line.high
        self.session.change("view.roll_deg", round(min(max(own.view.roll_deg + off, -limit), limit), 2), True)
