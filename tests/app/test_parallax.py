"""Parallax seen on the overlap map and evened out at Join, by what a person presses and reads."""

from dataclasses import replace
from unittest.mock import patch

from PySide6.QtCore import QPoint

from tests.app.support import WindowTest
from tests.core.test_parallax import near_project
from windfell.app.stations import overlap_map


class ParallaxInTheWindow(WindowTest):
    def setUp(self):
        super().setUp()
        self.session.replace_all(near_project(False)[0], None)
        self.session.select_set("set")

    def test_the_map_shows_strokes_where_near_things_lie_aside(self):
        self.session.go("align")
        self.settle()
        align = self.window.stations["align"]
        links = align.map.grab().toImage()
        align.shown.press("parallax")
        self.settle()
        strokes = align.map.strokes
        self.assertGreater(len(strokes.size_px), 60)
        self.assertGreater(strokes.worst_px, 0.5)
        low = strokes.starts[:, 1] > sorted(strokes.starts[:, 1])[int(0.8 * len(strokes.starts))]
        self.assertGreater(strokes.size_px[low].mean(), strokes.size_px.mean())
        shown = align.map.grab().toImage()
        self.assertNotEqual(shown, links)
        painted = []
        with patch.object(overlap_map, "paint_strokes", lambda *_: painted.append(True)):
            self.assertEqual(align.map.grab().toImage(), shown)  # kept: not painted stroke by stroke again
            self.assertFalse(painted)
            align.map.strokes = replace(strokes)
            self.assertNotEqual(align.map.grab().toImage(), shown)
            self.assertTrue(painted)
        align.shown.press("map")
        self.settle()
        self.assertIsNone(align.map.strokes)
        self.assertEqual(align.map.grab().toImage(), links)

    def test_join_evens_it_out_says_how_far_and_undo_gives_it_back(self):
        self.session.go("join")
        self.settle()
        join = self.window.stations["join"]
        self.assertFalse(join.even_words.isVisible())
        self.click(join.even, QPoint(8, 10))
        self.until(lambda: "apart, now" in join.even_words.text())
        self.settle()
        self.assertTrue(self.session.frame_set.joining.even_parallax)
        self.assertTrue(join.even_words.isVisible())
        self.assertEqual(self.session.history.undo_words, "even out parallax off to on")
        self.session.undo()
        self.settle()
        self.assertFalse(join.even.isChecked())
        self.assertFalse(join.even_words.isVisible())


class GroundUnderStars(WindowTest):
    def test_the_switch_stands_only_with_stars_and_is_undone(self):
        self.open("align", "still")
        align = self.window.stations["align"]
        self.assertFalse(align.ground.isVisible())
        align.way.press("stars")
        self.assertTrue(align.ground.isVisible())
        self.click(align.ground, QPoint(8, 10))
        self.assertTrue(self.session.frame_set.registration.ground_apart)
        self.assertIn("ground apart", self.session.history.undo_words)
        self.session.undo()
        self.assertFalse(align.ground.isChecked())
        self.settle()
