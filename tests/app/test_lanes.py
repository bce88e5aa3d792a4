"""The lanes' ends: what each set will give, and the way on from there."""

from __future__ import annotations

from dataclasses import replace
from unittest.mock import patch

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest, small_project
from windfell.recipe import edits
from windfell.recipe.model import Kind, Project


class LaneEnds(WindowTest):
    def setUp(self):
        super().setUp()
        self.session.replace_all(small_project(), None)
        self.settle()

    @property
    def board(self):
        return self.window.station.page.board

    def end(self, n: int):
        return self.board.lanes[n].end

    def test_each_lane_shows_what_its_set_will_give(self):
        row, still = (self.board.pictures.of(i).image for i in ("row", "still"))
        self.assertGreater(row.width(), 1.4 * row.height())
        self.assertAlmostEqual(still.width() / still.height(), 1.5, delta=0.02)
        painted = self.end(0).grab().toImage()
        colours = {painted.pixel(x, painted.height() // 2 - 10) for x in range(20, painted.width() - 30, 4)}
        self.assertGreater(len(colours), 20)

    def test_a_change_makes_the_picture_anew_and_others_stay(self):
        before = {i: self.board.pictures.of(i).image for i in ("row", "still")}
        s = self.session
        s.edit(edits.switch_frame(s.project, "row", s.frame_set.frames[-1].id, False))
        self.assertFalse(self.board.pictures.is_newest("row"))
        self.settle()
        self.assertTrue(self.board.pictures.is_newest("row"))
        self.assertIs(self.board.pictures.of("still").image, before["still"])
        after = self.board.pictures.of("row").image
        self.assertLess(after.width() / after.height(), before["row"].width() / before["row"].height())

    def test_why_there_is_none_is_said(self):
        s = self.session
        for frame in s.frame_set.frames[1:]:
            s.edit(edits.switch_frame(s.project, "row", frame.id, False))
        self.settle()
        self.assertIn("at least two frames", self.board.pictures.of("row").problem)
        self.assertIn("at least two frames", self.end(0).toolTip())

    def test_a_press_leads_to_where_the_set_is_worked_on(self):
        QTest.mouseClick(self.end(1), Qt.MouseButton.LeftButton)
        self.assertEqual((self.session.set_id, self.session.station), ("still", "combine"))
        self.session.go("gather")
        QTest.keyClick(self.end(0), Qt.Key.Key_Return)
        self.assertEqual((self.session.set_id, self.session.station), ("row", "shape"))
        self.session.go("gather")
        self.session.edit(edits.change_kind(self.session.project, "row", Kind.STACK))
        QTest.keyClick(self.end(0), Qt.Key.Key_Space)
        self.assertEqual(self.session.station, "combine")

    def test_stopping_makes_none_until_the_next_change(self):
        s = self.session
        s.edit(edits.switch_frame(s.project, "still", s.project.set("still").frames[0].id, False))
        self.until(lambda: s.desk.runs("set pictures") or self.board.pictures.is_newest("still"))
        s.desk.stop_all()
        self.until(lambda: self.board.pictures.settled)
        s.go("prepare")
        self.assertFalse(s.desk.runs("set pictures"))


class ManySets(WindowTest):
    def test_lanes_are_made_some_at_a_time_that_in_hand_first(self):
        row = small_project().sets[0]
        with patch("windfell.app.stations.lanes.TURN_S", 1e-9):
            sets = tuple(replace(row, id=f"row-{n}", name=f"Row {n}", frames=row.frames[:2]) for n in range(7))
            self.session.replace_all(Project(sets), None)
            board = self.window.station.page.board
            self.session.select_set("row-5")
            self.until(lambda: "row-5" in [x.set_id for x in board.lanes])
            self.assertLess(len(board.lanes), 5)
            self.assertFalse(self.window.station.settled)
            self.until(lambda: len(board.lanes) == 7)
            self.assertEqual([x.set_id for x in board.lanes], [s.id for s in sets])
            # one that shows what is no longer so stands until another is made, and takes no press
            old = board.lanes[:2]
            changed = self.session.project
            for n in (0, 1):
                changed = edits.set_values(changed, f"row-{n}", {"name": "Fell"}).project
            self.session.edit(edits.Edit("name", changed))
            waiting = next(lane for lane in old if lane.outdated and lane.isVisible())
            self.assertIs(board.widget().childAt(waiting.geometry().center()), None)
            self.until(lambda: [x.name.text() for x in board.lanes[:2]] == ["Fell", "Fell"])
            self.assertEqual(len(board.lanes), 7)
