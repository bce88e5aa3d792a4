"""A panorama's shape by hand on the picture: net, stiff regions, lines, the view's middle and sides."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF

from windfell.app.picture.crop_frame import CropFrame
from windfell.app.picture.edge_picker import EdgePicker
from windfell.app.picture.net_tool import NetTool
from windfell.app.picture.tool import Path, Spot
from windfell.app.session import Session
from windfell.engine.shape_marks import EdgeOnPicture, directions_at, field_of
from windfell.recipe import edits
from windfell.recipe.model import Project
from windfell.recipe.outline import BentLine, Crop, LineKind, NetPoint, StiffPatch


class ShapeByHand:
    """The tools that Shape puts in the view's hand, and the edits that they make.

    `picture_of`: the project whose picture is shown, on which the hand works.
    """

    def __init__(self, session: Session, picture_of: Callable[[Project], Project]) -> None:
        self.session, self._picture_of = session, picture_of
        self._net_start: tuple[NetPoint, ...] = ()
        self.crop_frame, self.field_frame, self.net = CropFrame(), CropFrame(), NetTool()
        self.centre, self.lasso, self.curve, self.picker = Spot(), Path(closed=True), Path(), EdgePicker()
        self.crop_frame.changed.connect(lambda crop, first: session.change("outline.crop", crop, first))
        self.field_frame.ended.connect(self._field_pulled)
        self.net.moved.connect(self._node_moved)
        self.net.put_back.connect(self.node_back)
        self.centre.pressed.connect(self._centre_on)
        self.lasso.drawn.connect(self._stiffened)
        self.curve.drawn.connect(self._curved)
        self.picker.picked.connect(self._picked)

    def _curved(self, points: list[QPointF]) -> None:
        self.add_line([(p.x(), p.y()) for p in points], LineKind.STRAIGHT)

    def add_line(self, shares: list[tuple[float, float]], kind: LineKind) -> None:
        """A line through shares of the picture that the picture bends for."""
        def add(points: tuple) -> None:
            lines = (*self.session.frame_set.outline.lines, BentLine(points, kind))
            self.change("outline.lines", lines, f"draw a line that is {kind}")

        self._with_directions(shares, add)

    def change(self, path: str, value: object, words: str) -> None:
        """One value of the set in hand, as an edit in words of its own."""
        edit = edits.set_values(self.session.project, self.session.set_id, {path: value})
        self.session.edit(replace(edit, words=words, merge=None), True)

    def _with_directions(self, shares: list[tuple[float, float]], then) -> None:
        """Ask where shares of the picture as it is shown look, and go on with that."""
        s = self.session
        engine, project, set_id = s.engine, s.project, s.set_id
        shown = self._picture_of(project)

        def done(points: tuple) -> None:
            if s.project is project:
                then(points)

        s.desk.ask("directions", lambda job: directions_at(engine.stages(shown, set_id), shares, job), done)

    def _node_moved(self, column: int, row: int, right: float, down: float, first: bool) -> None:
        outline = self.session.frame_set.outline
        if first:
            self._net_start = outline.net
        before = next((p for p in self._net_start if (p.column, p.row) == (column, row)), NetPoint(column, row))
        limit = lambda v: float(np.clip(v, -40, 40))  # noqa: E731
        point = replace(before, right_pct=limit(before.right_pct + 100 * right),
                        down_pct=limit(before.down_pct + 100 * down))
        others = tuple(p for p in self._net_start if (p.column, p.row) != (column, row))
        self.session.change("outline.net", (*others, point), first)

    def node_back(self, column: int, row: int) -> None:
        net = tuple(p for p in self.session.frame_set.outline.net if (p.column, p.row) != (column, row))
        self.change("outline.net", net, "put a node of the net back")

    def _stiffened(self, points: list[QPointF]) -> None:
        def add(corners: tuple) -> None:
            patches = (*self.session.frame_set.outline.stiff, StiffPatch(corners))
            self.change("outline.stiff", patches, "keep a region stiff")

        step = max(1, len(points) // 24)
        self._with_directions([(p.x(), p.y()) for p in points[::step]], add)

    def clear(self, hand: str) -> None:
        """Take away what a tool has made: "crop", "net" or "stiff"."""
        outline = self.session.frame_set.outline if self.session.frame_set else None
        if outline is None:
            return
        what = {"crop": ("outline.crop", None, "take the crop away"), "net": ("outline.net", (), "put the net back"),
                "stiff": ("outline.stiff", (), "let all regions bend")}.get(hand)
        if what is None:
            self.session.say("Take the crop, the net or the stiff regions in hand first.")
        elif getattr(outline, what[0].partition(".")[2]):
            self.change(*what)

    def _field_pulled(self, crop: Crop) -> None:
        """The field of view that the frame's sides reach to."""
        s = self.session
        engine, project, set_id = s.engine, s.project, s.set_id
        box = (crop.left_pct, crop.top_pct, crop.left_pct + crop.width_pct, crop.top_pct + crop.height_pct)
        across, down = crop.width_pct != 100, crop.height_pct != 100

        def done(found: tuple[float, float]) -> None:
            values = {}
            if across:
                values["view.hfov_deg"] = round(found[0], 1)
            if down:
                values["view.vfov_deg"] = round(found[1], 1)
            if values and s.project is project:
                s.change_all(values, True)

        shares = tuple(v / 100 for v in box)
        s.desk.ask("field", lambda job: field_of(engine.stages(project, set_id), shares, job), done)

    def _centre_on(self, at: QPointF) -> None:
        def centre(points: tuple) -> None:
            (lon, lat), = points
            self.session.change_all({"view.yaw_deg": round(lon, 2), "view.pitch_deg": round(lat, 2)}, True)

        self._with_directions([(at.x(), at.y())], centre)

    def _picked(self, edge: EdgeOnPicture) -> None:
        """A found edge becomes a line of one's own."""
        self.add_line([(float(x), float(y)) for x, y in edge.spots],
                      LineKind.UPRIGHT if edge.upright else LineKind.STRAIGHT)
