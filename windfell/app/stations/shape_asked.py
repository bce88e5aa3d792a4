"""What Shape asks of the engine once the hand rests: the order of the proofs, what the outline costs, where edges,
lines and the net lie on the picture.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.engine.shape_marks import OutlineSaid, edges_on_picture, lines_off, net_places, outline_said
from windfell.job import Job
from windfell.recipe.model import Camera, picture_parts
from windfell.recipe.outline import Edges
from windfell.shape.choice import ranked


class ShapeAsked:
    """For a station with proofs, pages and tools. `said`: what the outline costs, once it is known."""

    def __init__(self, session: Session, view: PictureView, station: Any) -> None:
        self._session, self._view, self._of = session, view, station
        self.said: OutlineSaid | None = None
        self._said_of = self._marks_of = self._ranked_of = None

    def ask(self) -> None:
        s = self._session
        if s.station != "shape" or s.frame_set is None or s.moving or not self._view.source.settled:
            return
        if self._view.source.error is not None:
            return
        self._ask_order()
        if self._of.tab == "outline":
            self._ask_said()
        if self._of.tab in ("outline", "lines"):
            self._ask_marks()

    def _ask_order(self) -> None:
        s = self._session
        engine, project, set_id = s.engine, s.project, s.set_id
        frame_set = s.frame_set
        parts = set_id, frame_set.used, frame_set.registration
        if parts == self._ranked_of or frame_set.registration.camera is Camera.SLID:
            return
        self._ranked_of = parts

        def order(job: Job) -> list[str]:
            stages = engine.stages(project, set_id)
            return ranked(stages.posed(job), stages.edges(job))

        s.desk.ask("proof order", order, self._of.proofs.put_in_order, lambda _: None, quiet=True)

    def _ask_said(self) -> None:
        s = self._session
        engine, project, set_id = s.engine, s.project, s.set_id
        parts = set_id, picture_parts(project, set_id)
        if parts == self._said_of:
            return
        self._said_of = parts
        own = project.set(set_id)
        trimmed = project.with_set(replace(own, outline=replace(own.outline, edges=Edges.TRIM)))

        def say(job: Job) -> OutlineSaid:
            return outline_said(engine.stages(project, set_id), engine.stages(trimmed, set_id), job)

        def done(said: OutlineSaid) -> None:
            self.said = said
            bent = own.outline.edges is Edges.PULL or bool(own.outline.net or own.outline.lines)
            self._of.outline.show_said(said, bent)
            self._view.update()

        self._of.outline.show_said(None, False)
        s.desk.ask("outline said", say, done, lambda _: None, quiet=True)

    def _ask_marks(self) -> None:
        """Where found edges, nodes and lines lie on the picture."""
        s = self._session
        project = self._of.picture_of(s.project)
        engine, set_id = s.engine, s.set_id
        parts = set_id, picture_parts(project, set_id)
        if parts == self._marks_of:
            return
        self._marks_of = parts

        def look(job: Job):
            stages = engine.stages(project, set_id)
            return edges_on_picture(stages, job), net_places(stages, job), lines_off(stages, job)

        def done(found) -> None:
            own = self._of.by_hand
            own.picker.edges, places, off = found
            moved = {(p.column, p.row) for p in self._session.frame_set.outline.net}
            own.net.show_places(places, moved)
            self._of.show_off(off)
            self._view.update()

        s.desk.ask("shape marks", look, done, lambda _: None, quiet=True)
