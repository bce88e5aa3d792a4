"""A link made by a thing that moved: other explanations compete, and the light of all they claim decides."""

import unittest
from dataclasses import replace
from unittest import mock

import cv2
import numpy as np

from tests.support import textured
from windfell.align.by_look import found_by_look, settled_by_look
from windfell.align.features import Features, look_of, quick_features
from windfell.align.glance import glance_at
from windfell.align.matching import matches
from windfell.align.one_spot import spread_share
from windfell.align.pairs import Found, Link, NoLink, beside_these, explanations, find_links, link
from windfell.align.same_light import brighter_by, likeness, likeness_apart, same_light
from windfell.geometry import planar
from windfell.job import Job

WIDE, HIGH, SHIFT, MOVED = 500, 600, 300, 210


def thing(side: int = 130) -> np.ndarray:
    rng = np.random.default_rng(3)
    return cv2.resize(rng.integers(0, 255, (11, 11), np.uint8), (side, side), interpolation=cv2.INTER_NEAREST)


def two_frames(land: np.ndarray, with_thing: bool = True, moved: int = MOVED) -> tuple[np.ndarray, np.ndarray]:
    """Grey frames of a land, the second SHIFT px on; a checked thing in both moves by `moved` px instead."""
    a, b = land[:HIGH, :WIDE].copy(), land[:HIGH, SHIFT : SHIFT + WIDE].copy()
    if with_thing:
        check = thing()
        a[250:380, 340:470] = check
        b[270:400, 340 - moved : 470 - moved] = check
    return a, b


def soft_land(sigma: float, seed: int = 8) -> np.ndarray:
    whole = cv2.cvtColor(textured(HIGH, WIDE + SHIFT, seed), cv2.COLOR_RGB2GRAY)
    return cv2.GaussianBlur(whole, (0, 0), sigma)


def features(grey: np.ndarray) -> Features:
    return quick_features(grey, WIDE, HIGH)


class Alike(unittest.TestCase):
    def test_a_look_is_wholly_like_itself_and_no_more(self):
        own = features(soft_land(1.6))
        found = likeness_apart(own, own, np.eye(3), np.array([[5.0, 5.0]]))
        self.assertTrue(0.9995 < found <= 1.0001, found)


class Moved(unittest.TestCase):
    def test_the_land_wins_over_a_thing_with_more_features(self):
        a, b = (features(f) for f in two_frames(soft_land(1.6)))
        found = link(0, 1, a, b)
        self.assertIsInstance(found, Link)
        at = found.homography @ [250, 300, 1]
        np.testing.assert_allclose(at[:2] / at[2], [250 - SHIFT, 300], atol=3)
        self.assertGreater(len(found.moved), 10)
        self.assertTrue(np.all(np.abs(np.median(found.moved, axis=0) - [405, 315]) < 40))

    def test_what_the_first_explanation_leaves_is_looked_at_too(self):
        a, b = (features(f) for f in two_frames(soft_land(2.4)))
        pairs = matches(a, b)
        found, _ = explanations(a.points[pairs[:, 0]], b.points[pairs[:, 1]], a, b)
        moved = [h @ [400, 320, 1] for h, _ in found]
        across = [400 - m[0] / m[2] for m in moved]
        self.assertEqual(sorted(round(v, -1) for v in across[:2]), [MOVED, SHIFT])
        self.assertFalse((found[0][1] & found[1][1]).any())

    def test_a_glance_at_the_thing_alone_is_not_firm(self):
        a, b = (features(f) for f in two_frames(soft_land(4.0)))
        self.assertFalse(glance_at(a, b).firm)
        still = [features(f) for f in two_frames(soft_land(1.0), with_thing=False)]
        self.assertTrue(glance_at(*still).firm)
        right = np.array([[1, 0, -SHIFT], [0, 1, 0], [0, 0, 1.0]])
        corner = np.array([[330.0, 250], [380, 250], [380, 300], [330, 300]])
        seen = same_light(*still, right, corner)
        self.assertTrue(seen.concentrated)
        self.assertGreater(seen.alike, 0.9 * seen.compared)
        self.assertFalse(seen.firm, "all alike, but it rests on one spot")

    def test_a_thing_alone_before_other_light_is_no_link(self):
        one = two_frames(soft_land(4.0))[0]
        other = two_frames(soft_land(4.0, 9))[1]
        found = link(0, 1, features(one), features(other))
        self.assertIsInstance(found, NoLink)
        links, refused = find_links([features(one), features(other)], Job())
        self.assertEqual(links, [])
        self.assertTrue(refused)


class OneSpot(unittest.TestCase):
    """Features on one spot alone, over land too soft to have any: the land's light says whether the spot moved."""

    def found(self, land: np.ndarray, aside: int, wide: float = 1.0) -> tuple:
        """Frames whose thing lies `aside` px from where the land says, and the explanation by the thing."""
        a, b = land[:HIGH, :WIDE].copy(), land[:HIGH, SHIFT : SHIFT + WIDE].copy()
        a[250:380, 340:470] = thing()
        b[250:380, 340 - SHIFT + aside : 470 - SHIFT + aside] = thing()
        x, y = np.meshgrid(np.linspace(-60, 60, 7), np.linspace(-60, 60, 7))
        points = np.array([405.0, 315]) + wide * np.column_stack([x.ravel(), y.ravel()])
        there = points - [SHIFT - aside, 0]
        homography = np.array([[1, 0, aside - SHIFT], [0, 1, 0], [0, 0, 1.0]])
        return features(a), features(b), Found(points, there, np.ones(49, bool), homography)

    def test_land_that_fits_there_too_confirms_it(self):
        fa, fb, found = self.found(soft_land(3.0), 0)
        self.assertLess(spread_share(fa, fb, found.homography, found.points_a), 0.13)
        self.assertTrue(found.stays(fa, fb))

    def test_land_that_fits_a_little_aside_denies_it(self):
        for aside in (9, 20):
            fa, fb, found = self.found(soft_land(3.0), aside)
            self.assertFalse(found.stays(fa, fb), aside)

    def test_a_larger_spot_is_held_against_the_land_as_well(self):
        fa, fb, found = self.found(soft_land(3.0), 9, 1.35)
        self.assertTrue(0.13 < spread_share(fa, fb, found.homography, found.points_a) < 0.25)
        self.assertFalse(found.stays(fa, fb))
        fa, fb, found = self.found(soft_land(3.0), 0, 1.35)
        self.assertTrue(found.stays(fa, fb))

    def test_where_nothing_else_can_be_seen_one_spot_is_not_enough(self):
        mist = np.full((HIGH, WIDE + SHIFT), 120, np.uint8)
        fa, fb, found = self.found(mist, 0)
        self.assertIsNone(found.stays(fa, fb))
        fa, fb, found = self.found(mist, 0, 1.35)
        self.assertTrue(found.stays(fa, fb), "spread over much of what both show")

    def test_where_the_land_settles_nowhere_one_spot_stays_open(self):
        with mock.patch("windfell.align.pairs.settled_by_look", lambda *_: None):
            self.assertIsNone(self.found(soft_land(3.0), 0)[2].stays(*self.found(soft_land(3.0), 0)[:2]))
            fa, fb, found = self.found(soft_land(3.0), 0, 1.35)
            self.assertTrue(found.stays(fa, fb))

    def test_nothing_of_the_spot_draws_the_land_aside(self):
        for aside in (9, -9, 14):
            fa, fb, found = self.found(soft_land(3.0), aside, 0.9)
            land = settled_by_look(fa, fb, found.homography, found.points_a)
            at = planar.apply(land.homography, np.array([[405.0, 315]]))
            np.testing.assert_allclose(at, [[405 - SHIFT, 315]], atol=0.8)

    def test_points_all_over_need_no_confirmation(self):
        fa, fb, found = self.found(soft_land(3.0), 20, 3.4)
        self.assertGreater(spread_share(fa, fb, found.homography, found.points_a), 0.6)
        self.assertTrue(found.stays(fa, fb))
        # those on something large are held against the land around it
        fa, fb, found = self.found(soft_land(3.0), 20, 2.2)
        self.assertTrue(0.25 < spread_share(fa, fb, found.homography, found.points_a) < 0.6)
        self.assertFalse(found.stays(fa, fb))


class Light(unittest.TestCase):
    def setUp(self):
        self.a, self.b = (features(f) for f in two_frames(soft_land(1.6)))
        self.points = np.array([[220.0, 20], [480, 20], [480, 580], [220, 580]])

    def moved(self, dx: float, dy: float = 0.0) -> np.ndarray:
        return np.array([[1, 0, -dx], [0, 1, -dy], [0, 0, 1.0]])

    def test_light_agrees_where_the_frames_lie_and_nowhere_else(self):
        right = same_light(self.a, self.b, self.moved(SHIFT), self.points)
        self.assertGreater(right.alike, 0.6 * right.compared)
        self.assertFalse(right.denies)
        still = same_light(*(features(f) for f in two_frames(soft_land(1.6), False)), self.moved(SHIFT), self.points)
        self.assertTrue(still.firm)
        on_thing = self.points * 0.2 + [300, 250]
        wrong = same_light(self.a, self.b, self.moved(MOVED, -20), on_thing)
        self.assertGreater(wrong.compared_apart, 10)
        self.assertTrue(wrong.denies)

    def test_other_light_and_a_little_aside_agree_as_well(self):
        darker = replace(self.b, look=(self.b.look * 0.5 + 20).astype(np.uint8))
        found = same_light(self.a, darker, self.moved(SHIFT + 4), self.points)
        self.assertGreater(found.alike, 0.5 * found.compared)

    def test_without_a_look_nothing_is_said(self):
        found = same_light(replace(self.a, look=None), self.b, self.moved(9), self.points)
        self.assertEqual((found.compared, found.denies, found.firm), (0, False, True))

    def test_a_look_is_small(self):
        self.assertEqual(max(look_of(np.zeros((1000, 500), np.uint8)).shape), 256)

    def test_how_much_brighter(self):
        self.assertAlmostEqual(brighter_by(self.a, self.b, self.moved(SHIFT)), 0.0, delta=0.1)
        linear = (self.b.look / 255.0) ** 2.2 * 0.5
        darker = replace(self.b, look=np.rint(255 * linear ** (1 / 2.2)).astype(np.uint8))
        self.assertAlmostEqual(brighter_by(self.a, darker, self.moved(SHIFT)), -1.0, delta=0.15)
        black = replace(self.b, look=np.zeros_like(self.b.look))
        self.assertIsNone(brighter_by(self.a, black, self.moved(SHIFT)))

    def test_neighbours_must_be_alike_at_one_place(self):
        right, aside = self.moved(SHIFT), self.moved(SHIFT + 40)
        one, other = (likeness_apart(self.a, self.b, h, self.points * 0) for h in (right, aside))
        self.assertGreater(one, 0.6)
        self.assertLess(other, 0.35)
        one, other = (likeness(self.a, self.b, h, self.points * 0) for h in (right, aside))
        self.assertGreater(one, 2 * other)


class ByLook(unittest.TestCase):
    def setUp(self):
        self.a, self.b = (features(f) for f in two_frames(soft_land(2.4)))
        self.on_thing = np.array([[345.0, 255], [465, 255], [465, 375], [345, 375]])
        self.there = self.on_thing - [MOVED, -20]

    def off(self, homography: np.ndarray) -> float:
        at = homography @ [400, 300, 1]
        return float(np.hypot(*(at[:2] / at[2] - [400 - SHIFT, 300])))

    def test_the_land_settles_where_it_lies_though_begun_where_the_thing_did(self):
        near = np.array([[1, 0, -SHIFT + 9.0], [0, 1, 4], [0, 0, 1]])
        found = settled_by_look(self.a, self.b, near, self.on_thing)
        self.assertLess(self.off(found.homography), 3)
        self.assertGreater(found.alike, 0.55)

    def test_the_best_of_all_shifts(self):
        found = found_by_look(self.a, self.b, self.on_thing, self.there)
        self.assertLess(self.off(found.homography), 4)
        held = beside_these(self.a, self.b, self.on_thing, self.there)
        self.assertIsNotNone(held)
        self.assertLess(self.off(held.homography), 3)

    def test_other_land_is_found_nowhere(self):
        other = features(two_frames(soft_land(2.4, 9))[1])
        found = found_by_look(self.a, other, self.on_thing, self.there)
        self.assertTrue(found is None or found.alike < 0.55)
        self.assertIsNone(beside_these(self.a, other, self.on_thing, self.there))

    def test_a_thing_that_moved_by_little_gives_no_wrong_link(self):
        for aside in (8, 14, 24):
            with self.subTest(aside):
                frames = two_frames(soft_land(3.0), moved=SHIFT - aside)
                found = link(0, 1, *(features(f) for f in frames))
                if isinstance(found, Link):
                    self.assertLess(self.off(found.homography), 4)
                    points = found.points_a
                    on_thing = (points > [345, 255]).all(1) & (points < [465, 375]).all(1)
                    self.assertLess(on_thing.mean(), 0.2, "what lies on the thing is no point of the link")

    def test_a_thing_that_moved_a_little_never_wins(self):
        for aside in (6, 8, 12, 20):
            frames = two_frames(soft_land(3.0), moved=SHIFT - aside)
            found = link(0, 1, *(features(f) for f in frames))
            if isinstance(found, Link):
                at = found.homography @ [400, 300, 1]
                np.testing.assert_allclose(at[:2] / at[2], [400 - SHIFT, 300], atol=2.5, err_msg=str(aside))

    def test_two_places_that_fit_as_well_are_no_link(self):
        with mock.patch.object(Found, "stays", lambda *_: True):
            found = link(0, 1, *(features(f) for f in two_frames(soft_land(3.0), moved=SHIFT - 7)))
        self.assertIsInstance(found, NoLink)
        self.assertIn("two places", found.reason)

    def test_nearly_is_elsewhere_and_as_alike(self):
        a, b = (features(f) for f in two_frames(soft_land(1.6), False))
        one = Found(self.on_thing, self.on_thing - [SHIFT, 0], np.ones(4, bool), np.array(
            [[1, 0, -SHIFT], [0, 1, 0], [0, 0, 1.0]]))
        near = Found(self.on_thing, self.on_thing - [SHIFT - 7, 0], np.ones(4, bool), np.array(
            [[1, 0, -SHIFT + 7], [0, 1, 0], [0, 0, 1.0]]))
        far = Found(self.on_thing, self.on_thing - [SHIFT - 60, 0], np.ones(4, bool), np.array(
            [[1, 0, -SHIFT + 60], [0, 1, 0], [0, 0, 1.0]]))
        self.assertTrue(one.nearly_matched_by(near, a, b))
        self.assertFalse(one.nearly_matched_by(far, a, b))
        self.assertFalse(one.nearly_matched_by(one, a, b))


class Contradiction(unittest.TestCase):
    def setUp(self):
        self.frame = Features(np.zeros((0, 2)), np.zeros((0, 32), np.uint8), 600, 800)
        x, y = np.meshgrid(np.linspace(320, 580, 8), np.linspace(40, 760, 8))
        land = np.stack([x, y], axis=-1).reshape(-1, 2)
        self.land = self.found(land, land - [300, 0])

    def found(self, a: np.ndarray, b: np.ndarray) -> Found:
        shift = np.eye(3)
        shift[:2, 2] = (b - a).mean(axis=0)
        return Found(a, b, np.ones(len(a), bool), shift)

    def spot(self, x: float, y: float, wide: float) -> np.ndarray:
        return np.array([x, y]) + np.random.default_rng(1).uniform(-0.5, 0.5, (30, 2)) * wide

    def test_a_thing_that_moved_amid_the_land_or_at_its_rim(self):
        for x, wide in ((450, 90), (450, 300), (600, 26)):
            with self.subTest(x):
                points = self.spot(x, 400, wide)
                thing = self.found(points, points - [285, 0])
                self.assertTrue(self.land.contradicts(thing, self.frame, self.frame))
                self.assertTrue(thing.contradicts(self.land, self.frame, self.frame))

    def test_the_same_place_a_little_off_does_not(self):
        points = self.spot(450, 400, 90)
        self.assertFalse(self.land.contradicts(self.found(points, points - [298, 0]), self.frame, self.frame))

    def test_the_rim_of_land_that_a_lens_bends_does_not(self):
        points = self.spot(450, 780, 60) + [0, 20]
        bent = points - [300, 0] + np.stack([(points[:, 1] - 750) * 0.3, points[:, 0] * 0], axis=-1)
        self.assertFalse(self.land.contradicts(self.found(points, bent), self.frame, self.frame))
