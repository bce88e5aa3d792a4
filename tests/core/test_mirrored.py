"""Reflections in water or a floor belong to what they mirror; what only looks alike does not."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, project_of, write_picture
from windfell.engine.stack_subjects import found_subjects
from windfell.job import Job
from windfell.pixels.colour import srgb_encoded
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import Kind
from windfell.subjects.differing import difference, noise_of, rooted
from windfell.subjects.mirrored import Mirrored, believed, mirrored_of, with_mirrored
from windfell.subjects.pieces import Piece, laid, pieces_of

SHAPE = 260, 200
ROW = 120


def person(light: np.ndarray, x: int, foot: int) -> np.ndarray:
    """Drawn in three colours, 70 px tall; where."""
    body = np.zeros(SHAPE, np.uint8)
    parts = (((-6, -70, 6, -56), (0.6, 0.4, 0.3)), ((-13, -56, 13, -26), (0.7, 0.05, 0.04)),
             ((-9, -26, 9, 0), (0.02, 0.03, 0.08)))
    for (left, top, right, bottom), colour in parts:
        at = np.s_[foot + top : foot + bottom, x + left : x + right]
        light[at], body[at] = colour, 1
    return body > 0


class Reflections(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(4)
        coarse = rng.uniform(0.2, 0.4, (9, 7, 3)).astype(np.float32)
        coarse = cv2.resize(coarse, SHAPE[::-1], interpolation=cv2.INTER_CUBIC)
        fine = cv2.GaussianBlur(rng.standard_normal(SHAPE).astype(np.float32), (0, 0), 1.0)
        self.land = coarse * (1 + 0.15 * fine / fine.std())[..., None]

    def scene(self, draw, share: float = 0.5, water_from: int | None = ROW) -> np.ndarray:
        """The light of what `draw` puts into the land, with water that gives back a share of it from a row on."""
        light = self.land.copy()
        draw(light)
        if water_from is not None:
            mirrored = light[2 * ROW - 1 - np.arange(water_from, 2 * ROW)]
            light[water_from : 2 * ROW] = share * cv2.GaussianBlur(mirrored, (0, 0), 1.0) + 0.03
        return light

    def found(self, draw, share: float = 0.5, water_from: int | None = ROW) -> list[Piece]:
        """Its pieces beside the same land where nothing stands."""
        plate, light = (self.scene(d, share, water_from) for d in (lambda light: None, draw))
        noise = noise_of([rooted(plate)] * 3, rooted(plate))
        off = difference(rooted(light), rooted(plate), noise, False)
        pieces = pieces_of(light, plate, off, noise)
        return with_mirrored(pieces, mirrored_of(pieces, light, plate, off))

    def held(self, pieces: list[Piece], body: np.ndarray, first: int = ROW) -> None:
        """One piece, whose body is that alone and whose shadow is its reflection, seen from a row on."""
        self.assertEqual(len(pieces), 1)
        one = pieces[0]
        matte, cast = (laid([(one.box, m)], SHAPE) > 127 for m in (one.matte, one.shadow))
        self.assertGreater((matte & body).sum() / (matte | body).sum(), 0.9)
        rows = np.arange(first, 2 * ROW)
        mirrored = np.zeros(SHAPE, bool)
        mirrored[rows] = body[2 * ROW - 1 - rows]
        self.assertGreater((cast & mirrored).sum() / mirrored.sum(), 0.9)
        self.assertLess((cast & ~mirrored).sum(), 0.4 * mirrored.sum())
        self.assertEqual(cast[:ROW - 2].sum(), 0)

    def test_who_stands_at_the_water_is_parted_from_the_reflection(self):
        body = person(np.zeros((*SHAPE, 3), np.float32), 100, ROW)
        for share in (0.25, 0.5, 0.7):
            with self.subTest(share):
                self.held(self.found(lambda light: person(light, 100, ROW), share), body)

    def test_behind_a_bank_the_reflection_begins_lower_and_is_joined_all_the_same(self):
        body = person(np.zeros((*SHAPE, 3), np.float32), 100, ROW - 4)
        pieces = self.found(lambda light: person(light, 100, ROW - 4), water_from=ROW + 12)
        self.held(pieces, body, ROW + 12)

    def test_two_who_stand_above_each_other_stay_two(self):
        def both(light):
            person(light, 100, ROW - 10)
            person(light, 100, 200)

        self.assertEqual(len(self.found(both, water_from=None)), 2)

    def test_what_is_alike_above_and_below_is_no_reflection_of_itself(self):
        def ball(light):
            cv2.circle(light, (100, ROW), 30, (0.7, 0.05, 0.04), -1)

        def barred(light):  # bright above, as bright below: a flag, not a mirror
            light[ROW - 40 : ROW + 40, 80:120] = (0.7, 0.05, 0.04)
            light[ROW - 14 : ROW + 14, 80:120] = (0.02, 0.03, 0.3)

        def trousers(light):  # darker above than below, each of one colour: nothing says which way up
            for top, share in ((ROW - 40, 1.0), (ROW, 0.6)):
                at = np.s_[top : top + 40, 80:120]
                light[at] += share * (np.array((0.02, 0.03, 0.36), np.float32) - light[at])

        def upright(light):  # dark over darker, and again, fainter, the same way up
            for top, share in ((ROW - 40, 1.0), (ROW, 0.6)):
                for below, colour in ((0, (0.1, 0.16, 0.4)), (20, (0.02, 0.03, 0.36))):
                    at = np.s_[top + below : top + below + 20, 80:120]
                    light[at] += share * (np.array(colour, np.float32) - light[at])

        for draw in (ball, barred, trousers, upright):
            pieces = self.found(draw, water_from=None)
            with self.subTest(draw.__name__):
                self.assertEqual(len(pieces), 1)
                body = laid([(p.box, p.matte) for p in pieces], SHAPE) > 127
                self.assertGreater(body[ROW : ROW + 20, 95:105].mean(), 0.95)

    def test_a_kite_over_the_water_takes_its_reflection_along(self):
        def kite(light):
            cv2.fillConvexPoly(light, np.array([(100, 40), (118, 66), (100, 84), (88, 66)]), (0.8, 0.5, 0.05))

        body = np.zeros(SHAPE, np.uint8)
        cv2.fillConvexPoly(body, np.array([(100, 40), (118, 66), (100, 84), (88, 66)]), 1)
        self.held(self.found(kite), body > 0)

    def test_in_a_series_each_is_one_mover_whose_shadow_is_its_reflection(self):
        rng, places = np.random.default_rng(2), (30, 65, 100, 135, 170)
        with tempfile.TemporaryDirectory() as folder:
            files = []
            for n, x in enumerate(places):
                light = self.scene(lambda light, x=x: person(light, x, ROW))
                light = light + 0.003 * rng.standard_normal(light.shape)
                pixels = np.rint(255 * srgb_encoded(np.clip(light, 0, 1))).astype(np.uint8)
                files.append(write_picture(Path(folder) / f"f{n}.png", pixels))
            project, set_id = project_of(files, Kind.STACK, combining=Combining(Rule.MEDIAN))
            found = found_subjects(engine().stages(project, set_id), Job())
        self.assertEqual([m.frame for m in found.movers], list(range(5)))
        self.assertEqual(len({m.track for m in found.movers}), 1)
        for m in found.movers:
            self.held([m.piece], person(np.zeros((*SHAPE, 3), np.float32), places[m.frame], ROW))

    def test_what_looks_mirrored_just_once_is_not_believed(self):
        whole = np.full((4, 4), 255, np.uint8)
        one = Mirrored(Piece((0, 0, 4, 4), whole, 0 * whole, 9.0, (0.2, 0.2, 0.2)), ())
        tracks = [[0, 1], [0, 1], [0, 1], [0]]
        self.assertEqual(believed(tracks, [{0: one}, {}, {}, {}]), [{}, {}, {}, {}])
        self.assertEqual(believed(tracks, [{0: one}, {0: one}, {1: one}, {}]), [{0: one}, {0: one}, {}, {}])
        # all of two frames' things: there is a mirror
        self.assertEqual(believed([[0], [1]], [{0: one}, {0: one}]), [{0: one}, {0: one}])


if __name__ == "__main__":
    unittest.main()
