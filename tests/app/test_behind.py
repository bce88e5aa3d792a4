"""A panorama laid behind another in the window: chosen, placed, moved by the hand, lit, taken away."""

import unittest
from dataclasses import replace
from unittest import mock

from PySide6.QtCore import QPointF

from tests.app.support import WindowTest
from tests.support import frames_in, ridge
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path


class BehindTest(WindowTest):
    def open_two(self) -> None:
        paths = frames_in(ridge())
        sets = (FrameSet("front", "Dusk", Kind.PANORAMA, tuple(frame_from_path(p) for p in paths[:3])),
                FrameSet("back", "Night", Kind.PANORAMA, tuple(frame_from_path(p) for p in paths[1:])))
        self.session.replace_all(Project(sets), None)
        self.session.select_set("front")
        self.session.go("join")
        self.settle()
        self.join = self.window.stations["join"]
        self.join.open_page("behind")

    @property
    def behind(self):
        return self.session.project.set("front").behind

    def lay(self) -> None:
        with mock.patch("windfell.app.set_deeds.QInputDialog.getItem", return_value=("Night", True)):
            self.join.behind.lay.click()
        self.until(lambda: self.behind is not None)
        self.settle()

    def test_laid_moved_lit_and_undone(self):
        self.open_two()
        page = self.join.behind
        self.assertFalse(page.away.isVisible())
        self.lay()
        self.assertIn("what both show", " ".join(self.said))
        self.assertTrue(page.away.isVisible())
        self.assertIn("Night", page.words.text())
        before = self.behind
        page.rulers["exposure_ev"].changed.emit(-1.0, True)
        page.soft.changed.emit(0.5, True)
        page.room.changed.emit(20.0, True)
        self.assertEqual((self.behind.exposure_ev, self.behind.area.feather), (-1.0, 0.5))
        self.assertEqual(self.session.frame_set.outline.room.top_pct, 20.0)
        self.settle()
        page.move_it.click()
        self.assertIs(self.window.view.in_hand, page.mover)
        rect = self.window.view.picture_rect()
        for at in (QPointF(0.5, 0.3), QPointF(0.52, 0.3), QPointF(0.55, 0.28)):
            if at.x() == 0.5:
                page.mover.press(at, rect)
            else:
                page.mover.move(at, rect)
            self.until(lambda: not self.session.desk.runs("behind"))
        page.mover.release(at, rect)
        self.assertGreater(self.behind.yaw_deg, before.yaw_deg + 1.0)
        self.assertGreater(self.behind.pitch_deg, before.pitch_deg)
        self.session.undo()
        self.assertAlmostEqual(self.behind.yaw_deg, before.yaw_deg, places=6)
        self.session.project.set("front")
        page.place.click()
        self.until(lambda: not self.session.desk.runs("compose"))
        self.settle()
        self.assertAlmostEqual(self.behind.yaw_deg, before.yaw_deg, delta=0.05)
        page.match.click()
        self.assertIs(self.window.view.in_hand, page.picker)
        with mock.patch("windfell.app.stations.behind_page.picked_light", return_value=(-1.5, 20.0)) as picked:
            for at in (QPointF(0.4, 0.2), QPointF(0.5, 0.7)):
                page.picker.press(at, rect)
            self.until(lambda: self.behind.exposure_ev == -1.5)
        self.assertEqual(picked.call_args.args[3:5], ((0.4, 0.2), (0.5, 0.7)))
        self.assertEqual((self.behind.warmth, page.match.isChecked()), (20.0, False))
        self.settle()
        page.on.click()
        self.assertFalse(self.behind.on)
        page.away.click()
        self.assertIsNone(self.behind)
        self.assertFalse(page.away.isVisible())
        while self.session.history.undo_words:
            self.session.undo()
        self.assertIsNone(self.behind)
        self.assertEqual(self.session.frame_set.outline.room.top_pct, 0.0)

    def test_where_it_is_seen_is_drawn_by_the_hand_of_all_areas(self):
        self.open_two()
        self.lay()
        self.join.behind.paint.click()
        self.until(lambda: self.join.hand.mask is not None)
        self.assertGreater(self.join.hand.mask[: len(self.join.hand.mask) // 5].mean(), 0.6)
        self.assertLess(self.join.hand.mask[-len(self.join.hand.mask) // 5 :].mean(), 0.1)
        self.join.hand._put(replace(self.behind.area, inverted=True), "invert")
        self.assertTrue(self.behind.area.inverted)

    def test_nothing_to_place_is_said(self):
        self.open_two()
        self.window.do("place_behind")
        self.assertIn("Nothing lies behind", " ".join(self.said))


if __name__ == "__main__":
    unittest.main()
