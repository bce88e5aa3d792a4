"""Transforms of a plane fitted to points, and which of them the points support."""

import unittest

import numpy as np

from windfell.align.transforms import WAYS, supported, variance_at
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll

SIZE = 900, 600
SLANTED = np.array([[1.01, 0.004, 9], [-0.003, 1.006, -4], [1.2e-5, -0.8e-5, 1]])
GROWN = np.array([[1.03, -0.01, 9], [0.01, 1.03, -4], [0, 0, 1]])


def turned(focal: float) -> np.ndarray:
    """What a camera sees of its first frame after it turned on its spot."""
    k = np.array([[focal, 0, (SIZE[0] - 1) / 2], [0, focal, (SIZE[1] - 1) / 2], [0, 0, 1]])
    return k @ from_yaw_pitch_roll(*np.radians([1.1, -0.7, 0.5])) @ np.linalg.inv(k)


def worst_px(transform: np.ndarray, truth: np.ndarray) -> float:
    grid = Lens(*SIZE, 1.0).grid(6)
    return float(np.linalg.norm(planar.apply(transform, grid) - planar.apply(truth, grid), axis=1).max())


class Supported(unittest.TestCase):
    def found(self, truth, count, spot=1.0, noise=0.3, seed=0, way="perspective"):
        """From points of so large a share of the frame's width and height."""
        rng = np.random.default_rng(seed)
        p = ((1 - spot) / 3 + spot * rng.uniform(0, 1, (count, 2))) * SIZE
        q = planar.apply(truth, p) + rng.normal(0, noise, p.shape)
        return supported(p, q, way, 1.5, 0.03, SIZE)

    def test_a_slant_that_many_points_all_over_say_stands(self):
        for seed in range(5):
            self.assertLess(worst_px(self.found(SLANTED, 300, seed=seed).transform, SLANTED), 0.6)

    def test_a_slant_is_kept_though_few_points_all_over_say_it_loosely(self):
        worst = [worst_px(self.found(SLANTED, 40, noise=0.6, seed=seed).transform, SLANTED) for seed in range(12)]
        self.assertLess(np.median(worst), 3)

    def test_what_few_points_on_one_spot_say_of_the_slant_does_not(self):
        for truth, within in ((GROWN, 2.5), (turned(1080.0), 1.5)):
            worst = [worst_px(self.found(truth, 24, 0.3, seed=seed).transform, truth) for seed in range(20)]
            free = [worst_px(self.found(truth, 24, 0.51, seed=seed).transform, truth) for seed in range(20)]
            self.assertLess(np.median(worst), within)
            self.assertLess(np.median(free), within)

    def test_a_camera_of_a_usual_lens_that_turned_is_known_by_a_spot(self):
        found = self.found(turned(1080.0), 40, 0.35, noise=0.1)
        self.assertLess(worst_px(found.transform, turned(1080.0)), 0.5)
        self.assertGreater(np.abs(found.transform[2, :2]).max(), 1e-6, "it slants as a turn does")

    def test_the_way_asked_for_is_kept(self):
        for way in ("shift", "rigid", "similarity"):
            self.assertLess(np.abs(self.found(SLANTED, 300, way=way).transform[2, :2]).max(), 1e-12)

    def test_the_error_that_is_expected_is_about_what_there_is(self):
        grid = Lens(*SIZE, 1.0).grid(6)
        for spot in (1.0, 0.6):
            found = [self.found(SLANTED, 200, spot, seed=seed) for seed in range(20)]
            said = np.sqrt(np.mean([f.error_px**2 for f in found]))
            there = np.sqrt(np.mean([np.sum((planar.apply(f.transform, grid) - planar.apply(SLANTED, grid)) ** 2, -1)
                                     for f in found]))
            self.assertLess(abs(np.log(said / there)), np.log(1.6), (spot, said, there))

    def test_many_points_on_a_strip_keep_the_slant_that_they_plainly_say(self):
        rng = np.random.default_rng(2)
        p = rng.uniform((0, 350), (SIZE[0], 500), (250, 2))
        q = planar.apply(turned(700.0), p) + rng.normal(0, 0.05, p.shape)
        self.assertLess(worst_px(supported(p, q, "perspective", 1.5, 0.03, SIZE).transform, turned(700.0)), 0.7)

    def test_a_few_that_err_alike_at_a_rim_make_the_slant_less_sure(self):
        rng = np.random.default_rng(4)
        p = np.concatenate([rng.uniform((0, 300), (SIZE[0], 450), (150, 2)), rng.uniform((0, 0), (60, 40), (6, 2))])
        q = planar.apply(SLANTED, p) + rng.normal(0, 0.05, p.shape)
        said = []
        for wrong in (0.0, 4.0):
            q[150:, 1] += wrong
            fit = WAYS["perspective"](p, q, np.ones(len(p)))
            said.append(np.sqrt(variance_at(Lens(*SIZE, 1.0).grid(6), "perspective", fit, p, q, 0.03)))
        self.assertGreater(said[1], 0.45)
        self.assertLess(said[0], 0.1)

    def test_a_turn_of_a_lens_that_nobody_knows_is_less_sure_where_no_point_is(self):
        for truth, spot in ((turned(1080.0), 0.4), (turned(500.0), 0.1)):
            found = self.found(truth, 60, spot, noise=0.05, seed=1)
            self.assertGreater(found.error_px, 0.8)

    def test_of_too_few_points_nothing_is_known(self):
        few = np.array([[0, 0], [100, 0], [0, 100], [90, 80.0]])
        self.assertEqual(variance_at(few, "perspective", np.eye(3), few, few, 0.03), float("inf"))
