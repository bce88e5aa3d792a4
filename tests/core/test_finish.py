"""Adjustments: neutral ones change nothing, no kind breaks a picture, previews and tiles agree, each does its own."""

import dataclasses
import unittest
from dataclasses import replace
from unittest import mock

import cv2
import numpy as np

from windfell.finish.curve import curve_values
from windfell.finish.hues import BAND_HUES, at_hues, polar
from windfell.finish.kinds import KINDS, Step, adjusted, reach_of, stepped
from windfell.finish.scene import Scene
from windfell.finish.starlight import star_light
from windfell.pixels.colour import SRGB_TO_WORKING, luminance, srgb_decoded, to_view
from windfell.pixels.lookup import Table
from windfell.pixels.oklab import from_oklab, to_oklab
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe import finishing as f
from windfell.recipe.areas import Area, Stroke
from windfell.recipe.words import WrongWord, from_words, to_words

EIGHT = (30.0, -20.0, 25.0, -30.0, 15.0, 30.0, -25.0, 20.0)
STRONG = (
    f.Dodge(1.2, -0.6, -1.0), f.Light(0.7, 40.0, -60.0, 55.0, 20.0, -30.0, 40.0),
    f.Colour(4800.0, 12.0, 30.0, 60.0),
    f.Curve(((0.0, 0.02), (0.3, 0.22), (0.7, 0.8), (1.0, 1.0)), blue=((0.0, 0.0), (0.5, 0.56), (1.0, 1.0))),
    f.Hues(EIGHT, EIGHT, EIGHT),
    f.Tinting(230.0, 60.0, 90.0, 30.0, 60.0, 50.0, 20.0),
    f.Mono(100.0, EIGHT),
    f.Detail(wide_pct=40.0, local_pct=50.0), f.Detail(texture_pct=60.0), f.Detail(sharpen_pct=70.0, radius_px=1.2),
    f.Detail(noise_pct=60.0, colour_noise_pct=60.0), f.Detail(colour_noise_pct=80.0),
    f.Softness(glow_pct=60.0), f.Softness(blur_px=6.0), f.Softness(along_px=30.0, along_deg=30.0),
    f.Stars(70.0, 8.0), f.Vignette(-1.5, 20.0, 50.0), f.Channels(100.0, 100.0))
WIDTH, HEIGHT = 640, 424


def picture(seed: int = 1, noise: float = 0.01) -> np.ndarray:
    """Land with fine and coarse texture, an edge, bright parts beyond white, black; working light."""
    rng = np.random.default_rng(seed)
    coarse = cv2.resize(rng.uniform(0.05, 0.6, (7, 10, 3)).astype(np.float32), (WIDTH, HEIGHT),
                        interpolation=cv2.INTER_CUBIC)
    middle = cv2.GaussianBlur(rng.standard_normal((HEIGHT, WIDTH)).astype(np.float32), (0, 0), 4)
    light = np.maximum(coarse, 0.004) * np.exp2(0.9 * middle / middle.std() * 0.5)[..., None]
    light[60:180, 80:260] *= 0.1
    light[200:330, 380:560] *= 6
    light[380:, :] *= np.linspace(0, 1, WIDTH, dtype=np.float32)[None, :, None]
    light += noise * rng.standard_normal(light.shape).astype(np.float32) * np.sqrt(np.maximum(light, 0))
    return light.astype(np.float32)


def scene_of(light: np.ndarray, region: Region | None = None, scale: float = 1.0, small=None, sample=None) -> Scene:
    h, w = light.shape[:2]
    known: dict = {}

    def keep(what, make):
        if what not in known:
            known[what] = make()
        return known[what]

    shrunk = small if small is not None else cv2.resize(light, None, fx=0.6, fy=0.6, interpolation=cv2.INTER_AREA)
    return Scene(region or Region(0, 0, w, h), scale, (w, h), lambda: shrunk,
                 lambda: light if sample is None else sample, keep)


def polar_of(lab: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    return polar(lab[..., 1], lab[..., 2])


def whole(light: np.ndarray, values, **more) -> np.ndarray:
    return adjusted(light, f.Adjustment(values), None, scene_of(light, **more))


class Every(unittest.TestCase):
    def test_all_kinds_are_tried(self):
        self.assertEqual({type(v) for v in STRONG}, set(KINDS))
        self.assertEqual(set(f.VALUE_WORDS.values()), set(KINDS))

    def test_neutral_values_change_nothing_to_the_last_bit(self):
        light = picture()
        for kind in KINDS:
            values = kind(amount_pct=0.0, weight_pct=EIGHT) if kind is f.Mono else kind()
            np.testing.assert_array_equal(whole(light, values), light)
        for values in STRONG:
            np.testing.assert_array_equal(
                adjusted(light, f.Adjustment(values, strength_pct=0.0), None, scene_of(light)), light)
            self.assertTrue(f.Adjustment(values, on=False).idle and f.Adjustment(values, area=Area()).idle)
            self.assertFalse(f.Adjustment(values, area=Area((Stroke(((1.0, 1.0),)),))).idle)

    def test_no_kind_makes_numbers_that_are_none(self):
        light = picture()
        light[:40] = 0
        light[40:50] = 90.0
        light[50:60] = -0.02
        for values in STRONG:
            with self.subTest(values):
                self.assertTrue(np.isfinite(whole(light, values)).all())
        for field in ("exposure_ev", "contrast_pct", "highlights_pct", "shadows_pct", "white_pct", "black_pct",
                      "haze_pct"):
            limits = next(x for x in dataclasses.fields(f.Light) if x.name == field).metadata
            for value in (limits["low"], limits["high"]):
                self.assertTrue(np.isfinite(whole(light, f.Light(**{field: value}))).all())

    def test_every_value_acts_continuously(self):
        """A thousandth of a value's way changes no px by more than a little, for all numbers of all kinds."""
        light = picture(noise=0.0)
        for values in STRONG:
            for field in dataclasses.fields(values):
                meta = field.metadata
                now = getattr(values, field.name)
                if "low" not in meta or now is None or field.name in ("largest_px", "radius_px", "along_deg"):
                    continue
                step = (meta["high"] - meta["low"]) / 1000
                near = replace(values, **{field.name: min(meta["high"], now + step)})
                a, b = (to_view(whole(light, v)).astype(int) for v in (values, near))
                with self.subTest(kind=type(values).__name__, field=field.name):
                    self.assertLess(np.percentile(np.abs(a - b), 99.9), 6)

    def test_strength_and_area_pass_over(self):
        light = picture()
        share = np.zeros(light.shape[:2], np.float32)
        share[:, 300:] = 1
        for values in STRONG:
            full = whole(light, values)
            half = adjusted(light, f.Adjustment(values, strength_pct=50.0), share, scene_of(light))
            np.testing.assert_array_equal(half[:, :300], light[:, :300])
            np.testing.assert_allclose(half[:, 300:], (0.5 * (light + full))[:, 300:], atol=2e-4, rtol=1e-3)

    def test_tiles_are_the_same_as_the_whole(self):
        light = picture()
        for values in STRONG:
            expected = whole(light, values)
            reach = reach_of((f.Adjustment(values),), 1.0)
            for inner in (Region(200, 120, 180, 130), Region(0, 0, 150, 100), Region(500, 330, 140, 94)):
                wide = inner.grown(reach).shared(Region(0, 0, WIDTH, HEIGHT))
                at = wide.within(Region(0, 0, WIDTH, HEIGHT))
                part = adjusted(np.ascontiguousarray(light[at]), f.Adjustment(values), None,
                                replace_region(scene_of(light), wide))
                with self.subTest(kind=values, inner=inner):
                    off = np.abs(part[inner.within(wide)] - expected[inner.within(Region(0, 0, WIDTH, HEIGHT))])
                    self.assertLess(off.max() / (1 + expected.max()), 2e-3)

    def test_previews_show_what_the_file_will(self):
        """At 1/2, 1/4 and 1/8 the adjusted preview is the adjusted picture made small, to 1 of 255 on average."""
        light = cv2.resize(picture(noise=0.004), None, fx=3, fy=3, interpolation=cv2.INTER_CUBIC)
        small = cv2.resize(light, None, fx=0.2, fy=0.2, interpolation=cv2.INTER_AREA)
        h, w = light.shape[:2]
        for values in STRONG:
            full = whole(light, values, small=small, sample=light[400:784, 400:784])
            for scale in (0.5, 0.25, 0.125):
                size = scaled_size((w, h), scale)
                less = cv2.resize(light, size, interpolation=cv2.INTER_AREA)
                made = whole(less, values, scale=scale, small=small, sample=light[400:784, 400:784])
                wanted = cv2.resize(full, size, interpolation=cv2.INTER_AREA)
                off = np.abs(to_view(made).astype(float) - to_view(np.ascontiguousarray(wanted))).mean()
                with self.subTest(kind=values, scale=scale):
                    self.assertLess(off, 1.0)

    def test_a_step_of_six_ev_has_no_halo(self):
        light = np.full((240, 400, 3), 0.01, np.float32)
        light[:, 200:] = 0.64
        for values in (f.Light(highlights_pct=-100.0, shadows_pct=100.0), f.Detail(texture_pct=100.0),
                       f.Detail(sharpen_pct=100.0, radius_px=2.0), f.Detail(local_pct=100.0),
                       f.Detail(wide_pct=100.0), f.Light(haze_pct=60.0)):
            y = luminance(whole(light, values))[120]
            dark, bright = np.median(y[:20]), np.median(y[-20:])
            with self.subTest(values):
                self.assertLess(y.max(), 1.03 * max(bright, dark) + 1e-6)
                self.assertGreater(y.min(), min(bright, dark) / 1.03 - 1e-6)

    def test_words_keep_all_of_it_and_limits_hold(self):
        area = Area((Stroke(((3.0, 4.0), (5.0, 6.0)), 20.0),))
        finish = f.Finish(tuple(f.Adjustment(v, "n", n % 2 == 0, area if n % 3 == 0 else None, 60.0)
                                for n, v in enumerate(STRONG)))
        self.assertEqual(from_words(f.Finish, to_words(finish)), finish)
        for wrong in ({"kind": "glitter"}, {"kind": "light", "exposure_ev": 99}, {"kind": "hues", "turn_deg": [1]},
                      {"kind": "hues", "turn_deg": [99, 0, 0, 0, 0, 0, 0, 0]}):
            with self.subTest(wrong), self.assertRaises(WrongWord):
                from_words(f.Finish, {"adjustments": [{"values": wrong}]})


def replace_region(scene: Scene, region: Region) -> Scene:
    return Scene(region, scene.scale, scene.size, scene.small, scene.sample, scene.keep)


class Tables(unittest.TestCase):
    def test_values_between_steps_and_of_any_shape(self):
        table = np.linspace(0, 1, 500, dtype=np.float32) ** 2
        rng = np.random.default_rng(0)
        for shape in ((40, 60), (7,), (3, 70_001), (2, 3, 4)):
            at = rng.uniform(0, 499, shape).astype(np.float32)
            np.testing.assert_allclose(Table(table)(at), np.interp(at, np.arange(500), table), atol=2e-5)


class Each(unittest.TestCase):
    def colours(self, *rgb) -> np.ndarray:
        encoded = np.array(rgb, float)
        return np.repeat((srgb_decoded(encoded) @ SRGB_TO_WORKING.T).astype(np.float32)[None], 2, 0)

    def test_oklab_goes_there_and_back_and_grey_has_no_colour(self):
        light = picture() * 3 - 0.1
        np.testing.assert_allclose(from_oklab(to_oklab(light)), light, atol=2e-4)
        grey = np.repeat(np.geomspace(0.001, 8, 50, dtype=np.float32)[None, :, None], 3, 2)
        self.assertLess(np.abs(to_oklab(grey)[..., 1:]).max(), 1e-4)

    def test_a_curve_goes_through_its_knots_and_never_turns_back(self):
        knots = ((0.0, 0.0), (0.2, 0.1), (0.25, 0.5), (0.9, 0.92), (1.0, 1.0))
        at = np.linspace(0, 1, 500)
        values = curve_values(knots, at)
        self.assertTrue((np.diff(values) >= -1e-9).all())
        np.testing.assert_allclose(curve_values(knots, np.array([0.2, 0.25, 0.9])), (0.1, 0.5, 0.92), atol=1e-9)
        light = self.colours((0.25, 0.25, 0.25), (1, 1, 1))
        made = whole(np.concatenate([light, 4 * light], 1), f.Curve(knots))
        self.assertLess(np.abs(to_view(made)[0, 0] / 255 - 0.5).max(), 0.01)
        np.testing.assert_allclose(made[0, 3], 4.0, rtol=1e-3)  # beyond white it goes on

    def test_steps_that_go_band_by_band_make_what_they_make_of_the_whole(self):
        light = picture()
        area = np.linspace(0, 1, WIDTH * HEIGHT, dtype=np.float32).reshape(HEIGHT, WIDTH)
        values = (f.Light(shadows_pct=50.0), f.Curve(((0.0, 0.0), (0.4, 0.5), (1.0, 1.0))),
                  f.Detail(sharpen_pct=50.0), f.Vignette(-1.5), f.Hues(EIGHT))
        steps = [Step(f.Adjustment(v, strength_pct=80.0), area if n % 2 else None, scene_of(light))
                 for n, v in enumerate(values)]
        made = stepped(light, steps)
        with mock.patch("windfell.finish.kinds.ROWS", HEIGHT):
            np.testing.assert_allclose(made, stepped(light, steps), atol=1e-5)
        self.assertGreater(np.abs(made - light).mean(), 0.01)

    def test_bands_are_the_hues_they_are_called_by(self):
        names = dict(zip(f.BANDS, BAND_HUES, strict=True))
        sky = polar_of(to_oklab(self.colours((0.35, 0.55, 0.85))))[1][0, 0]
        grass = polar_of(to_oklab(self.colours((0.35, 0.6, 0.2))))[1][0, 0]
        sky, grass = (min(names, key=lambda b, n=n: abs((names[b] - n + 180) % 360 - 180)) for n in (sky, grass))
        self.assertEqual(sky, "blue")
        self.assertIn(grass, ("green", "yellow"))
        np.testing.assert_allclose(at_hues(EIGHT, BAND_HUES.astype(np.float32)), EIGHT, atol=1.0)

    def test_neighbourhoods_are_judged_at_the_exposure_they_are_shown_at(self):
        light = picture(noise=0.0) * np.float32(0.2)
        together = whole(light, f.Light(exposure_ev=3.0, shadows_pct=100.0, highlights_pct=-50.0))
        lit = whole(light, f.Light(exposure_ev=3.0))
        apart = whole(lit, f.Light(shadows_pct=100.0, highlights_pct=-50.0))
        off = np.abs(to_view(together).astype(int) - to_view(apart))
        self.assertLess(off.mean(), 0.5)

    def test_saturation_goes_to_grey_and_faint_colours_have_hardly_a_hue(self):
        light = self.colours((0.3, 0.4, 0.9), (0.85, 0.25, 0.2))
        self.assertLess(np.ptp(whole(light, f.Colour(saturation_pct=-100.0)), axis=2).max(), 1e-6)
        faint = from_oklab(np.array([[[0.6, 0.004, -0.004], [0.6, 0.08, -0.08]]], np.float32))
        made = whole(np.repeat(faint, 2, 0), f.Hues(lightness_pct=(100.0,) * 8))
        lighter = np.log2(luminance(made)[0] / luminance(faint)[0])
        self.assertLess(lighter[0], 0.25 * lighter[1])

    def test_bands_pass_over_around_the_circle(self):
        order = np.argsort(BAND_HUES)
        values = np.zeros(8)
        values[order[-1]] = 100.0
        gap = BAND_HUES[order[0]] + 360 - BAND_HUES[order[-1]]
        middle = (BAND_HUES[order[-1]] + gap / 2) % 360
        self.assertAlmostEqual(float(at_hues(values, np.float32([[middle]]))[0, 0]), 50, delta=2)
        near = BAND_HUES[order[0]] - gap / 4
        self.assertGreater(near, 0)
        self.assertAlmostEqual(float(at_hues(values, np.float32([[near]]))[0, 0]), 25, delta=2)

    def test_a_preview_is_not_calmed_more_than_its_noise(self):
        clean = cv2.GaussianBlur(picture(noise=0.0), (0, 0), 1)
        rng = np.random.default_rng(4)
        noisy = clean + 0.05 * np.sqrt(np.maximum(clean, 0)) * rng.standard_normal(clean.shape).astype(np.float32)
        values = f.Detail(noise_pct=80.0, colour_noise_pct=80.0)
        half = cv2.resize(noisy, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        made = whole(half, values, scale=0.5, sample=noisy)
        wanted = cv2.resize(whole(noisy, values), None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        strong = adjusted(half, f.Adjustment(values), None, scene_of(half, sample=noisy))
        root = lambda p: np.sqrt(np.maximum(p, 0))  # noqa: E731
        near, far = (np.abs(root(p) - root(wanted)).mean() for p in (made, strong))
        self.assertLess(near, 0.8 * far)

    def test_one_band_changes_its_hue_alone_and_grey_stays(self):
        light = self.colours((0.3, 0.4, 0.9), (0.85, 0.25, 0.2), (0.5, 0.5, 0.5))
        only_blue = tuple(-100.0 if b == "blue" else 0.0 for b in f.BANDS)
        made = whole(light, f.Hues(saturation_pct=only_blue))
        chroma, before = polar_of(to_oklab(made))[0][0], polar_of(to_oklab(light))[0][0]
        self.assertLess(chroma[0], 0.35 * before[0])
        self.assertGreater(chroma[1], 0.95 * before[1])
        np.testing.assert_allclose(made[0, 2], light[0, 2], rtol=1e-3)
        mono = whole(light, f.Mono(100.0, tuple(-100.0 if b == "blue" else 0.0 for b in f.BANDS)))
        self.assertLess(np.ptp(mono, axis=2).max(), 1e-6)
        self.assertLess(mono[0, 0, 0], 0.5 * luminance(light)[0, 0])

    def test_weak_colours_rise_first_and_skin_is_spared(self):
        light = self.colours((0.45, 0.5, 0.55), (0.1, 0.3, 0.95), (0.78, 0.58, 0.47))
        gain = polar_of(to_oklab(whole(light, f.Colour(weak_pct=100.0))))[0][0] / polar_of(to_oklab(light))[0][0]
        self.assertGreater(gain[0], 1.5)
        self.assertLess(gain[1], 1.3)
        self.assertLess(gain[2], 0.75 * gain[0])

    def test_a_tint_colours_its_range_and_leaves_black_and_white(self):
        grey = self.colours(*((v,) * 3 for v in (0.0, 0.12, 0.5, 0.85, 1.0)))
        lab = to_oklab(whole(grey, f.Tinting(shadows_hue=BAND_HUES[5], shadows_pct=100.0)))
        chroma = polar_of(lab)[0][0]
        self.assertGreater(chroma[1], 0.03)
        self.assertLess(max(chroma[0], chroma[3], chroma[4]), 0.02)

    def test_sharpening_raises_edges_but_not_what_is_below_its_threshold(self):
        light = picture(noise=0.0)
        soft = cv2.GaussianBlur(light, (0, 0), 1.5)
        fine = lambda p: np.abs(np.log2(np.maximum(luminance(p), 1e-3)) - cv2.GaussianBlur(  # noqa: E731
            np.log2(np.maximum(luminance(p), 1e-3)), (0, 0), 1.5)).mean()
        self.assertGreater(fine(whole(soft, f.Detail(sharpen_pct=100.0, threshold_pct=0.0))), 1.12 * fine(soft))
        noisy = np.full((80, 80, 3), 0.2, np.float32) * (
            1 + 0.01 * np.random.default_rng(2).standard_normal((80, 80, 1)).astype(np.float32))
        kept = whole(noisy, f.Detail(sharpen_pct=100.0, threshold_pct=60.0))
        self.assertLess(kept.std(), 1.1 * noisy.std())

    def test_what_is_sharpened_is_seen_by_itself(self):
        light = np.full((120, 160, 3), 0.2, np.float32)
        light[:, 80:] = 0.4
        seen = whole(light, f.Detail(sharpen_pct=50.0, threshold_pct=40.0, alone=True))
        self.assertGreater(seen[60, 78:82].max(), 0.8)
        self.assertLess(seen[:, :60].max(), 1e-4)
        for sharpen in (0.0, 100.0):  # whatever is made of it
            again = whole(light, f.Detail(sharpen_pct=sharpen, threshold_pct=40.0, alone=True))
            np.testing.assert_array_equal(again, seen)
        coarse = KINDS[f.Detail].apply(light, f.Detail(threshold_pct=40.0, alone=True), scene_of(light, scale=0.125))
        self.assertGreater(coarse[60, 78:82].max(), 0.5, "coarse pictures show it too")
        fainter = np.where(light > 0.3, np.float32(0.206), light)
        strict, loose = (whole(fainter, f.Detail(threshold_pct=t, alone=True))[60, 78:82].max() for t in (60.0, 5.0))
        self.assertLess(strict, 0.5 * loose)

    def test_dodging_is_limited_to_its_tones_and_turns_no_order_round(self):
        levels = np.exp2(np.linspace(-9, 2, 200)).astype(np.float32)
        light = np.repeat(np.repeat(levels[None, :, None], 40, axis=0), 3, axis=2)
        where = ("shadows_ev", -7.0, 0.5), ("highlights_ev", 1.2, -7.0), ("middle_ev", -2.4, -8.0)
        for field, inside, outside in where:
            for ev in (1.5, -1.5):
                with self.subTest(field, ev=ev):
                    made = whole(light, f.Dodge(**{field: ev}))[20, :, 1]
                    gain = np.log2(made / levels)
                    at = lambda v, g=gain: float(np.interp(v, np.log2(levels), g))  # noqa: E731
                    self.assertAlmostEqual(at(inside), ev, delta=0.05)
                    self.assertAlmostEqual(at(outside), 0, delta=0.05)
                    self.assertGreater(np.diff(made).min(), 0)

    def test_noise_sinks_as_far_as_the_picture_has_it(self):
        clean = cv2.GaussianBlur(picture(noise=0.0), (0, 0), 2)
        rng = np.random.default_rng(4)
        for sigma in (0.02, 0.06):
            grain = rng.standard_normal(clean.shape).astype(np.float32)
            noisy = clean + sigma * np.sqrt(np.maximum(clean, 0)) * grain
            made = whole(noisy, f.Detail(noise_pct=80.0, colour_noise_pct=80.0))
            rms = lambda p: np.sqrt(np.square(np.sqrt(np.maximum(p, 0)) - np.sqrt(np.maximum(clean, 0))).mean())  # noqa: E731
            self.assertLess(rms(made), 0.55 * rms(noisy))
            colour = whole(noisy, f.Detail(colour_noise_pct=100.0))
            off = np.abs(np.sqrt(np.maximum(luminance(colour), 0)) - np.sqrt(np.maximum(luminance(noisy), 0)))
            self.assertLess(off.mean(), 0.45 * rms(noisy))
        kept = to_view(whole(clean, f.Detail(noise_pct=80.0))).astype(int)
        self.assertLess(np.abs(kept - to_view(clean)).mean(), 0.5)

    def test_blur_along_a_direction_spreads_that_way_alone(self):
        dot = np.zeros((101, 101, 3), np.float32)
        dot[50, 50] = 1
        made = whole(dot, f.Softness(along_px=20.0, along_deg=0.0))[..., 0]
        rows, columns = np.flatnonzero(made.sum(1) > 1e-4), np.flatnonzero(made.sum(0) > 1e-4)
        self.assertEqual(len(rows), 1)
        self.assertLess(abs(len(columns) - 20), 4)
        self.assertAlmostEqual(float(made.sum()), 1.0, places=4)

    def test_stars_go_by_the_amount_asked_and_the_nebula_stays(self):
        rng = np.random.default_rng(8)
        h, w = 400, 600
        y, x = np.mgrid[:h, :w].astype(np.float32)
        nebula = 0.02 + 0.10 * np.exp(-((x - 300) ** 2 / 16000 + (y - 200) ** 2 / 9000))
        nebula = np.stack([nebula, 0.7 * nebula, 0.5 * nebula], -1).astype(np.float32)
        stars = np.zeros_like(nebula)
        for _ in range(120):
            sx, sy, flux = rng.uniform(10, w - 10), rng.uniform(10, h - 10), float(np.exp(rng.uniform(-1.5, 2)))
            spot = flux * np.exp(-((x - sx) ** 2 + (y - sy) ** 2) / (2 * 1.5**2))
            stars += spot[..., None].astype(np.float32)
        light = nebula + stars + 0.0015 * rng.standard_normal(stars.shape).astype(np.float32)
        for less in (50.0, 100.0):
            made = whole(light, f.Stars(less, 12.0))
            taken = (light - made).sum() / stars.sum()
            self.assertLess(abs(taken - less / 100), 0.05)
        free = stars.max(axis=2) < 1e-4
        self.assertLess(np.abs(made[free].sum() / light[free].sum() - 1), 0.01)
        self.assertLess(np.abs(cv2.blur(made, (25, 25))[free] / cv2.blur(nebula, (25, 25))[free] - 1).mean(), 0.05)
        edge = np.full((200, 200, 3), 0.05, np.float32)
        edge[:, 100:] = 0.6
        edge[40:44] = 0.5
        self.assertEqual(np.abs(star_light(edge, 6.0, 0.002)).max(), 0)

    def test_edges_and_channels(self):
        light = np.full((200, 300, 3), 0.3, np.float32)
        made = whole(light, f.Vignette(-2.0, 30.0))
        np.testing.assert_allclose(made[100, 150], 0.3, rtol=1e-6)
        self.assertLess(abs(made[0, 0, 0] / 0.3 - 0.25), 0.01)
        slope = np.linspace(0, 0.03, 300, dtype=np.float32)[None, :, None]
        sky = 0.02 + slope * np.array([1, 0.5, 0.5], np.float32) + np.array([0.02, 0, 0], np.float32)
        sky = np.repeat(sky, 200, 0)
        even = whole(sky, f.Channels(100.0, 100.0))
        self.assertLess(np.ptp(even, axis=2).max(), 0.003)
        self.assertLess(np.ptp(even), 0.004)
        self.assertLess(abs(even.mean() / sky.mean() - 1), 0.25)  # as bright as it was, but for the slope
        colour = whole(sky, f.Channels(100.0, 0.0))
        self.assertLess(np.ptp(colour, axis=2).max(), 0.003)
        self.assertGreater(np.ptp(colour), 0.015)
