"""Frames are matched once, whatever others join or leave them."""

import unittest
from dataclasses import replace
from unittest import mock

import cv2
import numpy as np
from numpy.testing import assert_array_equal

from tests.support import nothing_known, textured
from windfell.align import glance
from windfell.align.features import Features, quick_features
from windfell.align.pairs import Link, NoLink, find_links, link
from windfell.job import Job

SIDE, HIGH = 420, 360


def frames_at(*lefts: int) -> list[Features]:
    """Features of pieces of a long picture, found anew."""
    land = cv2.GaussianBlur(textured(HIGH, 1600, 5)[..., 0], (0, 0), 1.2)
    return [quick_features(np.ascontiguousarray(land[:, x : x + SIDE]), SIDE, HIGH, most=700) for x in lefts]


class Matched(unittest.TestCase):
    def setUp(self):
        nothing_known(self)

    def test_frames_that_stay_are_not_matched_again_when_one_leaves(self):
        row = frames_at(0, 260, 520)
        first, _ = find_links(row, Job())
        self.assertEqual({(k.a, k.b) for k in first}, {(0, 1), (1, 2)})
        with mock.patch("windfell.align.pairs._found", side_effect=AssertionError("matched again")), \
                mock.patch("windfell.align.glance._glance", side_effect=AssertionError("glanced at again")):
            (held,), refused = find_links(frames_at(260, 520), Job())
        self.assertEqual((held.a, held.b, refused), (0, 1, []))
        before = next(k for k in first if k.a == 1)
        assert_array_equal(held.points_b, before.points_b)
        self.assertEqual((before.a, before.b), (1, 2), "what was found before keeps its numbers")

    def test_numbers_are_those_asked_for_also_of_what_may_be(self):
        maybe = Link(0, 1, np.zeros((9, 2)), np.zeros((9, 2)), np.ones(9, bool), np.eye(3))
        a, b = frames_at(0, 900)
        with mock.patch("windfell.align.pairs._found", return_value=NoLink(0, 1, "one thing", perhaps=maybe)):
            link(0, 1, a, b)
            again = link(4, 7, a, b)
        self.assertEqual((again.a, again.b, again.perhaps.a, again.perhaps.b), (4, 7, 4, 7))

    def test_whatever_differs_is_looked_at_anew(self):
        a, b = frames_at(0, 260)
        glanced = glance.Glance(30, np.eye(3), True)
        with mock.patch("windfell.align.pairs._found", return_value=NoLink(0, 1, "")) as looked:
            link(0, 1, a, b)
            others = [replace(b, points=b.points + 1), replace(b, descriptors=b.descriptors[::-1]),
                      replace(b, width=421), replace(b, spots=b.spots[:-1]), replace(b, look=255 - b.look),
                      replace(b, look=None), replace(b, problem="gone")]
            for other in others:
                link(0, 1, a, other)
            link(0, 1, a, b, glanced)
            link(0, 1, a, b, replace(glanced, homography=2 * np.eye(3)))
            self.assertEqual(looked.call_count, 3 + len(others))
            link(0, 1, a, b, replace(glanced, firm=False))
            self.assertEqual(looked.call_count, 3 + len(others), "a glance that is not firm says no place")
