"""Matching: what looks alike near where it must lie, what a glance settles, which pairs are spared, and light."""

import time
import unittest
from functools import lru_cache
from unittest import mock

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import nothing_known, textured
from windfell.align import glance
from windfell.align.candidates import ALL_UP_TO
from windfell.align.features import Features, _spread_choice, grey_features, quick_features
from windfell.align.glance import Glance, found_and_glanced, glance_at, spare_pairs
from windfell.align.matching import matches, matches_near
from windfell.align.pairs import find_links, largest_connected
from windfell.align.patches import HALF, SEARCH, patch_offsets, patch_shifts
from windfell.align.view import GreyView
from windfell.geometry import planar
from windfell.job import Job

SIDE, HIGH = 420, 360


@lru_cache(maxsize=4)
def land(seed: int = 5) -> np.ndarray:
    return cv2.GaussianBlur(textured(HIGH, 2400, seed)[..., 0], (0, 0), 1.2)


@lru_cache(maxsize=64)
def frame_at(left: int, seed: int = 5, make=quick_features) -> Features:
    """Features of a piece of a long picture; its px are `left` aside."""
    return make(np.ascontiguousarray(land(seed)[:, left : left + SIDE]), SIDE, HIGH, most=700)


def moved(by: float) -> np.ndarray:
    return np.array([[1.0, 0, -by], [0, 1, 0], [0, 0, 1]])


class Near(unittest.TestCase):
    def test_pairs_lie_where_they_are_expected_and_each_has_one_partner(self):
        for make in (quick_features, grey_features):
            with self.subTest(make=make.__name__):
                a, b = frame_at(0, make=make), frame_at(120, make=make)
                pairs = matches_near(a, b, moved(124.0), 9.0)
                off = b.points[pairs[:, 1]] - planar.apply(moved(120), a.points[pairs[:, 0]])
                self.assertGreater(len(pairs), 0.7 * len(matches(a, b)))
                self.assertLess(np.linalg.norm(off + [4, 0], axis=1).max(), 9.5)
                # the same corner is often found at several sizes, a little aside
                self.assertGreater(np.mean(np.linalg.norm(off, axis=1) < 3.5), 0.9)
                for column in pairs.T:
                    self.assertEqual(len(np.unique(column)), len(pairs))

    def test_nothing_is_found_elsewhere_or_of_another_land(self):
        a, b = frame_at(0), frame_at(120)
        self.assertLess(len(matches_near(a, b, moved(200), 9.0)), 0.02 * len(a))
        self.assertLess(len(matches_near(a, frame_at(120, 6), moved(120), 9.0)), 0.03 * len(a))
        self.assertEqual(len(matches_near(a, b, moved(5000), 9.0)), 0)

    def test_frames_without_features_share_none(self):
        none = Features(np.zeros((0, 2)), np.zeros((0, 32), np.uint8), SIDE, HIGH)
        self.assertEqual(len(matches_near(frame_at(0), none, moved(0), 9.0)), 0)
        self.assertEqual(len(matches_near(none, frame_at(0), moved(0), 9.0)), 0)

    def test_of_a_thing_that_stands_twice_nearby_neither_is_taken(self):
        a = quick_features(land()[:, :SIDE].copy(), SIDE, HIGH, most=60)

        def with_copy(aside: float) -> Features:
            return Features(np.concatenate([a.points, a.points + [aside, 0]]), np.concatenate([a.descriptors] * 2),
                            SIDE, HIGH)

        self.assertEqual(len(matches_near(a, with_copy(8), moved(0), 12.0)), 0)
        self.assertGreater(len(matches_near(a, with_copy(0.5), moved(0), 12.0)), 0.5 * len(a))


class Ahead(unittest.TestCase):
    def test_what_lies_behind_a_homography_is_nowhere(self):
        h = np.array([[1.0, 0, 3], [0, 1, -2], [-0.01, 0, 1]])
        there = planar.ahead(h, np.array([[50.0, 10.0], [150, 10], [100, 10]]))
        assert_allclose(there[0], [106, 16])
        self.assertTrue(np.isnan(there[1:]).all())


class Glances(unittest.TestCase):
    def test_a_glance_is_firm_where_much_is_shared_and_closed_where_nothing_is(self):
        firm, closed = glance_at(frame_at(0), frame_at(120)), glance_at(frame_at(0), frame_at(0, 6))
        self.assertTrue(firm.firm and firm.open)
        assert_allclose(planar.apply(firm.homography, np.array([[200.0, 150.0]])), [[80, 150]], atol=3)
        self.assertFalse(closed.firm or closed.open)

    def test_the_homography_sees_what_was_matched_ahead(self):
        real = cv2.findHomography

        def behind(*args, **more):
            h, mask = real(*args, **more)
            return -h, mask

        nothing_known(self)
        with mock.patch.object(glance.cv2, "findHomography", behind):
            h = glance_at(frame_at(0), frame_at(120)).homography
        self.assertGreater((h @ [200, 150, 1])[2], 0)

    def test_the_strongest_of_any_number_lie_all_over_the_frame(self):
        rng = np.random.default_rng(1)
        at = rng.uniform(0, 400, (3000, 2))
        strength = rng.uniform(1, 2, 3000) + 5 * (at < 100).all(axis=1)
        keys = [cv2.KeyPoint(*map(float, p), 7, 0, float(s)) for p, s in zip(at, strength, strict=True)]
        chosen = cv2.KeyPoint.convert(_spread_choice(keys, (400, 400), 900))
        self.assertEqual(len(chosen), 900)
        self.assertTrue((chosen[:16] < 100).all())
        crowded = (chosen < 100).all(axis=1)
        for first in (128, 320, 900):
            self.assertLess(crowded[:first].mean(), 0.35)
            cells = np.unique((chosen[:first] / 401 * 8).astype(int), axis=0)
            self.assertGreater(len(cells), 40)


class Spared(unittest.TestCase):
    @staticmethod
    def looks(step: int, count: int) -> dict:
        return {(a, b): Glance(200 - 10 * (b - a), moved(step * (b - a)), True)
                for a in range(count) for b in range(a + 1, count) if step * (b - a) < 0.9 * SIDE}

    def test_of_frames_that_overlap_much_only_pairs_that_add_something_stay(self):
        looks, frames = self.looks(60, 10), [frame_at(60 * n) for n in range(10)]
        spare = spare_pairs(frames, looks)
        kept = set(looks) - spare
        self.assertGreater(len(spare), 0.3 * len(looks))
        self.assertTrue(all((n, n + 1) in kept for n in range(9)))
        self.assertTrue(all(sum(n in p for p in kept) >= 3 for n in range(10)))

    def test_a_usual_row_keeps_all_and_open_pairs_are_never_spared(self):
        looks, frames = self.looks(270, 6), [frame_at(270 * n) for n in range(6)]
        self.assertEqual(spare_pairs(frames, looks), set())
        faint = {p: Glance(9, g.homography) for p, g in self.looks(60, 10).items()}
        self.assertEqual(spare_pairs([frame_at(60 * n) for n in range(10)], faint), set())

    def test_links_without_the_spared_hold_all_frames_together(self):
        frames = [frame_at(45 * n) for n in range(10)]
        all_, few = (find_links(frames, Job(), sparing=s)[0] for s in (False, True))
        self.assertLess(len(few), 0.8 * len(all_))
        self.assertEqual(largest_connected(10, few), list(range(10)))

    def test_pairs_are_glanced_at_while_frames_come_in(self):
        """Of a small set all pairs, as they would be afterwards, however slow a frame is; of a large one none."""
        frames = [frame_at(250 * n) for n in range(5)]

        def slowly(n: int):
            time.sleep(0.05 if n == 1 else 0)
            return frames[n]

        found, looks = found_and_glanced(slowly, 5, Job(), "looking")
        self.assertTrue(all(f is g for f, g in zip(found, frames, strict=True)))
        self.assertEqual(list(looks), [(a, b) for a in range(5) for b in range(a + 1, 5)])
        links = []
        for seen in (None, looks):
            nothing_known(self)
            links.append([(k.a, k.b, k.count) for k in find_links(frames, Job(), looks=seen)[0]])
        self.assertEqual(*links)
        self.assertIsNone(found_and_glanced(lambda n: frames[0], ALL_UP_TO + 1, Job(), "looking")[1])

    def test_frames_that_a_glance_leaves_alone_are_looked_at_in_full(self):
        frames = [frame_at(250 * n) for n in range(6)]
        nothing_known(self)
        with mock.patch.object(glance, "STRONGEST", 8):
            links, refused = find_links(frames, Job())
        self.assertTrue({(n, n + 1) for n in range(5)} <= {(k.a, k.b) for k in links})
        self.assertEqual(len(links) + len(refused), 15)
        self.assertFalse(any(r.glanced for r in refused))


class Views(unittest.TestCase):
    def test_pieces_of_a_big_picture_give_what_the_whole_gives(self):
        """Also on its rim, where both say that nothing is known."""
        rng = np.random.default_rng(2)
        grey = rng.integers(0, 256, (900, 1300), dtype=np.uint8)
        view = GreyView(grey, (1300, 900))
        points = rng.uniform([-12, -12], [1312, 912], (300, 2))
        at = points[:, None, None] + 1.3 * patch_offsets(6)
        pieces = view.at(at)
        with mock.patch.object(GreyView, "_from_pieces", side_effect=AssertionError):
            whole = GreyView(grey, (1300, 900)).at(at.reshape(1, 300 * 13, 13, 2)).reshape(pieces.shape)
        assert_allclose(pieces, whole, atol=1.5)
        self.assertLess(np.nanpercentile(np.abs(pieces - whole), 99), 0.6)
        inside = np.all((at > 4) & (at < [1295, 895]), axis=-1)
        outside = np.any((at < -1) | (at > [1300, 900]), axis=-1)
        self.assertTrue(np.isfinite(pieces[inside]).all())
        self.assertTrue(np.isnan(pieces[outside]).all())

    def test_a_plane_of_light_comes_back_between_its_pixels(self):
        y, x = np.mgrid[0:200, 0:300]
        view = GreyView((0.4 * x + 0.5 * y).astype(np.float32), (600, 400))
        at = np.array([[150.0, 90.0], [303.3, 210.7]])
        assert_allclose(view.at(at[:, None, None])[:, 0, 0], (0.4 * at[:, 0] + 0.5 * at[:, 1] - 0.45) / 2, atol=1e-4)
        self.assertEqual(view.at(np.zeros((0, 5, 5, 2))).shape, (0, 5, 5))

    def test_each_side_has_its_own_scale(self):
        """The picture of an odd width at half the size is half a px wider than half the frame."""
        y, x = np.mgrid[0:300, 0:201]
        view = GreyView((0.5 * x + 0.25 * y).astype(np.float32), (401, 600))
        at = np.array([[20.0, 500.0], [370.3, 520.7]])
        own = (at + 0.5) * [201 / 401, 0.5] - 0.5
        assert_allclose(view.at(at[:, None, None])[:, 0, 0], own @ [0.5, 0.25], atol=1e-3)

    def test_where_the_lens_sees_nothing_there_is_no_light(self):
        view = GreyView(np.full((60, 80), 9, np.uint8), (80, 60), lambda p: np.where(p[..., :1] > 40, np.nan, p))
        seen = view.at(np.array([[[[20.0, 30.0], [60.0, 30.0]]]]))
        self.assertEqual(seen[0, 0, 0], 9)
        self.assertTrue(np.isnan(seen[0, 0, 1]))


class Patches(unittest.TestCase):
    def test_shifts_of_all_sizes_within_reach_are_found_with_their_error(self):
        rng = np.random.default_rng(4)
        view = GreyView(land().astype(np.float32), land().shape[::-1])
        points = rng.uniform([40, 40], [2350, 320], (300, 2))
        shift = rng.uniform(-SEARCH + 0.5, SEARCH - 0.5, (300, 2))
        one = view.at(points[:, None, None] + patch_offsets(HALF))
        other = view.at((points - shift)[:, None, None] + patch_offsets(HALF + SEARCH + 2))
        noisy = [p + rng.normal(0, 2, p.shape).astype(np.float32) for p in (one, 0.7 * other + 20)]
        found = patch_shifts(*noisy)
        off = np.linalg.norm(found.shift - shift, axis=1)
        sure = found.likeness > 0.75
        self.assertGreater(sure.mean(), 0.9)
        self.assertLess(np.median(off[sure]), 0.13)
        self.assertLess(np.median(off[sure] / found.error[sure]), 1.5)
        self.assertLess(np.mean(off[sure] > 0.5), 0.01)

    def test_patches_beyond_a_frame_are_refused_also_if_all_are(self):
        one, other = np.full((3, 17, 17), np.nan, np.float32), np.zeros((3, 31, 31), np.float32)
        found = patch_shifts(one, other)
        self.assertTrue(np.isinf(found.error).all() and (found.likeness == -1).all())
        self.assertEqual(patch_shifts(one[:0], other[:0]).shift.shape, (0, 2))


if __name__ == "__main__":
    unittest.main()
