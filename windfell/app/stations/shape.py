"""Shape: the projection, the view's direction, the outline, lines that obey."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QWidget

from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.shape_asked import ShapeAsked
from windfell.app.stations.shape_by_hand import ShapeByHand
from windfell.app.stations.shape_pages import FieldPage, LinesPage, OutlinePage, ViewPage
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.line_rows import LineRow
from windfell.app.widgets.proofs import Alternative, Proofs
from windfell.engine.lines import line_on_frame
from windfell.engine.shape_marks import OutlineSaid
from windfell.geometry.projections import PROJECTIONS
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.model import Camera, FrameSet, Kind, PlumbLine, Project, ProjectionChoice, View
from windfell.recipe.outline import Crop, LineKind
from windfell.shape.figures import projection_figures

PAGES = (
    ("view", "View", "Where the picture looks"), ("field", "Field", "How much is seen, room on the sides"),
    ("outline", "Outline", "Leave, trim or pull the edges; crop; bend by hand"),
    ("lines", "Lines", "Things that are to be level, upright or straight"),
)
CARD_WIDE = 196


class Shape(Station):
    """Drag the picture to turn and tilt it; the proofs show every projection of it, live."""

    name = "shape"

    def __init__(self, session: Session, view: PictureView) -> None:
        super().__init__(session)
        self._view = view
        self._start: View | None = None
        self.way, self.hand, self.pencil = "moves", "off", "off"
        self._once = ""
        self.against: str | None = None
        self.by_hand = ShapeByHand(session, self.picture_of)
        self._build_controls()
        self.proofs = Proofs(
            session, [Alternative(p.name, p.title, p.suits) for p in PROJECTIONS.values()],
            _in_projection, _figures, view.source, CARD_WIDE,
        )
        self.proofs.chosen.connect(self._choose)
        self.proofs.held.connect(self._hold_against)
        self.instrument = QWidget()
        layout = QHBoxLayout(self.instrument)
        layout.setContentsMargins(8, 8, 12, 4)
        layout.addWidget(self.proofs)
        view.lined.connect(self._draw_line)
        view.turned.connect(self._dragged)
        self.asked = ShapeAsked(session, view, self)
        session.rested.connect(self.asked.ask)
        view.source.arrived.connect(self.asked.ask)

    def _build_controls(self) -> None:
        self.column.setContentsMargins(14, 6, 4, 4)
        self.column.setSpacing(4)
        self.tabs = Choice("", PAGES)
        self.tabs.picked.connect(self.open_tab)
        self.view_page, self.field, self.outline, self.lines = (
            kind(self.session) for kind in (ViewPage, FieldPage, OutlinePage, LinesPage))
        self.stack = QStackedWidget()
        for page in (self.view_page, self.field, self.outline, self.lines):
            self.stack.addWidget(page)
        self.column.addWidget(self.tabs)
        self.column.addWidget(self.stack, 1)
        self.tabs.set_value("view")
        v = self.view_page
        self.rulers, self.drag, self.level, self.sphere = v.rulers, v.drag, v.level, v.sphere
        self.edges = self.outline.edges
        self.level.clicked.connect(self.make_level)
        v.planet.clicked.connect(self._little_planet)
        self.sphere.clicked.connect(lambda on: self.session.change("view.full_sphere", on, True))
        self.drag.picked.connect(self.set_drag)
        self.outline.hand.picked.connect(self.take)
        self.outline.clear.clicked.connect(lambda: self.by_hand.clear(self.hand))
        self.outline.costs.pressed.connect(self._fly)
        self.lines.draw.picked.connect(self.take_pencil)
        self.lines.found.toggled.connect(lambda _: self._arm())
        self.field.pull.toggled.connect(lambda _: self._arm())

    @property
    def needed(self) -> list[QWidget]:
        page = self.stack.currentWidget()
        if page is self.outline:
            return [self.outline.pull]
        return [*self.rulers.values(), self.level]

    @property
    def settled(self) -> bool:
        return self.proofs.settled

    def open_tab(self, name: str) -> None:
        """Show a page of the controls; tools of the others are put away."""
        self.tabs.set_value(name)
        self.stack.setCurrentIndex([p[0] for p in PAGES].index(name))
        if name != "outline":
            self.hand = "off"
            self.outline.hand.set_value("off")
        if name != "lines":
            self.pencil = "off"
            self.lines.draw.set_value("off")
        self._arm()
        self.asked.ask()

    @property
    def said(self) -> OutlineSaid | None:
        """What the outline costs, once it is known."""
        return self.asked.said

    @property
    def tab(self) -> str:
        return PAGES[self.stack.currentIndex()][0]

    # -- what is shown

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None or "shape" not in self.session.stations:
            return
        shown = self._view.source.shown
        here = shown if shown and shown.set_id == frame_set.id else None
        slid = frame_set.registration.camera is Camera.SLID
        self.view_page.show_set(frame_set)
        if slid and self.way in ("turns", "centre"):
            self.set_drag("moves")
        size = (here.width, here.height) if here else None
        self.field.show_set(frame_set, getattr(here, "projection", ""), size, "as fine as the sharpest frame")
        self.outline.show_set(frame_set)
        self.lines.show_set(frame_set)
        self._show_rows(frame_set)
        if here:
            self.by_hand.field_frame.show_crop(None, size, None)
        if here and self.hand == "crop":
            ratio = frame_set.outline.ratio
            self.by_hand.crop_frame.show_crop(frame_set.outline.crop, size, ratio and ratio.width / ratio.height)
        self.proofs.show_only("rectilinear" if slid else None)
        active = str(frame_set.view.projection)
        if frame_set.view.projection is ProjectionChoice.AUTO:
            active = self._automatic(frame_set)
        if self.against == active:
            self._hold_against(None)
        self.proofs.show_for(self.session.project, frame_set.id, active)

    def picture_of(self, project: Project) -> Project:
        """While the crop is in hand, the picture around it is seen too."""
        frame_set = project.set(self.session.set_id)
        if self.hand != "crop" or frame_set.outline.crop is None:
            return project
        return project.with_set(replace(frame_set, outline=replace(frame_set.outline, crop=None)))

    def held_against(self, project: Project) -> tuple[Project, tuple[str, str]] | None:
        if self.against is None:
            return None
        shown = self._view.source.shown
        now = PROJECTIONS.get(getattr(shown, "projection", ""))
        other = PROJECTIONS[self.against].title
        return _in_projection(project, self.session.set_id, self.against), (other, now.title if now else "now")

    def _automatic(self, frame_set: FrameSet) -> str:
        """The automatic choice as the picture shows it now; its reason goes to the tooltips."""
        shown = self._view.source.shown
        return getattr(shown, "projection", "") if shown and shown.set_id == frame_set.id else ""

    def entered(self) -> None:
        self.set_drag(self.way)
        self._arm()

    def left(self) -> None:
        self._view.turning = self._view.lining = False
        self._view.take_tool(None)
        self._view.overlay = None
        if self.against is not None:
            self._hold_against(None)

    def _arm(self) -> None:
        """Put the tool that is chosen in the view's hand."""
        if self.session.station != "shape":
            return
        own = self.by_hand
        tools = {"crop": own.crop_frame, "net": own.net, "stiff": own.lasso}
        tool = tools.get(self.hand)
        if self.tab == "field" and self.field.pull.isChecked():
            tool = own.field_frame
        if tool is None and self.pencil == "straight":
            tool = own.curve
        if tool is None and self.tab == "lines" and self.lines.found.isChecked() and self.pencil == "off":
            tool = own.picker
        if tool is None and self.tab == "view" and self.way == "centre":
            tool = own.centre
        self._view.take_tool(tool)
        straight = self.pencil in ("level", "upright") or (self.tab == "view" and self.way in ("level", "upright"))
        self._view.lining = straight and tool is None
        self._view.turning = self.tab == "view" and self.way == "turns"
        shown = self.tab == "lines" and self.lines.found.isChecked()
        self._view.overlay = own.picker.paint_edges if shown else None
        self._view.update()

    def set_drag(self, way: str) -> None:
        """What dragging on the picture does: "moves", "turns", "centre", or draws a line: "level", "upright"."""
        self.way = way
        self.drag.set_value(way)
        self._arm()

    def take(self, hand: str) -> None:
        """Take a tool of the outline: "crop", "net", "stiff", or "off"."""
        self.hand = hand
        self.outline.hand.set_value(hand)
        self._arm()
        # the picture around a crop comes and goes with the tool
        self.session.changed.emit()
        self.asked.ask()

    def take_pencil(self, kind: str) -> None:
        """Take the pencil for lines that are to be "level", "upright" or "straight", or put it away."""
        self.pencil = kind
        self.lines.draw.set_value(kind)
        self._arm()

    # -- lines

    def _draw_line(self, start: QPointF, end: QPointF) -> None:
        """The line goes to the frame that shows it best; the registration obeys it."""
        s = self.session
        if s.station not in ("shape", "join", "export") or s.frame_set.kind is not Kind.PANORAMA:
            return
        kind = LineKind(self._once or (self.pencil if self.pencil != "off" else self.way))
        if self._once:
            self._once = ""
            self._view.lining = False
            self._arm()
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

    def draw_once(self, kind: str) -> None:
        """Take the pencil for one line, "level" or "upright", at any station that shows the picture."""
        self._once = kind
        self._view.take_tool(None)
        self._view.turning, self._view.lining = False, True

    def _show_rows(self, frame_set: FrameSet) -> None:
        """A row for each line drawn on the picture."""
        page, lines = self.lines, frame_set.outline.lines
        while page.list.count() > len(lines):
            page.list.takeAt(page.list.count() - 1).widget().deleteLater()
        while page.list.count() < len(lines):
            row = LineRow(page.list.count())
            row.strength_changed.connect(self._strengthen)
            row.removed.connect(self._remove_line)
            page.list.addWidget(row)
        for n, line in enumerate(lines):
            page.list.itemAt(n).widget().show_line(str(line.kind), line.strength_pct)

    def show_off(self, off: list[tuple[float, float]]) -> None:
        for n, (before, after) in enumerate(off[: self.lines.list.count()]):
            self.lines.list.itemAt(n).widget().show_off(before, after)

    def _strengthen(self, number: int, value: float) -> None:
        lines = list(self.session.frame_set.outline.lines)
        lines[number] = replace(lines[number], strength_pct=value)
        self.by_hand.change("outline.lines", tuple(lines), f"strength of line {number + 1} to {value:g} %")

    def _remove_line(self, number: int) -> None:
        lines = self.session.frame_set.outline.lines
        self.by_hand.change("outline.lines", (*lines[:number], *lines[number + 1 :]), f"remove line {number + 1}")

    def _fly(self, key: str) -> None:
        """To where a figure is worst."""
        said = self.said
        places = {} if said is None else {name: (x, y) for name, x, y in said.cost.places}
        if key in places:
            self._view.look_at(*places[key], min(max(1.0, 2 * self._view.fit_zoom), 4 * self._view.fit_zoom))

    # -- the view

    def make_level(self) -> None:
        """Back to the found horizon, as one edit."""
        self.session.change_all(
            {"view.yaw_deg": 0.0, "view.pitch_deg": 0.0, "view.roll_deg": 0.0}, True
        )

    def _little_planet(self) -> None:
        self.session.change_all({
            "view.projection": ProjectionChoice.STEREOGRAPHIC, "view.pitch_deg": -90.0, "view.full_sphere": False,
            "view.hfov_deg": None, "view.vfov_deg": None}, True)

    def _choose(self, projection: str) -> None:
        self.session.change("view.projection", ProjectionChoice(projection), True)

    def _hold_against(self, projection: str | None) -> None:
        """Hold another projection's picture against the one chosen; once more, or None: no longer."""
        self.against = None if projection == self.against else projection
        self.proofs.mark_held(self.against)
        self._view.set_compare("divide" if self.against else "off")

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
    outline = frame_set.outline
    if view != frame_set.view and isinstance(outline.crop, Crop):
        outline = replace(outline, crop=None)  # it is of the chosen one's picture
    return project.with_set(replace(frame_set, view=view, outline=outline))


def _figures(engine, project: Project, set_id: str, job: Job) -> list[str]:
    """Size, how much picture is kept, how unevenly the scale runs, what becomes of lines."""
    stages = engine.stages(project, set_id)
    canvas = stages.canvas(job, fine=False)
    size, kept = f"{canvas.width} x {canvas.height} px", f"kept {100 * stages.kept_area(job, fine=False):.0f} %"
    if project.set(set_id).registration.camera is Camera.SLID:
        return [size, kept]
    f = projection_figures(canvas, stages.edges(job), stages.coarse_coverage(canvas, job))
    lines = [f"{name} {value:.1f}{unit}" for name, value, unit in (
        ("tilt", f.horizon_deg, "°"), ("lean", f.vertical_deg, "°"), ("bend", f.line_bend, " %"))
        if value is not None]
    return [size, f"{kept}  stretch {stages.most_stretch(canvas, job):.1f} x", "  ".join(lines)]


