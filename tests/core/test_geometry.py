"""Cameras, rotations, projections, homographies."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from tests.support import unit_rays
from windfell.geometry import planar
from windfell.geometry.camera import Lens, focal_px_from_35mm
from windfell.geometry.fisheye import MAPPINGS
from windfell.geometry.optics import Optics
from windfell.geometry.projections import PROJECTIONS
from windfell.geometry.rotation import (
    aligning_rotation,
    angle_between,
    from_rotvec,
    from_yaw_pitch_roll,
    to_rotvec,
    yaw_pitch_roll,
)


class RotationVectors(unittest.TestCase):
    def test_they_turn_back_into_their_rotation(self):
        rng = np.random.default_rng(3)
        vectors = [np.zeros(3), np.array([np.pi, 0, 0]), *rng.normal(0, 1, (20, 3)), 1e-10 * np.ones(3)]
        for v in vectors:
            assert_allclose(from_rotvec(to_rotvec(from_rotvec(v))), from_rotvec(v), atol=1e-7)


class Projections(unittest.TestCase):

    def test_straight_ahead_is_the_origin_and_down_grows(self):
        for projection in PROJECTIONS.values():
            with self.subTest(projection.name):
                assert_allclose(projection.forward(np.array([[0.0, 0, 1]])), [[0, 0]], atol=1e-12)
                down = projection.forward(np.array([[0.0, 0.1, 1]]) / np.hypot(1, 0.1))
                self.assertGreater(down[0, 1], 0)

    def test_scale_at_the_middle_is_one(self):
        for projection in PROJECTIONS.values():
            near = np.array([[1e-5, 0, 1.0], [0, 1e-5, 1.0]])
            assert_allclose(projection.forward(near), [[1e-5, 0], [0, 1e-5]], atol=1e-12)

    def test_rectilinear_has_no_place_behind(self):
        self.assertTrue(np.isinf(PROJECTIONS["rectilinear"].forward(np.array([[0.0, 0, -1]]))).all())


class Lenses(unittest.TestCase):
    def test_rays_undo_project(self):
        for k1 in (-0.15, 0.0, 0.12):
            lens = Lens(1067, 1600, 1400.0, k1, dx=3.0, dy=-2.0)
            points = lens.grid(15)
            assert_allclose(lens.project(lens.rays(points)), points, atol=1e-6)

    def test_nothing_is_seen_behind_or_beyond_the_fold(self):
        lens = Lens(1000, 1000, 500.0, -0.15)
        rays = np.array([[0, 0, -1.0], [lens.fold_radius * 1.01, 0, 1], [0.2, 0, 1]])
        seen = lens.project(rays)
        self.assertTrue(np.isnan(seen[:2]).all() and np.isfinite(seen[2]).all())

    def test_a_scaled_lens_sees_the_same(self):
        lens = Lens(1200, 800, 900.0, -0.05)
        small = lens.scaled(600, 400)
        rays = unit_rays(50, 3, 0.5)
        expected = planar.apply(planar.resized((1200, 800), (600, 400)), lens.project(rays))
        assert_allclose(small.project(rays), expected, atol=1e-9)

    def test_focal_length_from_its_35_mm_equivalent(self):
        self.assertAlmostEqual(focal_px_from_35mm(36.0, 3600, 2400), 3600.0)


class Rotations(unittest.TestCase):
    def test_angles_come_back(self):
        for angles in ((0.3, -0.2, 0.1), (-2.5, 0.9, -0.7)):
            assert_allclose(yaw_pitch_roll(from_yaw_pitch_roll(*angles)), angles, atol=1e-12)
        some = np.random.default_rng(2).uniform(-3, 3, (7, 3))
        assert_allclose(from_yaw_pitch_roll(*some.T), [from_yaw_pitch_roll(*a) for a in some], atol=1e-15)

    def test_yaw_turns_right_and_pitch_looks_up(self):
        ahead = np.array([0, 0, 1.0])
        self.assertGreater((from_yaw_pitch_roll(0.1, 0, 0) @ ahead)[0], 0)
        self.assertLess((from_yaw_pitch_roll(0, 0.1, 0) @ ahead)[1], 0)

    def test_kabsch_finds_a_planted_turn_and_small_angles_are_exact(self):
        turn = from_rotvec(np.array([0.2, -0.4, 0.3]))
        rays = unit_rays(40, 2)
        self.assertLess(angle_between(aligning_rotation(rays, rays @ turn.T), turn), 1e-9)
        tiny = from_rotvec(np.array([1e-7, 0, 0]))
        self.assertAlmostEqual(angle_between(np.eye(3), tiny), 1e-7, delta=1e-12)


class Homographies(unittest.TestCase):
    def test_corner_shift_of_a_translation(self):
        move = np.array([[1, 0, 3.0], [0, 1, 4.0], [0, 0, 1]])
        self.assertAlmostEqual(planar.corner_shift(move, 100, 50), 5.0)


class Fisheyes(unittest.TestCase):
    def test_every_mapping_comes_back(self):
        angles = np.linspace(0, np.radians(85), 40)
        for mapping in MAPPINGS.values():
            with self.subTest(mapping.name):
                assert_allclose(mapping.angle(mapping.radius(angles)), angles, atol=1e-9)
                self.assertAlmostEqual(float(mapping.radius(np.array(1e-4))), 1e-4, delta=6e-6)

    def test_a_fisheye_lens_sees_and_finds_its_rays(self):
        for name in MAPPINGS:
            with self.subTest(name):
                lens = Lens(900, 600, 330.0, optics=Optics(mapping=name, focal=330.0 / 541.0))
                rays = unit_rays(300, 4, np.radians(70))
                assert_allclose(lens.rays(lens.project(rays)), rays, atol=1e-6)
        flat = Lens(900, 600, 330.0, optics=Optics(mapping="equidistant", focal=330.0 / lens.half_diagonal))
        aside = flat.project(np.array([[np.sin(1.0), 0.0, np.cos(1.0)]]))[0]
        self.assertAlmostEqual(aside[0] - flat.centre[0], 330.0, places=6)


class ProjectionFamily(unittest.TestCase):
    def _inside(self, projection, count=4000, seed=3):
        """Rays that the projection draws, up to its limits."""
        rays = unit_rays(count, seed=seed)
        plane = projection.forward(rays)
        drawn = np.isfinite(plane).all(axis=1) & projection.drawn(np.nan_to_num(plane, posinf=99.0, neginf=-99.0))
        drawn &= (np.abs(np.nan_to_num(plane, posinf=99.0, neginf=-99.0))
                  <= [projection.half_width, projection.half_height]).all(axis=1)
        return rays[drawn]

    def _all(self):
        yield from PROJECTIONS.values()
        for values in ((0.0, 0.0), (0.5, 0.0), (0.7, 0.6), (1.0, 1.0)):
            yield PROJECTIONS["pannini"].at(*values)

    def test_every_one_goes_there_and_back_as_far_as_it_draws_from_any_pole(self):
        rng = np.random.default_rng(11)
        for projection in self._all():
            with self.subTest(projection.name):
                rays = self._inside(projection)
                self.assertGreater(len(rays), 400)
                for _ in range(4):
                    view = from_yaw_pitch_roll(*rng.uniform(-1.5, 1.5, 3))
                    again = projection.backward(projection.forward((rays @ view.T) @ view)) @ view.T
                    assert_allclose(again, rays @ view.T, atol=1e-9)

    def test_those_that_keep_angles_do_and_those_that_keep_areas_do(self):
        for name, equal in (("mercator", "angle"), ("stereographic", "angle"), ("equal-area-fisheye", "area")):
            projection = PROJECTIONS[name]
            rays = self._inside(projection, 400)
            rays = rays[np.abs(rays[:, 1]) < 0.95]
            aside = np.cross(rays, [0.1, 1.0, 0.2])
            aside /= np.linalg.norm(aside, axis=1, keepdims=True)
            up = np.cross(rays, aside)
            here = projection.forward(rays)
            dx, dy = ((projection.forward(rays + 1e-6 * v) - here) / 1e-6 for v in (aside, up))
            kept = np.isfinite(dx).all(1) & np.isfinite(dy).all(1) & (np.abs(dx).max(1) < 50)
            if equal == "angle":
                wide, high = (np.linalg.norm(v[kept], axis=1) for v in (dx, dy))
                assert_allclose(wide / high, 1, atol=1e-3)
                assert_allclose((dx[kept] * dy[kept]).sum(1) / (wide * high), 0, atol=1e-3)
            else:
                area = np.abs(dx[kept, 0] * dy[kept, 1] - dx[kept, 1] * dy[kept, 0])
                assert_allclose(area, 1, atol=1e-3)

    def test_the_panninis_ends_are_the_tangent_plane_and_straight_levels(self):
        rays = unit_rays(300, seed=5, half_angle=1.0)
        flat = PROJECTIONS["rectilinear"].forward(rays)
        assert_allclose(PROJECTIONS["pannini"].at(0.0, 0.0).forward(rays)[:, 0], flat[:, 0], atol=1e-9)
        lon = np.linspace(-1, 1, 41)
        level = np.stack([np.tan(lon), np.full(41, 0.5), np.ones(41)], -1)
        level /= np.linalg.norm(level, axis=1, keepdims=True)
        squeezed = PROJECTIONS["pannini"].at(1.0, 1.0).forward(level)
        self.assertLess(np.ptp(squeezed[:, 1]), 1e-9)
