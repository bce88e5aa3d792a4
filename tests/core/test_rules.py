"""The rules that ask how values are spread, exposures, black floors, bridged gaps: against known truth."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import OpenEXR
import tifffile
from numpy.testing import assert_allclose

from tests.support import engine, project_of, write_picture
from windfell.cli.main import main
from windfell.combine.blocks import in_blocks
from windfell.combine.bridging import swept, ways
from windfell.combine.calibrated import _calm_level, black_plane
from windfell.combine.display import ToneLook, shouldered, tone_gain
from windfell.combine.exposures import estimated_exposures
from windfell.combine.influence import heard
from windfell.combine.rules import RULES, Exposures, Setting
from windfell.combine.strips import Layer, combined
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded, srgb_encoded
from windfell.pixels.sheet import Sheet
from windfell.pixels.tiles import Region
from windfell.recipe.combining import Combining, Display, Floor, Rule
from windfell.recipe.model import Kind
from windfell.recipe.output import Output
from windfell.recipe.sizes import size_from_words, size_in_words
from windfell.recipe.weights_file import read_weights

SHAPE = (120, 300)


def scene(seed: int = 1) -> np.ndarray:
    rng = np.random.default_rng(seed)
    light = cv2.GaussianBlur(rng.uniform(0, 1, (*SHAPE, 3)).astype(np.float32), (0, 0), 3)
    return 0.05 + 0.8 * (light - light.min()) / np.ptp(light)


def noisy(truth: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    return (truth + rng.normal(0, 1, truth.shape) * np.sqrt(4e-5 * truth + 2e-5)).astype(np.float32)


def gain_db(found: np.ndarray, one: np.ndarray, truth: np.ndarray) -> float:
    return 10 * float(np.log10(np.mean((one - truth) ** 2) / np.mean((found - truth) ** 2)))


class Statistics(unittest.TestCase):
    def setUp(self):
        self.truth, self.rng = scene(), np.random.default_rng(2)
        self.planes = [noisy(self.truth, self.rng) for _ in range(16)]

    def test_a_mean_of_16_gains_what_theory_says_and_a_clipped_one_nearly_so(self):
        plain = gain_db(RULES["mean"].combined(self.planes), self.planes[0], self.truth)
        clipped = gain_db(RULES["clipped-mean"].combined(self.planes), self.planes[0], self.truth)
        self.assertGreater(plain, 11.5)  # 12.04 in theory
        self.assertGreater(clipped, plain - 0.42)

    def test_hot_pixels_and_streaks_are_clipped_away(self):
        for k, plane in enumerate(self.planes):
            plane[self.rng.random(SHAPE) < 0.002] = 1.0
            plane[7 * k : 7 * k + 2, 40:260] += 0.3
        found = RULES["clipped-mean"].combined(self.planes)
        wrong = np.abs(found - self.truth).max(axis=2) > 0.02
        self.assertLess(wrong.mean(), 0.001)
        plain = RULES["mean"].combined(self.planes)
        self.assertGreater((np.abs(plain - self.truth).max(axis=2) > 0.015).mean(), 0.1)

    def test_what_moved_stands_out_and_the_rest_is_the_median(self):
        thing = np.zeros(SHAPE, bool)
        wanted = RULES["median"].combined(self.planes)
        for k, plane in enumerate(self.planes):
            at = np.s_[40:70, 8 + 17 * k : 20 + 17 * k]
            plane[at] = noisy(0.3 * self.truth[at] + 0.1, self.rng)
            thing[at] = True
            wanted[at] = plane[at]
        found = RULES["standout"].combined(self.planes)
        shown = np.abs(found - wanted).max(axis=2) < 1e-6
        self.assertGreater(shown[thing].mean(), 0.98)
        rim = cv2.dilate(thing.astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
        self.assertGreater(shown[~rim].mean(), 0.99)

    def test_noise_below_a_step_of_the_encoding_stands_out_nowhere(self):
        fine = [srgb_encoded(np.clip(noisy(0.1 + 0.5 * self.truth, self.rng), 0, 1)) for _ in range(9)]
        coarse = [srgb_decoded(np.rint(v * 50) / 50).astype(np.float32) for v in fine]
        told = Setting(steps=(1 / 50,) * 9)
        middle = RULES["median"].combined(coarse)
        for rule, most in (("standout", 0.001), ("clipped-mean", None)):
            found = RULES[rule].combined(coarse, told)
            if most is None:  # values of the next step belong to the mean
                mean = RULES["mean"].combined(coarse)
                self.assertLess(np.abs(found - mean).mean(), 0.2 * np.abs(middle - mean).mean())
            else:
                self.assertLess((np.abs(found - middle).max(axis=2) > 1e-6).mean(), most)
                self.assertGreater((np.abs(RULES[rule].combined(coarse) - middle).max(axis=2) > 1e-6).mean(), 0.01)

    def test_weights_count(self):
        a, b = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4, 3), 0.6, np.float32)
        assert_allclose(RULES["mean"].combined([a, b], Setting(weights=(3.0, 1.0))), 0.3, atol=1e-6)
        assert_allclose(RULES["sum"].combined([a, b]), 0.8, atol=1e-6)
        assert_allclose(RULES["screen"].combined([a, b]), 1 - 0.8 * 0.4, atol=1e-6)
        assert_allclose(RULES["range"].combined([a, b]), 0.4, atol=1e-6)

    def test_the_sharpest_frame_is_taken_spot_by_spot(self):
        rng = np.random.default_rng(5)
        truth = rng.uniform(0.1, 0.9, (*SHAPE, 3)).astype(np.float32)
        soft = cv2.GaussianBlur(truth, (0, 0), 2.5)
        left, right = truth.copy(), soft.copy()
        left[:, 150:], right[:, 150:] = soft[:, 150:], truth[:, 150:]
        off = np.abs(RULES["sharpest"].combined([left, right]) - truth).mean(axis=2)
        off[:, 125:175] = 0
        self.assertLess(off.max(), 0.02)


class Radiance(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        wide = cv2.resize(rng.uniform(-8, 5, (6, 14)).astype(np.float32), SHAPE[::-1], interpolation=cv2.INTER_CUBIC)
        self.radiance = np.exp2(wide)[..., None] * np.array([1, 0.8, 0.6], np.float32)
        self.times = [2.0**e for e in (-6, -4, -2, 0, 2)]
        self.rng = rng

    def _frame(self, time: float, bits: int, radiance=None) -> np.ndarray:
        seen = noisy(np.minimum((self.radiance if radiance is None else radiance) * time, 1.3), self.rng)
        top = 2**bits - 1
        return srgb_decoded(np.rint(srgb_encoded(np.clip(seen, 0, 1)) * top) / top).astype(np.float32)

    def test_brackets_give_back_the_radiance(self):
        for bits, most in ((16, 0.04), (8, 0.08)):
            frames = [self._frame(t, bits) for t in self.times]
            setting = Setting(exposures=tuple(t / self.times[0] for t in self.times), steps=(1 / (2**bits - 1),) * 5)
            found = RULES["exposures"].combined(frames, setting) / self.times[0]
            good = (self.radiance > 2.0**-8) & (self.radiance < 2.0**5)
            self.assertLess(np.median(np.abs(np.log2(np.maximum(found, 1e-9) / self.radiance))[good]), most)

    def test_what_is_burnt_out_in_one_channel_of_its_file_is_not_heard(self):
        light = np.exp2(np.linspace(-6, 4, 200, dtype=np.float32))[None, :, None] * np.float32([1.0, 0.4, 0.1])
        light = np.repeat(light, 48, axis=0)
        frames = [cv2.transform(np.minimum(light * t, 1).astype(np.float32), SRGB_TO_WORKING) for t in self.times]
        setting = Setting(exposures=tuple(t / self.times[0] for t in self.times), steps=(1 / 65535,) * 5)
        found = RULES["exposures"].combined(frames, setting) / np.float32(self.times[0])
        off = np.log2(found / cv2.transform(light, SRGB_TO_WORKING))
        self.assertLess(np.abs(off).max(), 0.01)
        known = [2.0**k for k in (0, 2, 4, 6, 8)]
        for told in (known, [None] * 5):
            assert_allclose(estimated_exposures(frames, told, 0), known, rtol=0.02)

    def test_what_burnt_out_in_all_is_at_least_as_bright_as_the_shortest_knows(self):
        radiance = np.full((*SHAPE, 3), 0.3, np.float32)
        radiance[30:90, 60:160] = 60.0
        times = self.times[1:4]
        frames = [self._frame(t, 16, radiance) for t in times]
        setting = Setting(exposures=tuple(t / times[0] for t in times), steps=(1 / 65535,) * 3)
        found = RULES["exposures"].combined(frames, setting) / times[0]
        self.assertGreater(float(found[34:86, 64:156].min()), 0.95 / times[0])
        self.assertLess(float(np.abs(found[:26] - 0.3).max()), 0.1)

    def test_what_moved_leaves_no_ghost(self):
        frames = []
        for k, t in enumerate(self.times):
            radiance = np.full((*SHAPE, 3), 0.2, np.float32)
            radiance[40:80, 20 + 50 * k : 50 + 50 * k] = 0.8
            frames.append(self._frame(t, 16, radiance))
        setting = Setting(exposures=tuple(t / self.times[0] for t in self.times), steps=(1 / 65535,) * 5)
        found = RULES["exposures"].combined(frames, setting) / self.times[0]
        seen = found.mean(axis=2)
        ghost = (np.abs(seen - 0.2) > 0.012) & (seen < 0.7)
        self.assertLess(ghost.mean(), 0.02)

    def test_who_walks_by_in_few_frames_is_seen_in_none(self):
        frames = []
        for k, t in enumerate(self.times):
            radiance = np.full((*SHAPE, 3), 0.1, np.float32)
            if k in (1, 3):  # the best exposed among them
                radiance[30:90, 100 + 40 * k : 140 + 40 * k] = 0.6 if k == 1 else 0.01
            frames.append(self._frame(t, 16, radiance))
        setting = Setting(exposures=tuple(t / self.times[0] for t in self.times), steps=(1 / 65535,) * 5)
        found = RULES["exposures"].combined(frames, setting) / self.times[0]
        self.assertLess(np.abs(np.log2(found.mean(axis=2) / 0.1)).max(), 0.25)

    def test_someone_as_bright_as_the_land_but_of_another_colour_is_not_heard(self):
        land, coat = np.array([0.043, 0.082, 0.009], np.float32), np.array([0.0205, 0.038, 0.0755], np.float32)
        rng, frames = np.random.default_rng(5), []
        for k, t in enumerate((1.0, 2.0, 4.0, 8.0, 11.0)):
            light = np.broadcast_to(land, (*SHAPE, 3)) * rng.uniform(0.97, 1.03, (*SHAPE, 1)).astype(np.float32)
            if k == 4:  # the one that knows most
                light[30:90, 100:200] = coat * rng.uniform(0.97, 1.03, (60, 100, 1)).astype(np.float32)
            frames.append(self._frame(t, 16, light))
        setting = Setting(exposures=(1.0, 2.0, 4.0, 8.0, 11.0), steps=(1 / 65535,) * 5)
        found = cv2.blur(RULES["exposures"].combined(frames, setting), (8, 8))[34:86, 104:196]
        self.assertLess(np.abs(np.log2(found / land)).max(), 0.15)

    def test_what_moved_says_nothing_of_the_exposures(self):
        rng = np.random.default_rng(6)
        land = rng.uniform(0.2, 0.4, (*SHAPE, 3)).astype(np.float32)
        land[:, :60] *= 0.2
        short, long = land.copy(), np.minimum(4 * land, 1)
        long[:, 60:220] = 0.3  # someone stands before what is burnt out
        found = estimated_exposures([short, long], [None, None], 0)
        self.assertAlmostEqual(float(np.log2(found[1])), 2.0, delta=0.05)

    def test_masks_are_grown_and_softened_and_worked_block_by_block_as_at_once(self):
        frames, rng = [], np.random.default_rng(9)
        for k, t in enumerate((1.0, 1.0, 1.0)):
            light = np.full((160, 300, 3), 0.2, np.float32) + rng.normal(0, 0.004, (160, 300, 3)).astype(np.float32)
            if k == 2:
                light[60:100, 120:180] = 0.6
            frames.append((light * t).astype(np.float32))
        told = Setting(exposures=(1.0,) * 3, steps=(1 / 65535,) * 3)
        two = RULES["exposures"].combined(frames[:2], Setting(exposures=(1.0,) * 2, steps=(1 / 65535,) * 2))
        alone = []
        for rule in (RULES["exposures"], Exposures(16.0, 0.0), Exposures(0.0, 6.0)):
            found = rule.combined(frames, told)
            assert_allclose(in_blocks(rule, frames, told), found, atol=2e-6)
            alone.append(np.abs(found - two).max(axis=2) < 1e-6)
        self.assertTrue(alone[0][60:100, 120:180].all())
        self.assertTrue(alone[1][48:112, 108:192].all())
        self.assertFalse(alone[0][48, 150] or alone[0][80, 106] or alone[1][20, 150])
        self.assertGreater(alone[1].sum(), 1.4 * alone[0].sum())
        self.assertLess(alone[2].sum(), 0.8 * alone[0].sum())

    def test_where_a_frame_shows_nothing_it_is_not_heard(self):
        rng = np.random.default_rng(4)
        times = (1.0, 2.0, 4.0, 8.0)
        truth = np.full((80, 120, 3), 0.05, np.float32) * rng.uniform(0.8, 1.25, (80, 120, 1)).astype(np.float32)
        layers = []
        for k, t in enumerate(times):
            seen = noisy(truth * t, rng)
            place = None if k == 0 else np.array([[1.0, 0, 0.0], [0, 1, -float(k)], [0, 0, 1]])
            layers.append(Layer(Sheet(np.roll(seen, -k, axis=0) if k else seen), place))
        setting = Setting(exposures=times, steps=(1 / 65535,) * 4)
        light, _ = combined(layers, RULES["exposures"], Region(0, 0, 120, 80), setting)
        off = np.abs(np.log2(np.maximum(light, 1e-6) / truth)).mean(axis=(1, 2))
        self.assertLess(off[:6].max(), 0.2)  # the first row is seen by the darkest alone

    def test_what_burns_out_in_all_frames_that_see_it_is_as_bright_as_they_know(self):
        # the darkest shows nothing of the first columns, the next nothing of the first rows
        times = (1.0, 4.0, 16.0)
        truth = np.full((120, 200, 3), 0.5, np.float32)
        unseen = [np.zeros((120, 200), bool) for _ in times]
        unseen[0][:, :60], unseen[1][:40] = True, True
        frames = [np.where(u[..., None], np.float32(np.nan), np.minimum(truth * t, 1).astype(np.float32))
                  for t, u in zip(times, unseen, strict=True)]
        setting = Setting(exposures=times, steps=(1 / 65535,) * 3)
        light = RULES["exposures"].combined(frames, setting)
        assert_allclose(light[:, 70:], 0.5, atol=0.01)
        assert_allclose(light[60:, :30], 1 / 4, atol=0.01)
        assert_allclose(light[:20, :30], 1 / 16, atol=0.01)
        # no step where the darkest ends: from there what it knows fades
        across = light[100, :, 1]
        self.assertLess(np.abs(np.diff(across)).max(), 0.06)
        self.assertGreater(np.diff(across).min(), -0.01)
        assert_allclose(in_blocks(RULES["exposures"], frames, setting), light, atol=1e-4)

    def test_masks_are_grown_at_the_pictures_scale(self):
        with tempfile.TemporaryDirectory() as folder:
            files = []
            for k in range(3):
                pixels = np.full((160, 240, 3), 90, np.uint8)
                pixels[:] += np.random.default_rng(k).integers(0, 6, pixels.shape, np.uint8)
                if k == 2:
                    pixels[60:90, 100:140] = 200
                files.append(write_picture(Path(folder) / f"f{k}.png", pixels))
            lights = []
            for grow in (0.0, 24.0):
                combining = Combining(Rule.EXPOSURES, display=Display.NONE, grow_px=grow)
                project, set_id = project_of(files, Kind.STACK, combining=combining)
                lights.append(engine().stages(project, set_id).render(Region(0, 0, 240, 160), 1.0, Job()).light)
        changed = np.abs(lights[0] - lights[1]).max(axis=2) > 1e-7
        self.assertGreater(changed[45:105, 85:155].mean(), 0.2)
        self.assertEqual(changed[:20].sum(), 0)

    def test_ratios_are_read_from_the_frames(self):
        frames = [self._frame(t, 8) for t in self.times]
        for told in ([None] * 5, [t * 1.1 for t in self.times]):
            found = estimated_exposures(frames, told, 2)
            assert_allclose(np.log2(found), np.log2(self.times) - np.log2(self.times[2]), atol=0.06)
        # what the light of a changed scene says against the files is not believed
        changed = [0.4 * f if n > 2 else f for n, f in enumerate(frames)]
        found = estimated_exposures(changed, list(self.times), 2)
        assert_allclose(np.log2(found), np.log2(self.times) - np.log2(self.times[2]), atol=0.12)

    def test_the_display_brings_all_to_the_screen_without_halo(self):
        shown = tone_gain(self.radiance).shown(
            self.radiance, (np.arange(300) + 0.5) / 300, (np.arange(120) + 0.5) / 120)
        self.assertLessEqual(shown.max(), 1.0)
        self.assertGreater(np.percentile(shown, 1), 0.003)
        step = np.full((80, 160, 3), 0.02, np.float32)
        step[:, 80:] = 1.28  # 6 EV
        flat = tone_gain(step).shown(step, (np.arange(160) + 0.5) / 160, (np.arange(80) + 0.5) / 80)[40, :, 1]
        for side in (flat[10:74], flat[86:150]):
            self.assertLess(np.ptp(side) / side.mean(), 0.2)
        assert_allclose(shouldered(np.full((1, 1, 3), 0.5, np.float32)), 0.5)


    def test_each_part_of_the_display_moves_what_it_is_for(self):
        def shown(light, **look):
            h, w = light.shape[:2]
            return tone_gain(light, ToneLook(**look)).shown(light, (np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h)

        levels = np.repeat(np.exp2(np.linspace(-7, 3, 12)), 40).astype(np.float32)
        scene = np.broadcast_to(levels[None, :, None], (160, 480, 3)).copy()
        scene *= 1 + 0.1 * np.sin(np.arange(160))[:, None, None].astype(np.float32)
        plain = shown(scene)
        ratio = lambda a, b: float(np.median(a) / np.median(b))  # noqa: E731
        dark, bright = np.s_[:, 40:80], np.s_[:, 400:440]
        # not compressed, the range is that of the scene: 9 stops between these two, less a shoulder
        less = shown(scene, compression=0.0)
        self.assertGreater(ratio(less[bright], less[dark]), 3 * ratio(plain[bright], plain[dark]))
        self.assertGreater(ratio(shown(scene, shadows=0.8)[dark], plain[dark]), 1.3)
        self.assertAlmostEqual(ratio(shown(scene, shadows=0.8)[bright], plain[bright]), 1, delta=0.05)
        self.assertLess(ratio(shown(scene, highlights=-0.8)[bright], plain[bright]), 0.85)
        self.assertAlmostEqual(ratio(shown(scene, highlights=-0.8)[dark], plain[dark]), 1, delta=0.05)
        texture = lambda v: float(np.std(v[:, 60, 1]) / np.mean(v[:, 60, 1]))  # noqa: E731
        self.assertGreater(texture(shown(scene, detail=0.6)), 1.4 * texture(plain))
        # what is broad is as it was
        fine = shown(scene, detail=0.6)
        self.assertAlmostEqual(ratio(fine[bright], fine[dark]) / ratio(plain[bright], plain[dark]), 1, delta=0.12)
        assert_allclose(shown(scene, compression=1.0), plain)

    def test_a_frame_is_heard_where_its_weight_is(self):
        frames = [self._frame(t, 16) for t in self.times]
        told = Setting(exposures=tuple(t / self.times[0] for t in self.times), steps=(1 / 65535,) * 5)
        shares = [heard(frames, k, RULES["exposures"], told) for k in range(5)]
        assert_allclose(np.median(np.sum(shares, axis=0)), 1, atol=0.05)
        longest = int(np.argmax(self.times))
        burnt = frames[longest].max(axis=2) >= 1
        self.assertGreater(burnt.mean(), 0.02)
        self.assertLess(shares[longest][burnt].max(), 0.02)
        mean = heard(frames, 1, RULES["mean"], Setting(weights=(1.0, 3.0, 0.0, 0.0, 0.0)))
        assert_allclose(np.median(mean), 0.75, atol=0.02)


class Floors(unittest.TestCase):
    def test_the_level_of_a_tile_is_that_of_what_is_not_lit(self):
        rng = np.random.default_rng(12)
        values = rng.normal(0.03, 0.002, (4000, 3))
        values[:1400] += rng.uniform(0.004, 0.3, (1400, 1))
        assert_allclose(_calm_level(values.astype(np.float32)), 0.03, atol=0.0012)

    def test_a_sloping_black_is_found_under_lights(self):
        rng = np.random.default_rng(6)
        v, u = np.meshgrid(np.linspace(-1, 1, 200), np.linspace(-1, 1, 320), indexing="ij")
        true = np.stack([0.03 + 0.01 * u - 0.006 * v, 0.05 - 0.008 * u, 0.02 + 0.004 * v], -1)
        light = true + rng.normal(0, 0.002, true.shape)
        light[40:120, 60:180] += rng.uniform(0, 0.5, (80, 120, 1))
        found = black_plane(light.astype(np.float32)).at(u[0], v[:, 0])
        self.assertLess(np.abs(found - true).max(), 0.002)

    def test_lights_are_added_without_lifting_the_dark(self):
        rng = np.random.default_rng(7)
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for k in range(3):
                black = np.full((160, 240, 3), 0.02 + 0.012 * k)
                black[40:70, 30 + 60 * k : 60 + 60 * k] += [0.4, 0.3, 0.1]
                code = np.rint(srgb_encoded(np.clip(black + rng.normal(0, 0.001, black.shape), 0, 1)) * 65535)
                paths.append(str(Path(folder) / f"burst-{k}.png"))
                cv2.imwrite(paths[-1], code.astype(np.uint16)[..., ::-1])
            project, set_id = project_of(paths, Kind.STACK, combining=Combining(Rule.SUM, floor=Floor.AUTO))
            own = engine()
            light = own.picture(project, set_id, 1.0, Job()).light
            self.assertLess(np.abs(light[100:]).mean(axis=(0, 1)).max(), 0.004)
            base = project.set(set_id).frames[2].id
            kept = project.with_set(replace(project.set(set_id), combining=Combining(
                Rule.SUM, base=base, floor=Floor.AUTO)))
            self.assertAlmostEqual(own.picture(kept, set_id, 1.0, Job()).light[120:].mean(), 0.044, delta=0.003)
            level = project.with_set(replace(project.set(set_id), combining=Combining(
                Rule.MAXIMUM, floor=Floor.LEVEL, floor_pct=4.4)))
            self.assertLess(own.picture(level, set_id, 1.0, Job()).light[120:].mean(), 0.003)


class Bridges(unittest.TestCase):
    def test_a_light_that_moved_on_is_carried_along_its_way(self):
        frames = []
        for x in (60, 110):
            frame = np.full((*SHAPE, 3), 0.01, np.float32)
            frame[50:56, x : x + 25] = 0.8
            frames.append(cv2.GaussianBlur(frame, (0, 0), 1))
        found = ways(*frames)
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found[0].move[0] * 300, 50, delta=1)
        whole = Region(0, 0, 300, 120)
        light = swept(np.maximum(*frames), *frames, found, whole, (300, 120), np.s_[0:120, 0:300])
        self.assertGreater(light[53, 62:132, 0].min(), 0.6)
        self.assertLess(light[:44].max(), 0.02)


    def test_each_light_goes_its_own_way(self):
        def frame(spots) -> np.ndarray:
            out = np.full((*SHAPE, 3), 0.01, np.float32)
            for x, y in spots:
                out[y : y + 5, x : x + 9] = 0.7
            return cv2.GaussianBlur(out, (0, 0), 1)

        one, other = frame([(60, 20), (200, 90)]), frame([(70, 50), (190, 60), (95, 20)])
        found = ways(one, other)
        moves = sorted((round(w.move[0] * 300), round(w.move[1] * 120)) for w in found)
        self.assertEqual(len({tuple(w.box) for w in found}), len(found))
        self.assertIn((-10, -30), moves)
        self.assertEqual(len(found), 2)
        whole = Region(0, 0, 300, 120)
        light = swept(np.maximum(one, other), one, other, found, whole, (300, 120), np.s_[0:120, 0:300])
        self.assertGreater(light[77, 199, 0], 0.4)
        crowd = ways(frame([(60, 20), (66, 40)]), frame([(64, 30)]))
        self.assertEqual(len(crowd), 1, "one light there is one light here")

    def test_of_many_stars_one_without_a_successor_is_not_taken_for_another(self):
        rng = np.random.default_rng(4)
        grid = [(x, y) for y in (15, 45, 75, 105) for x in range(20, 280, 30)]
        places = [(x + rng.integers(-6, 7), y + rng.integers(-5, 6)) for x, y in grid]

        def sky(aside: int, without: int) -> np.ndarray:
            out = np.full((*SHAPE, 3), 0.01, np.float32)
            for n, (x, y) in enumerate(places):
                if n != without:
                    out[y : y + 3, x + aside : x + aside + 3] = 0.7
            return cv2.GaussianBlur(out, (0, 0), 1)

        def lanterns(moved: int) -> np.ndarray:  # each goes its own way
            out, own = np.full((*SHAPE, 3), 0.01, np.float32), np.random.default_rng(7)
            for x, y in places[::2]:
                dx, dy = own.integers(-11, 12, 2) * moved
                out[max(y + dy, 0) : y + dy + 3, x + dx : x + dx + 3] = 0.7
            return cv2.GaussianBlur(out, (0, 0), 1)

        self.assertGreaterEqual(len(ways(lanterns(0), lanterns(1))), len(places[::2]) - 3)
        moves = [(w.move[0] * 300, w.move[1] * 120) for w in ways(sky(0, 12), sky(6, 13))]
        self.assertGreaterEqual(len(moves), len(places) - 4)
        assert_allclose(moves, [(6, 0)] * len(moves), atol=1)


class OnTheCommandLine(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.addCleanup(self._folder.cleanup)
        self.folder = Path(self._folder.name)
        rng = np.random.default_rng(9)
        self.truth = scene(4)
        self.paths = []
        for k in range(5):
            code = np.rint(srgb_encoded(np.clip(noisy(self.truth, rng), 0, 1)) * 255).astype(np.uint8)
            code[20:60, 20 + 40 * k : 40 + 40 * k] = 240
            self.paths.append(write_picture(self.folder / f"still-{k}.png", code))

    def _stack(self, name: str, *words: str) -> Path:
        out = self.folder / name
        self.assertEqual(main(["stack", *self.paths, "--out", str(out), *words]), 0)
        return out

    def test_every_rule_writes_a_picture(self):
        for rule in RULES:
            with self.subTest(rule):
                picture = cv2.imread(str(self._stack(f"{rule}.png", "--rule", rule, "--depth", "8")))
                self.assertEqual(picture.shape, (*SHAPE, 3))

    def test_the_rule_holds_inside_the_region_and_the_base_is_seen_outside(self):
        mask = np.zeros(SHAPE, np.uint8)
        mask[:, :150] = 255
        region = write_picture(self.folder / "region.png", mask)
        out = cv2.imread(str(self._stack(
            "base.png", "--rule", "maximum", "--base", "5", "--region", region, "--depth", "8")))
        base = cv2.imread(self.paths[4])
        assert_allclose(out[:, 152:], base[:, 152:], atol=1)
        self.assertGreater(out[30, 30].min(), 230)
        self.assertLess(base[30, 30].min(), 230)

    def test_linear_light_is_written_and_read_back(self):
        tiff = tifffile.imread(self._stack("mean.tif", "--rule", "mean", "--depth", "float"))
        self.assertEqual(tiff.dtype, np.float32)
        assert_allclose(np.median(tiff[80:] - self.truth[80:]), 0, atol=0.004)
        file = OpenEXR.File(str(self._stack("mean.exr", "--rule", "mean")), separate_channels=True)
        planes = file.channels()
        self.assertEqual(set(planes), {"R", "G", "B", "A"})
        assert_allclose(planes["G"].pixels, tiff[..., 1], atol=1e-5)
        hdr = cv2.imread(str(self._stack("mean.hdr", "--rule", "mean")), cv2.IMREAD_UNCHANGED)[..., ::-1]
        assert_allclose(hdr, tiff, rtol=0.02, atol=0.004)

    def test_darks_and_flats_are_undone(self):
        rng = np.random.default_rng(1)
        fall = 1 - 0.4 * np.linspace(-1, 1, 300)[None, :, None] ** 2
        dark = 0.02 + 0.01 * np.linspace(0, 1, 120)[:, None, None] * np.ones((120, 300, 3))

        def write(name: str, light: np.ndarray) -> str:
            code = np.rint(srgb_encoded(np.clip(light, 0, 1)) * 65535).astype(np.uint16)
            cv2.imwrite(str(self.folder / name), code[..., ::-1])
            return str(self.folder / name)

        self.paths = [write(f"lit-{k}.png", noisy(0.7 * self.truth * fall + dark, rng)) for k in range(3)]
        darks = [write(f"dark-{k}.png", noisy(dark, rng)) for k in range(3)]
        flats = [write(f"flat-{k}.png", noisy(0.6 * fall + dark, rng)) for k in range(3)]
        out = tifffile.imread(self._stack(
            "clean.tif", "--rule", "mean", "--depth", "float", "--dark", *darks, "--flat", *flats))
        ratio = out / (0.7 * self.truth * fall.mean())
        self.assertLess(np.abs(np.median(ratio, axis=0) / np.median(ratio) - 1).max(), 0.02)
        self.assertAlmostEqual(float(np.median(ratio)), 1.0, delta=0.02)
        small = write_picture(self.folder / "small.png", np.zeros((50, 60, 3), np.uint8))
        words = ["stack", *self.paths, "--rule", "mean", "--out", str(self.folder / "x.png"), "--dark", small]
        self.assertEqual(main(words), 2)

    def test_wrong_words_are_refused(self):
        weights = self.folder / "weights.txt"
        weights.write_text("1\n2\n")
        out = str(self.folder / "never.png")
        for words in (("--region", self.paths[0]), ("--kappa", "0,3"), ("--weights", str(weights)), ("--base", "9"),
                      ("--black-floor", "dark"), ("--depth", "float"), ("--map", "bright")):
            with self.subTest(words):
                self.assertEqual(main(["stack", *self.paths, "--rule", "mean", "--out", out, *words]), 2)
                self.assertFalse(Path(out).exists())


class Words(unittest.TestCase):
    def test_weights_come_as_numbers_rows_or_json(self):
        files = ["/a/one.jpg", "/a/two.jpg"]
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "weights"
            for text in ("0.5\n2", "0.5 2", "file,weight\none.jpg,0.5\ntwo.jpg,2", '{"one.jpg": 0.5, "two.jpg": 2}',
                         '{"weights": [0.5, 2]}', "[0.5, 2]"):
                path.write_text(text)
                self.assertEqual(read_weights(path, files), [0.5, 2.0])
            for text in ("1", "1\n-2", "0 0", "{", "three.jpg,2"):
                path.write_text(text)
                with self.assertRaises(BadRequest):
                    read_weights(path, files)

    def test_sizes_in_words_and_back(self):
        for text in ("50%", "4000x", "x3000", "24MP"):
            self.assertEqual(size_in_words(replace(Output(), **size_from_words(text))), text)
        self.assertEqual(size_from_words("900")["width_px"], 900)
        self.assertIsNone(size_from_words("large"))
