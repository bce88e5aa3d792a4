"""Lenses that bend much, of which nothing is known."""

import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import drawn, engine, frames_in, project_of, rotation_errors_deg, truth_of
from windfell.align import panorama
from windfell.align.adjust import Observations
from windfell.align.barrel import (
    PULLS,
    as_seen,
    bent_more,
    k1_of_pull,
    may_bend,
    optics_of_pull,
    pull_of,
    straight,
    straightened,
)
from windfell.align.cameras import cameras_of
from windfell.align.features import Features
from windfell.align.pairs import Link
from windfell.align.solve import Ground, LensHint, starting_cameras
from windfell.demo.sets import RowPlan, write_row
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job


def row(k1: float) -> Path:
    """A wide row through a lens with that k1, its files without metadata."""
    def draw(folder: Path) -> None:
        plan = RowPlan(count=4, width=600, height=400, focal_px=400.0, overlap=0.32, k1=k1, jitter_deg=1.0, seed=5)
        write_row(folder, plan, 1.0, Job())
        for path in folder.glob("*.jpg"):
            cv2.imwrite(str(path), cv2.imread(str(path)), [cv2.IMWRITE_JPEG_QUALITY, 95])

    return drawn(f"barrel{k1}", draw)


def link_of(a: int, b: int, points: int) -> Link:
    p = np.zeros((points, 2))
    return Link(a, b, p, p, np.ones(points, bool), np.eye(3))


class Barrel(unittest.TestCase):
    def test_frames_of_a_wide_lens_that_bends_much_hold_together(self):
        for k1 in (-0.15, -0.05):
            with self.subTest(k1=k1):
                folder = row(k1)
                project, set_id = project_of(frames_in(folder))
                found = engine().stages(project, set_id).registration(Job())
                self.assertEqual(len(found.placed), 4)
                true = [np.array(t["rotation"]) for t in truth_of(folder)["frames"]]
                self.assertLess(rotation_errors_deg([f.rotation for f in found.frames], true).max(), 0.06)
                self.assertAlmostEqual(found.frames[0].lens.focal_px, 400, delta=2)
                self.assertAlmostEqual(found.frames[0].lens.k1, k1, delta=0.004)

    def test_a_pull_is_the_share_by_which_corners_are_drawn_in(self):
        for pull in PULLS:
            lens = Lens(900, 600, 700.0)
            lens = Lens(900, 600, 700.0, k1_of_pull(pull, lens))
            self.assertAlmostEqual(pull_of(lens), pull, places=6)
            corner = np.array([[899.5, 599.5]])
            ideal = optics_of_pull(pull).ideal(corner, lens.centre, lens.half_diagonal) - lens.centre
            self.assertAlmostEqual(np.linalg.norm(corner - lens.centre) / np.linalg.norm(ideal), 1 - pull, delta=1e-4)
            # the table says what the coefficient says
            points = lens.grid(9)
            flat = lens.centre + lens.focal_px * lens.undistort(points)
            assert_allclose(optics_of_pull(pull).ideal(points, lens.centre, lens.half_diagonal), flat, atol=0.02)
        self.assertEqual(pull_of(Lens(900, 600, 700.0)), 0)
        self.assertEqual(pull_of(Lens(900, 600, 500.0, -0.25)), 1, "the corners lie beyond the fold")

    def test_links_of_straightened_features_are_told_where_frames_show_them(self):
        points = np.random.default_rng(3).uniform((5, 5), (595, 395), (50, 2))
        features = [Features(points, np.zeros((50, 32), np.uint8), 600, 400)] * 2
        flat = straightened(features, 0.17)
        self.assertGreater(np.linalg.norm(flat[0].points - points, axis=1).max(), 20)
        k = Link(0, 1, flat[0].points, flat[1].points, np.ones(50, bool), np.eye(3), flat[0].points[:7])
        seen = as_seen(k, features, 0.17)
        for found, true in ((seen.points_a, points), (seen.points_b, points), (seen.moved, points[:7])):
            assert_allclose(found, true, atol=0.01)
        again = straight(Observations(0, 1, seen.points_a, seen.points_b), np.array([[600, 400]] * 2), 0.17)
        assert_allclose(again.points_a, flat[0].points, atol=0.01)
        self.assertIs(as_seen(k, features, 0.0), k)

    def test_a_bend_is_looked_for_where_frames_fall_apart_or_lenses_are_odd(self):
        sizes = [(600, 400)] * 3
        cameras = cameras_of(sizes, [0, 0, 0], np.array([500.0]))
        self.assertFalse(may_bend(cameras, (0, 1, 2), 1))
        self.assertTrue(may_bend(cameras, (0, 1), 1))
        many = cameras_of([(600, 400)] * 30, [0] * 30, np.array([500.0]))
        self.assertFalse(may_bend(many, tuple(range(28)), 1), "two strangers among thirty")
        self.assertTrue(may_bend(cameras_of(sizes, [0, 0, 1], np.array([500.0, 800.0])), (0, 1, 2), 1))
        cameras.lenses[0, 1] = k1_of_pull(0.1, cameras.lens(0))
        self.assertTrue(may_bend(cameras, (0, 1, 2), 1))

    def test_the_bend_under_which_most_agrees_is_taken(self):
        found = {PULLS[0]: [link_of(0, 1, 60), link_of(1, 2, 30)], PULLS[1]: [link_of(0, 1, 70)]}
        pull, (links, _) = bent_more([link_of(0, 1, 80)], 3, lambda p: (found[p], []))
        self.assertEqual((pull, len(links)), (PULLS[0], 2))
        self.assertIsNone(bent_more([link_of(0, 1, 120)], 3, lambda p: (found[p], [])))

    def test_the_frames_are_held_together_by_lenses_believed_to_bend_so(self):
        believed, held = [], panorama._held_at_any_zoom

        def spy(features, hints, *more):
            believed.append({h.pull for h in hints})
            return held(features, hints, *more)

        with mock.patch.object(panorama, "_held_at_any_zoom", spy):
            project, set_id = project_of(frames_in(row(-0.15)))
            engine().stages(project, set_id).ground(Job())
        self.assertEqual(believed[0], {0.0})
        self.assertEqual(len(believed[1]), 1)
        self.assertIn(believed[1].pop(), PULLS)
        with mock.patch.object(panorama, "explains_more", return_value=False):
            project, set_id = project_of(frames_in(row(-0.15)))
            ground = engine().stages(project, set_id).ground(Job())
        self.assertTrue((ground.cameras.believed[:, 1] == 0).all(), "it stays as it was")

    def test_a_start_with_a_pull_has_its_bend_and_finds_the_focal_length(self):
        lens = Lens(900, 600, 700.0)
        lens = Lens(900, 600, 700.0, k1_of_pull(0.17, lens))
        turn, rng = from_yaw_pitch_roll(0.6, 0.03, 0.02), np.random.default_rng(5)
        rays = lens.rays(rng.uniform((440, 10), (890, 590), (200, 2)))
        there = lens.project(rays @ turn)
        seen = np.isfinite(there).all(axis=1) & (there[:, 0] > 5)
        pair = Observations(0, 1, lens.project(rays)[seen], there[seen])
        features = [Features(np.zeros((0, 2)), np.zeros((0, 32), np.uint8), 900, 600)] * 2
        start = starting_cameras(features, [LensHint(("k",), None, 0.17)] * 2, [0, 1], [pair], None)
        self.assertAlmostEqual(float(start.focal_px[0]), 700, delta=70)
        self.assertAlmostEqual(pull_of(start.lens(0)), 0.17, delta=0.01)
        self.assertEqual(start.believed[0, 1], start.lenses[0, 1])
        off = turn.T @ start.rotations[0].T @ start.rotations[1]
        self.assertLess(np.degrees(np.arccos(np.clip((np.trace(off) - 1) / 2, -1, 1))), 3)

    def test_a_bend_stands_where_it_holds_more_frames_or_explains_them_better(self):
        def ground(members: int, scale_px: float, confirmed: int = 50, pull: float = 0.1) -> Ground:
            p, flat = np.zeros((confirmed, 2)), Lens(900, 600, 700.0)
            held = Observations(0, 1, p, p), Observations(1, 2, p, p)
            cameras = mock.Mock(lens=lambda _: replace(flat, k1=k1_of_pull(pull, flat)))
            return Ground(cameras, tuple(range(members)), held, scale_px, (), ("",) * 4)

        few, many = [link_of(0, 1, 60), link_of(1, 2, 60)], [link_of(0, 1, 90), link_of(1, 2, 70)]
        for bent, plain, links, before, stands in (
            (ground(4, 2.0), ground(3, 0.4), few, many, True), (ground(2, 0.4), ground(3, 2.0), many, few, False),
            (ground(3, 1.0), ground(3, 1.0), many, few, True), (ground(3, 1.0), ground(3, 1.0), few, few, False),
            (ground(3, 0.5), ground(3, 1.0), few, few, True), (ground(4, 0.4, 20), ground(3, 2.0), many, few, False),
            # a lens that hardly bends is no reason to believe what one that bends had agree
            (ground(4, 0.4, 50, 0.02), ground(3, 2.0), many, few, False),
        ):
            self.assertEqual(panorama.explains_more(bent, plain, links, before), stands)
