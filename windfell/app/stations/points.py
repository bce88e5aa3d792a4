"""Two frames side by side: control points, plumb lines and ignored areas, made and mended by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from windfell.align.help import point_name
from windfell.align.registration import PanoramaRegistration, Placed
from windfell.app.picture.point_pane import Mark, PointPane
from windfell.app.picture.source import PictureSource
from windfell.app.registrations import Registrations
from windfell.app.session import Session
from windfell.app.single import single_frame
from windfell.app.stations.ignoring import Ignoring
from windfell.app.stations.point_fields import PointFields
from windfell.app.stations.point_rows import all_rows, line_in_words, pair_of, pairs_in_words, same_row
from windfell.app.widgets.area_bar import AreaBar
from windfell.app.widgets.pair_page import TOOLS, PairPage, PointsBoard
from windfell.app.widgets.point_list import Row
from windfell.engine.points import SURE, matching_spot, more_points
from windfell.recipe import edits
from windfell.recipe.model import ControlPoint, DroppedPoint, Frame, PlumbLine
from windfell.recipe.outline import LineKind


class Points(QObject):
    """The page with both frames, the bench with the list of all points, and what their buttons do."""

    frame_wanted = Signal(str)

    def __init__(self, session: Session, found: Registrations, area_bar: AreaBar) -> None:
        super().__init__()
        self.session, self.found = session, found
        self.rows: list[Row] = []
        self.row: int | None = None
        self.pair: tuple[str, str] | None = None
        self._pending: tuple[int, tuple[float, float]] | None = None
        self._sources = [PictureSource(session, "points first"), PictureSource(session, "points second")]
        self.panes = [PointPane(s, s) for s in self._sources]
        self.ignoring = Ignoring(session, self.panes, area_bar)
        self.ignoring.ended.connect(lambda: self.set_tool("points") if self.tools_value == "ignore" else None)
        self.page, self.board = PairPage(self.panes), PointsBoard()
        page, board = self.page, self.board
        self.pairs, self.tools, self.words = page.pairs, page.tools, page.words
        self.for_all = page.for_all
        self.list, self.plot = board.list, board.plot
        self.fields = PointFields(session, board, lambda: self.chosen_row, self.refresh)
        self.worst, self.delete, self.fill = board.worst, board.delete, board.fill
        for signal, answer in (
            (self.pairs.activated, self._pair_chosen), (self.tools.picked, self.set_tool),
            (self.for_all.clicked, lambda: self.ignoring.in_all(self._frames()[self.ignoring.side or 0])),
            (self.list.picked, self.choose), (self.worst.clicked, self.go_to_worst),
            (self.delete.clicked, self.delete_chosen), (self.fill.clicked, self._fill),
        ):
            signal.connect(answer)
        for side, pane in enumerate(self.panes):
            pane.clicked.connect(lambda x, y, n=side: self.click(n, x, y))
            pane.chosen.connect(self.choose)
            pane.dragged.connect(lambda row, x, y, end, n=side: self._drag(n, row, x, y, end))
            pane.lined.connect(lambda points, n=side: self._draw_line(n, points))
            pane.hovered.connect(lambda x, y, n=side: self._hover(n, x, y))
            pane.line_chosen.connect(lambda line, n=side: self._choose_line(n, line))

    @property
    def settled(self) -> bool:
        return all(s.settled for s in self._sources) or self.pair is None

    def set_tool(self, name: str) -> None:
        self.tools.set_value(name)
        for pane in self.panes:
            pane.tool = name
            pane.line = None
        self._pending = None
        self._say_tool()
        self._paint()
        if name != "ignore":
            self.ignoring.put_away()
        elif self._stands:
            self.ignoring.take([f.id for f in self._frames()].index(self._chosen_frame().id))

    def refresh(self) -> None:
        """Show the recipe and the registration as they are now."""
        frame_set = self.session.frame_set
        if frame_set is None or len(frame_set.used) < 2:
            self.pair, self.rows = None, []
            for source, pane in zip(self._sources, self.panes, strict=True):
                source.clear()
                pane.teach = "Two frames in use are needed."
            return
        self._read_rows()
        self._choose_pair()
        self._fill_pairs()
        self._show_frames()
        self._paint()
        self.fields.show_limit()

    def _registration(self) -> PanoramaRegistration | None:
        found = self.found.found
        fits = self.found.frame_set is not None and self.session.frame_set is not None and (
            [f.id for f in self.found.frame_set.used] == [f.id for f in self.session.frame_set.used])
        return found if isinstance(found, PanoramaRegistration) and fits else None

    def _read_rows(self) -> None:
        frame_set = self.session.frame_set
        chosen = self.chosen_row
        self.rows = all_rows(frame_set, self._registration())
        self.row = same_row(self.rows, chosen)
        numbers = {f.id: n + 1 for n, f in enumerate(frame_set.frames)}
        self.list.show_rows(self.rows, [numbers[f.id] for f in frame_set.used])
        self.list.choose(self.row)
        self.plot.show_errors(np.array([r.error for r in self.rows]))
        self._show_chosen()

    def _choose_pair(self) -> None:
        """The pair in hand if it still stands, else the chosen frame and the one it shares most with."""
        used = [f.id for f in self.session.frame_set.used]
        chosen = self.session.frame_id if self.session.frame_id in used else None
        if not (self.pair and set(self.pair) <= set(used) and chosen in (None, *self.pair)):
            self.pair = pair_of(used, chosen, self.rows)

    def _fill_pairs(self) -> None:
        self.pairs.blockSignals(True)
        self.pairs.clear()
        for words, pair in pairs_in_words(self.session.frame_set, self._registration(), self.pair):
            self.pairs.addItem(words, pair)
        self.pairs.setCurrentIndex(next(n for n in range(self.pairs.count()) if self.pairs.itemData(n) == self.pair))
        self.pairs.blockSignals(False)

    @property
    def _stands(self) -> bool:
        """Whether the pair in hand is of the set in hand, with both frames in use."""
        own = self.session.frame_set
        return self.pair is not None and own is not None and set(self.pair) <= {f.id for f in own.used}

    def _pair_chosen(self, n: int) -> None:
        self.show_pair(self.pairs.itemData(n))

    def show_pair(self, pair: tuple[str, str]) -> None:
        self.pair = tuple(pair)
        self._pending = None
        for pane in self.panes:
            pane.fit()
        if self.session.frame_id not in self.pair:
            self.session.select_frame(self.pair[0])
        else:
            self.refresh()

    def _frames(self) -> list[Frame]:
        return [self.session.frame_set.frame(i) for i in self.pair]

    def _set_ids(self) -> list[str]:
        s = self.session
        return [single_frame(s.project, s.set_id, f)[1] for f in self._frames()]

    def _show_frames(self) -> None:
        s = self.session
        for source, frame in zip(self._sources, self._frames(), strict=True):
            source.show(*single_frame(s.project, s.set_id, frame))

    def _shown(self) -> list[int]:
        """The two frames that the panes show, by their places among those in use."""
        used = [f.id for f in self.session.frame_set.used]
        return [used.index(i) if i in used else -1 for i in self.pair]

    def _sides(self, r: Row) -> tuple[int, int] | None:
        """Which pane shows frame a and which frame b of a row, or None if they are not both shown."""
        return _sides_of(r, self._shown())

    def _paint(self) -> None:
        """Marks, lines and areas of both frames, as long as the set in hand has them."""
        if not self._stands:
            return
        frame_set, found = self.session.frame_set, self._registration()
        marks: list[list[Mark]] = [[], []]
        shown = self._shown()
        for n, r in enumerate(self.rows):
            sides = _sides_of(r, shown)
            if sides is not None:
                for side, at in zip(sides, (r.at_a, r.at_b), strict=True):
                    marks[side].append(Mark(*at, r.error, r.by_hand is not None, n))
        for side, (pane, frame) in enumerate(zip(self.panes, self._frames(), strict=True)):
            pane.marks, pane.row = marks[side], self.row
            pane.pending = self._pending[1] if self._pending and self._pending[0] == side else None
            pane.lines = [(str(x.kind), list(x.points), line_in_words(frame_set, found, x))
                          for x in frame_set.registration.lines if x.frame == frame.id]
            pane.update()
        self.ignoring.show(self._frames())
        self.for_all.setVisible(self.tools_value == "ignore")
        self._say_tool()

    @property
    def tools_value(self) -> str:
        return self.panes[0].tool

    def _lines_of(self, frame_id: str) -> list[PlumbLine]:
        return [x for x in self.session.frame_set.registration.lines if x.frame == frame_id]

    def _say_tool(self) -> None:
        tips = {t[0]: t[2] for t in TOOLS}
        if self._pending is not None:
            self.words.setText("Now click the same spot in the other frame.")
        else:
            self.words.setText(tips[self.tools_value] + ".")

    def choose(self, n: int) -> None:
        """A point of the list or of a pane; its pair is shown and looked at."""
        self.row = n
        r = self.rows[n]
        used = [f.id for f in self.session.frame_set.used]
        if self._sides(r) is None:
            self.pair = used[r.a], used[r.b]
            for pane in self.panes:
                pane.fit()
            self._fill_pairs()
            self._show_frames()
            if self.session.frame_id not in self.pair:
                self.session.select_frame(self.pair[0])
        for side, at in zip(self._sides(r), (r.at_a, r.at_b), strict=True):
            self.panes[side].loupe_at = at
        self.list.choose(n)
        self._show_chosen()
        self._paint()

    def go_to_worst(self) -> None:
        if self.rows:
            self.choose(int(np.argmax([r.error for r in self.rows])))
            for side, at in zip(self._sides(self.rows[self.row]),
                                (self.rows[self.row].at_a, self.rows[self.row].at_b), strict=True):
                self.panes[side].centre_on(*at, self._set_ids()[side])

    def click(self, side: int, x: float, y: float) -> None:
        """A spot for a new point. Where the other frame's is not sure, it is asked for."""
        s = self.session
        if self._pending is not None and self._pending[0] != side:
            first, at = self._pending
            self._pending = None
            spots = {first: at, side: (x, y)}
            self._add(spots[0], spots[1], "add a point")
            return
        self._pending = side, (x, y)
        self._paint()
        pair, project, set_id, engine = self.pair, s.project, s.set_id, s.engine
        a, b = pair[side], pair[1 - side]

        def done(spot) -> None:
            if self.pair != pair or s.project != project or self._pending != (side, (x, y)):
                return
            if spot.likeness < SURE:
                s.say(f"The other frame shows nothing surely alike ({100 * max(spot.likeness, 0):.0f} %); "
                      "click the spot there.", "info")
                return
            self._pending = None
            spots = {side: (x, y), 1 - side: (spot.x, spot.y)}
            self._add(spots[0], spots[1], "add a point")
            s.say(f"Point added; the light agrees to {100 * spot.likeness:.0f} %.", "good")

        s.desk.ask("spot", lambda job: matching_spot(engine, project, set_id, a, b, (x, y), job), done)

    def _add(self, first: tuple[float, float], second: tuple[float, float], words: str) -> None:
        s = self.session
        point = ControlPoint(*self.pair, *(float(v) for v in first), *(float(v) for v in second))
        points = (*s.frame_set.registration.points, point)
        s.edit(edits.set_points(s.project, s.set_id, points, words), True)

    def _drag(self, side: int, row: int, x: float, y: float, end: bool) -> None:
        """A point moved on one frame. A found point becomes one made by hand."""
        if row >= len(self.rows):
            return
        r, s = self.rows[row], self.session
        sides = self._sides(r)
        moved = replace(r, at_a=(x, y)) if sides[0] == side else replace(r, at_b=(x, y))
        if not end:
            for pane_side, at in zip(sides, (moved.at_a, moved.at_b), strict=True):
                pane = self.panes[pane_side]
                pane.marks = [Mark(*at, m.error, m.by_hand, m.row) if m.row == row else m for m in pane.marks]
                pane.loupe_at = at
                pane.update()
            return
        used = [f.id for f in s.frame_set.used]
        points = list(s.frame_set.registration.points)
        new = ControlPoint(used[r.a], used[r.b], *map(float, moved.at_a), *map(float, moved.at_b))
        if r.by_hand is not None:
            points[r.by_hand] = replace(new, weight=points[r.by_hand].weight)
            s.edit(edits.set_points(s.project, s.set_id, points, "move a point"), True)
            return
        project = edits.drop_points(s.project, s.set_id, [self._dropped(r)]).project
        edit = edits.set_points(project, s.set_id, [*points, new], "move a point")
        s.edit(edit, True)

    def _dropped(self, r: Row) -> DroppedPoint:
        used = [f.id for f in self.session.frame_set.used]
        _, _, x, y = point_name(r.a, r.b, r.at_a)
        return DroppedPoint(used[r.a], used[r.b], x, y)

    def delete_chosen(self) -> None:
        """The chosen line, or else the chosen point."""
        s = self.session
        for pane, frame in zip(self.panes, self._frames() if self.pair else (), strict=False):
            if pane.line is not None:
                gone = self._lines_of(frame.id)[pane.line]
                pane.line = None
                lines = tuple(x for x in s.frame_set.registration.lines if x is not gone)
                s.edit(edits.set_lines(s.project, s.set_id, lines, f"remove a line that is {gone.kind}"), True)
                return
        r = self.chosen_row
        if r is None:
            return
        if r.by_hand is None:
            s.edit(edits.drop_points(s.project, s.set_id, [self._dropped(r)]), True)
        else:
            points = [p for n, p in enumerate(s.frame_set.registration.points) if n != r.by_hand]
            s.edit(edits.set_points(s.project, s.set_id, points, "delete a point"), True)

    @property
    def chosen_row(self) -> Row | None:
        return self.rows[self.row] if self.row is not None and self.row < len(self.rows) else None

    def _show_chosen(self) -> None:
        """What can be done with the chosen point or line."""
        self.fields.show_weight()
        self.delete.setEnabled(self.chosen_row is not None or any(p.line is not None for p in self.panes))
        self.worst.setEnabled(bool(self.rows))
        self.fill.setEnabled(self.pair is not None)

    def _fill(self) -> None:
        s, pair = self.session, self.pair
        if not self._stands:
            return
        project, set_id, engine = s.project, s.set_id, s.engine

        def done(points: list[ControlPoint]) -> None:
            if s.project != project:
                return
            if not points:
                s.say("Nothing more could be told surely in this overlap.", "info")
                return
            every = (*s.frame_set.registration.points, *points)
            s.edit(edits.set_points(s.project, set_id, every, f"fill in {len(points)} points"), True)
            s.say(f"{len(points)} points filled in.", "good")

        s.desk.ask("fill", lambda job: more_points(engine, project, set_id, *pair, job), done)

    def _draw_line(self, side: int, points: list) -> None:
        s = self.session
        kind = LineKind(self.tools_value)
        line = PlumbLine(self.pair[side], tuple((float(x), float(y)) for x, y in points), kind)
        lines = (*s.frame_set.registration.lines, line)
        s.edit(edits.set_lines(s.project, s.set_id, lines, f"draw a line that is {kind}"), True)

    def _choose_line(self, side: int, n: int) -> None:
        for other, pane in enumerate(self.panes):
            pane.line = n if other == side else None
            pane.update()
        self._show_chosen()

    def _chosen_frame(self) -> Frame:
        """The frame of the pair that is chosen, or its first."""
        return next((f for f in self._frames() if f.id == self.session.frame_id), self._frames()[0])

    def _hover(self, side: int, x: float, y: float) -> None:
        """Linked loupes: the spot under the pointer here, and where the cameras see it there."""
        if self.tools_value == "ignore" and not np.isnan(x):
            self.ignoring.take(side)
        if self.tools_value != "points":
            return
        gone = bool(np.isnan(x))
        found = self._registration()
        self.panes[side].loupe_at = None if gone else (x, y)
        there = None
        if found is not None and self.pair is not None and not gone:
            used = [f.id for f in self.session.frame_set.used]
            own, other = (found.frames[used.index(self.pair[n])] for n in (side, 1 - side))
            if isinstance(own, Placed) and isinstance(other, Placed):
                at = other.posed.project(own.posed.rays(np.array([[x, y]])))[0]
                shown = self.panes[1 - side].source.shown
                if shown is not None and 0 < at[0] < shown.width and 0 < at[1] < shown.height:
                    there = float(at[0]), float(at[1])
        self.panes[1 - side].loupe_at = there
        for pane in self.panes:
            pane.update()


def _sides_of(r: Row, shown: list[int]) -> tuple[int, int] | None:
    return (shown.index(r.a), shown.index(r.b)) if {r.a, r.b} == set(shown) else None
