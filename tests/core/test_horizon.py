"""The horizon: found where there is one, with its own doubt, and not where edges only look like it."""

import unittest

import cv2
import numpy as np

from windfell.align.horizon import horizon_turn
from windfell.align.upright import find_edges, onto_down
from windfell.geometry.camera import Lens
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll

LENS = Lens(640, 427, 620.0)
DOWN = np.array([0.0, 1.0, 0.0])


def row(count: int, step_deg: float = 30.0) -> list[Posed]:
    """A level world's frames, held a little askew."""
    rng = np.random.default_rng(2)
    return [Posed(LENS, from_yaw_pitch_roll(*np.radians([step_deg * (n - (count - 1) / 2), *rng.normal(0, 2, 2)])))
            for n in range(count)]


def tilted(frames: list[Posed], tilt: np.ndarray) -> list[Posed]:
    """The same in a world that leans."""
    return [Posed(f.lens, tilt @ f.rotation) for f in frames]


def seen(frame: Posed, elevation_deg: float, seed: int, rough_deg: float = 0.0) -> np.ndarray:
    """Grey (h, w): sky above a line at an elevation, sea below; `rough_deg` makes hills of the line."""
    grid = np.stack(np.meshgrid(np.arange(LENS.width), np.arange(LENS.height)), -1).astype(float)
    rays = frame.rays(grid)
    height = np.degrees(np.arcsin(-rays[..., 1]))
    azimuth = np.degrees(np.arctan2(rays[..., 0], rays[..., 2]))
    hills = rough_deg * (np.sin(azimuth / 2.1) + np.sin(azimuth / 0.9 + 1) + np.sin(azimuth / 5.3))
    rng = np.random.default_rng(seed)
    sky = np.clip(8 * (height - elevation_deg - hills) + 0.5, 0, 1)
    grey = 90 + 90 * sky + rng.normal(0, 3, sky.shape)
    return np.clip(cv2.GaussianBlur(grey, (0, 0), 0.8), 0, 255).astype(np.uint8)


def edges_of(frames: list[Posed], **scene) -> list[np.ndarray]:
    return [find_edges(seen(f, scene.get("elevation_deg", 0.0), n, scene.get("rough_deg", 0.0)),
                       LENS.width, LENS.height) for n, f in enumerate(frames)]


class Horizon(unittest.TestCase):
    def tilt_left(self, turn: np.ndarray, tilt: np.ndarray) -> float:
        return float(np.degrees(np.arccos(np.clip((turn @ tilt @ DOWN)[1], -1, 1))))

    def test_the_seas_line_levels_the_world_within_its_own_error(self):
        for tilt_deg in ((1.5, 0, 0), (0, 0, 2.0), (-1.0, 0.5, -1.5), (0, 0, 0)):
            with self.subTest(tilt_deg):
                tilt = from_rotvec(np.radians(np.array(tilt_deg, float)))
                true = row(5)
                found = horizon_turn(tilted(true, tilt), edges_of(true))
                self.assertIsNotNone(found)
                self.assertEqual(found.by, "horizon")
                self.assertLess(self.tilt_left(found.turn, tilt), max(4 * found.error_deg, 0.1))
                self.assertLess(found.error_deg, 0.3)

    def test_a_far_shore_lies_lower_and_levels_as_well_over_a_wide_view(self):
        tilt = from_rotvec(np.radians([1.0, 0.0, 1.2]))
        true = row(7)
        found = horizon_turn(tilted(true, tilt), edges_of(true, elevation_deg=-1.5))
        self.assertIsNotNone(found)
        self.assertLess(self.tilt_left(found.turn, tilt), 0.3)

    def test_a_narrow_view_is_less_sure_of_the_nod_than_a_wide_one(self):
        errors = []
        for count in (2, 7):
            frames = row(count, 20.0)
            errors.append(horizon_turn(frames, edges_of(frames)).error_deg)
        self.assertGreater(errors[0], 3 * errors[1])

    def test_hills_are_no_horizon(self):
        frames = row(5)
        self.assertIsNone(horizon_turn(frames, edges_of(frames, rough_deg=1.2)))

    def test_neither_are_scattered_edges_nor_none(self):
        frames = row(5)
        rng = np.random.default_rng(8)
        middle = rng.uniform([40, 120], [600, 300], (5, 60, 2))
        half = rng.normal(0, [18, 2], (5, 60, 2))
        scattered = [np.concatenate([m - h, m + h], axis=1) for m, h in zip(middle, half, strict=True)]
        self.assertIsNone(horizon_turn(frames, scattered))
        self.assertIsNone(horizon_turn(frames, [np.zeros((0, 4))] * 5))

    def test_the_turn_is_the_least_that_levels(self):
        down = from_rotvec(np.array([0.02, 0.0, -0.03])) @ DOWN
        np.testing.assert_allclose(onto_down(down) @ down, DOWN, atol=1e-12)


if __name__ == "__main__":
    unittest.main()
