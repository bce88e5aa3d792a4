"""Cameras as arrays, cameras before a flat subject, and the light they are refined on."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from unittest.mock import patch

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.core.test_register import drawn
from tests.support import engine, frames_in, project_of, textured, unit_rays
from windfell.align.adjust import Observations, _add_facing, adjust, error_px, errors_px, jacobian
from windfell.align.cameras import (
    FOCAL_SIGMA,
    LENS_PARTS,
    RECORDED_SIGMA,
    cameras_of,
    carried,
    projected,
    rays_of,
    undistorted,
)
from windfell.align.flat import levelled_places, slid_cameras
from windfell.align.focal import chained_rotations, first_focal, pair_turn
from windfell.align.refine import thinned
from windfell.align.solve import LensHint, fitted_to_noise, simplest, starting_cameras, without
from windfell.align.transforms import fitted_rigid
from windfell.align.view import GreyView
from windfell.demo.turned import ROUND, TurnPlan, turned_shots
from windfell.demo.wall import WallPlan, paint_stones, wall_shots
from windfell.engine.help import neighbours
from windfell.engine.survey import registered_coverage
from windfell.frames.still import StillFrame, without_overhang
from windfell.geometry.camera import Lens, fold_radius
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import angle_between, from_rotvec, from_yaw_pitch_roll
from windfell.job import Job
from windfell.recipe.model import Camera, Registration
from windfell.shape.bounds import fitted_canvas, native_px_per_unit

BENT = [[0.0, -0.09, 0.02, -0.004, 3.0, -2.0], [0.0, 0.05, -0.01, 0.002, -1.0, 4.0]]


def bent_cameras():
    """Four frames through two lenses that bend, looking about."""
    turns = [from_yaw_pitch_roll(0.3 * n, 0.05 * n, 0.02) for n in range(4)]
    start = cameras_of([(800, 600)] * 4, [0, 1, 0, 1], np.array([700.0, 900.0])).turned(turns)
    return replace(start, lenses=start.lenses + BENT)


def slid() -> tuple:
    """Four cameras before a plane, and what neighbours see of the same spots."""
    rng = np.random.default_rng(3)
    turns = np.array([from_rotvec(rng.normal(0, 0.04, 3)) for _ in range(4)])
    places = np.array([[0.35 * n, rng.normal(0, 0.03), rng.normal(0, 0.03)] for n in range(4)])
    places[0] = 0.0, 0.0, 0.0
    start = cameras_of([(800, 600)] * 4, [0] * 4, np.array([820.0]))
    cameras = replace(start, rotations=turns, places=places)
    cameras = replace(cameras, lenses=cameras.lenses + [0, -0.03, 0, 0, 0, 0])
    found = []
    for a in range(3):
        p = rng.uniform([20, 20], [780, 580], (400, 2))
        q = carried(cameras, np.full(400, a), np.full(400, a + 1), p)
        inside = np.all((q > 0) & (q < [800, 600]), axis=1)
        found.append(Observations(a, a + 1, p[inside], q[inside]))
    return cameras, found


class Arrays(unittest.TestCase):
    def test_they_are_the_lens_of_each_frame(self):
        cameras = bent_cameras()
        points = np.random.default_rng(1).uniform(0, 600, (40, 2))
        rays = unit_rays(40, 2, 0.5)
        for n in range(4):
            with self.subTest(n):
                of = np.full(40, n)
                lens = cameras.lens(n)
                assert_allclose(undistorted(cameras, of, points).u.T, lens.undistort(points), atol=1e-9)
                assert_allclose(rays_of(cameras, of, points), lens.rays(points), atol=1e-9)
                assert_allclose(projected(cameras, of, rays), lens.project(rays), atol=1e-7)

    def test_what_is_carried_over_comes_back(self):
        for cameras in (bent_cameras(), slid()[0]):
            points = np.random.default_rng(1).uniform([200, 100], [600, 500], (50, 2))
            a, b = np.full(50, 1), np.full(50, 2)
            assert_allclose(carried(cameras, b, a, carried(cameras, a, b, points)), points, atol=1e-5)

    def test_before_a_plane_they_are_posed_cameras(self):
        cameras, _ = slid()
        points = np.random.default_rng(1).uniform([200, 100], [600, 500], (50, 2))
        one, other = (Posed(cameras.lens(n), cameras.rotations[n], cameras.places[n]) for n in (0, 1))
        assert_allclose(carried(cameras, np.full(50, 0), np.full(50, 1), points), other.project(one.rays(points)),
                        atol=1e-6)

    def test_derivatives_before_a_plane_are_those_of_the_residuals(self):
        cameras, found = slid()
        obs, step = found[0], 1e-6
        p, q = obs.points_a[:20], obs.points_b[:20] + 1.5
        i, j = np.full(20, 0), np.full(20, 1)
        base, jac = jacobian(cameras, i, j, p, q)
        self.assertEqual(jac.shape, (20, 2, 24))
        for column in (0, 1, 2, 3, 4, 5, 18, 19, 20, 21, 22, 23):
            part = column % 18 if column >= 18 else column
            if column < 6:
                turn = np.zeros(3)
                turn[column % 3] = step
                rotations = cameras.rotations.copy()
                rotations[column // 3] = from_rotvec(turn) @ rotations[column // 3]
                moved = cameras.turned(rotations)
            else:
                places = cameras.places.copy()
                places[part // 3, part % 3] += step
                moved = replace(cameras, places=places)
            numeric = (jacobian(moved, i, j, p, q)[0] - base) / step
            with self.subTest(column=column):
                assert_allclose(jac[:, :, column], numeric, rtol=2e-3, atol=0.05)

    def test_errors_of_many_links_are_those_of_each(self):
        cameras, found = slid()
        moved = [replace(o, points_b=o.points_b + 0.7) for o in found]
        for many, o in zip(errors_px(cameras, moved), moved, strict=True):
            assert_allclose(many, error_px(cameras, o), atol=1e-9)


class Starts(unittest.TestCase):
    def test_slid_cameras_start_near_and_end_exact(self):
        true, found = slid()
        start = slid_cameras(cameras_of([(800, 600)] * 4, [0] * 4, np.array([820.0])), found, [True])
        fitted = adjust(start, found, 1.0, Job())
        self.assertLess(max(e.max() for e in errors_px(fitted, found)), 0.05)
        self.assertLess(abs(fitted.lenses[0, 1] + 0.03), 0.005)
        steps = np.linalg.norm(np.diff(fitted.places, axis=0), axis=1)
        wanted = np.linalg.norm(np.diff(true.places, axis=0), axis=1)
        assert_allclose(steps / steps[0], wanted / wanted[0], rtol=0.02)

    def test_of_poses_that_explain_two_frames_alike_the_less_slanted_is_taken(self):
        """Two frames of a plane leave focal length and slant open; nobody stands at the wall's very edge."""
        true = cameras_of([(800, 600)] * 2, [0, 0], np.array([1500.0]))
        true = replace(true, rotations=np.array([np.eye(3), from_yaw_pitch_roll(0.8, 0.05, 0.1)]),
                       places=np.array([[0.0, 0, 0], [-0.7, 0.05, 0.1]]))
        rng = np.random.default_rng(2)
        p = rng.uniform([0, 0], [800, 600], (200, 2))
        q = carried(true, np.zeros(200, int), np.ones(200, int), p)
        inside = np.all((q > 0) & (q < [799, 599]), axis=1)
        found = [Observations(0, 1, p[inside], q[inside] + rng.normal(0, 0.2, (inside.sum(), 2)))]
        slants = []
        for known in (True, False):
            start = slid_cameras(cameras_of([(800, 600)] * 2, [0, 0], np.array([720.0])), found, [known])
            fitted = adjust(start, found, 1.0, Job())
            self.assertLess(np.median(error_px(fitted, found[0])), 0.4)
            slants.append(np.degrees(np.arccos(fitted.rotations[:, 2, 2])).max())
        self.assertGreater(slants[0], 60)
        self.assertLess(slants[1], 55)

    def test_the_pull_to_face_the_subject_has_the_slope_of_its_cost(self):
        cameras, _ = slid()
        size = cameras.parameters

        def cost(turn):
            small = [from_rotvec(v) for v in turn.reshape(-1, 3)]
            moved = cameras.turned(np.array([s @ r for s, r in zip(small, cameras.rotations, strict=True)]))
            return _add_facing(moved, np.zeros((size, size)), np.zeros(size))

        gradient, count = np.zeros(size), 3 * cameras.count
        _add_facing(cameras, np.zeros((size, size)), gradient)
        numeric = [(cost(1e-6 * e) - cost(-1e-6 * e)) / 2e-6 for e in np.eye(count)]
        assert_allclose(gradient[:count], numeric, atol=1e-6)

    def test_places_are_levelled_in_their_plane(self):
        turn = from_yaw_pitch_roll(0, 0, 0.3)
        turns, places = levelled_places([turn, turn], [np.zeros(3), turn @ np.array([1.0, 0, 0])])
        assert_allclose(turns[0], np.eye(3), atol=1e-12)
        assert_allclose(places[1], [1, 0, 0], atol=1e-12)

    def test_rotations_are_chained_and_the_focal_length_is_found(self):
        true = cameras_of([(800, 600)] * 4, [0] * 4, np.array([700.0])).turned(
            [from_yaw_pitch_roll(0.4 * n, 0.05 * n, 0.03) for n in range(4)])
        rng = np.random.default_rng(5)
        found = []
        for a in range(3):
            p = rng.uniform(0, 600, (300, 2)) + [200, 0]
            q = carried(true, np.full(300, a), np.full(300, a + 1), p)
            inside = np.all((q > 0) & (q < [800, 600]), axis=1)
            found.append(Observations(a, a + 1, p[inside], q[inside]))
        turns = chained_rotations(true, found)
        for n in range(4):
            want = true.rotations[0].T @ true.rotations[n]
            self.assertLess(np.degrees(angle_between(turns[0].T @ turns[n], want)), 1e-3)
        guess = cameras_of([(800, 600)] * 4, [0] * 4, np.array([1000.0]))
        self.assertAlmostEqual(1000 * first_focal(guess, found, False) / 700, 1.0, delta=0.08)
        turn = pair_turn(true, found[1])
        self.assertLess(np.degrees(angle_between(turn, true.rotations[2].T @ true.rotations[1])), 1e-3)

    def pair(self, count: int, spot: float, noise: float = 0.3, seed: int = 0):
        """Two cameras of 700 px, and what both see of a square in their overlap, so large a share of its height."""
        true = cameras_of([(800, 600)] * 2, [0, 0], np.array([700.0])).turned(
            [from_yaw_pitch_roll(0, 0, 0), from_yaw_pitch_roll(0.5, 0.03, 0.02)])
        rng = np.random.default_rng(seed)
        p = [600, 300] + spot * rng.uniform(-250, 250, (count, 2)) * [0.6, 1]
        q = carried(true, np.zeros(count, int), np.ones(count, int), p)
        return true, [Observations(0, 1, p, q + rng.normal(0, noise, q.shape))]

    def test_a_focal_length_on_record_gives_way_to_what_plainly_denies_it_and_not_to_a_spot(self):
        for count, spot, noise, recorded, gives_way in ((200, 1.0, 0.3, 1.4, True), (9, 0.1, 3.0, 1.0, False)):
            for seed in range(4):
                true, found = self.pair(count, spot, noise, seed)
                factor = first_focal(true.with_focal(np.array([700.0 * recorded])), found, True)
                self.assertEqual(factor != 1.0, gives_way, (count, seed))
        # what leaves nearly as much unexplained is no plain denial
        true, found = self.pair(40, 1.0)
        for left, gives_way in ((0.3, False), (0.1, True)):
            with patch("windfell.align.focal.pair_cost", lambda cameras, *_, least=left: (
                    min(0.5, least + abs(np.log(cameras.focal_px[0] / 980))))):
                self.assertEqual(first_focal(true, found, True) != 1.0, gives_way, left)

    def test_a_focal_length_that_all_frames_have_on_record_is_believed_more_than_one_that_is_guessed(self):
        _, found = self.pair(100, 1.0)
        seen = [SimpleNamespace(width=800, height=600)] * 2
        for focal, sigma in ((700.0, RECORDED_SIGMA), (None, FOCAL_SIGMA), (280.0, FOCAL_SIGMA)):
            start = starting_cameras(seen, [LensHint((), focal)] * 2, [0, 1], found, None)
            self.assertEqual(start.sigma[0, 0], sigma, focal)

    def test_the_record_holds_a_focal_length_that_points_hardly_say_and_lets_go_of_one_that_they_do(self):
        def fitted(count: int, spot: float, recorded: float, seed: int) -> float:
            true, found = self.pair(count, spot, seed=seed)
            start = without((1, 2, 3, 4, 5), true.with_focal(np.array([700.0 * recorded]), RECORDED_SIGMA))
            return float(np.log(adjust(replace(start, noise_px=0.3), found, 2.0, Job(), widen=1.0).focal_px[0] / 700))

        weak = [fitted(12, 0.25, 1.0, seed) for seed in range(8)]
        self.assertLess(np.abs(weak).max(), 0.07)
        for recorded in (0.85, 1.15):
            self.assertLess(abs(fitted(300, 1.0, recorded, 0)), 0.004)

    def test_a_rigid_move_keeps_the_size(self):
        rng = np.random.default_rng(2)
        p = rng.uniform(0, 500, (40, 2))
        h = fitted_rigid(p, 1.1 * p + 3, np.ones(40))
        self.assertAlmostEqual(np.linalg.det(h[:2, :2]), 1.0, places=9)

    def test_neighbours_of_a_layout_touch(self):
        self.assertIsNone(neighbours(0, 0, 7))
        pairs = neighbours(3, 4, 12)
        for a, b in pairs:
            (ya, xa), (yb, xb) = divmod(a, 4), divmod(b, 4)
            self.assertEqual(max(abs(ya - yb), abs(xa - xb)), 1)
        self.assertEqual(len(pairs), len(set(pairs)))
        self.assertEqual(len(pairs), 3 * 3 + 2 * 4 + 2 * 2 * 3)


class Bending(unittest.TestCase):
    def test_three_terms_are_undone(self):
        for k in ((-0.15, 0.0, 0.0), (-0.2, 0.08, -0.02), (0.05, 0.02, 0.01)):
            with self.subTest(k):
                lens = Lens(800, 600, 700.0, k[0], 2.0, -3.0, k2=k[1], k3=k[2])
                points = lens.grid(9)
                assert_allclose(lens.project(lens.rays(points)), points, atol=1e-6)

    def test_the_fold_is_where_the_radius_stops_growing(self):
        for k in ((-0.15, 0.0, 0.0), (-0.3, 0.02, 0.0), (0.1, -0.2, 0.0)):
            r = fold_radius(*k)
            grow = 1 + 3 * k[0] * r**2 + 5 * k[1] * r**4 + 7 * k[2] * r**6
            self.assertAlmostEqual(grow, 0.0, places=6)
        self.assertEqual(fold_radius(0.1, 0.02, 0.0), np.inf)


class BeforeAPlane(unittest.TestCase):
    def setUp(self):
        turn = from_yaw_pitch_roll(0.1, -0.05, 0.02)
        self.posed = Posed(Lens(800, 600, 700.0, -0.04), turn, np.array([0.4, -0.1, 0.05]))

    def test_px_to_spots_and_back(self):
        points = self.posed.lens.grid(8)
        assert_allclose(self.posed.project(self.posed.rays(points)), points, atol=1e-6)
        half = self.posed.scaled(400, 300)
        assert_allclose(half.project(self.posed.rays(points)), (points + 0.5) / 2 - 0.5, atol=1e-6)

    def test_what_lies_behind_is_not_seen(self):
        self.assertTrue(np.isnan(self.posed.project(np.array([[0.0, 0, -1]]))).all())
        turned = replace(self.posed, rotation=from_yaw_pitch_roll(np.pi, 0, 0))
        self.assertTrue(np.isnan(turned.rays(turned.lens.centre[None])).all())

    def test_the_canvas_has_no_limit(self):
        far = replace(self.posed, place=np.array([30.0, 0, 0]))
        near = replace(self.posed, place=np.zeros(3))
        canvas = fitted_canvas("rectilinear", [near, far], np.eye(3), native_px_per_unit([near, far]))
        self.assertGreater(canvas.right - canvas.left, 29)

    def test_each_frame_of_a_wall_adds_its_part(self):
        project, set_id = project_of(frames_in(drawn("wall"))[:4], registration=Registration(camera=Camera.SLID))
        found = engine().stages(project, set_id).registration(Job())
        coverage = registered_coverage(found)
        self.assertAlmostEqual(sum(coverage.added), 1.0, delta=0.02)
        self.assertGreater(min(coverage.added), 0.05)


class SimplestLens(unittest.TestCase):
    """A row of six; what the points do not call for is not fitted."""

    TURNS = np.array([from_yaw_pitch_roll(0.42 * n, 0.05 * (-1) ** n, 0.03 * (n % 3)) for n in range(6)])

    def fitted(self, seed: int = 1, noise: float = 0.05, **parts: float):
        """(cameras as found, with the lens truly so)."""
        rng = np.random.default_rng(seed)
        true = cameras_of([(1500, 1000)] * 6, [0] * 6, np.array([1400.0])).turned(self.TURNS)
        lenses = true.lenses.copy()
        for name, value in parts.items():
            lenses[0, LENS_PARTS.index(name)] = value
        true = replace(true, lenses=lenses)
        held = []
        for n in range(5):
            p = rng.uniform([0, 0], [1500, 1000], (400, 2))
            q = carried(true, np.full(400, n), np.full(400, n + 1), p)
            inside = np.all((q > 0) & (q < [1500, 1000]), axis=1)
            held.append(Observations(n, n + 1, p[inside], q[inside] + rng.normal(0, noise, (inside.sum(), 2))))
        start = cameras_of([(1500, 1000)] * 6, [0] * 6, np.array([1450.0])).turned(self.TURNS)
        cameras, scale = fitted_to_noise(start, held, Job())
        return simplest(cameras, held, scale, Job()), cameras

    def test_parts_that_say_nothing_are_left_out_and_nothing_is_lost(self):
        off = []
        for seed in range(12):
            simple, full = self.fitted(seed, k1=-0.04)
            assert_allclose(simple.lenses[0, 2:], 0, atol=1e-9)
            self.assertAlmostEqual(simple.lenses[0, 1], -0.04, delta=0.003)
            off.append([c.focal_px[0] / 1400 - 1 for c in (simple, full)])
        simple, full = np.sqrt(np.mean(np.square(off), axis=0))
        self.assertLess(simple, 1.05 * full)
        self.assertLess(simple, 2e-4)

    def test_what_a_lens_really_does_is_kept(self):
        bent, _ = self.fitted(k1=-0.15, k2=0.08)
        self.assertAlmostEqual(bent.lenses[0, 2], 0.08, delta=0.04)
        assert_allclose(bent.lenses[0, 4:], 0, atol=1e-9)
        aside, _ = self.fitted(k1=-0.04, dx=5.0, dy=-3.0)
        assert_allclose(aside.lenses[0, 4:], [5, -3], atol=1.0)

    def test_a_simple_lens_stays_simple_when_it_is_fitted_again(self):
        simple, _ = self.fitted(k1=-0.04)
        p = np.array([[800.0, 300.0], [900, 700], [1300, 500], [1000, 500]])
        q = carried(simple, np.zeros(4, int), np.ones(4, int), p) + 0.5
        again = adjust(simple, [Observations(0, 1, p, q)], 1.0, Job(), widen=1.0)
        assert_allclose(again.lenses[0, 2:], 0, atol=1e-6)

    def test_nothing_held_is_left_as_it_is(self):
        cameras = cameras_of([(10, 10)] * 2, [0, 0], np.array([9.0]))
        self.assertIs(simplest(cameras, [], 1.0, Job()), cameras)


class Light(unittest.TestCase):
    def test_a_view_gives_its_own_pixels(self):
        grey = textured(60, 80, 3)[..., 0].astype(np.float32)
        view = GreyView(cv2.resize(grey, (160, 120), interpolation=cv2.INTER_NEAREST), (80, 60))
        self.assertEqual(view.scale, 2.0)
        plain = GreyView(grey, (80, 60))
        at = np.array([[[10.0, 20.0], [33.0, 7.0]]])
        assert_allclose(plain.at(at), [[grey[20, 10], grey[7, 33]]], atol=1e-3)
        self.assertTrue(np.isnan(plain.at(np.array([[[-30.0, 5.0]]]))).all())
        small, k = plain.small(40)
        self.assertEqual((max(small.shape), k), (40, 0.5))

    def test_thinning_leaves_each_link_its_share(self):
        all_over = np.random.default_rng(1).uniform(0, 600, (900, 2))
        many = [Observations(0, 1, all_over, all_over), Observations(1, 2, np.zeros((7, 2)), np.zeros((7, 2)))]
        self.assertEqual([len(o.points_a) for o in thinned(many, 200)], [100, 7])

    def test_frames_of_odd_size_lie_where_they_are_at_every_scale(self):
        """A decoder rounds the sides of a smaller picture up; the frame must not be stretched by it."""
        grey = cv2.GaussianBlur(textured(403, 605, 4), (0, 0), 3)
        with tempfile.TemporaryDirectory() as folder:
            path = str(Path(folder) / "odd.jpg")
            cv2.imwrite(path, grey, [cv2.IMWRITE_JPEG_QUALITY, 98])
            still = StillFrame(path)
            full = still.encoded(1)[..., 0].astype(np.float32)
            for reduce in (2, 4):
                small = still.encoded(reduce)[..., 0].astype(np.float32)
                h, w = small.shape
                y, x = np.mgrid[4 : h - 4, w - 24 : w - 6]
                at = [((v + 0.5) * s / n - 0.5).astype(np.float32) for v, s, n in ((x, 605, w), (y, 403, h))]
                there = cv2.remap(cv2.blur(full, (reduce, reduce)), *at, cv2.INTER_LINEAR)
                here = small[4 : h - 4, w - 24 : w - 6]
                shift = cv2.phaseCorrelate(here.astype(np.float32), there.astype(np.float32))[0]
                self.assertLess(abs(shift[0]), 0.2)
        plain = np.zeros((10, 20, 3), np.uint8)
        self.assertIs(without_overhang(plain, 20, 10), plain)


class Drawn(unittest.TestCase):
    def test_a_ring_closes_and_a_sphere_has_its_poles(self):
        shots = turned_shots(ROUND, 0.5)
        ahead = np.array([np.asarray(s.rotation)[:, 2] for s in shots])
        self.assertEqual(len(shots), 10)
        self.assertLess(ahead[:, 1].min(), -0.95)
        self.assertGreater(ahead[:, 1].max(), 0.95)
        ring = turned_shots(TurnPlan((0.0,), (6,), 360.0, jitter_deg=0.0))
        steps = [np.degrees(angle_between(np.asarray(a.rotation), np.asarray(b.rotation)))
                 for a, b in zip(ring, ring[1:] + ring[:1], strict=True)]
        assert_allclose(steps, 60, atol=1e-6)

    def test_the_wall_is_of_stones_and_cameras_slide_along_it(self):
        stones = paint_stones(300, 200, 30, 1)
        self.assertEqual(stones.shape, (200, 300, 3))
        self.assertGreater(stones.std(), 0.08)
        bricks = paint_stones(300, 200, 30, 1, even=True)
        self.assertLess(bricks.std(axis=(0, 1))[1], stones.std(axis=(0, 1))[1] * 1.2)
        places = np.array([p for _, p in wall_shots(WallPlan())])
        self.assertTrue(np.all(np.diff(places[:, 0]) > 0.3))
