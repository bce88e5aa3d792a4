"""A link made by a thing that moved: other explanations compete, and the light of all they claim decides."""

import unittest
from dataclasses import replace

import cv2
import numpy as np

from tests.support import textured
from windfell.align.features import Features, look_of, quick_features
from windfell.align.glance import glance_at
from windfell.align.matching import matches
from windfell.align.pairs import Link, NoLink, _explanations, find_links, link
from windfell.align.same_light import same_light
from windfell.job import Job

WIDE, HIGH, SHIFT, MOVED = 500, 600, 300, 210


def thing(side: int = 130) -> np.ndarray:
    rng = np.random.default_rng(3)
    return cv2.resize(rng.integers(0, 255, (11, 11), np.uint8), (side, side), interpolation=cv2.INTER_NEAREST)


def two_frames(land: np.ndarray, with_thing: bool = True) -> tuple[np.ndarray, np.ndarray]:
    """Grey frames of a land, the second SHIFT px on; a checked thing in both moves by MOVED px instead."""
    a, b = land[:HIGH, :WIDE].copy(), land[:HIGH, SHIFT : SHIFT + WIDE].copy()
    if with_thing:
        check = thing()
        a[250:380, 340:470] = check
        b[270:400, 340 - MOVED : 470 - MOVED] = check
    return a, b


def soft_land(sigma: float, seed: int = 8) -> np.ndarray:
    whole = cv2.cvtColor(textured(HIGH, WIDE + SHIFT, seed), cv2.COLOR_RGB2GRAY)
    return cv2.GaussianBlur(whole, (0, 0), sigma)


def features(grey: np.ndarray) -> Features:
    return quick_features(grey, WIDE, HIGH)


class Moved(unittest.TestCase):
    def test_the_land_wins_over_a_thing_with_more_features(self):
        a, b = (features(f) for f in two_frames(soft_land(1.6)))
        found = link(0, 1, a, b)
        self.assertIsInstance(found, Link)
        at = found.homography @ [250, 300, 1]
        np.testing.assert_allclose(at[:2] / at[2], [250 - SHIFT, 300], atol=3)

    def test_what_the_first_explanation_leaves_is_looked_at_too(self):
        a, b = (features(f) for f in two_frames(soft_land(2.4)))
        pairs = matches(a, b)
        found, _ = _explanations(a.points[pairs[:, 0]], b.points[pairs[:, 1]], a, b)
        moved = [h @ [400, 320, 1] for h, _ in found]
        across = [400 - m[0] / m[2] for m in moved]
        self.assertEqual(sorted(round(v, -1) for v in across[:2]), [MOVED, SHIFT])
        self.assertFalse((found[0][1] & found[1][1]).any())

    def test_a_glance_at_the_thing_alone_is_not_firm(self):
        a, b = (features(f) for f in two_frames(soft_land(4.0)))
        self.assertFalse(glance_at(a, b).firm)
        still = [features(f) for f in two_frames(soft_land(1.0), with_thing=False)]
        self.assertTrue(glance_at(*still).firm)

    def test_a_thing_alone_before_other_light_is_no_link(self):
        one = two_frames(soft_land(4.0))[0]
        other = two_frames(soft_land(4.0, 9))[1]
        found = link(0, 1, features(one), features(other))
        self.assertIsInstance(found, NoLink)
        links, refused = find_links([features(one), features(other)], Job())
        self.assertEqual(links, [])
        self.assertTrue(refused)


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
