"""Combine: the stack's rule, chosen by its proofs."""

from __future__ import annotations

import math
from dataclasses import replace

from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from windfell.app.picture.crop_frame import CropFrame
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.proofs import Alternative, Proofs
from windfell.app.widgets.ruler import Ruler
from windfell.combine.rules import RULES
from windfell.job import Job
from windfell.recipe.edits import field_at
from windfell.recipe.model import Project, Rule


class Combine(Station):
    """The proofs show every rule of the set in hand, live."""

    name = "combine"

    def __init__(self, session: Session, view: PictureView) -> None:
        super().__init__(session)
        self._view = view
        picture = view.source
        self.rule = Choice("", [(r.name, r.title, r.suits) for r in RULES.values()])
        self.rule.picked.connect(self._choose)
        self._why = self.quiet()
        self.column.addWidget(self.title("Combine"))
        self.column.addWidget(self.rule)
        self.column.addWidget(self._why)
        limits = field_at("view.roll_deg").metadata
        self.roll = Ruler("Roll", limits["low"] / 4, limits["high"] / 4, 0.0, "°")
        self.roll.changed.connect(lambda v, first: session.change("view.roll_deg", v, first))
        self.column.addWidget(self.roll)
        self.hand = Choice("", (
            ("crop", "Crop", "Draw, move and size the frame of the picture"),
            ("level", "Level", "Drag along something that is level: the picture turns"),
            ("upright", "Upright", "Drag along something that stands upright: the picture turns"),
            ("off", "Done", "Put the tool away")))
        self.hand.set_value("off")
        self.hand.picked.connect(self.take)
        self.uncrop = QPushButton("All of it")
        self.uncrop.setToolTip("Take the crop away")
        self.uncrop.clicked.connect(lambda: session.change("outline.crop", None, True))
        row = QHBoxLayout()
        row.addWidget(self.hand)
        row.addWidget(self.uncrop)
        self.column.addLayout(row)
        self.frame, self.in_hand = CropFrame(), "off"
        self.frame.changed.connect(lambda crop, first: session.change("outline.crop", crop, first))
        view.lined.connect(self._straighten)
        self.column.addStretch(1)
        self.proofs = Proofs(
            session, [Alternative(r.name, r.title, r.suits) for r in RULES.values()],
            _with_rule, _figures, picture,
        )
        self.proofs.chosen.connect(self._choose)
        self.instrument = QWidget()
        layout = QHBoxLayout(self.instrument)
        layout.setContentsMargins(8, 10, 16, 10)
        layout.addWidget(self.proofs)

    @property
    def needed(self) -> list[QWidget]:
        return [self.rule]

    @property
    def settled(self) -> bool:
        return self.proofs.settled

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None or "combine" not in self.session.stations:
            return
        rule = str(frame_set.combining.rule)
        self.rule.set_value(rule)
        self.roll.set_value(frame_set.view.roll_deg)
        self.uncrop.setEnabled(frame_set.outline.crop is not None)
        shown = self._view.source.shown
        if shown and shown.set_id == frame_set.id and self.in_hand == "crop":
            ratio = frame_set.outline.ratio
            size = shown.width, shown.height
            self.frame.show_crop(frame_set.outline.crop, size, ratio and ratio.width / ratio.height)
        used = len(frame_set.used)
        self._why.setText(
            f"{RULES[rule].title} of {used} frames: {RULES[rule].suits}. Hold B to see the "
            "reference frame alone."
        )
        self.proofs.show_for(self.session.project, frame_set.id, rule)

    def entered(self) -> None:
        self.take(self.in_hand)

    def left(self) -> None:
        self._view.take_tool(None)
        self._view.lining = False

    def take(self, hand: str) -> None:
        """Take a tool in hand: "crop", a line that is to be "level" or "upright", or "off"."""
        self.in_hand = hand
        self.hand.set_value(hand)
        self._view.take_tool(self.frame if hand == "crop" else None)
        self._view.lining = hand in ("level", "upright")
        if self._shows_crop:
            self.session.changed.emit()

    @property
    def _shows_crop(self) -> bool:
        frame_set = self.session.frame_set
        return frame_set is not None and frame_set.outline.crop is not None

    def picture_of(self, project: Project) -> Project:
        """While the crop is in hand, the picture around it is seen too."""
        frame_set = project.set(self.session.set_id)
        if self.in_hand != "crop" or frame_set.outline.crop is None:
            return project
        return project.with_set(replace(frame_set, outline=replace(frame_set.outline, crop=None)))

    def _straighten(self, start: QPointF, end: QPointF) -> None:
        """Turn the picture until the line is level or upright."""
        shown, frame_set = self._view.source.shown, self.session.frame_set
        if self.session.station != "combine" or shown is None or frame_set is None:
            return
        run = QPointF((end.x() - start.x()) * shown.width, (end.y() - start.y()) * shown.height)
        angle = math.degrees(math.atan2(run.y(), run.x()))
        if self.in_hand == "upright":
            angle -= 90
        off = (angle + 90) % 180 - 90
        limit = self.roll._line.high
        self.session.change("view.roll_deg", round(min(max(frame_set.view.roll_deg + off, -limit), limit), 2), True)

    def _choose(self, rule: str) -> None:
        self.session.change("combining.rule", Rule(rule), True)


def _with_rule(project: Project, set_id: str, rule: str) -> Project:
    frame_set = project.set(set_id)
    return project.with_set(
        replace(frame_set, combining=replace(frame_set.combining, rule=Rule(rule)))
    )


def _figures(engine, project: Project, set_id: str, job: Job) -> list[str]:
    return [RULES[str(project.set(set_id).combining.rule)].suits]
