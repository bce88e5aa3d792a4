"""Join's page of what lies behind a panorama: which set, where it is seen, how it is turned and lit."""

from __future__ import annotations

from dataclasses import fields, replace

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.picture.move_tool import MoveTool
from windfell.app.picture.tool import Spot
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.ruler import Ruler
from windfell.engine.behind_light import picked_light
from windfell.engine.laying_behind import turned_by_hand
from windfell.job import Job
from windfell.recipe import laying_behind
from windfell.recipe.areas import Area
from windfell.recipe.behind import Behind
from windfell.recipe.model import FrameSet, Project

AREA_NAME = "Where what lies behind is seen"
SOFTEST_DEG, MOST_ROOM_PCT = 10.0, 300.0
RULERS = (("Turn", "yaw_deg", 0.05), ("Tilt", "pitch_deg", 0.05), ("Roll", "roll_deg", 0.05),
          ("Exposure", "exposure_ev", 0.01), ("Warmth", "warmth", 1.0))


class BehindPage(QWidget):
    """Works on the set in hand. `lay` and `place` are pressed for what the window does."""

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__()
        self.session, self._view, self.hand = session, view, hand
        self._start: tuple[float, float, float] | None = None
        self._first_spot: tuple[float, float] | None = None
        self._first = True
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 4, 8, 0)
        column.setSpacing(4)
        self.words = Station.quiet()
        column.addWidget(self.words)
        for row in self._buttons():
            column.addLayout(row)
        for ruler in self._rulers():
            column.addWidget(ruler)
        column.addStretch(1)
        frame = QScrollArea()
        frame.setWidgetResizable(True)
        frame.setFrameShape(QScrollArea.Shape.NoFrame)
        frame.setWidget(inside)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        hand.taken.connect(self._show_tools)
        view.handed.connect(self._show_tools)

    @property
    def behind(self) -> Behind | None:
        own = self.session.frame_set
        return own.behind if own else None

    def _buttons(self) -> list[QHBoxLayout]:
        self.lay = self._button("Lay behind…", "Choose a panorama that is seen where this one has its sky")
        self.place = self._button("Place", "Turn what lies behind by what both show, or by the skyline in front")
        self.move_it = self._button("Move", "Drag what lies behind on the picture", True)
        self.paint = self._button("Where…", "Draw where it is seen", True)
        self.away = self._button("Take away", "Nothing lies behind any more")
        self.match = self._button("Match…", "Press a spot of what lies behind, then one in front whose light and "
                                  "colour it is to have", True)
        self.match.clicked.connect(self._take_picker)
        self.picker = Spot()
        self.picker.pressed.connect(self._picked)
        self.on = QCheckBox("Shown")
        self.on.setToolTip("Whether what lies behind is seen")
        self.on.clicked.connect(lambda on: self._change("on", on, True))
        self.move_it.clicked.connect(self._take_mover)
        self.paint.clicked.connect(lambda on: self.take_area() if on else self.hand.put_away())
        self.away.clicked.connect(self._take_away)
        self.mover = MoveTool()
        self.mover.moved.connect(self._dragged)
        rows = []
        for parts in ((self.lay, self.place, self.move_it), (self.paint, self.match, self.away, self.on)):
            rows.append(QHBoxLayout())
            rows[-1].setSpacing(6)
            for part in parts:
                rows[-1].addWidget(part)
            rows[-1].addStretch(1)
        return rows

    @staticmethod
    def _button(words: str, tip: str, checkable: bool = False) -> QPushButton:
        button = QPushButton(words, checkable=checkable)
        button.setToolTip(tip)
        return button

    def _rulers(self) -> list[Ruler]:
        limits = {f.name: f.metadata for f in fields(Behind)}
        self.rulers: dict[str, Ruler] = {}
        for words, name, step in RULERS:
            m = limits[name]
            ruler = Ruler(words, m["low"], m["high"], 0.0, m["unit"], step, 82)
            ruler.changed.connect(lambda v, first, name=name: self._change(name, v, first))
            self.rulers[name] = ruler
        self.soft = Ruler("Softness", 0.0, SOFTEST_DEG, 0.0, "°", 0.05, 82)
        self.soft.setToolTip("Over how much it passes over into what stands before it, so that a glow is kept")
        self.soft.changed.connect(self._soften)
        self.room = Ruler("Room above", 0.0, MOST_ROOM_PCT, 0.0, "%", 1.0, 82)
        self.room.setToolTip("Room above the picture for what lies behind, in % of its height")
        self.room.changed.connect(self._make_room)
        return [*self.rulers.values(), self.soft, self.room]

    def show_set(self, frame_set: FrameSet, project: Project) -> None:
        """Show what lies behind the set in hand."""
        b = frame_set.behind
        for part in (self.place, self.move_it, self.paint, self.match, self.away, self.on, self.soft, self.room,
                     *self.rulers.values()):
            part.setVisible(b is not None)
        if b is None:
            self.words.setText("Another panorama of the place, such as its night sky, can be seen where this one has "
                               "its sky. Both turn together.")
            return
        name = project.set(b.set).name
        self.words.setText(f"{name} lies behind, without its finish.")
        for key, ruler in self.rulers.items():
            ruler.set_value(getattr(b, key))
        self.soft.set_value(b.area.feather)
        self.room.set_value(frame_set.outline.room.top_pct)
        self.on.setChecked(b.on)
        self._show_tools()

    def _show_tools(self) -> None:
        self.move_it.setChecked(self._view.in_hand is self.mover)
        self.match.setChecked(self._view.in_hand is self.picker)
        held = self.hand.target
        self.paint.setChecked(held is not None and held.name == AREA_NAME)

    # -- edits

    def _change(self, name: str, value: object, starts: bool) -> None:
        s = self.session
        if self.behind is not None and getattr(self.behind, name) != value:
            s.edit(laying_behind.change_behind(s.project, s.set_id, name, value), starts)

    def _soften(self, degrees: float, starts: bool) -> None:
        if self.behind is not None:
            self._change("area", replace(self.behind.area, feather=degrees), starts)

    def _make_room(self, percent: float, starts: bool) -> None:
        own = self.session.frame_set
        if own is not None:
            self.session.change("outline.room", replace(own.outline.room, top_pct=percent), starts)

    def _take_away(self) -> None:
        s = self.session
        if self.behind is not None:
            self.hand.put_away()
            s.edit(laying_behind.take_from_behind(s.project, s.set_id), True)

    def take_area(self) -> None:
        """Draw where what lies behind is seen."""
        set_id = self.session.set_id
        if self.behind is None:
            return

        def read(project: Project) -> Area | None:
            own = next((x for x in project.sets if x.id == set_id), None)
            return own.behind.area if own is not None and own.behind is not None else None

        self.hand.take(AreaTarget(set_id, AREA_NAME, read,
                                  lambda project, area: laying_behind.behind_area(project, set_id, area)))

    # -- light by two spots

    def _take_picker(self, on: bool) -> None:
        self.hand.put_away()
        self._first_spot = None
        self._view.take_tool(self.picker if on and self.behind is not None else None)
        if on:
            self.session.say("Press a spot of what lies behind; then one in front that it is to look like.", "info")

    def _picked(self, at: QPointF) -> None:
        s, first, spot = self.session, self._first_spot, (at.x(), at.y())
        if first is None:
            self._first_spot = spot
            s.say("Now press the spot in front.", "info")
            return
        self._first_spot = None
        self._view.take_tool(None)
        engine, project, set_id = s.engine, s.project, s.set_id

        def done(found: tuple[float, float]) -> None:
            if s.project is project:
                s.edit(laying_behind.light_behind(project, set_id, *found), True)

        s.desk.ask("behind light", lambda job: picked_light(engine, project, set_id, first, spot, job), done,
                   lambda words: s.say(words, "wrong"))

    # -- by the hand

    def _take_mover(self, on: bool) -> None:
        self.hand.put_away()
        self._view.take_tool(self.mover if on and self.behind is not None else None)

    def _dragged(self, right: float, down: float, starts: bool) -> None:
        """What lay under the press goes with the hand."""
        b, s = self.behind, self.session
        if b is None:
            return
        if starts or self._start is None:
            self._start, self._first = (b.yaw_deg, b.pitch_deg, b.roll_deg), True
        begun, at = self._start, self.mover.start
        engine, project, set_id = s.engine, s.project, s.set_id
        shares = ((at.x(), at.y()), (at.x() + right, at.y() + down))

        def turned(job: Job) -> tuple[float, ...] | None:
            stages = engine.stages(project, set_id)
            canvas = stages.canvas(job, fine=False)
            px = np.array(shares) * [canvas.width, canvas.height] - 0.5
            return turned_by_hand(*begun, *canvas.rays(px))

        def done(found: tuple[float, ...]) -> None:
            if self.behind is not None and s.set_id == set_id:
                s.edit(laying_behind.turn_behind(s.project, set_id, *found), self._first)
                self._first = False

        s.desk.follow("behind", turned, done)
