"""Registration, against planted cameras and against the scene generator's truth."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import (
    demo_sets,
    engine,
    frames_in,
    project_of,
    ridge,
    rotation_errors_deg,
    stranger,
    textured,
    truth_of,
    unit_rays,
)
from windfell.align.adjust import PIECE, Observations, Pile, adjust, jacobian, normal_equations, uncertainty
from windfell.align.apart import apart_px
from windfell.align.cameras import Cameras, cameras_of, carried, carried_there_and_back
from windfell.align.features import find_features
from windfell.align.level import down_direction, levelled
from windfell.align.pairs import Link, link
from windfell.align.panorama import register_panorama
from windfell.align.patches import patch_offsets, patch_shifts
from windfell.align.registration import Placed
from windfell.align.series import NotOnto, align_series, onto
from windfell.align.solve import LensHint, fitted_to_noise
from windfell.align.transforms import WAYS
from windfell.align.verify import log_false_alarms
from windfell.align.view import GreyView
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.profiles import linearizer
from windfell.recipe.model import Registration


def corner_error(found: Lens, true: Lens) -> float:
    """px by which the two lenses' distortions differ at the corner, the same focal length given."""
    corner = np.array([[0.5 * true.width, 0.5 * true.height]])
    same = replace(found, focal_px=true.focal_px, dx=0.0, dy=0.0)
    ray = np.array([[*(corner[0] / true.focal_px), 1.0]])
    return float(np.linalg.norm(same.project(ray) - true.project(ray)))


def planted(k1: float = -0.08, focal: float = 900.0, outliers: float = 0.0, seed: int = 4, noise_px: float = 0.3):
    """Cameras in a row and what they observe of common directions, with noise."""
    rng = np.random.default_rng(seed)
    lens = Lens(800, 1000, focal, k1)
    turns = [from_yaw_pitch_roll(0.5 * n, rng.normal(0, 0.03), rng.normal(0, 0.03)) for n in range(4)]
    rays = unit_rays(6000, 5)
    seen = [lens.project(rays @ r) for r in turns]
    inside = [np.isfinite(s[:, 0]) & (np.abs(s - lens.centre) < lens.centre).all(axis=1) for s in seen]
    found = []
    for a in range(3):
        both = inside[a] & inside[a + 1]
        pa, pb = seen[a][both], seen[a + 1][both]
        pa, pb = pa + rng.normal(0, noise_px, pa.shape), pb + rng.normal(0, noise_px, pb.shape)
        wild = rng.random(len(pa)) < outliers
        pb[wild] += rng.normal(0, 60, (wild.sum(), 2))
        found.append(Observations(a, a + 1, pa, pb))
    return lens, turns, found


class Adjustment(unittest.TestCase):
    def _start(self, lens, turns, fixed=False) -> Cameras:
        rng = np.random.default_rng(6)
        bent = [from_rotvec(rng.normal(0, 0.03, 3)) @ r for r in turns]
        guess = np.array([lens.focal_px * 1.12])
        return cameras_of([(800, 1000)] * 4, [0] * 4, guess, fixed).turned(bent)

    def test_planted_cameras_come_back(self):
        for outliers in (0.0, 0.3):
            with self.subTest(outliers=outliers):
                lens, turns, found = planted(outliers=outliers)
                fitted = adjust(self._start(lens, turns), found, 1.5, Job())
                self.assertLess(abs(fitted.focal_px[0] / lens.focal_px - 1), 0.003)
                self.assertLess(corner_error(fitted.lens(0), lens), 1.5)
                # a focal length wrong by 0.3 % over half a row of 43 degrees is 0.13 degrees
                self.assertLess(rotation_errors_deg(fitted.rotations, turns).max(), 0.13)

    def test_derivatives_are_those_of_the_residuals(self):
        _, turns, found = planted()
        state = cameras_of([(800, 1000)] * 4, [0, 1, 0, 0], np.array([900.0, 880.0])).turned(turns)
        state = replace(state, lenses=state.lenses + [[0, -0.08, 0.01, -0.004, 3, -2], [0, 0.05, -0.02, 0.01, -1, 4]])
        obs, step = found[0], 1e-6
        p, q = obs.points_a[:20], obs.points_b[:20]
        i, j = np.full(20, 0), np.full(20, 1)
        base, jac = jacobian(state, i, j, p, q)
        for column in range(18):
            if column < 6:
                turn = np.zeros(3)
                turn[column % 3] = step
                rotations = state.rotations.copy()
                rotations[column // 3] = from_rotvec(turn) @ rotations[column // 3]
                moved = state.turned(rotations)
            else:
                lenses = state.lenses.copy()
                lenses[(column - 6) // 6, (column - 6) % 6] += step
                moved = replace(state, lenses=lenses)
            numeric = (jacobian(moved, i, j, p, q)[0] - base) / step
            with self.subTest(column=column):
                assert_allclose(jac[:, :, column], numeric, rtol=2e-3, atol=0.05)

    def test_the_normal_matrix_is_that_of_all_derivatives(self):
        """Links of any number of points, frames with one lens and with two; roughly, every other point looks back."""
        _, turns, found = planted(outliers=0.1)
        found = [found[0].chosen(slice(0, 1)), found[1].chosen(slice(0, PIECE)), found[2].chosen(slice(0, PIECE + 3)),
                 found[0].chosen(slice(0, 0))]
        found[1] = replace(found[1], weight=np.linspace(0.2, 3, PIECE))
        state = cameras_of([(800, 1000)] * 4, [0, 0, 1, 1], np.array([900.0, 880.0])).turned(turns)
        size = state.parameters
        for roughly in (False, True):
            normal, gradient, cost = np.zeros((size, size)), np.zeros(size), 0.0
            there, back, times = (np.s_[::2], np.s_[1::2], 2) if roughly else (np.s_[:], np.s_[:], 1)
            for o in found:
                for a, b, pa, pb, w in (
                    (o.a, o.b, o.points_a[there], o.points_b[there], times * o.weights[there]),
                    (o.b, o.a, o.points_b[back], o.points_a[back], times * o.weights[back]),
                ):
                    i, j = (np.full(len(pa), n) for n in (a, b))
                    off, jac = jacobian(state, i, j, pa, pb)
                    full = np.zeros((len(pa), 2, size))
                    starts = (3 * a, 3 * b, 12 + 6 * state.group[a], 12 + 6 * state.group[b])
                    for start, own in zip(starts, np.split(jac, [3, 6, 12], axis=2), strict=True):
                        full[:, :, start : start + own.shape[2]] += own
                    r2 = np.sum(off**2, axis=1) / 25
                    weight = w / (1 + r2) ** 2
                    normal += np.einsum("nkp,nkq,n->pq", full, full, weight)
                    gradient += np.einsum("nkp,nk,n->p", full, off, weight)
                    cost += 0.5 * 25 * np.sum(w * r2 / (1 + r2))
            beliefs = normal_equations(state, Pile([]), 5.0)
            of = normal_equations(state, Pile(found, roughly), 5.0)
            with self.subTest(roughly=roughly):
                assert_allclose(of[0] - beliefs[0], cost, rtol=1e-9)
                assert_allclose(of[1] - beliefs[1], normal, rtol=1e-7, atol=1e-7 * np.abs(normal).max())
                assert_allclose(of[2] - beliefs[2], gradient, rtol=1e-7, atol=1e-7 * np.abs(gradient).max())

    def test_a_given_focal_length_and_a_locked_pose_are_kept(self):
        lens, turns, found = planted()
        start = self._start(lens, turns, fixed=True)
        start = replace(start, locked=np.array([False, True, False, False]))
        fitted = adjust(start, found, 1.5, Job())
        self.assertAlmostEqual(fitted.focal_px[0], start.focal_px[0], delta=0.01)
        assert_allclose(fitted.rotations[1], start.rotations[1], atol=1e-6)

    def test_standard_errors_are_of_the_size_of_the_errors(self):
        """Over many draws of the noise the real error and the one foretold are alike within a factor of two."""
        real, foretold = [], []
        for seed in range(8):
            lens, turns, found = planted(seed=seed)
            fitted = adjust(cameras_of([(800, 1000)] * 4, [0] * 4, np.array([900.0])).turned(turns), found, 3.0,
                            Job(), widen=1.0)
            told = uncertainty(fitted, found, 3.0)
            real.append(np.log(fitted.focal_px[0] / lens.focal_px))
            foretold.append(told.lenses[0, 0])
        ratio = np.sqrt(np.mean(np.square(real))) / np.mean(foretold)
        self.assertTrue(0.4 < ratio < 2.2, ratio)


    def test_fine_points_outweigh_what_was_believed_of_the_lens(self):
        """Two frames, ten points good to 0.02 px, a focal length believed 8 % too short."""
        off, told = [], []
        for seed in (4, 5, 6):
            lens, turns, found = planted(noise_px=0.02, seed=seed)
            pair = [o.chosen(np.arange(10)) for o in found if (o.a, o.b) == (0, 1)]
            start = cameras_of([(800, 1000)] * 2, [0, 0], np.array([0.92 * lens.focal_px]))
            start = start.turned(np.array(turns[:2]))
            stiff = adjust(start, pair, 1.0, Job(), widen=1.0)
            fitted, _ = fitted_to_noise(start, pair, Job())
            off.append([abs(np.log(c.focal_px[0] / lens.focal_px)) for c in (stiff, fitted)])
            told.append(uncertainty(fitted, pair, 1.0).lenses[0, 0])
        stiffly, finely = np.mean(off, axis=0)
        self.assertLess(finely, 0.65 * stiffly)
        self.assertTrue(0.3 < finely / np.mean(told) < 3)

    def test_what_no_point_tells_is_as_unsure_as_it_was_believed(self):
        lens, turns, found = planted(noise_px=0.02)
        few = [o.chosen(np.arange(2)) for o in found if (o.a, o.b) == (0, 1)]
        start = cameras_of([(800, 1000)] * 2, [0, 0], np.array([lens.focal_px])).turned(np.array(turns[:2]))
        told = uncertainty(start, few, 1.0).lenses[0]
        assert_allclose(told[1:4], start.sigma[0, 1:4], rtol=0.35)

    def test_far_beyond_a_frame_nothing_is_seen_by_a_folded_lens(self):
        cameras = cameras_of([(800, 600)] * 2, [0, 0], np.array([500.0]))
        cameras = replace(cameras, lenses=np.array([[np.log(500.0), -0.25, 0.0, 0.0, 0, 0]])).turned(
            np.array([np.eye(3), from_yaw_pitch_roll(np.radians(74), 0, 0)]))
        points = np.stack(np.meshgrid(np.linspace(0, 799, 30), np.linspace(0, 599, 20)), -1).reshape(-1, 2)
        there = carried_there_and_back(cameras, 0, 1, points)
        inside = np.all((there >= 0) & (there <= [799, 599]), axis=1)
        back = carried(cameras, np.ones(inside.sum(), int), np.zeros(inside.sum(), int), there[inside])
        assert_allclose(back, points[inside], atol=5)


class Refining(unittest.TestCase):
    def test_a_planted_shift_comes_back_to_a_tenth_of_a_pixel(self):
        """Light that is only known in whole px lies aside by fractions; gain and noise differ."""
        rng = np.random.default_rng(3)
        wide = cv2.GaussianBlur(textured(400, 500, 6)[..., 0].astype(np.float32), (0, 0), 1.2)
        shift = np.array([1.37, -0.72])
        moved = cv2.warpAffine(wide, np.array([[1, 0, shift[0]], [0, 1, shift[1]]]), (500, 400),
                               flags=cv2.INTER_LANCZOS4)
        moved = moved * 0.8 + 12 + rng.normal(0, 1.0, moved.shape).astype(np.float32)
        points = rng.uniform(60, 340, (80, 2))
        one, other = GreyView(wide, (500, 400)), GreyView(moved, (500, 400))
        a = one.at(points[:, None, None] + patch_offsets(8))
        b = other.at(points[:, None, None] + patch_offsets(13))
        found = patch_shifts(a, b)
        sure = found.likeness > 0.8
        self.assertGreater(sure.sum(), 60)
        off = np.linalg.norm(found.shift[sure] - shift, axis=1)
        self.assertLess(np.median(off), 0.06)
        self.assertLess(np.percentile(off, 90), 0.15)

    def test_plain_light_is_not_trusted(self):
        rng = np.random.default_rng(3)
        a = (100 + rng.normal(0, 1, (20, 17, 17))).astype(np.float32)
        b = (100 + rng.normal(0, 1, (20, 27, 27))).astype(np.float32)
        self.assertLess(patch_shifts(a, b).likeness.max(), 0.75)


class Levelling(unittest.TestCase):
    def test_a_tilted_world_is_set_upright(self):
        rng = np.random.default_rng(1)
        turns = [from_yaw_pitch_roll(0.4 * n, -0.1, rng.normal(0, 0.005)) for n in range(6)]
        lean = from_rotvec(np.array([0.3, 0.1, -0.4]))
        down = lean.T @ down_direction([lean @ r for r in turns])
        self.assertLess(np.degrees(np.arccos(down[1])), 1.0)

    def test_the_middle_of_the_frames_looks_ahead(self):
        turns = levelled([from_yaw_pitch_roll(y, 0, 0) for y in (1.0, 1.4, 1.8)])
        self.assertLess(abs(turns[1][0, 2]), 1e-6)


class Pairs(unittest.TestCase):
    def _features(self, pixels: np.ndarray):
        return find_features(linearizer(None)(pixels), pixels.shape[1], pixels.shape[0])

    def test_an_overlap_is_found_and_measured(self):
        wide = textured(400, 700, 1)
        a, b = self._features(wide[:, :450]), self._features(wide[:, 250:])
        found = link(0, 1, a, b)
        self.assertIsInstance(found, Link)
        moved = found.points_a[found.inlier] - found.points_b[found.inlier]
        assert_allclose(np.median(moved, axis=0), [250, 0], atol=0.1)

    def test_no_overlap_is_a_no_with_its_reason(self):
        answer = link(0, 1, self._features(textured(400, 450, 2)), self._features(textured(400, 450, 3)))
        self.assertNotIsInstance(answer, Link)
        self.assertTrue(answer.reason)

    def test_ignored_areas_give_no_points(self):
        pixels, mask = textured(300, 400, 4), np.zeros((30, 40), np.uint8)
        mask[:, :20] = 255
        found = find_features(linearizer(None)(pixels), 400, 300, mask)
        self.assertGreater(found.points[:, 0].min(), 195)
        self.assertGreater(len(found), 50)

    def test_more_agreement_is_less_likely_by_chance(self):
        chances = [log_false_alarms(100, k, 1e-4) for k in (6, 10, 20, 60)]
        self.assertEqual(chances, sorted(chances, reverse=True))
        self.assertLess(chances[-1], -100)


class PanoramaAgainstTruth(unittest.TestCase):
    def _registered(self, paths, **registration):
        project, set_id = project_of(paths, registration=Registration(**registration))
        return engine().stages(project, set_id).registration(Job())

    def _check(self, folder, found, order=None, median_deg=0.12):
        """A pixel of the small frames is 0.12 degrees."""
        truth = truth_of(folder)["frames"]
        true = [np.array(truth[n]["rotation"]) for n in (order or range(len(truth)))]
        errors = rotation_errors_deg([f.rotation for f in found.frames], true)
        self.assertLess(np.median(errors), median_deg)
        self.assertLess(errors.max(), 0.15)
        return truth[0]

    def test_a_handheld_row_is_placed(self):
        found = self._registered(frames_in(ridge()))
        truth = self._check(ridge(), found)
        lens = found.frames[0].lens
        self.assertLess(abs(lens.focal_px / truth["focal_px"] - 1), 0.01)
        self.assertLess(abs(lens.k1 - truth["distortion"]["k1"]), 0.01)
        self.assertLess(found.rms_px, 0.5)

    def test_the_shipped_ridge_sweep_is_placed_as_finely_as_promised(self):
        folder = Path(demo_sets.__file__).parent / "frames" / "ridge-sweep"
        found = self._registered(frames_in(folder))
        truth = self._check(folder, found, median_deg=0.05)
        self.assertLess(abs(found.frames[0].lens.focal_px / truth["focal_px"] - 1), 0.01)

    def test_order_does_not_matter_and_a_stranger_is_named(self):
        paths = frames_in(ridge())
        order = [2, 0, 3, 1]
        found = self._registered([*(paths[n] for n in order), str(stranger())])
        self.assertNotIsInstance(found.frames[4], Placed)
        self.assertIn("frame", found.frames[4].reason)
        self.assertEqual(found.placed, [0, 1, 2, 3])

    def test_a_frame_of_another_size_is_placed_too(self):
        paths = frames_in(ridge())[:3]
        with tempfile.TemporaryDirectory() as folder:
            half = cv2.resize(cv2.imread(paths[1]), None, fx=0.6, fy=0.6, interpolation=cv2.INTER_AREA)
            cv2.imwrite(f"{folder}/half.png", half)
            found = self._registered([paths[0], f"{folder}/half.png", paths[2]])
        self.assertEqual(found.placed, [0, 1, 2])
        ratio = found.frames[1].lens.focal_px / found.frames[0].lens.focal_px
        self.assertAlmostEqual(ratio, 0.6, delta=0.02)

    def test_metadata_that_is_far_off_does_not_mislead(self):
        """As after cropping: the files say a focal length 1.7 times too long."""
        made, job = engine(), Job()
        project, set_id = project_of(frames_in(ridge()))
        stages = made.stages(project, set_id)
        frames = project.sets[0].frames
        opened = made.opened_all(project, project.sets[0], job)
        features = [made.features(o, f, job) for o, f in zip(opened, frames, strict=True)]
        hints = [LensHint(o.lens_key, 1.7 * o.focal_px) for o in opened]
        found = register_panorama(features, hints, job)
        true = truth_of(ridge())["frames"][0]["focal_px"]
        self.assertLess(abs(found.frames[0].lens.focal_px / true - 1), 0.015)
        self.assertEqual(stages.registration(job).placed, found.placed)

    def test_without_levelling_the_first_frame_is_the_world(self):
        found = self._registered(frames_in(ridge())[:2], level=False)
        assert_allclose(found.frames[0].rotation, np.eye(3), atol=1e-12)


class Series(unittest.TestCase):
    TRUE = {
        "shift": np.array([[1, 0, 7.25], [0, 1, -3.5], [0, 0, 1]]),
        "rigid": np.array([[np.cos(0.02), -np.sin(0.02), 5], [np.sin(0.02), np.cos(0.02), -4], [0, 0, 1]]),
        "similarity": np.array([[1.01, -0.02, 5], [0.02, 1.01, -4], [0, 0, 1]]),
        "perspective": np.array([[1.01, 0.01, 6], [-0.008, 0.99, 3], [1e-5, -1e-5, 1]]),
    }

    def test_every_way_recovers_its_own_transform(self):
        rng = np.random.default_rng(2)
        p = rng.uniform(0, 1000, (300, 2))
        for name, fit in WAYS.items():
            with self.subTest(name):
                assert_allclose(fit(p, planar.apply(self.TRUE[name], p), np.ones(300)),
                                self.TRUE[name], atol=1e-6)

    def test_a_shifted_frame_is_brought_back_despite_a_moving_thing(self):
        wide = textured(420, 620, 8)
        first, second = wide[10:410, 10:610].copy(), wide[3:403, 17:617].copy()
        second[100:220, 100:240] = textured(120, 140, 9)
        features = [find_features(linearizer(None)(x), 600, 400) for x in (first, second)]
        for name in WAYS:
            with self.subTest(name):
                found = onto(*features, name)
                corner = planar.apply(found.transform, np.array([[0.0, 0], [599, 399]]))
                assert_allclose(corner, [[-7, 7], [592, 406]], atol=0.3)

    def test_a_frame_that_shares_nothing_with_the_reference_is_placed_by_one_between(self):
        wide = textured(400, 1300, 8)
        views = [wide[:, k : k + 600].copy() for k in (0, 330, 660)] + [textured(400, 600, 77)]
        features = [find_features(linearizer(None)(x), 600, 400) for x in views]
        self.assertIsInstance(onto(features[0], features[2], "shift"), NotOnto)
        found = align_series(features, 0, "shift", Job())
        for n, wanted in ((1, -330.0), (2, -660.0)):
            assert_allclose(found[n].transform[:2, 2], (wanted, 0), atol=0.5)
        self.assertIsInstance(found[3], NotOnto)

    def test_a_still_frame_is_left_untouched(self):
        features = find_features(linearizer(None)(textured(300, 400, 5)), 400, 300)
        found = onto(features, features, "perspective")
        self.assertTrue(found.still)
        assert_allclose(found.transform, np.eye(3))

    def test_frames_that_lie_apart_are_told_at_a_glance_and_things_that_move_are_not(self):
        land = cv2.cvtColor(textured(330, 460, 6), cv2.COLOR_RGB2GRAY)
        first = land[20:290, 20:420]
        self.assertAlmostEqual(apart_px(first, land[26:296, 12:412]), 10.0, delta=0.6)
        self.assertEqual(apart_px(first, first.copy()), 0.0)
        busy = first.copy()
        busy[60:250, 90:190] = land[50:240, 60:160]
        self.assertEqual(apart_px(first, busy), 0.0)
        parted = np.vstack([land[20:155, 12:412], land[155:290, 28:428]])
        self.assertEqual(apart_px(first, parted), 0.0, "halves that went two ways")
        other = cv2.cvtColor(textured(270, 400, 60), cv2.COLOR_RGB2GRAY)
        self.assertEqual(apart_px(first, other), 0.0)
        self.assertEqual(apart_px(np.full_like(first, 90), np.full_like(first, 91)), 0.0)
