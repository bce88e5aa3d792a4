"""Frames held by one spot alone are named."""

import unittest
from dataclasses import replace

import numpy as np

from windfell.align.doubt import doubtful_frames, doubts_in_words, spread_share
from windfell.align.pairs import NoLink
from windfell.align.panorama import why_unplaced
from windfell.align.registration import PairFit, PanoramaRegistration, Placed
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll


def row(spots: list[tuple[float, float, float]], by_hand: int = 0) -> PanoramaRegistration:
    """Frames in a row that overlap by some 40 %; between neighbours points around (x, y) of the first, so wide."""
    lens = Lens(600, 800, 700.0)
    frames = tuple(Placed(lens, from_yaw_pitch_roll(np.radians(27 * n), 0, 0), 0.1) for n in range(len(spots) + 1))
    links = []
    for n, (x, y, wide) in enumerate(spots):
        a, b = frames[n].posed, frames[n + 1].posed
        points = np.array([x, y]) + wide * (np.random.default_rng(n).uniform(-0.5, 0.5, (40, 2)) * [0.4, 1])
        links.append(PairFit(n, n + 1, points, b.project(a.rays(points)), 0.1, np.full(40, 0.1), by_hand))
    return PanoramaRegistration(frames, tuple(links), 0.1)


class Doubt(unittest.TestCase):
    def test_points_all_over_what_both_show_are_firm(self):
        found = row([(480, 400, 560)] * 3)
        self.assertGreater(spread_share(found, found.links[0]), 0.3)
        self.assertEqual(doubtful_frames(found), {})

    def test_the_frame_behind_one_spot_is_named_and_what_to_do(self):
        found = row([(480, 400, 560), (480, 400, 560), (480, 300, 150)])
        ((frame, (other, share)),) = doubtful_frames(found).items()
        self.assertEqual((frame, other), (3, 2))
        self.assertLess(share, 0.1)
        words = doubts_in_words(found, (1, 2, 5, 6))[3]
        self.assertIn("frame 5", words)
        self.assertIn("point", words)

    def test_why_a_frame_has_no_place_names_the_nearest_by_its_number(self):
        place = why_unplaced(1, [NoLink(*p, f"only {n} features look alike") for *p, n in ((0, 1, 3), (1, 2, 5))])
        self.assertEqual(place.words((1, 3, 6)),
                         "no overlap found; nearest is frame 6, where only 5 features look alike")

    def test_of_two_halves_the_smaller_is_doubted(self):
        found = row([(480, 300, 150), (480, 400, 560), (480, 400, 560)])
        self.assertEqual(list(doubtful_frames(found)), [0])

    def test_one_match_far_away_does_not_spread_a_spot(self):
        found = row([(480, 300, 150)])
        link = found.links[0]
        astray = replace(link, points_a=np.concatenate([link.points_a, [[420, 780]]]))
        self.assertAlmostEqual(spread_share(found, astray), spread_share(found, link), delta=0.02)

    def test_points_by_hand_settle_it(self):
        self.assertEqual(doubtful_frames(row([(480, 300, 150)], by_hand=1)), {})

    def test_another_firm_way_leaves_no_doubt(self):
        found = row([(480, 400, 560), (480, 300, 150)])
        around = replace(found.links[0], a=0, b=2)
        self.assertEqual(doubtful_frames(replace(found, links=(*found.links, around))), {})
