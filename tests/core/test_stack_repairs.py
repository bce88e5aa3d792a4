"""Repairs of a stack's picture, and the ways that panoramas have too: healing, texture, a frame alone."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, frames_in, project_of, ridge, write_picture
from windfell.areas.spots import Plane, Sphere
from windfell.engine.moved_repairs import moved_repair
from windfell.engine.repairs import moved_rays
from windfell.finish.healing import healed
from windfell.finish.patch_fill import patch_filled
from windfell.geometry.directions import rays_of
from windfell.job import Job
from windfell.pixels.colour import srgb_encoded, to_view
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Ellipse, Patch, Stroke
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import Kind
from windfell.recipe.outline import Crop, Outline
from windfell.recipe.repairs import Mend, Repair

SIZE = (240, 320)


def ground(seed: int = 1) -> np.ndarray:
    """Land whose texture is alike all over, light that slopes; working light."""
    rng = np.random.default_rng(seed)
    fine = cv2.GaussianBlur(rng.standard_normal(SIZE).astype(np.float32), (0, 0), 1.3)
    slope = np.linspace(0.15, 0.5, SIZE[1], dtype=np.float32)[None, :]
    return (slope * np.exp2(0.5 * fine / fine.std()))[..., None] * np.array([1.0, 0.9, 0.6], np.float32)


def spoiled(light: np.ndarray, box=(150, 100, 40, 40)) -> tuple[np.ndarray, np.ndarray]:
    """With something red on it; where that is."""
    x, y, w, h = box
    hole = np.zeros(light.shape[:2], bool)
    hole[y : y + h, x : x + w] = True
    out = light.copy()
    out[hole] = (0.8, 0.02, 0.02)
    return out, hole


def encoded(light: np.ndarray) -> np.ndarray:
    return np.rint(255 * srgb_encoded(np.clip(light, 0, 1))).astype(np.uint8)


class Texture(unittest.TestCase):
    def test_a_hole_gets_texture_like_that_around_it_and_no_blur(self):
        kept = []
        for seed in range(4):
            light = ground(seed)
            bad, hole = spoiled(light)
            made = patch_filled(bad, hole)
            np.testing.assert_array_equal(made[~hole], bad[~hole])
            log = np.log2(np.maximum(made[..., 1], 1e-3))
            fine = log - cv2.GaussianBlur(log, (0, 0), 4)
            around = cv2.dilate(hole.astype(np.uint8), np.ones((31, 31))) > 0
            inner = cv2.erode(hole.astype(np.uint8), np.ones((3, 3))) > 0
            kept.append(fine[inner].var() / fine[around & ~hole].var())
            self.assertLess(abs(np.log2(made[hole].mean() / light[hole].mean())), 0.25)
            self.assertLess((made[hole][:, 0] / made[hole][:, 2]).max(), 3)  # nothing red came back
        self.assertGreater(np.mean(kept), 0.8)

    def test_stripes_go_on_across_the_hole(self):
        x = np.arange(SIZE[1]) + 0.6 * np.arange(SIZE[0])[:, None]
        light = np.repeat((0.3 + 0.2 * np.sin(x / 5))[..., None], 3, 2).astype(np.float32)
        bad, hole = spoiled(light, (140, 90, 50, 50))
        made = patch_filled(bad, hole)
        smooth = np.where(hole[..., None], cv2.inpaint(encoded(bad), hole.astype(np.uint8), 5, cv2.INPAINT_TELEA), 0)
        off = np.abs(encoded(made).astype(int) - encoded(light))[hole].mean()
        self.assertLess(off, 0.5 * np.abs(smooth.astype(int) - encoded(light))[hole].mean())

    def test_what_is_barred_is_not_taken_and_other_answers_differ(self):
        light = ground()
        bad, hole = spoiled(light)
        bad[:, :100] = (0.02, 0.02, 0.9)
        barred = np.zeros(hole.shape, bool)
        barred[:, :104] = True
        one, other = (patch_filled(bad, hole, barred, seed) for seed in (0, 1))
        self.assertLess((one[hole][:, 2] / one[hole][:, 1]).max(), 2)
        self.assertGreater(np.abs(one - other)[hole].mean(), 0.01)
        self.assertIsNone(patch_filled(bad, hole, np.ones_like(hole)))
        np.testing.assert_array_equal(patch_filled(bad, np.zeros_like(hole)), bad)

    def test_healing_takes_texture_from_there_and_light_from_here(self):
        light = ground()
        bad, hole = spoiled(light)
        there = np.roll(light, 100, axis=1)  # much darker
        made = healed(bad, there, hole)
        np.testing.assert_array_equal(made[~hole], bad[~hole])
        self.assertLess(abs(np.log2(made[hole].mean() / light[hole].mean())), 0.15)
        log = lambda p: np.log2(p[..., 1]) - cv2.GaussianBlur(np.log2(p[..., 1]), (0, 0), 3)  # noqa: E731
        inner = cv2.erode(hole.astype(np.uint8), np.ones((9, 9))) > 0
        self.assertGreater(np.corrcoef(log(made)[inner], log(there)[inner])[0, 1], 0.9)


class StackRepairs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.engine = engine()
        cls.light = ground()
        bad, cls.hole = spoiled(cls.light)
        pictures = [bad, bad, bad, cls.light]
        paths = [write_picture(Path(cls.folder.name) / f"f{n}.png", encoded(p)) for n, p in enumerate(pictures)]
        cls.project, cls.id = project_of(paths, Kind.STACK, combining=Combining(Rule.MEDIAN))
        cls.area = Area((Patch(((148.0, 98.0), (192.0, 98.0), (192.0, 142.0), (148.0, 142.0)), 1.0),))

    def with_repairs(self, *repairs, **more):
        own = self.project.set(self.id)
        return self.project.with_set(replace(own, repairs=repairs, **more))

    def picture(self, project, scale=1.0, region=None):
        return self.engine.picture(project, self.id, scale, Job(), region).light

    def red(self, light) -> float:
        part = light[104:136, 154:186] if light.shape[0] == SIZE[0] else light
        return float(np.median(part[..., 0] / np.maximum(part[..., 1], 1e-4)))

    def test_every_way_takes_the_red_thing_away(self):
        frame = self.project.set(self.id).frames[3].id
        ways = (Repair(Mend.CLONE, self.area, (90.0, 120.0), (170.0, 120.0)),
                Repair(Mend.HEAL, self.area, (90.0, 120.0), (170.0, 120.0)), Repair(Mend.FILL, self.area),
                Repair(Mend.TEXTURE, self.area), Repair(Mend.FRAME, self.area, frame=frame))
        before = self.picture(self.project)
        self.assertGreater(self.red(before), 5)
        for repair in ways:
            with self.subTest(repair.way):
                made = self.picture(self.with_repairs(repair))
                self.assertLess(self.red(made), 1.8)
                np.testing.assert_array_equal(made[:80], before[:80])
                tile = self.picture(self.with_repairs(repair), 1.0, Region(120, 60, 100, 100))
                np.testing.assert_allclose(tile, made[60:160, 120:220], atol=2e-3)
                small = self.picture(self.with_repairs(repair), 0.5)
                wanted = cv2.resize(made, small.shape[1::-1], interpolation=cv2.INTER_AREA)
                self.assertLess(np.abs(to_view(small).astype(int) - to_view(wanted)).mean(), 2)
                self.assertLess(np.abs(to_view(small).astype(int) - to_view(wanted))[50:70, 76:94].mean(), 6)
        cloned = self.picture(self.with_repairs(ways[0]))
        np.testing.assert_allclose(cloned[120, 170], before[120, 90], rtol=0.02)
        healed_one = self.picture(self.with_repairs(ways[1]))
        own = self.light[104:136, 154:186].mean()
        self.assertLess(abs(np.log2(healed_one[104:136, 154:186].mean() / own)),
                        abs(np.log2(cloned[104:136, 154:186].mean() / own)))
        framed = self.picture(self.with_repairs(ways[4]))
        self.assertLess(np.abs(encoded(framed[104:136, 154:186]).astype(int)
                               - encoded(self.light[104:136, 154:186])).max(), 30)

    def test_texture_is_as_rough_as_what_lies_around(self):
        rng = np.random.default_rng(5)
        # grass with smooth spots, which are the most alike to anything on the whole
        rough = cv2.GaussianBlur(rng.uniform(0, 1, (160, 160)).astype(np.float32), (0, 0), 1.2)
        calm = cv2.GaussianBlur(rng.uniform(0, 1, (160, 160)).astype(np.float32), (0, 0), 12)
        share = (calm < np.quantile(calm, 0.25)).astype(np.float32)
        grey = 0.3 + (rough - rough.mean()) * (1 - 0.9 * cv2.GaussianBlur(share, (0, 0), 3))
        light = np.repeat(np.square(grey)[..., None], 3, axis=2)
        hole = np.zeros((160, 160), bool)
        hole[55:105, 55:105] = True
        fine = lambda v: np.sqrt(v[..., 0]) - cv2.GaussianBlur(np.sqrt(v[..., 0]), (0, 0), 3)  # noqa: E731
        ring = (cv2.dilate(hole.astype(np.uint8), np.ones((41, 41))) > 0) & ~hole
        kept = [fine(patch_filled(light, hole, None, seed))[hole].var() for seed in (0, 1, 2)]
        self.assertGreater(np.mean(kept) / fine(light)[ring].var(), 0.2)

    def test_texture_comes_from_where_it_is_wished_or_not_from_where_it_is_not(self):
        left, right = (Area((Patch(((x, 10.0), (x + 100, 10.0), (x + 100, 230.0), (x, 230.0)), 0.0),))
                       for x in (10.0, 230.0))
        texture = Repair(Mend.TEXTURE, self.area)
        made = {name: self.picture(self.with_repairs(replace(texture, sources=area)))[104:136, 154:186]
                for name, area in (("left", left), ("right", right), ("not left", replace(left, inverted=True)),
                                   ("anywhere", None), ("empty", Area()))}
        np.testing.assert_array_equal(made["empty"], made["anywhere"])
        for a, b in (("left", "right"), ("left", "not left")):
            self.assertGreater(np.abs(made[a] - made[b]).mean(), 1e-3)
        # what is taken is, but for its light, a copy of what lies in the wished part
        whole = self.picture(self.project)
        for name, columns in (("left", slice(10, 110)), ("right", slice(230, 330))):
            with self.subTest(name):
                patch = encoded(made[name])[10:22, 10:22]
                there = cv2.matchTemplate(encoded(whole)[10:230, columns], patch, cv2.TM_CCOEFF_NORMED).max()
                other = slice(230, 330) if name == "left" else slice(10, 110)
                elsewhere = cv2.matchTemplate(encoded(whole)[10:230, other], patch, cv2.TM_CCOEFF_NORMED).max()
                self.assertGreater(there, 0.95)
                self.assertLess(elsewhere, 0.85)

    def test_switched_off_it_is_gone_and_a_later_one_stands_on_the_one_before(self):
        on = Repair(Mend.FILL, self.area)
        plain = self.picture(self.project)
        np.testing.assert_array_equal(self.picture(self.with_repairs(replace(on, on=False))), plain)
        copied = Repair(Mend.CLONE, Area((Ellipse((60.0, 60.0), 24.0, 24.0, softness_pct=0.0),)), (170.0, 120.0),
                        (60.0, 60.0))
        both = self.picture(self.with_repairs(on, copied))
        np.testing.assert_allclose(both[60, 60], both[120, 170], rtol=0.03)
        self.assertGreater(self.picture(self.with_repairs(copied, on))[60, 60, 0] / both[60, 60, 1], 1.5)

    def test_it_stays_on_its_place_when_the_picture_is_cropped_and_turned(self):
        repair = Repair(Mend.TEXTURE, self.area)
        own = self.with_repairs(repair)
        whole = self.picture(own)
        cut = own.with_set(replace(own.set(self.id), outline=Outline(crop=Crop(25.0, 25.0, 60.0, 60.0))))
        part = self.picture(cut)
        np.testing.assert_allclose(part[40:80, 60:110], whole[100:140, 140:190], atol=2e-3)
        turned = own.with_set(replace(own.set(self.id), view=replace(own.set(self.id).view, roll_deg=6.0)))
        light = self.picture(turned)
        red = light[..., 0] / np.maximum(light[..., 1], 1e-4)
        self.assertLess(np.percentile(red[light.max(axis=2) > 0.01], 99.9), 3)

    def test_a_piece_drawn_to_another_place_goes_by_px_of_the_reference_in_a_cut_picture_too(self):
        clone = Repair(Mend.CLONE, self.area, (60.0, 60.0), (170.0, 120.0))
        own = self.with_repairs(clone)
        cut = own.with_set(replace(own.set(self.id), outline=Outline(crop=Crop(25.0, 25.0, 60.0, 60.0))))
        stages = self.engine.stages(cut, self.id)
        width, height = stages.size(Job())
        ends = (0.5, 0.5), (0.5 + 20 / width, 0.5 - 10 / height)
        moved = moved_repair(stages, clone, *ends, Job())
        np.testing.assert_allclose(moved.to, (190, 110), atol=0.02)
        self.assertEqual(moved.source, clone.source)
        self.assertNotEqual(moved.area, clone.area)
        only = moved_repair(stages, clone, *ends, Job(), source=True)
        np.testing.assert_allclose(only.source, (80, 50), atol=0.02)
        self.assertEqual((only.to, only.area), (clone.to, clone.area))

    def test_a_clone_goes_with_a_picture_that_is_turned(self):
        spot = Area((Ellipse((60.0, 60.0), 24.0, 24.0, softness_pct=0.0),))
        own = self.with_repairs(Repair(Mend.CLONE, spot, (170.0, 120.0), (60.0, 60.0)))
        turned = own.with_set(replace(own.set(self.id), view=replace(own.set(self.id).view, roll_deg=8.0)))
        stages = self.engine.stages(turned, self.id)
        share = stages.finish_share(spot, Region(0, 0, *stages.size(Job())), 1.0, Job())
        light = self.picture(turned)
        inside = share > 0.99
        self.assertGreater(inside.sum(), 200)
        self.assertGreater((light[inside][:, 0] > 5 * light[inside][:, 1]).mean(), 0.98)

    def test_a_clone_is_turned_clockwise_and_sized_about_its_source(self):
        spot = Area((Ellipse((60.0, 60.0), 36.0, 36.0, softness_pct=0.0),))
        corner = Repair(Mend.CLONE, spot, (150.0, 100.0), (60.0, 60.0))  # red lies to its right and below
        middle = replace(corner, source=(170.0, 120.0))
        for repair, red, free in (
                (corner, (66, 66), (54, 54)), (replace(corner, turn_deg=90.0), (54, 66), (66, 66)),
                (middle, (74, 60), (82, 60)), (replace(middle, size_pct=50.0), (66, 60), (74, 60)),
                (replace(corner, way=Mend.HEAL, turn_deg=-90.0), (66, 54), (54, 54))):
            with self.subTest(repair):
                light = self.picture(self.with_repairs(repair))
                ratio = light[..., 0] / np.maximum(light[..., 1], 1e-4)
                self.assertGreater(ratio[red[::-1]], 2.5 * ratio[free[::-1]])
        half = self.picture(self.with_repairs(replace(middle, size_pct=50.0)), 0.5)
        self.assertGreater(half[30, 33, 0] / half[30, 33, 1], 2.5 * half[30, 37, 0] / half[30, 37, 1])

    def test_what_is_filled_meets_its_rim(self):
        y, x = np.mgrid[: SIZE[0], : SIZE[1]].astype(np.float32)
        light = np.repeat((0.1 + 0.5 * (x / SIZE[1]) * (y / SIZE[0]))[..., None], 3, 2)
        bad, hole = spoiled(light, (140, 90, 60, 60))
        made = patch_filled(bad, hole)
        ring = (cv2.erode(hole.astype(np.uint8), np.ones((3, 3))) == 0) & hole
        self.assertLess(np.abs(made - light)[ring].mean(), 0.006)


class PanoramaRepairs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.project, cls.id = project_of(frames_in(ridge()))

    def picture(self, *repairs, scale=1.0):
        own = self.project.set(self.id)
        return self.engine.picture(self.project.with_set(replace(own, repairs=repairs)), self.id, scale, Job())

    def test_texture_of_a_panorama_comes_from_where_it_is_wished(self):
        meadow = Area((Ellipse((4.0, -14.0), 5.0, 5.0, softness_pct=10.0),))
        sky = Area((Ellipse((6.0, 10.0), 12.0, 8.0, softness_pct=0.0),))

        def blueness(sources: Area | None) -> float:
            own = self.project.set(self.id)
            repair = Repair(Mend.TEXTURE, meadow, sources=sources)
            project = self.project.with_set(replace(own, repairs=(repair,)))
            scale = 700 / self.engine.size(project, self.id, Job())[0]
            light = self.engine.picture(project, self.id, scale, Job()).light
            full = self.engine.stages(project, self.id).canvas(Job())
            canvas = full.resized(round(full.width * scale), round(full.height * scale))
            x, y = np.rint(canvas.pixels(rays_of([(4.0, -14.0)]))[0]).astype(int)
            part = light[y - 4 : y + 5, x - 4 : x + 5]
            return float(np.median(part[..., 2] / part[..., 1]))

        self.assertGreater(blueness(sky), 1.0)
        self.assertLess(blueness(replace(sky, inverted=True)), 0.9)
        self.assertLess(blueness(None), 0.9)

    def test_a_clone_of_a_sphere_is_turned_and_sized_in_the_plane_that_touches_its_source(self):
        repair = Repair(Mend.CLONE, Area(), (40.0, 0.0), (10.0, 0.0))
        for ground in (Sphere(), Plane()):
            def rays(spot, flat=isinstance(ground, Plane)):
                return np.array([[*Plane().points([spot])[0], 1.0]]) if flat else rays_of([spot])

            for change, at, wanted in (
                    ({}, (11.0, 0.0), (41.0, 0.0)), ({"turn_deg": 90.0}, (11.0, 0.0), (40.0, 1.0)),
                    ({"turn_deg": 90.0}, (10.0, 1.0), (39.0, 0.0)), ({"size_pct": 50.0}, (10.0, 1.0), (40.0, 2.0)),
                    ({"size_pct": 200.0}, (11.0, 0.0), (40.5, 0.0))):
                found = moved_rays(ground, replace(repair, **change), rays(at))
                with self.subTest(change, ground=ground):
                    goal = rays(wanted)
                    np.testing.assert_allclose(found, goal / np.linalg.norm(goal), atol=3e-5)
        behind = moved_rays(Sphere(), replace(repair, size_pct=50.0), rays_of([(-170.0, 0.0)]))
        self.assertTrue(np.isnan(behind).all())

    def test_healing_texture_and_a_frame_alone_stay_within_their_area(self):
        plain = self.picture()
        area = Area((Stroke(((-6.0, -8.0), (-2.0, -8.0)), 4.0, 20.0),))
        frames = self.project.set(self.id).frames
        changed = []
        for repair in (Repair(Mend.HEAL, area, (6.0, -10.0), (-6.0, -8.0)), Repair(Mend.TEXTURE, area),
                       Repair(Mend.TEXTURE, area, answer=1), Repair(Mend.FRAME, area, frame=frames[1].id)):
            made = self.picture(repair)
            off = np.abs(made.light - plain.light).max(axis=2)
            changed.append(made.light)
            y, x = np.nonzero(off > 0.01)
            with self.subTest(repair):
                self.assertTrue((made.covered == plain.covered).all())
                if repair.way is not Mend.FRAME:
                    self.assertGreater(len(x), 300)
                self.assertLess(np.ptp(x) if len(x) else 0, 0.3 * plain.light.shape[1])
                if repair.way is not Mend.FRAME:
                    ratio = np.log2(made.light[y, x].mean() / plain.light[y, x].mean())
                    self.assertLess(abs(ratio), 0.5)
                    small = self.picture(repair, scale=0.5)
                    wanted = cv2.resize(made.light, small.light.shape[1::-1], interpolation=cv2.INTER_AREA)
                    inner = cv2.erode(small.covered.astype(np.uint8), np.ones((9, 9))) > 0
                    self.assertLess(np.abs(to_view(small.light).astype(int) - to_view(wanted))[inner].mean(), 4)
        self.assertGreater(np.abs(changed[1] - changed[2]).max(), 0.02)
        grey = lambda p: p.mean(axis=2) - cv2.GaussianBlur(p.mean(axis=2), (0, 0), 2)  # noqa: E731
        smooth = self.picture(Repair(Mend.HEAL, area, (-6.0, 9.0), (-6.0, -8.0))).light  # of the sky
        where = np.abs(changed[1] - plain.light).max(axis=2) > 0.02
        self.assertLess(grey(smooth)[where].var(), 0.5 * grey(plain.light)[where].var())


