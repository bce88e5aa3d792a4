"""The overlap map: frames drawn as they lie, poles along the edge, links around the back."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
from numpy.testing import assert_allclose
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QImage

from tests.app.support import WindowTest
from windfell.align.registration import PairFit, PanoramaRegistration, Placed
from windfell.app.stations.map_frames import is_around, middle_of, outlines, picture_on_map
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.recipe import edits

LENS = Lens(300, 200, 240.0)


def looking(yaw_deg: float, pitch_deg: float, roll_deg: float = 0.0) -> Placed:
    return Placed(LENS, from_yaw_pitch_roll(*np.radians([yaw_deg, pitch_deg, roll_deg])), 0.1)


def halves() -> QImage:
    """Red on the left, blue on the right."""
    image = QImage(60, 40, QImage.Format.Format_RGB32)
    image.fill(QColor("red"))
    for x in range(30, 60):
        for y in range(40):
            image.setPixelColor(x, y, QColor("blue"))
    return image


class Shapes(unittest.TestCase):
    def test_a_frame_that_lies_nowhere_on_the_map_has_no_outline(self):
        nowhere = Placed(Lens(300, 200, np.nan), np.eye(3), 0.1)
        self.assertEqual(list(outlines({0: nowhere, 1: looking(10, 0)})), [1])
        self.assertEqual(outlines({0: nowhere}), {})

    def test_an_outline_is_closed_around_the_frame(self):
        frame = looking(30, 5)
        shape = outlines({0: frame})[0]
        middle = middle_of(frame, shape)
        self.assertAlmostEqual(middle[0], np.radians(30), delta=0.01)
        self.assertFalse(is_around(shape))
        self.assertTrue(np.all((shape.min(axis=0) < middle) & (middle < shape.max(axis=0))))

    def test_a_frame_with_a_pole_reaches_along_the_edge(self):
        frames = {0: looking(170, 0), 1: looking(100, 0), 2: looking(20, 88), 3: looking(0, -89)}
        shapes = outlines(frames)
        for n, edge in ((2, -np.pi / 2), (3, np.pi / 2)):
            with self.subTest(n):
                self.assertTrue(is_around(shapes[n]))
                self.assertAlmostEqual(np.ptp(shapes[n][:, 0]), 2 * np.pi)
                self.assertIn(edge, shapes[n][:, 1])
        ends = [middle_of(frames[n], shapes[n])[0] for n in (0, 1)]
        self.assertTrue(min(ends) < middle_of(frames[2], shapes[2])[0] < max(ends))

    def test_spots_of_a_flat_subject_are_their_own_map(self):
        frame = Placed(LENS, np.eye(3), 0.1, place=np.array([2.0, 1.0, 0.0]))
        shape = outlines({0: frame})[0]
        assert_allclose(middle_of(frame, shape), [2, 1], atol=0.01)
        assert_allclose(np.ptp(shape, axis=0), [299 / 240, 199 / 240], atol=0.02)


class Pictures(unittest.TestCase):
    def test_a_picture_lies_as_the_camera_was_held(self):
        """A frame held on its side has its left half above or below, not beside."""
        for roll, apart in ((0.0, (1, 0)), (90.0, (0, 1))):
            frame = looking(10, 0, roll)
            shape = outlines({0: frame})[0]
            picture, corner = picture_on_map(frame, halves(), shape, 200.0, np.array([400.0, 300.0]))
            with self.subTest(roll=roll):
                middles = []
                for red in (True, False):
                    at = np.array([
                        [x, y] for y in range(picture.height()) for x in range(picture.width())
                        if picture.pixelColor(x, y).alpha() and (picture.pixelColor(x, y).red() > 128) == red])
                    middles.append(at.mean(axis=0) + corner)
                step = np.abs(np.subtract(*middles))
                self.assertGreater(step @ apart, 30)
                self.assertLess(step @ apart[::-1], 6)
                assert_allclose(np.mean(middles, axis=0), np.radians(10) * np.array([200, 0]) + [400, 300], atol=4)

    def test_what_a_frame_does_not_show_is_transparent(self):
        frame = looking(0, 0, 30)
        picture, _ = picture_on_map(frame, halves(), outlines({0: frame})[0], 150.0, np.zeros(2))
        self.assertEqual(picture.pixelColor(1, 1).alpha(), 0)
        self.assertEqual(picture.pixelColor(picture.width() // 2, picture.height() // 2).alpha(), 255)


class TheMap(WindowTest):
    def test_a_link_across_the_back_leaves_at_both_sides(self):
        self.open("align")
        shown = self.window.stations["align"].map
        frames = (looking(-120, 0), looking(0, 0), looking(120, 0), looking(0, 85))
        none = np.zeros((0, 2))
        links = tuple(PairFit(a, b, none, none, 0.1, np.zeros(0)) for a, b in ((0, 1), (0, 2), (0, 3)))
        found = PanoramaRegistration(frames, links, 0.1)
        shown._found.found = found
        shown._lay_out()
        straight, around, pole = (shown._way(k) for k in links)
        self.assertEqual((len(straight), len(around), len(pole)), (1, 2, 1))
        left, right = around if around[0][0].x() < around[1][0].x() else around[::-1]
        self.assertLess(left[1].x(), left[0].x())
        self.assertGreater(right[1].x(), right[0].x())
        middle = (left[0] + left[1]) / 2
        self.assertEqual(shown._nearest_link(QPointF(middle.x(), middle.y() + 2)), (0, 2))
        self.assertFalse(shown.grab().isNull())

    def test_frames_have_the_numbers_that_all_of_the_set_count_by(self):
        self.open("align")
        self.session.edit(edits.switch_frame(self.session.project, "row", self.session.frame_set.frames[0].id, False))
        self.settle()
        shown = self.window.stations["align"].map
        painted = set()
        with mock.patch.object(shown, "_paint_number", lambda _, number, *more: painted.add(number)):
            shown.grab()
        self.assertEqual(painted, {2, 3, 4})
        align = self.window.stations["align"]
        pairs = {align.links.item(row, 0).text() for row in range(align.links.rowCount())}
        self.assertTrue(pairs and pairs <= {"2 – 3", "3 – 4", "2 – 4"}, pairs)
        self.session.go("join")
        self.settle()
        join = self.window.stations["join"]
        self.until(lambda: join.seams is not None and len(join.area.values) == 3)
        self.assertEqual(join.area.numbers, (2, 3, 4))


if __name__ == "__main__":
    unittest.main()
