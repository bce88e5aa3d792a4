"""The scene generator: its truth is what its pictures show."""

import os
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import frames_in, green, truth_of
from windfell.demo.canvas import KEPT_IN, Canvas, kept, noise
from windfell.demo.landscape import paint_sky
from windfell.demo.lanterns import LanternPlan, write_lanterns
from windfell.demo.photograph import Photographer, Shot, resampled
from windfell.demo.sets import SETS, BracketPlan, GreenPlan, RowPlan, row_shots, write_brackets, write_green
from windfell.demo.visitors import Visitor, draw_visitor
from windfell.frames.still import StillFrame
from windfell.frames.video import video_facts
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Cancelled, Job
from windfell.pixels.colour import srgb_decoded


def dotted_canvas() -> tuple[Canvas, list[tuple[float, float]]]:
    """A grey canvas with white dots at known directions (lon, lat) in degrees."""
    c = Canvas(3600, -50, 50, 1)
    c.colour[:] = 0.3
    dots = [(-20.0, 5.0), (0.0, 0.0), (12.5, -8.0), (18.0, 10.0)]
    for lon, lat in dots:
        x, y = c.point(lon, lat)
        yy, xx = np.mgrid[0 : c.height, 0 : c.width]
        near = (np.abs(xx - x) < 30) & (np.abs(yy - y) < 30)
        c.colour[near] += (0.6 * np.exp(-((xx - x) ** 2 + (yy - y) ** 2) / 18))[near][:, None].astype(np.float32)
    return c, dots


class Cameras(unittest.TestCase):
    def test_directions_land_where_the_lens_says(self):
        canvas, dots = dotted_canvas()
        lens = Lens(700, 500, 600.0, -0.06)
        turn = from_yaw_pitch_roll(0.03, -0.02, 0.05)
        seen = Photographer(canvas).clean(Shot(lens, turn))[..., 0]
        for lon, lat in dots:
            a, b = np.radians([lon, lat])
            ray = np.array([np.sin(a) * np.cos(b), -np.sin(b), np.cos(a) * np.cos(b)])
            x, y = lens.project((ray @ turn)[None])[0]
            box = seen[int(y) - 12 : int(y) + 13, int(x) - 12 : int(x) + 13] - 0.3
            yy, xx = np.mgrid[int(y) - 12 : int(y) + 13, int(x) - 12 : int(x) + 13]
            middle = (box * xx).sum() / box.sum(), (box * yy).sum() / box.sum()
            assert_allclose(middle, (x, y), atol=0.1)  # the canvas's own pixels are 0.1 degrees

    def test_slopes_of_light_stay_where_they_are_between_the_canvas_s_px(self):
        y, x = np.mgrid[0:40, 0:60].astype(np.float32)
        rng = np.random.default_rng(1)
        at = rng.uniform([5, 5], [55, 35], (20, 30, 2))
        seen = resampled(np.dstack([x, y]), at[..., 0], at[..., 1])
        assert_allclose(seen, at, atol=2e-4)

    def test_a_camera_across_the_back_sees_no_tear(self):
        canvas = Canvas(1800, -50, 50, 2)
        canvas.colour[:] = np.cos(np.radians(canvas.lon))[None, :, None] * 0.3 + 0.5
        seen = Photographer(canvas).clean(Shot(Lens(300, 200, 250.0), from_yaw_pitch_roll(np.pi, 0, 0)))
        self.assertLess(np.abs(np.diff(seen[100, :, 0])).max(), 0.02)

    def test_gain_and_dark_corners_are_as_planted(self):
        canvas = Canvas(1200, -50, 50, 3)
        canvas.colour[:] = 0.5
        shot = Shot(Lens(300, 200, 300.0), np.eye(3), (0.9, 0.8, 0.7), 0.25, 0.0)
        from windfell.pixels.colour import srgb_decoded

        light = srgb_decoded(Photographer(canvas).take(shot) / 255.0) / srgb_decoded(0.5)
        assert_allclose(light[100, 150], [0.9, 0.8, 0.7], atol=0.01)
        assert_allclose(light[0, 0] / light[100, 150], 0.75, atol=0.02)

    def test_the_same_row_at_every_scale(self):
        small, large = row_shots(RowPlan(), 0.2), row_shots(RowPlan(), 1.0)
        for a, b in zip(small, large, strict=True):
            assert_allclose(a.rotation, b.rotation)
            self.assertAlmostEqual(a.lens.focal_px * 5, b.lens.focal_px)
        self.assertNotEqual(row_shots(replace(RowPlan(), seed=9))[0].rotation.tolist(), large[0].rotation.tolist())

    def test_neighbours_overlap_as_planned(self):
        shots = row_shots(RowPlan(jitter_deg=0.0, overlap=0.3))
        step = np.degrees(np.arccos(np.clip((np.trace(shots[0].rotation.T @ shots[1].rotation) - 1) / 2, -1, 1)))
        field = 2 * np.degrees(np.arctan(1067 / 2 / 1620))
        self.assertAlmostEqual(1 - step / field, 0.3, delta=0.01)


class Visitors(unittest.TestCase):
    def test_the_mask_holds_all_that_a_visitor_changes(self):
        scene, mask = np.full((200, 200, 3), 0.6, np.float32), np.zeros((200, 200), np.uint8)
        before = scene.copy()
        draw_visitor(scene, mask, Visitor(90, 170, 120, 0.8, (0.8, 0.2, 0.2), (0.1, 0.1, 0.2)))
        changed = np.abs(scene - before).max(axis=2) > 0.03
        self.assertTrue((mask[changed] == 255).all())
        self.assertGreater(changed.sum(), 1500)

    def test_no_spot_is_covered_in_half_of_the_frames(self):
        masks = [cv2.imread(str(green() / f["mask"]), 0) > 0 for f in truth_of(green())["frames"]]
        self.assertLess(np.mean(masks, axis=0).max(), 0.5)


class Sets(unittest.TestCase):
    def test_what_is_shipped_has_truth_that_fits(self):
        import windfell.demo.sets as module

        shipped = Path(module.__file__).parent / "frames"
        self.assertEqual({p.name for p in shipped.iterdir()}, {
            "ridge-sweep", "village-green", "kite-clip", "two-row-sweep", "tarn-round", "drystone-wall",
            "turning-stars", "lantern-boats", "one-kite", "group", "chapel-stack", "chapel-brackets"})
        self.assertLessEqual({p.name for p in shipped.iterdir()}, set(SETS))
        clip = truth_of(shipped / "kite-clip")["frames"]
        facts = video_facts(str(shipped / "kite-clip" / "kite-clip.mp4"))
        self.assertEqual((facts.width, facts.height), (clip[0]["width"], clip[0]["height"]))
        self.assertEqual(round(facts.duration_s * facts.rate), len(clip))
        for key in ("two-row-sweep", "tarn-round", "drystone-wall", "turning-stars", "lantern-boats", "one-kite",
                    "group", "chapel-stack", "chapel-brackets"):
            frames = truth_of(shipped / key)["frames"]
            self.assertEqual([Path(p).name for p in frames_in(shipped / key)], [f["file"] for f in frames])
        for key in ("ridge-sweep", "village-green"):
            frames = truth_of(shipped / key)["frames"]
            self.assertEqual([Path(p).name for p in frames_in(shipped / key)], [f["file"] for f in frames])
            height, width = cv2.imread(str(shipped / key / frames[0]["file"])).shape[:2]
            self.assertEqual((width, height), (frames[0]["width"], frames[0]["height"]))
            self.assertGreaterEqual(max(width, height), 1600)

    def test_lanterns_cross_the_tarn_over_a_black_that_differs(self):
        plan = LanternPlan(count=3, noise=0.0)
        with tempfile.TemporaryDirectory() as folder:
            write_lanterns(Path(folder), plan, 0.25, Job())
            frames = [srgb_decoded(cv2.imread(p)[..., ::-1] / 255.0) for p in frames_in(Path(folder))]
            black = np.array([f["black"] for f in truth_of(Path(folder))["frames"]])
        lamps = []
        for frame in frames:
            lit = np.argwhere(frame[..., 0] > 0.6)
            self.assertGreater(len(lit), 4)
            lamps.append(lit[:, 1].mean())
        self.assertTrue((np.diff(lamps) > 8).all())
        self.assertGreater(np.ptp(black, axis=0).max(), 0.3 * plan.black)
        sky = np.array([f[:10].mean(axis=(0, 1)) for f in frames])
        self.assertLess(np.abs((sky - sky[0]) - (black - black[0])).max(), 0.004)

    def test_brackets_step_by_their_exposure(self):
        with tempfile.TemporaryDirectory() as folder:
            write_brackets(Path(folder), BracketPlan(positions=1), 0.2, Job())
            dark, middle, bright = (
                StillFrame(str(Path(folder) / f"chapel-{n:02d}.jpg")) for n in (2, 1, 3))
            for a, b in ((dark, middle), (middle, bright)):
                self.assertAlmostEqual(b.metadata.exposure_value - a.metadata.exposure_value, 2.0, places=2)
                fair = (b.linear(60, 40).max(axis=2) < 0.7) & (a.linear(60, 40).min(axis=2) > 0.01)
                ratio = np.median(b.linear(60, 40)[fair] / a.linear(60, 40)[fair])
                self.assertAlmostEqual(float(np.log2(ratio)), 2.0, delta=0.1)

    def test_drawing_can_be_stopped(self):
        job = Job()
        job.stop()
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(Cancelled):
            write_green(Path(folder), GreenPlan(), 0.1, job)

    def test_the_sky_is_not_pinched_where_longitudes_meet(self):
        canvas = Canvas(1600, -90, 90, 3)
        paint_sky(canvas)
        up = Shot(Lens(400, 400, 560.0), from_yaw_pitch_roll(0, np.pi / 2, 0), noise=0.0)
        grey = Photographer(canvas).clean(up).mean(axis=-1)
        y, x = np.mgrid[0:400, 0:400] - 199.5
        away = np.hypot(x, y)
        gy, gx = np.gradient(cv2.GaussianBlur(grey, (0, 0), 1.5))
        near = (away > 4) & (away < 90)
        along = ((gx * x + gy * y) / away)[near]
        around = ((gy * x - gx * y) / away)[near]
        self.assertGreater(np.std(along), 0.002, "there are clouds")
        self.assertLess(abs(np.log2(np.std(around) / np.std(along))), 0.6)

    def test_a_scene_is_painted_once_where_scenes_are_kept(self):
        painted = []

        @kept
        def paint_little(width: int, low: float = -9) -> Canvas:
            painted.append(width)
            canvas = Canvas(width, low, 9, 3)
            canvas.colour[:] = canvas.noise((5, 5), 2)[..., None]
            return canvas

        with mock.patch.dict(os.environ, {KEPT_IN: ""}):
            first = paint_little(90)
        with tempfile.TemporaryDirectory() as folder, mock.patch.dict(os.environ, {KEPT_IN: folder}):
            again, read, other = paint_little(90), paint_little(90), paint_little(90, low=-60)
            self.assertEqual(len(os.listdir(folder)), 2)
        self.assertEqual(painted, [90] * 3)
        drawn = first.rng.random()
        for canvas in (again, read):
            np.testing.assert_array_equal(canvas.colour, first.colour)
            self.assertEqual(canvas.rng.random(), drawn)
        self.assertNotEqual(other.height, first.height)

    def test_noise_wraps_and_is_even(self):
        n = noise((64, 256), (32, 32), 4, np.random.default_rng(1))
        self.assertLess(abs(float(n.mean())), 0.4)
        inner = np.abs(np.diff(n, axis=1)).mean()
        self.assertLess(np.abs(n[:, 0] - n[:, -1]).mean(), 3 * inner)
