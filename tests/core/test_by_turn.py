"""Frames in which features find nothing, or just a thing that moved, placed by the light of their neighbours."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, project_of, write_picture
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
        for contrast in (1.0, 0.12):
            one, other = (128 + contrast * (p - 128.0) for p in plain)
            one[60:230, 300:470] = thing
            other[150:320, 30:200] = thing
            a, b = (bare(np.clip(p, 0, 255).astype(np.uint8)) for p in (one, other))
            self.assertTrue(lies_elsewhere(a, b, moved, spots), contrast)
            self.assertFalse(confirmed(a, b, moved, spots, lambda: None), contrast)
        self.assertFalse(lies_elsewhere(*map(bare, plain), true, spots))
        self.assertTrue(confirmed(*map(bare, plain), true, spots, lambda: None))


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
        frames = self.row()
        found = self.registered([*frames, seen(wall(2), TURNS[1])], focal_px=FOCAL)
        self.assertEqual(found.placed, [0, 1, 2], "the stranger at the end has no place")
        for n in (0, 2):
            between = found.frames[1].rotation.T @ found.frames[n].rotation
            self.assertLess(FOCAL * angle_between(between, TURNS[1].T @ TURNS[n]), 1.0)
        self.assertEqual([(k.a, k.b) for k in found.links], [(0, 1), (1, 2)])
        for k in found.links:
            # what moved has no say
            amid = np.all((k.points_a > (365, 195)) & (k.points_a < (455, 285)), axis=1)
            self.assertLess(amid.mean(), 0.05)

    def test_a_focal_length_that_nobody_knows_is_tried(self):
        found = self.registered(self.row())
        self.assertEqual(found.placed, [0, 1, 2])
        for k in found.links:
            self.assertLess(k.rms_px, 0.6)
            there = found.frames[k.b].posed.project(found.frames[k.a].posed.rays(k.points_a))
            true = np.linalg.inv(INNER) @ np.column_stack([k.points_a, np.ones(len(k.points_a))]).T
            true = INNER @ TURNS[k.b].T @ TURNS[k.a] @ true
            self.assertLess(np.median(np.linalg.norm(there - (true[:2] / true[2]).T, axis=1)), 1.0)


if __name__ == "__main__":
    unittest.main()
