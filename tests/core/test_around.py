"""Looking around in a panorama: a flat window shows what the picture shows in those directions."""

import unittest

import numpy as np

from tests.support import engine, frames_in, project_of, ridge
from windfell.engine.around import Around, around_of
from windfell.job import Job
from windfell.shape.canvas import Canvas


def striped() -> Around:
    """A whole sphere whose colour says its direction: red longitude, green latitude."""
    canvas = Canvas("equirectangular", -np.pi, -np.pi / 2, np.pi, np.pi / 2, 720, 360)
    x, y = np.meshgrid(np.arange(720), np.arange(360))
    around = np.round(127.5 + 127.5 * np.cos(2 * np.pi * (x + 0.5) / 720))
    return Around(canvas, np.dstack([around, y * 255 / 359, 0 * x, 255 + 0 * x]).astype(np.uint8))


class Looking(unittest.TestCase):
    def test_the_middle_shows_the_direction_looked_at_also_across_the_edge_and_at_the_poles(self):
        around = striped()
        for yaw, pitch in ((0, 0), (90, 0), (180, 0), (-179, 20), (33, -60), (0, 89)):
            seen = around.view(yaw, pitch, 60, 301, 201)
            red = 127.5 + 127.5 * np.cos(np.radians(yaw + 180))
            green = 255 * (90 - pitch) / 180
            middle = seen[100, 150]
            if abs(pitch) < 85:
                self.assertAlmostEqual(float(middle[0]), red, delta=3)
            self.assertAlmostEqual(float(middle[1]), green, delta=3)
            self.assertEqual(seen[..., 3].min(), 255)

    def test_no_line_where_the_picture_closes(self):
        seen = striped().view(180, 0, 80, 400, 200).astype(int)
        self.assertLess(np.abs(np.diff(seen[..., 0], axis=1)).max(), 6)

    def test_what_no_frame_shows_is_empty(self):
        own = engine()
        project, set_id = project_of(frames_in(ridge()))
        around = around_of(own, project, set_id, 500, Job())
        self.assertGreater(around.view(0, 0, 20, 100, 80)[40, 50, 3], 250)
        self.assertEqual(around.view(0, 89, 40, 100, 80)[..., 3].max(), 0)
        self.assertEqual(around.view(180, 0, 40, 100, 80)[..., 3].max(), 0)
