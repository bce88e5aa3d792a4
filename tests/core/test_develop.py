"""Development: lens correction against the lens database's own model, white balance, tone, match."""

import tempfile
import unittest
from dataclasses import fields, replace
from pathlib import Path

import cv2
import lensfunpy
import numpy as np
from numpy.testing import assert_allclose

from tests.support import engine, frames_in, green, project_of, ridge, rotation_errors_deg, textured, write_picture
from windfell.demo.canvas import noise
from windfell.demo.faults import _photographer
from windfell.demo.photograph import Shot
from windfell.develop.developer import DevelopedSheet, exposure_matrix
from windfell.develop.fringes import colour_sizes, with_edge_light
from windfell.develop.lens import Taken, optics_of, profile_names, searched, suggested_profile
from windfell.develop.match import matched, shared_light
from windfell.develop.tone import contrast_curve, contrast_factor
from windfell.develop.white_balance import balance_matrix, grey_guess, mired, neutralising
from windfell.engine.lens_estimates import estimated_correction
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, luminance
from windfell.pixels.sheet import Sheet
from windfell.recipe import developing
from windfell.recipe.model import Development, Kind, LensCorrection

ZOOM = Taken(6000, 4000, "Canon", "Canon EOS 5D Mark III", "EF24-70mm f/2.8L II USM", 24.0, None, 4.0)


def picture(seed: int = 3, side: int = 240) -> np.ndarray:
    rng = np.random.default_rng(seed)
    planes = [noise((side, side), (90, 90), 5, rng) for _ in range(3)]
    return np.clip(0.22 * np.exp2(0.9 * np.dstack(planes)), 0.002, 1.6).astype(np.float32)


class LensDatabase(unittest.TestCase):
    def test_lines_of_a_chart_stay_straight(self):
        """The chart is bent by the library's reverse model, ours undoes it."""
        random = np.random.default_rng(2)
        lenses = [x for x in lensfunpy.Database().lenses if x.calib_distortion and x.min_focal and x.crop_factor]
        worst = 0.0
        for n in random.choice(len(lenses), 12, replace=False):
            lens = lenses[n]
            focal = float(random.uniform(lens.min_focal, lens.max_focal or lens.min_focal))
            taken = Taken(6000, 4000, focal_mm=focal)
            correction = LensCorrection(f"{lens.maker} | {lens.model}", crop=lens.crop_factor)
            own = optics_of(correction, taken)
            if own is None or not own.bends:
                continue
            back = lensfunpy.Modifier(lens, lens.crop_factor, 6000, 4000)
            back.initialize(focal, 8.0, 1000.0, scale=1.0, targeom=lens.type,
                            flags=int(lensfunpy.ModifyFlags.DISTORTION), reverse=True)
            camera = Lens(6000, 4000, 1.0)
            for row in (150.0, 900.0, 2000.0, 3800.0):
                seen = np.stack([np.linspace(100, 5900, 30), np.full(30, row)], -1)
                ideal = replace(own, mapping="").ideal(seen, camera.centre, camera.half_diagonal)
                again = np.array([back.apply_geometry_distortion(float(x), float(y), 1, 1)[0, 0] for x, y in seen])
                worst = max(worst, float(np.abs(ideal - again).max()))
        self.assertLess(worst, 0.5)

    def test_bending_is_undone_within_a_hundredth_of_a_pixel(self):
        own = optics_of(LensCorrection(suggested_profile(ZOOM)), ZOOM)
        lens = Lens(6000, 4000, 4200.0, optics=own)
        points = lens.grid(30)
        assert_allclose(lens.project(lens.rays(points)), points, atol=0.01)

    def test_edge_light_follows_the_database(self):
        own = optics_of(LensCorrection(suggested_profile(ZOOM)), ZOOM)
        cam = lensfunpy.Database().find_cameras("Canon", "Canon EOS 5D Mark III")[0]
        lens = lensfunpy.Database().find_lenses(cam, None, "24-70mm f/2.8L II")[0]
        k = lens.interpolate_vignetting(24.0, 4.0, 1000.0).terms
        r = np.linspace(0, 0.99, 30)
        assert_allclose(own.light_kept(r), 1 + k[0] * r**2 + k[1] * r**4 + k[2] * r**6, rtol=0.02)

    def test_profiles_are_found_and_named(self):
        self.assertEqual(suggested_profile(ZOOM), "Canon | Canon EF 24-70mm f/2.8L II USM")
        self.assertIsNone(suggested_profile(replace(ZOOM, lens="Fell 16-45")))
        self.assertIn("Canon | Canon EF 24-70mm f/2.8L II USM", searched("canon 24-70 ii"))
        self.assertGreater(len(profile_names()), 1000)
        whole = {f"{x.maker} | {x.model}" for x in lensfunpy.Database().lenses}
        self.assertEqual(set(profile_names()), whole, "read file by file, it is the whole database")
        with self.assertRaisesRegex(ValueError, "focal length"):
            optics_of(LensCorrection(suggested_profile(ZOOM)), Taken(600, 400))
        with self.assertRaisesRegex(ValueError, "not in the lens database"):
            optics_of(LensCorrection("Nobody | Nothing"), ZOOM)

    def test_by_hand_and_switched_off(self):
        self.assertIsNone(optics_of(LensCorrection(), ZOOM))
        by_hand = optics_of(LensCorrection(k1=-0.1, v1=-0.4, red=1.001), ZOOM)
        self.assertTrue(by_hand.bends and by_hand.fringes and by_hand.light)
        off = LensCorrection(k1=-0.1, v1=-0.4, red=1.001, distortion=False, vignetting=False, fringing=False)
        self.assertIsNone(optics_of(off, ZOOM))

    def test_fringing_is_measured_from_the_frames(self):
        base = cv2.GaussianBlur(textured(600, 800, 4), (0, 0), 1.0).astype(np.float32)[..., 1] / 255
        y, x = np.mgrid[0:600, 0:800].astype(np.float32)
        planes = []
        for size in (1.002, 1.0, 0.9985):
            planes.append(cv2.remap(base, 399.5 + (x - 399.5) / size, 299.5 + (y - 299.5) / size, cv2.INTER_CUBIC,
                                    borderMode=cv2.BORDER_REFLECT))
        red, blue = colour_sizes([np.dstack(planes)])
        self.assertAlmostEqual(red, 1.002, delta=2e-4)
        self.assertAlmostEqual(blue, 0.9985, delta=2e-4)

    def test_edge_light_from_overlaps_becomes_numbers(self):
        c = with_edge_light(LensCorrection(), (-0.5, -0.1, 0.0))
        kept = optics_of(c, ZOOM).light_kept(np.array([0.5, 1.0]))
        assert_allclose(kept, np.exp([-0.125 - 0.00625, -0.6]), atol=0.01)


class WhiteBalance(unittest.TestCase):
    def test_a_light_set_as_temperature_comes_out_grey(self):
        for kelvin, tint in ((2900, 12), (5000, -8), (6504, 0), (11000, 30)):
            with self.subTest(kelvin):
                light = np.linalg.solve(balance_matrix(kelvin, tint), np.ones(3)) * 0.3
                found = neutralising(light)
                self.assertAlmostEqual(mired(found[0]), mired(kelvin), delta=0.1)
                self.assertAlmostEqual(found[1], tint, delta=0.1)

    def test_lower_temperature_makes_it_bluer_and_grey_keeps_its_luminance(self):
        cold = balance_matrix(4000, 0) @ np.ones(3)
        self.assertGreater(cold[2], cold[0])
        self.assertAlmostEqual(float(np.dot([0.2627, 0.6780, 0.0593], cold)), 1.0, places=3)

    def test_automatic_takes_a_cast_away(self):
        scene = picture() * 0.3
        cast = scene @ np.linalg.inv(balance_matrix(4300, 10)).T.astype(np.float32)
        kelvin, _ = grey_guess(cast.astype(np.float32))
        plain, _ = grey_guess(scene)
        self.assertAlmostEqual(mired(kelvin) - mired(plain), mired(4300) - mired(6504), delta=15)

    def test_what_cannot_be_grey_is_said(self):
        for rgb in ((0, 0, 0), (0.9, 0.05, 0.02)):
            with self.assertRaises(ValueError):
                neutralising(np.array(rgb))


class Tone(unittest.TestCase):
    def sheet(self, d: Development, light=None) -> DevelopedSheet:
        light = picture() if light is None else light
        return DevelopedSheet(Sheet(light), d, None, light.shape[1], lambda: light)

    def test_any_region_comes_out_as_in_the_whole(self):
        for field in fields(Development):
            if field.name in ("unknown", "temperature_k"):
                continue
            with self.subTest(field.name):
                sheet = self.sheet(Development(**{field.name: 40.0 if field.metadata["high"] > 5 else 1.0}))
                whole = sheet.light(0, 0, 240, 240)
                assert_allclose(sheet.light(60, 80, 190, 170), whole[80:170, 60:190], rtol=1e-4, atol=1e-5)
                self.assertGreater(np.abs(whole - picture()).max(), 1e-3)

    def test_preview_is_the_export_made_small(self):
        light = picture(5, 480)
        small = cv2.resize(light, (240, 240), interpolation=cv2.INTER_AREA)
        d = Development(shadows_pct=60, highlights_pct=-50, local_contrast_pct=30, haze_pct=30, exposure_ev=0.3)
        full = DevelopedSheet(Sheet(light), d, None, 480, lambda: small).light(0, 0, 480, 480)
        preview = DevelopedSheet(Sheet(small), d, None, 480, lambda: small).light(0, 0, 240, 240)
        error = np.abs(cv2.resize(full, (240, 240), interpolation=cv2.INTER_AREA) - preview)
        self.assertLess(np.median(error / (preview + 0.05)), 0.02)

    def test_each_control_does_what_it_says(self):
        light = picture() * np.linspace(0.05, 1, 240, dtype=np.float32)[:, None, None]
        y = lambda d: self.sheet(d, light).light(0, 0, 240, 240).mean(axis=2)  # noqa: E731
        plain = light.mean(axis=2)
        dark, bright = plain < np.quantile(plain, 0.05), plain > np.quantile(plain, 0.95)
        self.assertGreater(y(Development(shadows_pct=80))[dark].mean(), 1.3 * plain[dark].mean())
        self.assertLess(y(Development(highlights_pct=-80))[bright].mean(), 0.85 * plain[bright].mean())
        self.assertGreater(np.log(y(Development(local_contrast_pct=60))).std(), np.log(plain).std())
        grey = self.sheet(Development(saturation_pct=-100)).light(0, 0, 240, 240)
        assert_allclose(grey[..., 0], grey[..., 2], atol=1e-5)
        self.assertAlmostEqual(float(np.interp(0.18, np.linspace(0, 1, 4096) ** 2 * 4, contrast_curve(60))), 1.0, 2)

    def test_noise_sinks_and_edges_stay(self):
        rng = np.random.default_rng(0)
        clean = np.full((200, 200, 3), 0.1, np.float32)
        clean[:, 100:] = 0.5
        noisy = np.square(np.maximum(np.sqrt(clean) + rng.normal(0, 0.02, clean.shape), 0)).astype(np.float32)
        out = self.sheet(Development(noise_pct=70), noisy).light(0, 0, 200, 200)
        self.assertLess(out[20:180, 20:80].std(), 0.45 * noisy[20:180, 20:80].std())
        self.assertGreater(out[:, 102].mean() - out[:, 97].mean(), 0.35)

    def test_haze_laid_on_is_taken_away(self):
        scene = picture(7) * 0.5
        scene[::9, ::7] = 0.004
        scene[1::9, ::7] = 0.004
        t = np.linspace(1, 0.5, 240, dtype=np.float32)[:, None, None]
        hazy = scene * t + 0.7 * (1 - t)
        out = self.sheet(Development(haze_pct=100), hazy).light(0, 0, 240, 240)
        self.assertLess(np.abs(out[-60:] - scene[-60:]).mean(), 0.8 * np.abs(hazy[-60:] - scene[-60:]).mean())


class Match(unittest.TestCase):
    def test_planted_drifts_come_back(self):
        rng = np.random.default_rng(1)
        base = picture(9)
        planted = [Development()] + [
            Development(float(1e6 / (mired(6504) + d)), 0.0, float(e)) for d, e in
            ((14, 0.5), (-13, -0.5), (8, -0.3), (-9, 0.2))]
        seen = [base @ np.linalg.inv(exposure_matrix(d).astype(float)).T for d in planted]
        for n in range(1, 5):
            seen[n] = np.clip(seen[n] + rng.normal(0, 0.003, base.shape), 0, 1)
            seen[n][: 40 + 15 * n, :90] = rng.random(3) * 0.6
        both = np.ones(base.shape[:2], bool)
        shared = [shared_light(a, a + 1, seen[a], seen[a + 1], both, rng) for a in range(4)]
        shared.append(shared_light(0, 4, seen[0], seen[4], both, rng))
        found = matched([Development()] * 5, 0, shared, Job())
        for true, own in zip(planted, found.developments, strict=True):
            self.assertAlmostEqual(own.exposure_ev, true.exposure_ev, delta=0.03)
            self.assertAlmostEqual(mired(own.temperature_k or 6504), mired(true.temperature_k or 6504), delta=3)

    def test_a_planted_tone_comes_back(self):
        """Frames written with other contrasts and exposures return to the reference's light."""
        rng = np.random.default_rng(2)
        base = np.clip(picture(9), 0.001, 1)
        planted = [Development(), Development(exposure_ev=0.3, contrast_pct=25.0),
                   Development(exposure_ev=-0.2, contrast_pct=-20.0)]
        seen = []
        for d in planted:
            toned = base * contrast_factor(luminance(base).astype(float), -d.contrast_pct)[..., None]
            seen.append(np.clip(toned * 2.0**-d.exposure_ev + rng.normal(0, 0.002, base.shape), 0, 1))
        both = np.ones(base.shape[:2], bool)
        shared = [shared_light(a, b, seen[a], seen[b], both, rng) for a, b in ((0, 1), (1, 2), (0, 2))]
        found = matched([Development()] * 3, 0, shared, Job())
        for true, own, drift in zip(planted, found.developments, found.drifts, strict=True):
            self.assertAlmostEqual(own.contrast_pct, true.contrast_pct, delta=3.0)
            self.assertAlmostEqual(own.exposure_ev, true.exposure_ev, delta=0.03)
            self.assertAlmostEqual(drift.contrast_pct, -own.contrast_pct, delta=1e-2)

    def test_what_either_frame_has_burnt_out_is_not_compared(self):
        rng = np.random.default_rng(2)
        one = np.full((40, 40, 3), 0.3, np.float32)
        burnt = one.copy()
        burnt[:10] = cv2.transform(np.float32([[[1.0, 0.4, 0.1]]]), SRGB_TO_WORKING)[0, 0]
        for pair in ((one, burnt), (burnt, one)):
            shared = shared_light(0, 1, *pair, np.ones((40, 40), bool), rng)
            self.assertEqual(len(shared.light_a), 30 * 40)

    def test_a_frame_that_shares_nothing_is_left_as_it_is(self):
        found = matched([Development(), Development(exposure_ev=1.0)], 0, [], Job())
        self.assertEqual(found.developments[1].exposure_ev, 1.0)
        self.assertIsNone(found.drifts[1])


class InTheEngine(unittest.TestCase):
    def test_development_and_lens_reach_the_picture(self):
        project, set_id = project_of(frames_in(green())[:3], Kind.STACK)
        host = engine()
        ids = [f.id for f in project.sets[0].frames]
        plain = host.picture(project, set_id, 0.5, Job()).light
        lit = developing.develop(project, set_id, ids, {"exposure_ev": 1.0}).project
        assert_allclose(np.median(host.picture(lit, set_id, 0.5, Job()).light / plain), 2.0, rtol=0.01)
        bent = developing.correct_lens(project, set_id, ids, {"k1": -0.12}).project
        moved = host.picture(bent, set_id, 0.5, Job())
        self.assertEqual(moved.light.shape, plain.shape)
        self.assertGreater(np.abs(moved.light[5:40, 5:40] - plain[5:40, 5:40]).mean(), 0.01)
        h, w = plain.shape[:2]
        middle = np.s_[h // 2 - 6 : h // 2 + 6, w // 2 - 6 : w // 2 + 6]
        assert_allclose(moved.light[middle], plain[middle], atol=0.05)

    def test_the_lens_is_estimated_from_the_set(self):
        """The demo's lens keeps 78 % of the light in its corners and does not fringe."""
        project, set_id = project_of(frames_in(ridge()))
        found = estimated_correction(engine(), project, set_id, LensCorrection(), Job())
        self.assertAlmostEqual(1 + found.v1 + found.v2 + found.v3, 0.78, delta=0.03)
        self.assertAlmostEqual(found.red, 1.0, delta=2e-4)
        self.assertAlmostEqual(found.blue, 1.0, delta=2e-4)

    def test_fisheye_frames_register_by_their_profile(self):
        name = "Canon | Canon EF 8-15mm f/4L Fisheye USM"
        taken = Taken(900, 600, focal_mm=15.0)
        correction = LensCorrection(name, focal_mm=15.0, crop=1.0)
        own = optics_of(correction, taken)
        self.assertTrue(own.mapping)
        lens = Lens(900, 600, own.focal * 0.5 * float(np.hypot(900, 600)), optics=own)
        photographer = _photographer("ridge", 3)
        turns = [from_yaw_pitch_roll(np.radians(y), np.radians(p), 0.01) for y, p in ((-40, -6), (0, -4), (42, -7))]
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for n, turn in enumerate(turns):
                shot = Shot(lens, turn, noise=0.003, seed=n)
                paths.append(write_picture(Path(folder) / f"{n}.png", photographer.take(shot)))
            project, set_id = project_of(paths)
            ids = [f.id for f in project.sets[0].frames]
            values = {"profile": name, "focal_mm": 15.0, "crop": 1.0}
            project = developing.correct_lens(project, set_id, ids, values).project
            found = engine().stages(project, set_id).registration(Job())
            self.assertEqual(found.placed, [0, 1, 2])
            errors = rotation_errors_deg([f.rotation for f in found.frames], turns)
            self.assertLess(errors.max(), 0.15)

    def test_edits_say_what_they_did_and_copy_what_is_chosen(self):
        project, set_id = project_of(frames_in(green())[:3], Kind.STACK)
        ids = [f.id for f in project.sets[0].frames]
        edit = developing.develop(project, set_id, ids[:1], {"temperature_k": 5200.0})
        self.assertEqual(edit.words, "temperature as shot to 5200 K")
        more = developing.develop(edit.project, set_id, ids[:1], {"contrast_pct": 20.0}).project
        copied = developing.copy_development(more, set_id, ids[0], ids[1:], ["contrast_pct"]).project
        self.assertEqual(copied.sets[0].frames[2].development, Development(contrast_pct=20.0))
