"""Quick features, and points that the light shows beside those that features have matched."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import lru_cache

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import engine, frames_in, project_of, ridge, textured
from windfell.align.adjust import Observations, error_px
from windfell.align.by_light import SQUARE_MOST, grown, joined, pairs_that_meet, refined_with_others
from windfell.align.cameras import Cameras, cameras_of, carried
from windfell.align.features import SQUARES, Features, grey_features, quick_features, unbent
from windfell.align.matching import matches
from windfell.align.pairs import Link, link
from windfell.align.refine import LINK_LEAST, sharper_by, thinned
from windfell.align.solve import looked_closely
from windfell.align.view import GreyView
from windfell.engine.stage import Detail
from windfell.geometry.camera import Lens
from windfell.geometry.optics import NODES, REACH, Optics
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job

SIZE = (700, 500)
TURNS = [np.eye(3), from_yaw_pitch_roll(0.12, 0.03, 0.02)]


@lru_cache(maxsize=2)
def turned_pair(near_px: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """A picture, and what a camera that turned sees of it; its lower half moved aside by `near_px`."""
    wide = cv2.GaussianBlur(textured(500, 700, 5)[..., 0].astype(np.float32), (0, 0), 1.5)
    lens = Lens(*SIZE, 900.0)
    y, x = np.mgrid[0:500, 0:700].astype(float)
    there = lens.project(lens.rays(np.stack([x, y], -1)) @ TURNS[1].T).astype(np.float32)
    there[..., 0] += near_px * np.clip((there[..., 1] - 220) / 60, 0, 1)
    return wide, cv2.remap(wide, there[..., 0], there[..., 1], cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT)


def cameras(turns=TURNS) -> Cameras:
    return cameras_of([SIZE] * 2, [0, 0], np.array([900.0])).turned(turns)


def in_pair(near_px: float = 0.0):
    """(features, view) of the pair."""
    pair = turned_pair(near_px)
    features = [quick_features(np.clip(p, 0, 255).astype(np.uint8), *SIZE, most=900) for p in pair]
    views = [GreyView(p, SIZE) for p in pair]
    return features, lambda n: views[n]


def seeds(count: int, low: float, high: float) -> Observations:
    """True points of the pair between two heights."""
    rng = np.random.default_rng(3)
    p = np.stack([rng.uniform(160, 660, count), rng.uniform(low, high, count)], -1)
    return Observations(0, 1, p, carried(cameras(), np.zeros(count, int), np.ones(count, int), p))


class QuickFeatures(unittest.TestCase):
    def test_their_distance_counts_the_bits_that_differ(self):
        rng = np.random.default_rng(1)
        bits = rng.integers(0, 256, (6, 32), dtype=np.uint8)
        vectors = Features(np.zeros((6, 2)), bits, 10, 10).vectors()
        apart = np.unpackbits(bits[:, None] ^ bits[None], axis=-1).sum(-1)
        assert_allclose(np.sum((vectors[:, None] - vectors[None]) ** 2, -1), apart / 64, atol=1e-5)
        assert_allclose(np.linalg.norm(vectors, axis=1), 1, atol=1e-6)

    def test_they_link_what_the_finer_ones_link(self):
        found = [
            link(0, 1, *(make(np.clip(p, 0, 255).astype(np.uint8), *SIZE, most=900) for p in turned_pair()))
            for make in (quick_features, grey_features)]
        for k in found:
            self.assertIsInstance(k, Link)
        corners = np.array([[200.0, 100], [600, 100], [600, 400], [200, 400]])
        one, other = (cv2.perspectiveTransform(corners[None], k.homography)[0] for k in found)
        self.assertLess(np.linalg.norm(one - other, axis=1).max(), 1.5)

    def test_ignored_areas_give_none_and_a_blank_frame_neither(self):
        mask = np.zeros((50, 70), np.uint8)
        mask[:, :35] = 255
        grey = np.clip(turned_pair()[0], 0, 255).astype(np.uint8)
        found = quick_features(grey, *SIZE, ignore=mask, most=300)
        self.assertGreater(found.points[:, 0].min(), 345)
        blank = quick_features(np.full((500, 700), 90, np.uint8), *SIZE)
        self.assertEqual((len(blank), blank.vectors().shape), (0, (0, 256)))
        self.assertEqual(len(matches(blank, found)), 0)
        for shape in ((1, 1), (3, 400), (20, 20)):
            self.assertEqual(len(quick_features(np.zeros(shape, np.uint8), 900, 600)), 0)

    def test_spots_lie_all_over_a_frame_even_where_light_varies_little(self):
        grey = np.clip(turned_pair()[0], 0, 255)
        grey[250:] = 100 + 0.04 * (grey[250:] - 100)
        found = quick_features(np.rint(grey).astype(np.uint8), 2 * SIZE[0], 2 * SIZE[1], most=300)
        self.assertLess(np.mean(found.points[:, 1] > 540), 0.05)
        self.assertGreater(np.mean(found.spots[:, 1] > 540), 0.25)
        squares = np.unique((found.spots / (2 * SIZE[0] / SQUARES)).astype(int), axis=0)
        self.assertGreater(len(squares), 0.6 * SQUARES**2 * SIZE[1] / SIZE[0])
        self.assertTrue(np.all((found.spots > -1) & (found.spots < [2 * SIZE[0], 2 * SIZE[1]])))
        mask = np.zeros((50, 70), np.uint8)
        mask[:, :35] = 255
        self.assertGreater(quick_features(grey.astype(np.uint8), *SIZE, ignore=mask).spots[:, 0].min(), 345)
        lens = Optics(bend=tuple(np.linspace(0, REACH, NODES) * 1.1))
        self.assertEqual(unbent(found, lens).spots.shape, found.spots.shape)
        self.assertGreater(np.abs(unbent(found, lens).spots - found.spots).max(), 5)

    def test_no_feature_is_the_partner_of_two(self):
        bits = np.repeat(np.random.default_rng(2).integers(0, 256, (20, 32), dtype=np.uint8), 2, axis=0)
        twice = Features(np.zeros((40, 2)), bits, 10, 10)
        once = Features(np.zeros((20, 2)), bits[::2], 10, 10)
        pairs = matches(twice, once)
        self.assertEqual(len(pairs), 20)
        self.assertEqual(len(np.unique(pairs[:, 1])), 20)

    def test_small_frames_are_looked_at_enlarged(self):
        made, job = engine(), Job()
        project, _ = project_of(frames_in(ridge())[:1])
        opened = made.opened_all(project, project.sets[0], job)[0]
        frame = project.sets[0].used[0]
        quick = made.features(opened, frame, job, Detail.QUICK)
        self.assertGreater(len(quick), 600)
        self.assertTrue(np.all((quick.points > -1) & (quick.points < [quick.width, quick.height])))


class ByLight(unittest.TestCase):
    def test_points_spread_over_all_that_is_shared(self):
        features, view = in_pair()
        few = seeds(40, 60, 160)
        _, (more,) = refined_with_others(cameras(), [few], features, view, Job())
        self.assertGreater(len(more.found.points_a), 0.6 * len(more.tried.points_a))
        self.assertFalse(more.denied)
        self.assertGreater(more.found.points_a[:, 1].max(), 400)
        self.assertLess(np.percentile(error_px(cameras(), more.found), 90), 0.1)
        side = SIZE[0] / SQUARES
        _, times = np.unique((more.found.points_a / side).astype(int), axis=0, return_counts=True)
        self.assertLessEqual(times.max(), SQUARE_MOST)

    def test_where_no_features_are_the_spots_of_a_frame_are_found(self):
        features, view = in_pair()
        features = [replace(f, points=f.points[:20]) for f in features]
        few = seeds(10, 60, 160)
        (close,), (more,) = refined_with_others(cameras(), [few], features, view, Job())
        self.assertLessEqual(len(more.tried.points_a), 20)
        others = close.weights.sum() + more.found.weights.sum()
        self.assertLessEqual(more.spots.weights.sum(), 0.5 * others + 1e-9)
        self.assertGreater(len(more.spots.points_a), 50)
        self.assertLess(np.median(error_px(cameras(), more.spots)), 0.1)
        where = np.concatenate([few.points_a, more.found.points_a, more.spots.points_a])
        self.assertLess(len(where) - len(np.unique((where / (SIZE[0] / SQUARES)).astype(int), axis=0)), 5)

    def test_what_is_known_to_have_moved_is_not_looked_for(self):
        features, view = in_pair()
        few = seeds(40, 60, 160)
        corners = np.array([[150.0, 250], [600, 250], [600, 450], [150, 450]])
        _, (more,) = refined_with_others(cameras(), [few], features, view, Job())
        _, (less,) = refined_with_others(cameras(), [few], features, view, Job(), {(few.a, few.b): corners})
        amid = [np.sum(np.all((o.tried.points_a > [150, 250]) & (o.tried.points_a < [600, 450]), axis=1))
                for o in (more, less)]
        self.assertGreater(amid[0], 5)
        self.assertEqual(amid[1], 0)
        self.assertGreater(len(less.tried.points_a), 5)

    def test_one_thing_in_two_places_is_denied_by_all_around_it(self):
        """A patch of the frame stands in a stranger too; what is beside it does not. A large patch holds others."""
        features, view = in_pair()
        for rows, alike in ((slice(60, 160), seeds(30, 80, 140)), (slice(30, 250), seeds(30, 60, 220))):
            stranger = textured(500, 700, 99)[..., 1].astype(np.float32)
            same = (rows, slice(150, 600))
            stranger[same] = turned_pair()[1][same]
            _, (more,) = refined_with_others(
                cameras(), [alike], features, lambda n, of=stranger: GreyView(of, SIZE) if n else view(0), Job())
            with self.subTest(rows=rows):
                self.assertTrue(more.denied)
                self.assertGreater(len(more.found.points_a), 0)
        self.assertGreater(len(more.found.points_a), 0.2 * len(more.tried.points_a))

    def test_pairs_meet_where_the_cameras_say_or_a_little_aside(self):
        features, view = in_pair()
        for shift, expected in ((0.0, 1), (0.003, 1), (0.08, 0)):
            with self.subTest(shift=shift):
                off = [TURNS[0], from_yaw_pitch_roll(shift, 0, 0) @ TURNS[1]]
                found = pairs_that_meet(cameras(off), [(0, 1)], features, view, Job())
                self.assertEqual(len(found), expected)
                for o in found:
                    self.assertLess(np.median(error_px(cameras(), o)), 0.08)

    def test_frames_that_share_nothing_do_not_meet(self):
        features, view = in_pair()
        stranger = GreyView(textured(500, 700, 99)[..., 1].astype(np.float32), SIZE)
        self.assertEqual(
            pairs_that_meet(cameras(), [(0, 1)], features, lambda n: stranger if n else view(0), Job()), [])

    def test_points_grow_over_near_things_from_a_few(self):
        """The lower half lies 14 px aside, further than is searched; a few points there lead to it."""
        features, view = in_pair(14.0)
        far, near = seeds(30, 60, 200), seeds(12, 300, 340)
        moved = Observations(0, 1, near.points_a, near.points_b - [14.0, 0])
        found = grown(cameras(), [far, moved], features, view, Job())
        self.assertEqual(len(found), 1)
        low = found[0].points_a[:, 1] > 380
        self.assertGreater(low.sum(), 20)
        drift = found[0].points_b[low] - carried(
            cameras(), np.zeros(low.sum(), int), np.ones(low.sum(), int), found[0].points_a[low])
        assert_allclose(np.median(drift[:, 0]), -14, atol=1.0)

    def test_points_of_both_are_joined_with_their_weights(self):
        one = seeds(3, 60, 100)
        other = Observations(0, 1, one.points_a, one.points_b, np.array([2.0, 3.0, 4.0]))
        assert_allclose(joined(one, other).weight, [1, 1, 1, 2, 3, 4])

    def test_a_shaken_frame_is_less_sharp_by_what_it_lost(self):
        pair = turned_pair()
        shaken = cv2.blur(pair[1], (9, 1))
        noisy = pair[1] * 0.5 + np.random.default_rng(2).normal(0, 0.3, pair[1].shape).astype(np.float32)
        for name, other, least, most in (("itself", pair[1], -0.1, 0.1), ("darker, noise", noisy, -0.3, 0.3),
                                         ("shaken", shaken, 0.3, 3.0)):
            with self.subTest(name):
                views = [GreyView(p, SIZE) for p in (pair[0], other)]
                by = sharper_by(seeds(40, 40, 460), cameras(), views.__getitem__)
                self.assertTrue(least < by < most, by)
                back = seeds(40, 40, 460)
                back = Observations(1, 0, back.points_b, back.points_a)
                self.assertAlmostEqual(sharper_by(back, cameras(), views.__getitem__), -by, delta=0.15)

    def test_what_is_as_sharp_but_differs_up_close_is_not_believed_from_farther_away(self):
        """Two lands of one shape and other grain are told apart; a shaken frame of the same land is not."""
        rng, pair = np.random.default_rng(6), turned_pair()
        shape = [cv2.GaussianBlur(p, (0, 0), 7) for p in pair]
        grain = [18 * cv2.GaussianBlur(rng.normal(0, 1, p.shape).astype(np.float32), (0, 0), 1.2) for p in pair]
        other_land = [s + 3 * g for s, g in zip(shape, grain, strict=True)]
        shaken = [pair[0], cv2.GaussianBlur(pair[1], (0, 0), 4.0)]
        spots = rng.uniform((150, 20), (660, 480), (300, 2))
        features = [Features(spots, np.zeros((300, 32), np.uint8), *SIZE)] * 2
        for name, pictures, denied in (("other land", other_land, [0]), ("shaken", shaken, [])):
            with self.subTest(name):
                views = []
                for p in pictures:
                    views.append(GreyView(p, SIZE))
                    views[-1].farther = GreyView(cv2.resize(p, (175, 125), interpolation=cv2.INTER_AREA), SIZE,
                                                 closer=views[-1])
                held = [seeds(30, 40, 460)]
                _, doubtful = looked_closely(cameras(), held, Job(), views.__getitem__, features, [None])
                self.assertEqual(doubtful, denied)

    def test_thinned_points_are_spread(self):
        rng = np.random.default_rng(4)
        crowded = np.concatenate([rng.uniform(0, 30, (900, 2)), rng.uniform(0, 600, (60, 2))])
        kept = thinned([Observations(0, 1, crowded, crowded)], 100)[0].points_a
        self.assertLessEqual(len(kept), 100)
        self.assertGreater(np.sum(np.any(kept > 30, axis=1)), 50)
        self.assertLess(np.sum(np.all(kept < 30, axis=1)), 10)
        crowd = [Observations(0, 1, crowded[:900], crowded[:900])]
        self.assertGreaterEqual(len(thinned(crowd, 100)[0].points_a), LINK_LEAST)


if __name__ == "__main__":
    unittest.main()
