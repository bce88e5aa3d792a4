"""What one spot alone says is believed where a loop of links closes."""

import unittest

import numpy as np

from windfell.align.features import Features
from windfell.align.loops import with_closed_loops
from windfell.align.pairs import Link, NoLink


def shift(x: float, y: float = 0.0) -> np.ndarray:
    return np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]])


def linked(a: int, b: int, h: np.ndarray) -> Link:
    points = np.random.default_rng(a + 10 * b).uniform(300, 340, (12, 2))
    return Link(a, b, points, points + h[:2, 2], np.ones(12, bool), h)


def perhaps(k: Link) -> NoLink:
    return NoLink(k.a, k.b, "one thing", perhaps=k)


class Loops(unittest.TestCase):
    def setUp(self):
        self.features = [Features(np.zeros((0, 2)), np.zeros((0, 32), np.uint8), 800, 600) for _ in range(4)]

    def held(self, links, refused) -> set[tuple[int, int]]:
        found, left = with_closed_loops(links, refused, self.features)
        self.assertEqual(len(found) + len(left), len(links) + len(refused))
        return {(k.a, k.b) for k in found} - {(k.a, k.b) for k in links}

    def test_two_that_agree_by_way_of_a_firm_link_hold(self):
        firm = [linked(0, 1, shift(-200))]
        both = [perhaps(linked(0, 2, shift(-100, 250))), perhaps(linked(1, 2, shift(100, 250)))]
        self.assertEqual(self.held(firm, both), {(0, 2), (1, 2)})

    def test_one_that_moved_meanwhile_does_not(self):
        firm = [linked(0, 1, shift(-200))]
        both = [perhaps(linked(0, 2, shift(-100, 250))), perhaps(linked(1, 2, shift(130, 250)))]
        self.assertEqual(self.held(firm, both), set())

    def test_without_a_loop_or_a_firm_side_nothing_holds(self):
        alone = [perhaps(linked(1, 2, shift(-200)))]
        self.assertEqual(self.held([linked(0, 1, shift(-200))], alone), set())
        ways = ((0, 1, -200), (1, 2, -200), (0, 2, -400))
        three = [perhaps(linked(a, b, shift(x))) for a, b, x in ways]
        self.assertEqual(self.held([], three), set())

    def test_what_was_refused_for_other_reasons_stays_refused(self):
        firm = [linked(0, 1, shift(-200)), linked(1, 2, shift(100, 250))]
        self.assertEqual(self.held(firm, [NoLink(0, 2, "only 5 features")]), set())
        self.assertEqual(self.held(firm, [perhaps(linked(0, 2, shift(-100, 250)))]), {(0, 2)})
