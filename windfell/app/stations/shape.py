"""Shape: the projection, the view's direction, the outline."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QWidget

from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.proofs import Alternative, Proofs
from windfell.app.widgets.ruler import Ruler
from windfell.engine.lines import line_on_frame
from windfell.geometry.projections import PROJECTIONS
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.edits import field_at
from windfell.recipe.model import Camera, Edges, FrameSet, LineKind, PlumbLine, Project, ProjectionChoice, View
from windfell.shape.stretch import most_stretch

RULERS = (("Turn", "view.yaw_deg"), ("Tilt", "view.pitch_deg"), ("Roll", "view.roll_deg"))


class Shape(Station):
    """Drag the picture to turn and tilt it; the proofs show every projection of it, live."""

    name = "shape"

    def __init__(self, session: Session, view: PictureView) -> None:
        super().__init__(session)
        self._view = view
        self._start: View | None = None
        self.way = "moves"
        self.rulers: dict[str, Ruler] = {}
        self.column.setContentsMargins(16, 6, 12, 6)
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
        self.level = QPushButton("Back to level")
        self.level.setToolTip("Turn, tilt and roll back to the level horizon that was found")
        self.level.clicked.connect(self.make_level)
        self.sphere = QCheckBox("Whole sphere")
        self.sphere.setToolTip("All 360 by 180 degrees, for viewers of spheres")
        self.sphere.clicked.connect(lambda on: session.change("view.full_sphere", on, True))
        self.drag = Choice("Drag", (
            ("moves", "Moves", "Dragging moves the picture in its place"),
            ("turns", "Turns", "Dragging turns and tilts the view"),
            ("level", "Level", "Drag along something that is level: the picture obeys"),
            ("upright", "Upright", "Drag along something that stands upright: the picture obeys")))
        self.drag.set_value("moves")
        self.drag.picked.connect(self.set_drag)
        view.lined.connect(self._draw_line)
        top = QHBoxLayout()
        top.addWidget(self.title("Shape"))
        top.addStretch(1)
        top.addWidget(self.level)
        self.column.insertLayout(0, top)
        row = QHBoxLayout()
        row.addWidget(self.edges)
        row.addStretch(1)
        row.addWidget(self.sphere)
        self.column.addLayout(row)
        self.column.addWidget(self.drag)
        self.column.addStretch(1)
        self.proofs = Proofs(
            session, [Alternative(p.name, p.title, p.suits) for p in PROJECTIONS.values()],
            _in_projection, _figures, view.source,
        )
        self.proofs.chosen.connect(self._choose)
        self.instrument = QWidget()
        layout = QHBoxLayout(self.instrument)
        layout.setContentsMargins(8, 10, 16, 10)
        layout.addWidget(self.proofs)
        view.turned.connect(self._dragged)

    @property
    def needed(self) -> list[QWidget]:
        return [*self.rulers.values(), self.level]

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
        slid = frame_set.registration.camera is Camera.SLID
        # along a flat subject there is one projection, and no sphere
        self.sphere.setVisible(not slid)
        for path in ("view.yaw_deg", "view.pitch_deg"):
            self.rulers[path].setVisible(not slid)
        self.drag.set_shown("turns", not slid)
        if slid and self.way == "turns":
            self.set_drag("moves")
        self.proofs.show_only("rectilinear" if slid else None)
        active = str(frame_set.view.projection)
        if frame_set.view.projection is ProjectionChoice.AUTO:
            active = self._automatic(frame_set)
        self.proofs.show_for(self.session.project, frame_set.id, active)

    def _automatic(self, frame_set: FrameSet) -> str:
        """The automatic choice as the picture shows it now; its reason goes to the tooltips."""
        shown = self._view.source.shown
        return getattr(shown, "projection", "") if shown and shown.set_id == frame_set.id else ""

    def entered(self) -> None:
        self.set_drag(self.way)

    def left(self) -> None:
        self._view.turning = self._view.lining = False

    def set_drag(self, way: str) -> None:
        """What dragging on the picture does: "moves", "turns", or draws a line: "level", "upright"."""
        self.way = way
        self.drag.set_value(way)
        self._view.turning = way == "turns"
        self._view.lining = way in ("level", "upright")

    def _draw_line(self, start: QPointF, end: QPointF) -> None:
        """The line goes to the frame that shows it best; the registration obeys it."""
        s, kind = self.session, LineKind(self.way)
        engine, project, set_id = s.engine, s.project, s.set_id
        ends = [(p.x(), p.y()) for p in (start, end)]

        def draw(line: PlumbLine) -> None:
            if s.project is not project:
                return
            lines = (*s.frame_set.registration.lines, line)
            s.edit(edits.set_lines(s.project, s.set_id, lines, f"draw a line that is {kind}"), True)
            number = [f.id for f in s.frame_set.frames].index(line.frame) + 1
            s.say(f"The line is {kind} now; it lies on frame {number}, under Align, Two frames.", "good")

        s.desk.ask("line", lambda job: line_on_frame(engine, project, set_id, ends, kind, job), draw)

    def make_level(self) -> None:
        """Back to the found horizon, as one edit."""
        self.session.change_all(
            {"view.yaw_deg": 0.0, "view.pitch_deg": 0.0, "view.roll_deg": 0.0}, True
        )

    def _choose(self, projection: str) -> None:
        self.session.change("view.projection", ProjectionChoice(projection), True)

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
    size, kept = f"{canvas.width} x {canvas.height} px", f"kept {100 * kept:.0f} %"
    if project.set(set_id).registration.camera is Camera.SLID:
        return [size, kept]
    return [size, f"{kept}   stretch {most_stretch(canvas, stages.posed(job)):.1f} x"]
