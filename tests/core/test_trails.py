"""Lights that move: fading, every n-th frame, only what brightens, even fields; frames that spoil a series."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, project_of, write_picture
from windfell.cli.main import main
from windfell.combine.beyond import BeyondNoise
from windfell.combine.calibrated import Plane, even_plane
from windfell.combine.rules import RULES
from windfell.combine.spoiling import noise_weights, spoiled
from windfell.engine.stack_core import next_gain_db, spoiling
from windfell.job import Job
from windfell.recipe.combining import Combining, Floor, Rule
from windfell.recipe.model import Kind

COUNT = 9


class Trails(unittest.TestCase):
    """Nine dark frames; in each a lamp stands 20 px farther right."""

    @classmethod
    def setUpClass(cls):
        cls.home = tempfile.TemporaryDirectory()
        cls.folder, cls.engine, cls.paths = Path(cls.home.name), engine(), []
        for n in range(COUNT):
            pixels = np.full((60, 200, 3), 30, np.uint8)
            pixels[20:40, 10 + 20 * n : 20 + 20 * n] = 180
            cls.paths.append(write_picture(cls.folder / f"lamp-{n}.png", pixels))

    @classmethod
    def tearDownClass(cls):
        cls.home.cleanup()

    def lamps(self, **parts) -> np.ndarray:
        project, set_id = project_of(self.paths, Kind.STACK, combining=Combining(Rule.MAXIMUM, **parts))
        light = self.engine.picture(project, set_id, 1.0, Job()).light[30, :, 1]
        return np.array([light[15 + 20 * n] for n in range(COUNT)])

    def test_they_fade_in_and_out_along_the_series(self):
        plain = self.lamps()
        into = self.lamps(fade_in_pct=50.0)
        self.assertTrue((np.diff(into[:5]) > 0).all())
        np.testing.assert_allclose(into[5:], plain[5:], rtol=1e-4)
        out = self.lamps(fade_out_pct=50.0)
        np.testing.assert_allclose(out, into[::-1], rtol=1e-3)
        self.assertLess(into[0], 0.4 * plain[0])

    def test_every_second_frame_alone_and_the_reference(self):
        shown = self.lamps(every=2) > 0.2
        self.assertEqual(shown.tolist(), [n % 2 == 0 for n in range(COUNT)])
        median = project_of(self.paths, Kind.STACK, combining=Combining(Rule.MEDIAN, every=2))
        self.assertEqual(len(self.engine.stages(*median)._order(
            self.engine.stages(*median).registration(Job()).frames)), COUNT, "only where light is gathered")

    def test_the_command_line_says_the_same(self):
        out = self.folder / "trail.png"
        words = ["stack", *self.paths, "--out", str(out), "--rule", "maximum", "--depth", "8"]
        self.assertEqual(main([*words, "--fade", "50,0%", "--every", "2", "--beyond-noise"]), 0)
        row = cv2.imread(str(out))[30, :, 1]
        self.assertLess(int(row[15]), int(row[15 + 160]))
        self.assertLess(int(row[35]), 60)
        for wrong in ("50", "1,2,3", "a,b", "0,200"):
            self.assertEqual(main([*words, "--fade", wrong]), 2)


class BeyondTheNoise(unittest.TestCase):
    def test_a_bright_sky_is_not_lifted_but_a_light_is_shown(self):
        rng = np.random.default_rng(1)
        truth = np.full((60, 90, 3), 0.3, np.float32)
        planes = [truth + rng.normal(0, 0.01, truth.shape).astype(np.float32) for _ in range(20)]
        planes[7][20:30, 40:50] += 0.3
        plain = RULES["maximum"].combined([p.copy() for p in planes])
        found = BeyondNoise(RULES["maximum"], 3.0).combined(planes)
        self.assertGreater(plain[:15].mean(), 0.315)
        self.assertLess(found[:15].mean(), 0.304)
        np.testing.assert_allclose(found[22:28, 42:48], plain[22:28, 42:48], rtol=0.02)
        self.assertLess(np.abs(found[14:18, 34:56] - 0.3).mean(), 0.006, "beside a light the sky stays as it is")

    def test_a_wide_glow_passes_over_without_speckles(self):
        rng = np.random.default_rng(2)
        planes = [np.full((80, 300, 3), 0.3, np.float32) + rng.normal(0, 0.01, (80, 300, 3)).astype(np.float32)
                  for _ in range(12)]
        planes[5] += np.linspace(0, 0.12, 300, dtype=np.float32)[None, :, None]
        planes[7][40:42, 20:280] += 0.2
        found = BeyondNoise(RULES["maximum"], 3.0).combined(planes)[..., 1]
        rough = np.std(found[:30] - cv2.GaussianBlur(found, (0, 0), 3)[:30], axis=0)
        plain = RULES["maximum"].combined([p.copy() for p in planes])[..., 1]
        usual = np.std(plain[:30] - cv2.GaussianBlur(plain, (0, 0), 3)[:30], axis=0)
        self.assertLess((rough - usual)[20:280].max(), 0.002)
        self.assertGreater(found[40:42, 20:280].min(), 0.45)
        np.testing.assert_allclose(found[:30, 250:290], plain[:30, 250:290], atol=1e-5)


class EvenFields(unittest.TestCase):
    def test_a_cast_that_slopes_goes_and_the_level_stays(self):
        even = even_plane(Plane(((0.10, 0.02, 0.0), (0.07, 0.0, 0.01), (0.13, 0.0, 0.0))))
        self.assertAlmostEqual(sum(v[0] for v in even.values), 0.0)
        self.assertEqual([v[1:] for v in even.values], [(0.02, 0.0), (0.0, 0.01), (0.0, 0.0)])

    def test_a_stack_s_empty_field_becomes_neutral(self):
        with tempfile.TemporaryDirectory() as folder:
            slope = np.linspace(0, 14, 200)[None, :, None]
            pixels = np.clip(np.array([60, 40, 50]) + slope + np.zeros((120, 1, 1)), 0, 255).astype(np.uint8)
            paths = [write_picture(Path(folder) / f"sky-{n}.png", pixels) for n in range(3)]
            project, set_id = project_of(paths, Kind.STACK, combining=Combining(Rule.MEAN, floor=Floor.EVEN))
            light = engine().picture(project, set_id, 1.0, Job()).light
        self.assertLess(np.ptp(light.mean(axis=(0, 1))), 0.002)
        self.assertLess(np.ptp(light.mean(axis=(0, 2))), 0.006)
        self.assertGreater(light.mean(), 0.02)


class Spoiling(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        truth = cv2.GaussianBlur(rng.uniform(0, 0.6, (120, 160, 3)).astype(np.float32), (0, 0), 1.2)
        self.lights = [truth + rng.normal(0, 0.002, truth.shape).astype(np.float32) for _ in range(9)]

    def why(self, moved=None) -> list[str]:
        return [v.why for v in spoiled(self.lights, moved or [0.0] * 9)]

    def test_a_calm_series_has_nothing_wrong(self):
        self.assertEqual(self.why(), [""] * 9)

    def test_each_fault_is_named_where_it_is(self):
        self.lights[1] = self.lights[1] * np.float32(1.5)
        self.lights[3][20:60, 30:90] += 0.5
        self.lights[5] = cv2.GaussianBlur(self.lights[5], (0, 0), 2.5)
        plane = cv2.line(np.zeros((120, 160, 3), np.float32), (10, 20), (120, 70), (0.4,) * 3, 2)
        self.lights[8] = self.lights[8] + plane
        self.lights[6][50:80, 60:90] += 0.1  # as long as a streak, but wide
        found = self.why([0.1] * 7 + [9.0, 0.2])
        self.assertIn("+0.6 EV", found[1])
        self.assertIn("stray light", found[3])
        self.assertIn("softer", found[5])
        self.assertIn("bumped by 9 px", found[7])
        self.assertIn("a streak of light", found[8])
        self.assertEqual([n for n, w in enumerate(found) if w], [1, 3, 5, 7, 8])
        brighter = spoiled(self.lights, [0.0] * 9)[1]
        self.assertLess(brighter.bright, 0.03, "light that changed as a whole is no stray light")

    def test_the_less_noise_a_frame_has_the_more_it_counts(self):
        rng = np.random.default_rng(8)
        for n, times in ((2, 2.0), (5, 4.0)):
            more = rng.normal(0, 0.002 * np.sqrt(times**2 - 1), self.lights[n].shape)
            self.lights[n] = self.lights[n] + more.astype(np.float32)
        self.lights[7] = self.lights[7].copy()
        self.lights[7][20:70, 40:90] += 0.3  # what passes by is no noise
        weights = noise_weights(self.lights)
        wanted = [{2: 1 / 4, 5: 1 / 16}.get(n, 1.0) for n in range(9)]
        np.testing.assert_allclose(weights, wanted, rtol=0.2)
        mean = lambda w: np.average(self.lights[:7], axis=0, weights=w[:7])  # noqa: E731
        clean = np.mean([x for n, x in enumerate(self.lights) if n in (0, 1, 3, 4, 6)], axis=0)
        self.assertLess(np.std(mean(weights) - clean), 0.6 * np.std(mean([1.0] * 9) - clean))
        self.assertEqual(noise_weights(self.lights[:2]), [1.0, 1.0])

    def test_the_engine_judges_the_frames_of_a_set(self):
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for n, light in enumerate(self.lights):
                level = 255 * np.sqrt(np.maximum(light, 0)) * (0.6 if n == 4 else 1)
                pixels = np.clip(level, 0, 255).astype(np.uint8)
                paths.append(write_picture(Path(folder) / f"f-{n}.png", pixels))
            project, set_id = project_of(paths, Kind.STACK)
            found = spoiling(engine().stages(project, set_id), Job())
        self.assertEqual([n for n, v in found.items() if v.why], [4])

    def test_one_more_frame_gains_what_theory_says(self):
        self.assertAlmostEqual(next_gain_db(1), 3.01, delta=0.01)
        self.assertAlmostEqual(next_gain_db(16), 0.263, delta=0.01)
