"""Patches laid on each other: frames burnt out at different light, views that bend within a patch, of two sizes."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import textured
from windfell.align.adjust import Observations, error_px
from windfell.align.cameras import cameras_of, carried
from windfell.align.patches import BURNT, burnt_alike, patch_offsets, patch_shifts, seen_around, steps_seen
from windfell.align.refine import refined
from windfell.align.view import GreyView
from windfell.engine.core import Engine
from windfell.engine.greys import CLOSE_SIDE, close_view, ever_closer, resized
from windfell.engine.sources import open_source
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.recipe.model import frame_from_path


def skyline(shift: tuple[float, float], exposure: float) -> np.ndarray:
    """Encoded light (500, 700) of dark land under a bright sky, seen through a soft lens; codes end at 255."""
    scene = 0.04 + 0.05 * textured(520, 720, 8)[..., 0].astype(np.float32) / 255
    x = np.arange(720)
    ridge = 250 + 40 * np.sin(x / 23) + 12 * np.sin(x / 5.1)
    scene[np.arange(520)[:, None] < ridge] = 0.6
    seen = cv2.GaussianBlur(scene, (0, 0), 1.1)
    onto = np.array([[1.0, 0, -10 + shift[0]], [0, 1, -10 + shift[1]]])
    seen = cv2.warpAffine(seen, onto, (700, 500), flags=cv2.INTER_LINEAR)
    return np.rint(255 * np.clip(exposure * seen, 0, 1) ** (1 / 2.2)).astype(np.float32)


class BurntOut(unittest.TestCase):
    def test_edges_stay_where_they_are_though_the_sky_burns_out_in_one_frame(self):
        shift = np.array([1.0, -2.0])
        dark, bright = (GreyView(skyline(*s), (700, 500)) for s in (((0, 0), 1.0), (tuple(shift), 6.0)))
        x = np.arange(60, 640, 8.0)
        at = np.stack([x, 240 + 40 * np.sin((x + 10) / 23) + 12 * np.sin((x + 10) / 5.1)], axis=-1)
        one, other = dark.at(at[:, None, None] + patch_offsets(8)), bright.at(at[:, None, None] + patch_offsets(15))
        off = {}
        for name, pair in (("as they are", (one, other)), ("alike", burnt_alike(one, other))):
            found = patch_shifts(*pair)
            sure = found.likeness > 0.75
            self.assertGreater(sure.mean(), 0.7)
            off[name] = np.abs(np.median((found.shift - shift)[sure], axis=0)).max()
        self.assertGreater(off["as they are"], 1.0)
        self.assertLess(off["alike"], 0.1)

    def test_the_order_of_the_frames_does_not_matter(self):
        one, other = np.full((3, 17, 17), 100.0, np.float32), np.full((3, 31, 31), 200.0, np.float32)
        one[:, 0], other[:, 8] = 140.0, 255.0
        a, b = burnt_alike(one, other)
        self.assertAlmostEqual(float(a.max()), BURNT / 2, places=3)
        self.assertEqual(float(b.max()), BURNT)
        a, b = burnt_alike(other[:, 7:-7, 7:-7], np.pad(one, ((0, 0), (7, 7), (7, 7)), constant_values=100))
        self.assertEqual(float(a.max()), BURNT)
        self.assertAlmostEqual(float(b.max()), BURNT / 2, places=3)

    def test_light_that_nowhere_burns_out_stays_as_it_is(self):
        rng = np.random.default_rng(1)
        one, other = (rng.uniform(10, 240, (4, k, k)).astype(np.float32) for k in (17, 31))
        other[0, 0, 0] = np.nan
        for given, answered in zip((one, other), burnt_alike(one, other), strict=True):
            assert_allclose(answered, given)

    def test_where_too_little_is_lit_alike_nothing_is_guessed(self):
        one, other = np.full((2, 17, 17), 20.0, np.float32), np.full((2, 31, 31), 255.0, np.float32)
        for given, answered in zip((one, other), burnt_alike(one, other), strict=True):
            assert_allclose(answered, given)


class Bent(unittest.TestCase):
    def setUp(self):
        self.cameras = cameras_of([(700, 500)] * 2, [0, 0], np.array([420.0])).turned(
            [np.eye(3), from_yaw_pitch_roll(0.5, 0.06, 0.1)])
        x, y = np.meshgrid(np.linspace(330, 660, 9), np.linspace(60, 440, 7))
        self.points = np.stack([x.ravel(), y.ravel()], axis=-1)

    def test_what_lies_around_a_point_is_foretold_to_the_second_order(self):
        a, b = np.zeros(len(self.points), int), np.ones(len(self.points), int)
        grids, bends = seen_around(lambda p: carried(self.cameras, a, b, p), self.points)
        steps = patch_offsets(8)
        at = carried(self.cameras, a, b, self.points)
        true = np.stack([carried(self.cameras, a, b, self.points + s) - at for s in steps.reshape(-1, 2)], axis=1)
        off = {bend: np.abs(seen.reshape(true.shape) - true).max() for bend, seen in (
            (False, steps_seen(grids, steps)), (True, steps_seen(grids, steps, bends)))}
        self.assertGreater(off[False], 0.1)
        self.assertLess(off[True], 0.01)

    def test_points_in_the_corner_of_a_wide_view_are_not_pulled_aside(self):
        wide = cv2.GaussianBlur(textured(500, 700, 5)[..., 0].astype(np.float32), (0, 0), 1.5)
        y, x = np.mgrid[0:500, 0:700].astype(float)
        zeros = np.zeros(x.size, int)
        seen_by = carried(self.cameras, zeros + 1, zeros, np.stack([x.ravel(), y.ravel()], -1)).reshape(500, 700, 2)
        second = cv2.remap(wide, *np.moveaxis(seen_by.astype(np.float32), -1, 0), cv2.INTER_LANCZOS4)
        there = carried(self.cameras, np.zeros(len(self.points), int), np.ones(len(self.points), int), self.points)
        inside = np.all((there > 30) & (there < [670, 470]), axis=1)
        views = [GreyView(wide, (700, 500)), GreyView(second, (700, 500))]
        fine = refined([Observations(0, 1, self.points[inside], there[inside])], self.cameras,
                       lambda n: views[n], Job())[0]
        self.assertGreater(len(fine.points_a), 0.7 * inside.sum())
        self.assertLess(np.median(error_px(self.cameras, fine)), 0.05)
        a, b = (np.full(len(fine.points_a), n) for n in (0, 1))
        drift = fine.points_b - carried(self.cameras, a, b, fine.points_a)
        self.assertLess(np.abs(np.median(drift, axis=0)).max(), 0.02)


class TwoSizes(unittest.TestCase):
    """Frames with a view at half their size and a closer one."""

    SIZE = (1400, 1000)

    def _errors(self, blur: float, noise: float) -> dict[str, float]:
        """Median errors, px of the whole size, by half views, by whole ones, and by both."""
        rng = np.random.default_rng(4)
        scene = 0.5 * textured(1000, 1400, 7)[..., 1] + 64 + rng.normal(0, 40, (1000, 1400))
        wide = cv2.GaussianBlur(scene.astype(np.float32), (0, 0), blur)
        lens, turns = Lens(*self.SIZE, 1800.0), [np.eye(3), from_yaw_pitch_roll(0.05, 0.02, 0.01)]
        y, x = np.mgrid[0:1000, 0:1400].astype(float)
        there = lens.project(lens.rays(np.stack([x, y], -1)) @ turns[1].T).astype(np.float32)
        second = cv2.remap(wide, there[..., 0], there[..., 1], cv2.INTER_LANCZOS4)
        pair = [np.clip(p + rng.normal(0, noise, p.shape), 0, 255).astype(np.float32) for p in (wide, second)]
        halves = [cv2.resize(p, (700, 500), interpolation=cv2.INTER_AREA) for p in pair]
        whole = [GreyView(p, self.SIZE) for p in pair]
        half = [GreyView(p, self.SIZE) for p in halves]
        both = [GreyView(p, self.SIZE, closer=whole[n]) for n, p in enumerate(halves)]
        cameras = cameras_of([self.SIZE] * 2, [0, 0], np.array([1800.0])).turned(turns)
        p = rng.uniform([160, 120], [1240, 880], (160, 2))
        q = carried(cameras, np.zeros(160, int), np.ones(160, int), p)
        inside = np.all((q > 80) & (q < [1320, 920]), axis=1)
        rough = Observations(0, 1, p[inside], q[inside] + rng.uniform(-2, 2, (inside.sum(), 2)))
        found = {name: refined([rough], cameras, lambda n, of=views: of[n], Job())[0]
                 for name, views in (("half", half), ("whole", whole), ("both", both))}
        self.assertGreater(len(found["both"].points_a), 0.6 * inside.sum())
        return {name: float(np.median(error_px(cameras, fine))) for name, fine in found.items()}

    def test_sharp_light_is_found_in_the_larger_picture(self):
        off = self._errors(1.0, 2.0)
        self.assertLess(off["both"], 1.15 * off["whole"])
        self.assertLess(off["both"], 0.8 * off["half"])

    def test_soft_and_noisy_light_is_found_in_the_smaller(self):
        off = self._errors(2.0, 2.0)
        self.assertLess(off["both"], 1.1 * off["half"])
        self.assertLess(off["both"], 0.8 * off["whole"])

    def test_each_frame_is_looked_at_as_closely_as_it_can_be(self):
        """One frame has three sizes, the other two: in the last look each is the largest it has."""
        asked = []

        class Told(GreyView):
            def at(self, points):
                asked.append((self.frame, self.scale))
                return super().at(points)

        def view(frame: int, times: int) -> Told:
            size = self.SIZE[0] >> times, self.SIZE[1] >> times
            grey = cv2.resize(textured(1000, 1400, 7)[..., 1].astype(np.float32), size)
            told = Told(grey, self.SIZE, closer=view(frame, times - 1) if times else None)
            told.frame = frame
            return told

        cameras = cameras_of([self.SIZE] * 2, [0, 0], np.array([1800.0]))
        p = np.random.default_rng(2).uniform([200, 200], [1200, 800], (40, 2))
        refined([Observations(0, 1, p, p)], cameras, lambda n: view(n, (2, 1)[n]), Job())
        # two are read at once, so either may come first
        self.assertEqual(sorted(asked[:2]), [(0, 0.25), (1, 0.5)])
        self.assertEqual(sorted(asked[2:]), [(0, 0.5), (0, 1.0), (1, 1.0), (1, 1.0)])

    def test_large_frames_have_closer_views_and_others_do_not(self):
        engine, job = Engine(), Job()
        with tempfile.TemporaryDirectory() as folder:
            for width, sizes in ((6001, (1500, 3000, 6001)), (5000, (2500, 5000)), (2700, (2700,))):
                path = Path(folder) / f"{width}.jpg"
                cv2.imwrite(str(path), textured(64, width, 3))
                frame = frame_from_path(str(path))
                opened = open_source(frame.source, engine.cache, None)
                views = [ever_closer(engine, opened, frame, job)]
                while views[-1].closer is not None:
                    views.append(views[-1].closer)
                with self.subTest(width=width):
                    assert_allclose([v.scale for v in views], np.array(sizes) / width)
                    seen = [v.at(np.array([[[1000.0, 32.0]]])).item() for v in views]
                    self.assertLess(np.ptp(seen), 30)
                    self.assertGreaterEqual(close_view(engine, opened, frame, job).scale * width, 2700)
                    farther = [views[0]]
                    while farther[-1].farther is not None:
                        farther.append(farther[-1].farther)
                    self.assertEqual([round(views[0].scale / v.scale) for v in farther], [1, 2, 4])
                    some = ever_closer(engine, opened, frame, job, CLOSE_SIDE)
                    closest = max(v.scale * width for v in (some, some.closer) if v is not None)
                    self.assertLess(closest, 2 * CLOSE_SIDE)
                    self.assertIsNone(some.closer and some.closer.closer)


class Resized(unittest.TestCase):
    def test_frames_of_odd_sides_stay_in_place_when_halved(self):
        for width, height in ((1067, 1600), (1068, 1601), (1066, 1600)):
            y, x = np.mgrid[0:height, 0:width]
            for axis, ramp in ((1, x), (0, y)):
                small = resized(ramp.astype(np.float32), (427, 640)).mean(axis=1 - axis)
                k = (427 / width, 640 / height)[1 - axis]
                true = (np.arange(len(small)) + 0.5) / k - 0.5
                with self.subTest(size=(width, height), axis=axis):
                    assert_allclose(small[1:-1], true[1:-1], atol=0.1)


if __name__ == "__main__":
    unittest.main()
