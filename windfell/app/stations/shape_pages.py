"""The pages of Shape's controls: where the picture looks, its field, its outline, its lines."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from windfell.app.session import Session
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.figures import Figures
from windfell.app.widgets.four_fields import FourFields
from windfell.app.widgets.ratio_box import RatioBox
from windfell.app.widgets.ruler import Ruler
from windfell.engine.shape_marks import OutlineSaid
from windfell.recipe.edits import field_at
from windfell.recipe.model import Camera, FrameSet, ProjectionChoice
from windfell.recipe.outline import Edges
from windfell.shape.figures import AN_EYE

COSTS = (
    ("kept", "Kept", "How much of what the frames cover is in the picture / in the largest trim"),
    ("stretch", "Stretch", "By how much a small length becomes longer or shorter; press to see where most"),
    ("shear", "Shear", "How far right angles are bent, as a cosine; press to see where most"),
    ("line_bend", "Bend", "How far a straight edge is bent, in % of its length; press to see where most"),
    ("horizon_deg", "Horizon", "How far the horizon is tilted; press to see where most"),
    ("vertical_deg", "Verticals", "How far an upright edge leans; press to see where most"),
)


def row_of(*parts: QWidget, stretch_last: bool = True) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(6)
    for part in parts:
        row.addWidget(part)
    if stretch_last:
        row.addStretch(1)
    return row


class Page(QWidget):
    """Base of the pages: a column, rulers by their path."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(4)
        self.rulers: dict[str, Ruler] = {}

    def ruler(self, words: str, path: str, rest: float, step: float = 0.1, wide: int = 62) -> Ruler:
        limits = field_at(path).metadata
        ruler = Ruler(words, limits["low"], limits["high"], rest, limits["unit"], step, wide)
        ruler.changed.connect(lambda v, first: self.session.change(path, v, first))
        self.rulers[path] = ruler
        self.column.addWidget(ruler)
        return ruler


class ViewPage(Page):
    """Turn, tilt, roll; what dragging does; level."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        for words, path in (("Turn", "view.yaw_deg"), ("Tilt", "view.pitch_deg"), ("Roll", "view.roll_deg")):
            self.ruler(words, path, 0.0)
        self.drag = Choice("", (
            ("moves", "Moves", "Dragging moves the picture in its place"),
            ("turns", "Turns", "Dragging turns and tilts the view"),
            ("centre", "Centre", "Press on what is to be in the middle"),
            ("level", "Level", "Drag along something that is level: the picture obeys"),
            ("upright", "Upright", "Drag along something that stands upright: the picture obeys")))
        self.drag.set_value("moves")
        self.level = QPushButton("Back to level")
        self.level.setToolTip("Turn, tilt and roll back to the level horizon that was found")
        self.planet = QPushButton("Little planet")
        self.planet.setToolTip("Stereographic, looking straight down: the whole sphere as a little planet")
        self.sphere = QCheckBox("Whole sphere")
        self.sphere.setToolTip("All 360 by 180 degrees, for viewers of spheres")
        self.column.addWidget(self.drag)
        self.column.addLayout(row_of(self.level, self.planet, self.sphere))
        self.column.addStretch(1)

    def show_set(self, frame_set: FrameSet) -> None:
        slid = frame_set.registration.camera is Camera.SLID
        for path, ruler in self.rulers.items():
            ruler.set_value(getattr(frame_set.view, path.partition(".")[2]))
        # along a flat subject there is one projection, and no sphere
        for part in (self.sphere, self.planet, self.rulers["view.yaw_deg"], self.rulers["view.pitch_deg"]):
            part.setVisible(not slid)
        for way in ("turns", "centre"):
            self.drag.set_shown(way, not slid)
        self.sphere.setChecked(frame_set.view.full_sphere)


class FieldPage(Page):
    """How much is seen: the field of view, the projection's values, room on the sides."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.own: dict[str, QCheckBox] = {}
        for words, name in (("Across", "hfov_deg"), ("Down", "vfov_deg")):
            path = f"view.{name}"
            own = QCheckBox()
            own.setToolTip(f"A field of view of one's own {words.lower()}; off: as the frames reach")
            own.setAccessibleName(f"Field of view {words.lower()} by hand")
            own.clicked.connect(lambda on, p=path: session.change(p, self.rulers[p].value if on else None, True))
            ruler = self.ruler(words, path, 90.0, 0.5)
            self.column.removeWidget(ruler)
            row = QHBoxLayout()
            row.addWidget(ruler, 1)
            row.addWidget(own)
            self.column.addLayout(row)
            self.own[path] = own
        self.ruler("Distance", "view.pannini_distance", 1.0, 0.01)
        self.ruler("Squeeze", "view.pannini_squeeze", 0.0, 0.01)
        self.pull = QPushButton("Pull the sides", checkable=True)
        self.pull.setToolTip("Drag the sides of a frame on the picture to set the field of view about its middle")
        self.room = FourFields("Room", "Room at", "Empty room added at the {}, in %, for a sky to come", 500.0)
        self.room.typed.connect(self._roomed)
        self.column.addWidget(self.room)
        self.words = QLabel("")
        self.words.setProperty("role", "quiet")
        self.column.addLayout(row_of(self.pull, self.words))
        self.column.addStretch(1)

    def _roomed(self, name: str, value: float) -> None:
        frame_set = self.session.frame_set
        if frame_set is not None:
            self.session.change("outline.room", replace(frame_set.outline.room, **{name: value}), True)

    def show_set(self, frame_set: FrameSet, projection: str, size: tuple[int, int] | None, fine: str) -> None:
        slid = frame_set.registration.camera is Camera.SLID
        for path, own in self.own.items():
            value = getattr(frame_set.view, path.partition(".")[2])
            own.setChecked(value is not None)
            own.setEnabled(not slid)
            self.rulers[path].setEnabled(not slid)
            if value is not None:
                self.rulers[path].set_value(value)
        pannini = projection == "pannini" or frame_set.view.projection is ProjectionChoice.PANNINI
        for path in ("view.pannini_distance", "view.pannini_squeeze"):
            self.rulers[path].setEnabled(pannini)
            self.rulers[path].set_value(getattr(frame_set.view, path.partition(".")[2]))
        self.room.show_values(frame_set.outline.room)
        self.words.setText(f"{size[0]} x {size[1]} px" if size else "")
        self.words.setToolTip(f"At full size: {fine}")


class OutlinePage(Page):
    """Leave, trim or pull; ratio, crop, net, stiff regions; what it costs."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.edges = Choice("Edges", (
            ("leave", "Leave", "Keep everything, with a ragged outline"),
            ("trim", "Trim", "The largest rectangle that is wholly covered"),
            ("pull", "Pull", "The picture bent until its outline fills the rectangle")))
        self.edges.picked.connect(lambda v: session.change("outline.edges", Edges(v), True))
        self.ratio = RatioBox(session)
        self.column.addLayout(row_of(self.edges, self.ratio))
        self.pull = self.ruler("Pull", "outline.pull_pct", 100.0, 1.0)
        self.sides = FourFields("Sides", "Pull of", "How far the {} follows the pull, in %", 100.0)
        self.sides.typed.connect(lambda name, value: session.change(f"outline.{name}", value, True))
        self.column.addWidget(self.sides)
        self.hand = Choice("", (
            ("crop", "Crop", "Draw, move and size the frame of the picture"),
            ("net", "Net", "Drag the nodes of a net to bend the picture by hand; a double press puts one back"),
            ("stiff", "Keep stiff", "Draw around what a pull must not bend"),
            ("off", "Done", "Put the tool away")))
        self.hand.set_value("off")
        self.clear = QPushButton("Clear")
        self.clear.setToolTip("Take away what the tool in hand has made: crop, net, or stiff regions")
        self.column.addLayout(row_of(self.hand, self.clear))
        self.costs = Figures(COSTS, 3)
        self.column.addWidget(self.costs)
        self.column.addStretch(1)

    def show_set(self, frame_set: FrameSet) -> None:
        outline = frame_set.outline
        self.edges.set_value(str(outline.edges))
        self.pull.set_value(outline.pull_pct)
        self.pull.setEnabled(outline.edges is Edges.PULL)
        self.sides.setEnabled(outline.edges is Edges.PULL)
        self.sides.show_values(outline)
        self.ratio.show_ratio(outline.ratio)

    def show_said(self, said: OutlineSaid | None, bent: bool) -> None:
        """What the outline keeps and costs; None while that is not known."""
        self.pull.set_mark(None if said is None else said.suggested)
        if said is None:
            for cell in self.costs.cells.values():
                cell.say("…")
            return
        c = said.cost
        self.costs.cells["kept"].say(f"{100 * said.kept:.0f} / {100 * said.trim_kept:.0f} %")
        if not bent:
            for key, cell in self.costs.cells.items():
                if key != "kept":
                    cell.say("–")
            return
        for key, words in (("stretch", f"{c.stretch:.2f} x"), ("shear", f"{c.shear:.2f}"),
                           ("line_bend", f"{c.line_bend:.2f} %"), ("horizon_deg", f"{c.horizon_deg:.2f}°"),
                           ("vertical_deg", f"{c.vertical_deg:.1f}°")):
            self.costs.cells[key].say(words, getattr(c, key) > AN_EYE.get(key, float("inf")))



class LinesPage(Page):
    """Lines that the picture obeys, found edges, and what matters how much."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.draw = Choice("Draw", (
            ("level", "Level", "Draw along something that is to be level: the world turns, or the picture bends"),
            ("upright", "Upright", "Draw along something that is to stand upright"),
            ("straight", "Straight", "Draw along a curve that is to be straight: the picture bends"),
            ("off", "Done", "Put the pencil away")))
        self.draw.set_value("off")
        self.found = QCheckBox("Show found edges")
        self.found.setToolTip("Straight edges that the frames show: solid where straight, dashed where bent. "
                              "A press on one makes it a line of one's own")
        self.column.addWidget(self.draw)
        self.column.addWidget(self.found)
        for words, name in (("Horizon", "horizon_pct"), ("Verticals", "upright_pct"), ("Straight", "straight_pct")):
            self.ruler(words, f"outline.{name}", 50.0, 1.0)
        self.rows = QWidget()
        self.list = QVBoxLayout(self.rows)
        self.list.setContentsMargins(0, 0, 0, 0)
        self.list.setSpacing(2)
        scroll = QScrollArea()
        scroll.setWidget(self.rows)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self.column.addWidget(scroll, 1)

    def show_set(self, frame_set: FrameSet) -> None:
        for path, ruler in self.rulers.items():
            ruler.set_value(getattr(frame_set.outline, path.partition(".")[2]))
