"""Areas: the same place for any region, scale and view; their parts, and what is done to them as a whole."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, project_of, write_picture
from windfell.areas.growing import thing_cut
from windfell.areas.kinds import KINDS
from windfell.areas.mending import blemishes, mended
from windfell.areas.painting import painted
from windfell.areas.spots import Plane, Sphere
from windfell.cache import Cache
from windfell.engine.areas import FlatLook, flat_spots, ground_points, on_canvas
from windfell.geometry.directions import rays_of
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.areas import (
    PART_WORDS,
    Area,
    Ellipse,
    Found,
    Gradient,
    Grown,
    Meets,
    Patch,
    Range,
    Read,
    Stroke,
)
from windfell.recipe.words import WrongWord, from_words, to_words
from windfell.shape.canvas import Canvas

BOW = tuple((float(x), float(8 * np.sin(x / 9))) for x in np.linspace(-30, 30, 40))
RING = tuple((25 * float(np.cos(t)), 15 * float(np.sin(t)) + 5) for t in np.linspace(0, 6, 24))
SHAPES = {
    "stroke": Stroke(BOW, 6.0), "hard stroke": Stroke(BOW, 6.0, 0.0), "outline": Patch(RING, 3.0),
    "gradient": Gradient((0.0, 15.0), (5.0, -10.0)), "ellipse": Ellipse((10.0, 5.0), 40.0, 20.0, 30.0)}


def sphere_canvas(width: int = 800) -> Canvas:
    return Canvas("equirectangular", -np.pi, -np.pi / 2, np.pi, np.pi / 2, width, width // 2)


def turned_canvas() -> Canvas:
    view = tuple(from_yaw_pitch_roll(0.3, -0.2, 0.4).ravel())
    return Canvas("stereographic", -1.6, -1.6, 1.6, 1.6, 700, 700, view)


def whole(canvas: Canvas) -> Region:
    return Region(0, 0, canvas.width, canvas.height)


def flat(area: Area, width: int, height: int, scale: float = 1.0, light=None, masks=None, region=None):
    """An area of a picture of width x height px."""
    region = region or Region(0, 0, round(width * scale), round(height * scale))

    def look(wide, _spots):
        def draw(part, k):
            size = round(width * k), round(height * k)
            rows, columns = part.within(Region(0, 0, *size))
            return cv2.resize(light, size, interpolation=cv2.INTER_AREA)[rows, columns]

        return FlatLook(draw, lambda _part, make: make(), lambda: draw(wide, scale), (width, height), masks or {})

    return painted(area, region, flat_spots((width, height), scale), look)


class Places(unittest.TestCase):
    def test_a_shape_lies_on_the_same_directions_in_every_view_and_at_every_scale(self):
        spots = rays_of(np.stack(np.meshgrid(np.linspace(-32, 32, 41), np.linspace(-20, 22, 31)), -1).reshape(-1, 2))
        for name, part in SHAPES.items():
            found = []
            for canvas in (sphere_canvas(1600), turned_canvas().resized(1500, 1500)):
                mask = on_canvas(Area((part,)), Sphere(), canvas, whole(canvas), None)
                px = np.rint(canvas.pixels(spots)).astype(int)
                found.append(mask[px[:, 1], px[:, 0]])
            with self.subTest(name):
                # a px is 0.2 degrees at most; a hard rim may fall on either side of a spot
                off = np.abs(found[0] - found[1])
                self.assertLess(np.mean(off), 0.01)
                self.assertLess(np.percentile(off, 97), 0.15)
                self.assertGreater(np.ptp(found[0]), 0.9)

    def test_regions_are_parts_of_the_whole(self):
        for canvas in (sphere_canvas(), turned_canvas()):
            for name, part in SHAPES.items():
                area = Area((part,), grow=1.0, feather=2.0)
                every = on_canvas(area, Sphere(), canvas, whole(canvas), None)
                region = Region(canvas.width // 2 - 64, canvas.height // 2 - 96, 128, 144)
                part_of = on_canvas(area, Sphere(), canvas, region, None)
                with self.subTest(f"{name} {canvas.projection}"):
                    # lengths are looked up in a grid of 8 px that begins elsewhere, growing goes by whole px
                    off = np.abs(every[region.within(whole(canvas))] - part_of)
                    self.assertLess(off.mean(), 0.004)
                    self.assertLess(off.max(), 0.25)

    def test_a_stroke_closes_across_the_edge_and_over_a_pole(self):
        canvas = sphere_canvas()
        across = on_canvas(Area((Stroke(((170.0, 0.0), (-170.0, 0.0)), 8.0),)), Sphere(), canvas, whole(canvas), None)
        self.assertGreater(across[200, [0, 5, 795, 799]].min(), 0.99)
        self.assertEqual(across[200, 400], 0)
        pole = on_canvas(Area((Stroke(((0.0, 88.0), (180.0, 88.0)), 10.0),)), Sphere(), canvas, whole(canvas), None)
        self.assertGreater(pole[0].min(), 0.99)
        self.assertEqual(pole[100:].max(), 0)

    def test_a_stroke_is_as_wide_as_it_says(self):
        for soft in (0.0, 60.0):
            mask = flat(Area((Stroke(((50.0, 100.0), (250.0, 100.0)), 40.0, soft),)), 300, 200)
            column = mask[:, 150]
            with self.subTest(soft):
                self.assertAlmostEqual(float(column.sum()), 40 if soft == 0 else 40 - 20 * 0.6, delta=0.6)
                self.assertEqual(column[100 - 22], 0)
                self.assertEqual(column[100], 1)

    def test_a_gradient_is_whole_at_its_start(self):
        mask = flat(Area((Gradient((50.0, 20.0), (150.0, 20.0)),)), 200, 40)
        np.testing.assert_allclose(mask[20, [10, 50, 100, 150, 190]], [1, 1, 0.5, 0, 0], atol=0.01)
        canvas = sphere_canvas(400)
        mask = on_canvas(Area((Gradient((0.0, 15.0), (0.0, -10.0)),)), Sphere(), canvas, whole(canvas), None)
        self.assertEqual((mask[100 - 30, 200], mask[100 + 30, 200]), (1.0, 0.0))

    def test_between_far_presses_a_stroke_keeps_to_the_great_circle(self):
        canvas = sphere_canvas()
        mask = on_canvas(Area((Stroke(((-40.0, 30.0), (40.0, 30.0)), 3.0),)), Sphere(), canvas, whole(canvas), None)
        # halfway the way from 30 to 30 degrees passes 37
        self.assertGreater(mask[round((90 - 37) / 180 * 400), 400], 0.9)
        self.assertEqual(mask[round((90 - 30) / 180 * 400), 400], 0)

    def test_pressure_narrows_it(self):
        mask = flat(Area((Stroke(((50.0, 100.0), (250.0, 100.0)), 40.0, 0.0, pressure=(1.0, 0.25)),)), 300, 200)
        self.assertAlmostEqual(float(mask[:, 60].sum() / mask[:, 240].sum()), 38.5 / 11.5, delta=0.4)

    def test_the_plane_of_a_flat_subject_keeps_its_lengths(self):
        canvas = Canvas("rectilinear", -3.0, -0.5, 3.0, 0.5, 1200, 200)
        for at in (0.0, 140.0):
            area = Area((Ellipse((at, 0.0), 20.0, 20.0, softness_pct=0),))
            mask = on_canvas(area, Plane(), canvas, whole(canvas), None)
            # a circle of 10 degrees of the middle is 0.1745 wide a side, 200 px a unit
            self.assertAlmostEqual(float(mask.sum()), np.pi * (0.17453 * 200) ** 2, delta=25)

    def test_points_go_to_the_ground_and_back(self):
        rays = rays_of([(10.0, 5.0), (-20.0, -8.0)])
        for ground in (Sphere(), Plane()):
            again = ground.points(np.array(ground_points(ground, rays)))
            np.testing.assert_allclose(again, ground.of_rays(rays), atol=1e-6)


class Whole(unittest.TestCase):
    def test_parts_add_take_and_meet(self):
        a, b = (Ellipse((x, 100.0), 100.0, 100.0, softness_pct=0) for x in (80.0, 140.0))
        one, two = (flat(Area((p,)), 240, 200) for p in (a, b))
        truths = {Meets.ADD: np.maximum(one, two), Meets.TAKE: one * (1 - two), Meets.BOTH: one * two}
        for meets, truth in truths.items():
            found = flat(Area((a, replace(b, meets=meets))), 240, 200)
            self.assertLess(np.abs(found - truth).mean(), 1e-3, meets)
        self.assertEqual(flat(Area((replace(a, meets=Meets.TAKE),)), 240, 200)[0, 0], 1)

    def test_inverted_weakened_grown_shrunk_and_feathered(self):
        disc = Area((Ellipse((150.0, 150.0), 100.0, 100.0, softness_pct=0),))
        plain = flat(disc, 300, 300)
        np.testing.assert_allclose(flat(replace(disc, inverted=True), 300, 300), 1 - plain, atol=1e-6)
        np.testing.assert_allclose(flat(replace(disc, strength_pct=40.0), 300, 300), 0.4 * plain, atol=1e-6)
        for grow in (10.0, -10.0):
            size = flat(replace(disc, grow=grow), 300, 300).sum()
            self.assertAlmostEqual(size / (np.pi * (50 + grow) ** 2), 1, delta=0.04)
        soft = flat(replace(disc, feather=20.0), 300, 300)
        self.assertAlmostEqual(soft.sum(), plain.sum(), delta=0.01 * plain.sum())
        self.assertAlmostEqual(float(soft[150, 100]), 0.5, delta=0.06)

    def test_nothing_is_nowhere_and_inverted_everywhere(self):
        self.assertEqual(flat(Area(), 40, 30).max(), 0)
        self.assertEqual(flat(Area(inverted=True), 40, 30).min(), 1)
        self.assertTrue(Area().empty)
        self.assertFalse(Area(inverted=True).empty)

    def test_holes_and_specks_are_counted_and_mended(self):
        area = Area((Ellipse((150.0, 150.0), 200.0, 200.0, softness_pct=0),
                     Ellipse((150.0, 130.0), 12.0, 12.0, softness_pct=0, meets=Meets.TAKE),
                     Ellipse((20.0, 20.0), 9.0, 9.0, softness_pct=0)))
        found = blemishes(flat(area, 300, 300), 400)
        self.assertEqual((len(found.holes), len(found.specks)), (1, 1))
        self.assertEqual(found.words, "1 hole, 1 speck")
        after = flat(mended(area, found, lambda px: [tuple(p) for p in px.tolist()], 1.0), 300, 300)
        self.assertEqual(blemishes(after, 400).words, "no holes, no specks")
        self.assertGreater(after[130, 150], 0.99)
        self.assertLess(after[20, 20], 0.01)


class Keeping(unittest.TestCase):
    def test_one_part_more_over_what_is_kept_is_the_same_as_all_anew(self):
        canvas, parts = sphere_canvas(400), tuple(SHAPES.values())
        cache = Cache(64 * 2**20)
        taken = (*parts, replace(SHAPES["ellipse"], meets=Meets.TAKE), replace(SHAPES["stroke"], meets=Meets.BOTH))
        for n in range(1, len(taken) + 1):
            area = Area(taken[:n], feather=1.0)
            kept = on_canvas(area, Sphere(), canvas, whole(canvas), None, cache)
            np.testing.assert_allclose(kept, on_canvas(area, Sphere(), canvas, whole(canvas), None), atol=1e-6)
        again = on_canvas(Area(taken[:2], feather=1.0), Sphere(), canvas, whole(canvas), None, cache)
        np.testing.assert_allclose(
            again, on_canvas(Area(taken[:2], feather=1.0), Sphere(), canvas, whole(canvas), None), atol=1e-6)


class Reading(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        y, x = np.mgrid[:160, :240]
        self.thing = np.hypot((x - 120) / 30, (y - 80) / 45) < 1
        light = np.where(self.thing[..., None], [0.5, 0.08, 0.05], [0.06, 0.2, 0.1])
        self.light = (light * rng.uniform(0.8, 1.2, light.shape)).astype(np.float32)

    def test_a_range_of_hue_and_of_brightness(self):
        by_hue = flat(Area((Range(Read.HUE, 340.0, 30.0, 15.0, meets=Meets.ADD),)), 240, 160, light=self.light)
        self.assertGreater(by_hue[self.thing].mean(), 0.95)
        self.assertLess(by_hue[~self.thing].mean(), 0.05)
        none = flat(Area((Range(Read.HUE, 340.0, 30.0, 15.0, meets=Meets.ADD),)), 240, 160,
                    light=np.full_like(self.light, 0.3))
        self.assertLess(none.max(), 0.05, "grey has no hue")
        grey = np.repeat(np.linspace(0, 1, 240, dtype=np.float32)[None, :, None], 160, 0).repeat(3, 2)
        lit = flat(Area((Range(Read.BRIGHTNESS, 50.0, 100.0, 5.0, meets=Meets.ADD),)), 240, 160, light=grey)
        # L* of 50 is a luminance of 0.184
        self.assertAlmostEqual(float((lit[0] > 0.5).argmax()) / 239, 0.17, delta=0.02)

    def test_a_rough_stroke_finds_the_thing(self):
        part = Grown((((118.0, 60.0), (122.0, 100.0)),), size=8.0)
        for scale in (1.0, 0.5):
            found = flat(Area((part,)), 240, 160, scale, self.light)
            truth = self.thing if scale == 1 else self.thing[::2, ::2]
            both = np.minimum(found, truth).sum() / np.maximum(found, truth).sum()
            self.assertGreater(both, 0.93, scale)

    def test_what_looks_alike_but_lies_apart_is_not_the_thing(self):
        light = self.light.copy()
        light[20:140, 180:215] = light[80, 120]
        found = flat(Area((Grown((((118.0, 50.0), (122.0, 110.0)),), size=14.0),)), 240, 160, light=light)
        self.assertGreater(found[self.thing].mean(), 0.9)
        self.assertLess(found[20:140, 180:215].max(), 0.2)

    def test_a_stroke_beyond_the_picture_finds_nothing(self):
        self.assertEqual(flat(Area((Grown((((900.0, 60.0), (902.0, 60.0)),), size=0.5),)), 240, 160,
                              light=self.light).max(), 0)
        self.assertEqual(thing_cut(self.light, [np.array([[-9.0, 4.0]])], [], 0.2).max(), 0)

    def test_a_stroke_outside_keeps_it_out(self):
        stroke = (((118.0, 55.0), (122.0, 95.0)),)
        plain = flat(Area((Grown(stroke, size=8.0),)), 240, 160, light=self.light)
        told = flat(Area((Grown(stroke, (((110.0, 112.0), (130.0, 112.0)),), 8.0),)), 240, 160, light=self.light)
        self.assertGreater(plain[110:115, 112:129].mean(), 0.8)
        self.assertLess(told[110:115, 112:129].mean(), 0.2)
        self.assertGreater(told[50:70, 112:128].mean(), 0.9)

    def test_a_mask_lies_over_the_whole_frame(self):
        mask = np.zeros((40, 60), np.uint8)
        mask[10:20, 30:60] = 255
        found = flat(Area((Found("m"),)), 240, 160, masks={"m": mask}, light=self.light)
        self.assertAlmostEqual(float(found.mean()), 300 / 2400, delta=0.004)
        self.assertEqual(flat(Area((Found("gone"),)), 240, 160, light=self.light).max(), 0)

    def test_what_reads_nothing_without_a_picture(self):
        canvas = sphere_canvas(80)
        self.assertEqual(on_canvas(Area((Grown((BOW,)),)), Sphere(), canvas, whole(canvas), None).max(), 0)


class OfFrames(unittest.TestCase):
    def test_an_area_of_a_frame_is_drawn_in_its_px_and_reads_its_own_light(self):
        pixels = np.full((600, 900, 3), 60, np.uint8)
        pixels[:, 600:] = 230
        found = np.zeros((30, 45), np.uint8)
        found[:10] = 255
        with tempfile.TemporaryDirectory() as folder:
            path = write_picture(Path(folder) / "f.png", pixels)
            (project, set_id), host = project_of([path, path]), engine()
            host.masks["top"] = found
            frame = project.set(set_id).frames[0]
            opened = host.opened(project, frame, Job())

            def mask(*parts, **whole) -> np.ndarray:
                return host.ignored(opened, replace(frame, ignored=Area(parts, **whole)), Job())

            drawn = mask(Stroke(((100, 300), (300, 300)), 80.0, 0.0))
            self.assertEqual(drawn.shape, (600, 900))
            self.assertEqual([drawn[300, 200], drawn[335, 200], drawn[345, 200], drawn[300, 500]], [255, 255, 0, 0])
            self.assertEqual(list(mask(Found("top"))[[100, 300], 400]), [255, 0])
            bright = mask(Range(Read.BRIGHTNESS, 80.0, 100.0, 2.0, meets=Meets.ADD))
            self.assertEqual([bright[300, 300], bright[300, 750]], [0, 255])
            grown = mask(Stroke(((100, 300), (300, 300)), 80.0, 0.0), grow=30.0)
            self.assertEqual(grown[360, 200], 255)
            self.assertIsNone(host.ignored(opened, frame, Job()))


class Words(unittest.TestCase):
    def test_every_kind_has_its_words_and_its_painting(self):
        self.assertEqual(set(PART_WORDS.values()), set(KINDS))
        parts = (*SHAPES.values(), Range(), Grown((BOW,), (BOW,)), Found("name"))
        area = Area(parts, True, -2.0, 3.0, 60.0)
        self.assertEqual(from_words(Area, json.loads(json.dumps(to_words(area)))), area)
        self.assertEqual(hash(area), hash(replace(area)))

    def test_points_have_two_values(self):
        words = to_words(Area((SHAPES["gradient"],)))
        words["parts"][0]["start"] = [1.0]
        with self.assertRaisesRegex(WrongWord, "start must hold 2 values, not 1"):
            from_words(Area, words)
