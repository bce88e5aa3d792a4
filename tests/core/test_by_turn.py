"""Frames in which features find nothing, or just a thing that moved, placed by the light of their neighbours."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

from tests.support import engine, project_of, write_picture
from windfell.align.adjust import Observations
from windfell.align.by_light import looked_for_beside
from windfell.align.by_turn import _confirmed, _turned
from windfell.align.cameras import cameras_of, carried
from windfell.align.features import Features, look_of
from windfell.align.one_spot import confirmed, lies_elsewhere
from windfell.align.turned import turned_by_light
from windfell.geometry.rotation import angle_between, from_rotvec
from windfell.job import Job
from windfell.recipe.model import Registration

WIDTH, HEIGHT, FOCAL = 480, 360, 520.0
INNER = np.array([[FOCAL, 0, (WIDTH - 1) / 2], [0, FOCAL, (HEIGHT - 1) / 2], [0, 0, 1]])


def wall(seed: int) -> np.ndarray:
    """Smooth blobs on a plane 3 by 2 ahead of the camera, 400 px to a unit, uint8 (800, 1200)."""
    rng = np.random.default_rng(seed)
    out = sum(k * cv2.GaussianBlur(rng.standard_normal((800, 1200)), (0, 0), k) for k in (9, 18, 40))
    return np.clip(128 + 40 * out / out.std(), 0, 255).astype(np.uint8)


def seen(picture: np.ndarray, rotation: np.ndarray) -> np.ndarray:
    """What a turned camera sees of it."""
    onto = np.array([[400, 0, 599.5], [0, 400, 399.5], [0, 0, 1]]) @ rotation @ np.linalg.inv(INNER)
    return cv2.warpPerspective(picture, onto, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)


def bare(grey: np.ndarray) -> Features:
    return Features(np.zeros((0, 2)), np.zeros((0, 32), np.uint8), WIDTH, HEIGHT, look=look_of(grey))


TURNS = [from_rotvec(np.radians(v)) for v in ([0.5, -26, 0.3], [-0.6, 0, 0], [1.2, 25, -1.0])]


def pattern(seed: int) -> np.ndarray:
    cells = np.random.default_rng(seed).integers(0, 256, (8, 8), np.uint8)
    return cv2.resize(cells, (80, 80), interpolation=cv2.INTER_NEAREST)


class Turned(unittest.TestCase):
    def test_the_turn_of_smooth_land_is_found_and_another_land_is_not_it(self):
        land = wall(1)
        one, other = (seen(land, t) for t in TURNS[:2])

        def turned(picture):
            return turned_by_light(bare(one), bare(picture), FOCAL, FOCAL, *[np.zeros((0, 2))] * 2)

        found = turned(other)
        # rays of the first to those of the second
        off = FOCAL * angle_between(found.rotation, TURNS[1].T @ TURNS[0])
        self.assertLess(off, 3)
        self.assertGreater(found.alike, 0.9)
        down = from_rotvec(np.radians([-9, -16, 0.5]))
        found = turned(seen(land, down))
        self.assertLess(FOCAL * angle_between(found.rotation, down.T @ TURNS[0]), 3)
        self.assertIsNone(turned(seen(wall(2), TURNS[1])))
        self.assertIsNone(turned(other[:, ::-1]))


class SomethingLarge(unittest.TestCase):
    def test_what_a_large_thing_says_is_held_against_the_land(self):
        """It fills a third of the frame, and moved down between the two."""
        thing = cv2.resize(pattern(7), (170, 170), interpolation=cv2.INTER_NEAREST)
        spots = np.stack(np.meshgrid(np.arange(300.0, 470, 12), np.arange(60.0, 230, 12)), -1).reshape(-1, 2)
        land = wall(1)
        plain = [seen(land, t) for t in TURNS[:2]]
        true = INNER @ TURNS[1].T @ TURNS[0] @ np.linalg.inv(INNER)
        moved = np.array([[1, 0, -270], [0, 1, 90], [0, 0, 1.0]])
        for contrast in (1.0, 0.04):
            one, other = (128 + contrast * (p - 128.0) for p in plain)
            one[60:230, 300:470] = thing
            other[150:320, 30:200] = thing
            a, b = (bare(np.clip(p, 0, 255).astype(np.uint8)) for p in (one, other))
            self.assertTrue(lies_elsewhere(a, b, moved, spots), contrast)
            self.assertFalse(confirmed(a, b, moved, spots, lambda: None), contrast)
        self.assertFalse(lies_elsewhere(*map(bare, plain), true, spots))
        self.assertTrue(confirmed(*map(bare, plain), true, spots, lambda: None))
        # where the land says little, it must fit clearly better elsewhere
        spots = spots[(spots[:, 0] > 400) & (spots[:, 1] < 130)]
        with mock.patch("windfell.align.one_spot.likeness_apart", return_value=0.3):
            self.assertTrue(lies_elsewhere(*map(bare, plain), moved, spots))
            self.assertFalse(lies_elsewhere(*map(bare, plain), true, spots))


class UpClose(unittest.TestCase):
    def setUp(self):
        cameras = cameras_of([(WIDTH, HEIGHT)] * 2, [0, 0], np.array([FOCAL]))
        self.cameras = cameras.turned(np.stack([TURNS[0], TURNS[1]]))
        y, x = np.mgrid[20:340:16, 280:460:12]
        self.points = np.stack([x, y], -1).reshape(-1, 2).astype(float)
        self.there = carried(self.cameras, *(np.full(len(self.points), n) for n in (0, 1)), self.points)

    def confirmed(self, points, there):
        tried, found = Observations(0, 1, self.points, self.there), Observations(0, 1, points, there)
        with mock.patch("windfell.align.by_turn.looked_for_beside", return_value=(tried, found)):
            return _confirmed(self.cameras, (0, 1), np.zeros((0, 2)), [], lambda n: None, Job())

    def test_points_must_be_many_all_over_and_of_a_turn(self):
        self.assertEqual(len(self.confirmed(self.points, self.there).points_a), len(self.points))
        self.assertIsNone(self.confirmed(self.points[:12], self.there[:12]), "few")
        spot = np.all(np.abs(self.points - [360, 180]) < 60, axis=1)
        self.assertGreater(spot.sum(), 40)
        self.assertIsNone(self.confirmed(self.points[spot], self.there[spot]), "one spot of them")
        larger = self.there.mean(axis=0) + 1.1 * (self.there - self.there.mean(axis=0))
        self.assertIsNone(self.confirmed(self.points, larger), "no turn does that")
        wild = self.there + np.random.default_rng(2).normal(0, 12, self.there.shape)
        self.assertIsNone(self.confirmed(self.points, wild), "no geometry at all")

    def test_nothing_is_looked_for_on_what_moved(self):
        moved = self.points[np.all(np.abs(self.points - [360, 180]) < 60, axis=1)]
        f = replace(bare(np.zeros((HEIGHT, WIDTH), np.uint8)), points=self.points)
        with mock.patch("windfell.align.by_light.refined", lambda some, *_: some):
            for thing, on_it in ((moved, 0), (np.zeros((0, 2)), 20)):
                tried, _ = looked_for_beside(self.cameras, (0, 1), [f, f], thing, lambda n: None, Job())
                amid = np.all(np.abs(tried.points_a - [360, 180]) < 55, axis=1)
                self.assertEqual(amid.sum() >= 20, on_it >= 20)
                self.assertGreater(len(tried.points_a), 40)


class Rows(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def registered(self, frames, **registration):
        noise = np.random.default_rng(3)
        paths = []
        for n, grey in enumerate(frames):
            noisy = np.clip(grey + noise.normal(0, 1.5, grey.shape), 0, 255).astype(np.uint8)
            paths.append(write_picture(self.folder / f"f{n + 1}.png", np.stack([noisy] * 3, -1)))
        project, set_id = project_of(paths, registration=Registration(**registration))
        return engine().stages(project, set_id).registration(Job())

    def row(self) -> list[np.ndarray]:
        """Smooth land; in each overlap a patterned thing that moved up between the frames."""
        frames = [seen(wall(1), t) for t in TURNS]
        for n in (0, 1):
            frames[n][200:280, 370:450] = pattern(n)
            frames[n + 1][120:200, 60:140] = pattern(n)
        return frames

    def test_smooth_frames_are_placed_though_just_what_moved_has_features(self):
        def first_last(cameras, pair, features):
            found = _turned(cameras, pair, features)
            return found and replace(found, alike=found.alike - (pair == (0, 1)))

        frames = self.row()
        with mock.patch("windfell.align.by_turn._turned", first_last):
            found = self.registered([*frames, seen(wall(2), TURNS[1])], focal_px=FOCAL)
        self.assertEqual(found.placed, [0, 1, 2], "the stranger at the end has no place")
        for n in (0, 2):
            between = found.frames[1].rotation.T @ found.frames[n].rotation
            self.assertLess(FOCAL * angle_between(between, TURNS[1].T @ TURNS[n]), 1.0)
        self.assertEqual(sorted((k.a, k.b) for k in found.links), [(0, 1), (1, 2)])
        for k in found.links:
            # what moved has no say
            amid = np.all((k.points_a > (365, 195)) & (k.points_a < (455, 285)), axis=1)
            self.assertLess(amid.mean(), 0.05)

    def test_frames_in_no_order_are_held_against_all_others_if_they_are_few(self):
        one, middle, last = self.row()
        mixed = [one, last, seen(wall(2), TURNS[1]), middle]
        self.assertEqual(self.registered(mixed, focal_px=FOCAL).placed, [0, 1, 3])
        with mock.patch("windfell.align.by_turn.MOST_PAIRS", 2):
            found = self.registered([one, seen(wall(2), TURNS[1]), middle, last], focal_px=FOCAL)
        self.assertEqual(found.placed, [2, 3])

    def test_a_focal_length_that_nobody_knows_is_tried(self):
        found, turns = self.registered(self.row()[::-1]), TURNS[::-1]
        self.assertEqual(found.placed, [0, 1, 2])
        for k in found.links:
            self.assertLess(k.rms_px, 0.6)
            there = found.frames[k.b].posed.project(found.frames[k.a].posed.rays(k.points_a))
            true = np.linalg.inv(INNER) @ np.column_stack([k.points_a, np.ones(len(k.points_a))]).T
            true = INNER @ turns[k.b].T @ turns[k.a] @ true
            self.assertLess(np.median(np.linalg.norm(there - (true[:2] / true[2]).T, axis=1)), 1.0)


if __name__ == "__main__":
    unittest.main()
