"""Shape: the projection, the view's direction, the outline."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QPushButton, QWidget

from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.proofs import Alternative, Proofs
from windfell.app.widgets.ruler import Ruler
from windfell.geometry.projections import PROJECTIONS
from windfell.job import Job
from windfell.recipe.edits import field_at
from windfell.recipe.model import Edges, FrameSet, Project, ProjectionChoice, View
from windfell.shape.stretch import most_stretch

RULERS = (("Turn", "view.yaw_deg"), ("Tilt", "view.pitch_deg"), ("Roll", "view.roll_deg"))


class Shape(Station):
    """Drag the picture to turn and tilt it; the proofs show every projection of it, live."""

    name = "shape"

    def __init__(self, session: Session, view: PictureView) -> None:
        super().__init__(session)
        self._view = view
        self._start: View | None = None
        self.rulers: dict[str, Ruler] = {}
        self.column.addWidget(self.title("Shape"))
        for words, path in RULERS:
            limits = field_at(path).metadata
            ruler = Ruler(words, limits["low"], limits["high"], 0.0, "°")
            ruler.changed.connect(lambda v, first, p=path: session.change(p, v, first))
            self.rulers[path] = ruler
            self.column.addWidget(ruler)
        self.edges = Choice("Edges", (
            ("leave", "Leave", "Keep everything, with a ragged outline"),
            ("trim", "Trim", "The largest rectangle that is wholly covered")))
        self.edges.picked.connect(lambda v: session.change("outline.edges", Edges(v), True))
        self.drag = QPushButton("Drag turns", checkable=True)
        self.drag.setToolTip("Dragging the picture turns and tilts the view instead of moving it")
        self.drag.toggled.connect(self._set_turning)
        self.level = QPushButton("Level")
        self.level.setToolTip("Turn, tilt and roll back to the level horizon that was found")
        self.level.clicked.connect(self.make_level)
        self.sphere = QCheckBox("Whole sphere")
        self.sphere.setToolTip("All 360 by 180 degrees, for viewers of spheres")
        self.sphere.clicked.connect(lambda on: session.change("view.full_sphere", on, True))
        row = QHBoxLayout()
        row.addWidget(self.edges, 1)
        self.column.addLayout(row)
        grid = QGridLayout()
        for n, part in enumerate((self.level, self.drag, self.sphere)):
            grid.addWidget(part, 0, n)
        self.column.addLayout(grid)
        self.column.addStretch(1)
        self.proofs = Proofs(
            session, [Alternative(p.name, p.title, p.suits) for p in PROJECTIONS.values()],
            _in_projection, _figures,
        )
        self.proofs.chosen.connect(self._choose)
        self.instrument = QWidget()
        layout = QHBoxLayout(self.instrument)
        layout.setContentsMargins(8, 10, 16, 10)
        layout.addWidget(self.proofs)
        view.turned.connect(self._dragged)

    @property
    def settled(self) -> bool:
        return self.proofs.settled

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None or "shape" not in self.session.stations:
            return
        for path, ruler in self.rulers.items():
            ruler.set_value(getattr(frame_set.view, path.partition(".")[2]))
        self.edges.set_value(str(frame_set.outline.edges))
        self.sphere.setChecked(frame_set.view.full_sphere)
        active = str(frame_set.view.projection)
        if frame_set.view.projection is ProjectionChoice.AUTO:
            active = self._automatic(frame_set)
        self.proofs.show_for(self.session.project, frame_set.id, active)

    def _automatic(self, frame_set: FrameSet) -> str:
        """The automatic choice as the picture shows it now; its reason goes to the tooltips."""
        shown = self._view.source.shown
        return getattr(shown, "projection", "") if shown and shown.set_id == frame_set.id else ""

    def entered(self) -> None:
        self._view.turning = self.drag.isChecked()

    def left(self) -> None:
        self._view.turning = False

    def make_level(self) -> None:
        """Back to the found horizon, as one edit."""
        self.session.change_all(
            {"view.yaw_deg": 0.0, "view.pitch_deg": 0.0, "view.roll_deg": 0.0}, True
        )

    def _choose(self, projection: str) -> None:
        self.session.change("view.projection", ProjectionChoice(projection), True)

    def _set_turning(self, on: bool) -> None:
        self._view.turning = on

    def _dragged(self, dx: float, dy: float, ended: bool) -> None:
        """Turn and tilt by a drag of so many full-size pixels, since its start."""
        frame_set, shown = self.session.frame_set, self._view.source.shown
        if frame_set is None or shown is None:
            return
        first = self._start is None
        if first:
            self._start = frame_set.view
        deg = float(np.degrees(1.0 / shown.px_per_unit))
        yaw = (self._start.yaw_deg - dx * deg + 180.0) % 360.0 - 180.0
        pitch = float(np.clip(self._start.pitch_deg + dy * deg, -90.0, 90.0))
        self.session.change_all(
            {"view.yaw_deg": round(yaw, 2), "view.pitch_deg": round(pitch, 2)}, first
        )
        if ended:
            self._start = None


def _in_projection(project: Project, set_id: str, projection: str) -> Project:
    frame_set = project.set(set_id)
    view = replace(frame_set.view, projection=ProjectionChoice(projection), full_sphere=False)
    return project.with_set(replace(frame_set, view=view))


def _figures(engine, project: Project, set_id: str, job: Job) -> list[str]:
    """Size, how much picture is kept, how unevenly the scale runs."""
    stages = engine.stages(project, set_id)
    canvas = stages.canvas(job)
    kept = stages.kept_area(job)
    stretch = most_stretch(canvas, stages.posed(job))
    return [
        f"{canvas.width} x {canvas.height} px",
        f"kept {100 * kept:.0f} %   stretch {stretch:.1f} x",
    ]
