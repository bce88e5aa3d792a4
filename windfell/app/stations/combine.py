"""Combine: the stack's rule, chosen by its proofs."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtWidgets import QHBoxLayout, QWidget

from windfell.app.picture.source import PictureSource
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.proofs import Alternative, Proofs
from windfell.combine.rules import RULES
from windfell.job import Job
from windfell.recipe.model import Project, Rule


class Combine(Station):
    """The proofs show every rule of the set in hand, live."""

    name = "combine"

    def __init__(self, session: Session, picture: PictureSource) -> None:
        super().__init__(session)
        self.rule = Choice("", [(r.name, r.title, r.suits) for r in RULES.values()])
        self.rule.picked.connect(self._choose)
        self._why = self.quiet()
        self.column.addWidget(self.title("Combine"))
        self.column.addWidget(self.rule)
        self.column.addWidget(self._why)
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
        used = len(frame_set.used)
        self._why.setText(
            f"{RULES[rule].title} of {used} frames: {RULES[rule].suits}. Hold B to see the "
            "reference frame alone."
        )
        self.proofs.show_for(self.session.project, frame_set.id, rule)

    def _choose(self, rule: str) -> None:
        self.session.change("combining.rule", Rule(rule), True)


def _with_rule(project: Project, set_id: str, rule: str) -> Project:
    frame_set = project.set(set_id)
    return project.with_set(
        replace(frame_set, combining=replace(frame_set.combining, rule=Rule(rule)))
    )


def _figures(engine, project: Project, set_id: str, job: Job) -> list[str]:
    return [RULES[str(project.set(set_id).combining.rule)].suits]
