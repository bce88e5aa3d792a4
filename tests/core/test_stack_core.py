"""A spot through all frames, what a rule makes of each, and the figures and maps of what it did."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from tests.support import engine, project_of, write_picture
from windfell.combine.influence import Shaken, against_mean, heard, influence, rule_figures, whose
from windfell.combine.rules import RULES, Setting
from windfell.engine.stack_core import black_at, core_at, figures_of, rule_map
from windfell.job import Job
from windfell.pixels.colour import srgb_decoded
from windfell.recipe.combining import Combining, Layer, Rule
from windfell.recipe.model import Kind
from windfell.recipe.outline import Crop, Outline


def spot(*values: float) -> list[np.ndarray]:
    return [np.full((1, 1, 3), v, np.float32) for v in values]


class Influence(unittest.TestCase):
    def test_each_rule_says_who_has_a_part_in_it(self):
        planes = spot(0.20, 0.22, 0.9, 0.21, 0.24)
        truth = {"mean": [0.2] * 5, "median": [0, 1, 0, 0, 0], "maximum": [0, 0, 1, 0, 0], "minimum": [1, 0, 0, 0, 0],
                 "clipped-mean": [0.25, 0.25, 0, 0.25, 0.25], "sum": [1] * 5}
        for rule, parts in truth.items():
            found = influence(planes, RULES[rule])[0][:, 1]
            np.testing.assert_allclose(found, parts, atol=4e-3, err_msg=rule)

    def test_weights_are_seen(self):
        found = influence(spot(0.2, 0.3), RULES["mean"], Setting((3.0, 1.0)))[0][:, 0]
        np.testing.assert_allclose(found, [0.75, 0.25], atol=2e-3)


class Heard(unittest.TestCase):
    def test_a_small_change_decides_nothing_and_a_px_that_does_is_no_speck(self):
        class Choosy:
            """The mean of two frames, where they are alike; else the first."""

            def combined(self, planes, setting):
                one, other = planes
                alike = np.abs(other - one).max(axis=2, keepdims=True) < 0.1005
                return np.where(alike, (one + other) / 2, one)

        one, other = np.full((2, 20, 30, 3), 0.2, np.float32)
        other += np.float32(0.1)
        other[10, 15] = 0.30049
        np.testing.assert_allclose(heard([one, other], 1, Choosy()), 0.5, atol=0.01)


class Figures(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(2)
        self.truth = rng.uniform(0.2, 0.4, (90, 120, 3)).astype(np.float32)
        self.planes = [self.truth + rng.normal(0, 0.01, self.truth.shape).astype(np.float32) for _ in range(16)]

    def test_noise_gained_is_what_theory_says(self):
        self.assertAlmostEqual(Shaken.of(self.planes).noise_gain_db(RULES["mean"]), 12.04, delta=0.3)
        self.assertAlmostEqual(Shaken.of(self.planes).noise_gain_db(RULES["sum"]), 12.04, delta=0.3)
        self.assertAlmostEqual(Shaken.of(self.planes[:1]).noise_gain_db(RULES["mean"]), 0.0, delta=0.3)

    def test_rejected_and_brightened_shares(self):
        for k, plane in enumerate(self.planes):
            plane[:, 7 * k : 7 * k + 6] = 0.9
        clipped = rule_figures(Shaken.of(self.planes), RULES["clipped-mean"])
        self.assertAlmostEqual(clipped.rejected, 6 / 120, delta=0.02)
        self.assertLess(clipped.brightened, 0.02)
        brightest = rule_figures(Shaken.of(self.planes), RULES["maximum"])
        self.assertAlmostEqual(brightest.brightened, 96 / 120, delta=0.05)
        self.assertIsNone(brightest.rejected)

    def test_maps_say_what_was_added_and_whose_it_is(self):
        self.planes[3][20:40, 30:50] = 0.9
        added = against_mean(self.planes, RULES["maximum"])
        self.assertGreater(added[20:40, 30:50].min(), 20)
        self.assertLess(against_mean(self.planes, RULES["median"])[20:40, 30:50].max(), -1)
        self.assertTrue((whose(self.planes, RULES["maximum"])[20:40, 30:50] == 3).all())


class Cores(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = tempfile.TemporaryDirectory()
        cls.engine, cls.levels, paths = engine(), (80, 90, 200, 84, 86), []
        for n, level in enumerate(cls.levels):
            pixels = np.full((60, 90, 3), 60, np.uint8)
            pixels[10:40, 20:60] = level
            paths.append(write_picture(Path(cls.home.name) / f"frame-{n}.png", pixels))
        cls.project, cls.set_id = project_of(paths, Kind.STACK, combining=Combining(Rule.CLIPPED_MEAN))

    @classmethod
    def tearDownClass(cls):
        cls.home.cleanup()

    def stages(self, **parts):
        own = replace(self.project.set(self.set_id), **parts)
        return self.engine.stages(self.project.with_set(own), self.set_id)

    def test_the_core_holds_every_frame_s_value_and_what_became_of_it(self):
        core = core_at(self.stages(), (0.4, 0.4), Job())
        np.testing.assert_allclose(core.values[:, 0], srgb_decoded(np.array(self.levels) / 255), atol=2e-3)
        self.assertEqual(core.kept.tolist(), [True, True, False, True, True])
        rest = srgb_decoded(np.array(self.levels)[[0, 1, 3, 4]] / 255).mean()
        self.assertAlmostEqual(float(core.result[1]), rest, delta=2e-3)
        np.testing.assert_allclose(core.picture, core.result, atol=1e-4)
        over = self.stages(combining=Combining(Rule.CLIPPED_MEAN, layers=(Layer(frames=(
            self.project.set(self.set_id).frames[2].id,)),)))
        self.assertGreater(core_at(over, (0.4, 0.4), Job()).picture[0], 0.4)

    def test_the_spot_is_that_of_the_picture_as_it_is_cut(self):
        cropped = self.stages(outline=Outline(crop=Crop(50.0, 0.0, 50.0, 100.0)))
        self.assertLess(np.ptp(core_at(cropped, (0.5, 0.4), Job()).values[:, 0]), 1e-4)
        self.assertGreater(np.ptp(core_at(cropped, (0.1, 0.4), Job()).values[:, 0]), 0.2)

    def test_every_rule_has_a_core_and_figures(self):
        for rule in Rule:
            stages = self.stages(combining=Combining(rule))
            core = core_at(stages, (0.4, 0.4), Job())
            self.assertTrue(np.isfinite(core.result).all(), rule)
            self.assertTrue(core.kept.any(), rule)
            self.assertTrue(np.isfinite(figures_of(stages, Job()).noise_db), rule)
        self.assertEqual(rule_map(self.stages(combining=Combining(Rule.MAXIMUM)), "whose", Job())[20, 40], 2)


class Black(unittest.TestCase):
    def test_the_picked_spot_says_what_counts_as_black(self):
        with tempfile.TemporaryDirectory() as folder:
            files = []
            for n, level in enumerate((20, 24, 60)):
                pixels = np.full((80, 120, 3), level, np.uint8)
                pixels[:, 60:] += 80
                files.append(write_picture(Path(folder) / f"f{n}.png", pixels))
            project, set_id = project_of(files, Kind.STACK, combining=Combining(Rule.MAXIMUM))
            stages = engine().stages(project, set_id)
            for x, level in ((0.2, 24), (0.8, 104)):
                wanted = 100 * float(srgb_decoded(np.array([level / 255]))[0])
                self.assertAlmostEqual(black_at(stages, (x, 0.5), Job()), wanted, delta=0.02 * wanted)

