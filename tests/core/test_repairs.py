"""Pieces laid over a panorama: cloned, filled, taken back from a flat view; they stay on their place."""

import tempfile
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from types import SimpleNamespace
from unittest.mock import patch

import cv2
import numpy as np
import tifffile

from tests.support import engine, frames_in, project_of, ridge
from windfell.engine.area_pictures import share_at
from windfell.engine.area_reach import extent_of, may_reach
from windfell.engine.areas import on_canvas
from windfell.engine.flat_view import flat_set, taken_back, write_flat_view
from windfell.engine.moved_repairs import moved_repair
from windfell.engine.repairs import smoothly_filled
from windfell.errors import BadRequest
from windfell.finish.patch_fill import patch_places
from windfell.geometry.directions import rays_of
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Ellipse, Found, Gradient, Grown, Patch, Range, Stroke
from windfell.recipe.model import ProjectionChoice, View
from windfell.recipe.project_file import load_project, missing_files, save_project
from windfell.recipe.repairs import Mend, Repair

SIDE = 900


@lru_cache(maxsize=1)
def scene():
    return engine(), *project_of(frames_in(ridge()))


def picture(repairs=(), view: View = View()):
    """(light (h, w, 3), its canvas) of the row with repairs."""
    own, project, set_id = scene()
    changed = project.with_set(replace(project.set(set_id), repairs=tuple(repairs), view=view))
    stages = own.stages(changed, set_id)
    full = stages.canvas(Job())
    scale = SIDE / full.width
    canvas = full.resized(round(full.width * scale), round(full.height * scale))
    return own.picture(changed, set_id, scale, Job()).light, canvas


def at(light: np.ndarray, canvas, spot: tuple[float, float], reach: int = 4) -> np.ndarray:
    x, y = np.rint(canvas.pixels(rays_of([spot]))[0]).astype(int)
    return light[y - reach : y + reach + 1, x - reach : x + reach + 1]


class Moving(unittest.TestCase):
    def test_every_form_of_area_goes_with_the_repair_and_found_ones_stay(self):
        own, project, set_id = scene()
        stages = own.stages(project, set_id)
        canvas = stages.canvas(Job())
        start, end = ((canvas.pixels(rays_of([p]))[0] + 0.5) / [canvas.width, canvas.height]
                      for p in ((-6.0, 1.0), (2.0, -3.0)))
        spot = (-6.0, 1.0)
        parts = (Stroke((spot,)), Patch((spot,)), Gradient(spot, (-6.5, 1.0)), Ellipse(spot),
                 Grown(((spot,),), ((spot,),)), Range())
        moved = moved_repair(stages, Repair(Mend.TEXTURE, Area(parts)), start, end, Job()).area.parts
        places = (moved[0].points[0], moved[1].corners[0], moved[2].start, moved[3].middle, moved[4].inside[0][0],
                  moved[4].outside[0][0])
        for place in places:
            np.testing.assert_allclose(place, (2.0, -3.0), atol=0.002)
        np.testing.assert_allclose(share_at(stages, places[0], Job()), end, atol=1e-5)
        self.assertAlmostEqual(moved[2].end[0], 1.5, delta=0.01)
        self.assertEqual(moved[5], parts[5])
        for still in (Repair(Mend.GROW), Repair(Mend.FILL, Area((Found("mask"),)))):
            with self.assertRaisesRegex(BadRequest, "cannot be moved"):
                moved_repair(stages, still, start, end, Job())
        looks = moved_repair(stages, Repair(Mend.PICTURE, yaw_deg=-6.0, pitch_deg=1.0), start, end, Job())
        np.testing.assert_allclose((looks.yaw_deg, looks.pitch_deg), (2.0, -3.0), atol=0.002)


class Cloning(unittest.TestCase):
    def test_a_clone_shows_the_source_and_leaves_the_rest(self):
        plain, canvas = picture()
        area = Area((Ellipse((5.0, 2.0), 8.0, 8.0, softness_pct=20.0),))
        clone = Repair(Mend.CLONE, area, (-12.0, 2.0), (5.0, 2.0))
        light, _ = picture((clone,))
        there = at(plain, canvas, (-12.0, 2.0), 6)
        self.assertLess(np.abs(at(light, canvas, (5.0, 2.0), 6) - there).mean(), 0.3 * np.abs(
            at(plain, canvas, (5.0, 2.0), 6) - there).mean())
        np.testing.assert_array_equal(at(light, canvas, (-12.0, 2.0)), at(plain, canvas, (-12.0, 2.0)))
        np.testing.assert_array_equal(picture((replace(clone, on=False),))[0], plain)
        np.testing.assert_array_equal(picture((replace(clone, area=Area()),))[0], plain)

    def test_it_stays_on_its_place_when_the_view_changes(self):
        clone = Repair(Mend.CLONE, Area((Ellipse((5.0, 2.0), 8.0, 8.0),)), (-12.0, 2.0), (5.0, 2.0))
        views = View(), View(ProjectionChoice.STEREOGRAPHIC, yaw_deg=6.0, roll_deg=3.0)
        found = [at(*picture((clone,), v), (5.0, 2.0), 2).mean(axis=(0, 1)) for v in views]
        np.testing.assert_allclose(found[0], found[1], rtol=0.08)

    def test_a_clone_takes_what_lies_below_it(self):
        calm = Repair(Mend.FILL, Area((Stroke(((0.0, -4.0),), 7.0, 20.0),)))
        area = Area((Ellipse((9.0, -4.0), 4.0, 4.0, softness_pct=0.0),))
        again = Repair(Mend.CLONE, area, (0.0, -4.0), (9.0, -4.0))
        plain, canvas = picture((again,))
        light, _ = picture((calm, again))
        spread = [at(p, canvas, (9.0, -4.0), 2).std(axis=(0, 1)).mean() for p in (plain, light)]
        self.assertLess(spread[1], 0.5 * spread[0])


class Reaches(unittest.TestCase):
    def test_an_area_is_nowhere_where_it_is_told_not_to_reach(self):
        rng, skipped = np.random.default_rng(3), 0
        for projection in (ProjectionChoice.EQUIRECTANGULAR, ProjectionChoice.RECTILINEAR,
                           ProjectionChoice.STEREOGRAPHIC):
            own, project, set_id = scene()
            view = View(projection=projection, pitch_deg=20.0)
            stages = own.stages(project.with_set(replace(project.set(set_id), view=view)), set_id)
            canvas = stages.canvas(Job()).scaled(0.4)
            w, h = min(200, canvas.width), min(150, canvas.height)
            for k in range(60):
                spots = tuple((float(x), float(y)) for x, y in rng.uniform((-60, -40), (60, 60), (1 + k % 3, 2)))
                part = (Stroke(spots, float(rng.uniform(0.5, 6)), 50.0),
                        Ellipse(spots[0], float(rng.uniform(1, 12)), 3.0))[k % 2]
                area = Area((part,), grow=float(rng.uniform(0, 2)), feather=float(rng.uniform(0, 1)))
                region = Region(int(rng.integers(0, canvas.width - w + 1)), int(rng.integers(
                    0, canvas.height - h + 1)), w, h)
                if not may_reach(area, stages.area_ground, canvas, region):
                    skipped += 1
                    self.assertLess(on_canvas(area, stages.area_ground, canvas, region, None).max(), 1e-3)
        self.assertGreater(skipped, 20)
        self.assertTrue(may_reach(Area(inverted=True), stages.area_ground, canvas, region))

    def test_where_a_region_shows_nothing_in_parts_an_area_may_reach(self):
        own, project, set_id = scene()
        stages = own.stages(project, set_id)
        canvas = stages.canvas(Job()).scaled(0.4)
        nowhere = SimpleNamespace(rays=lambda p: np.where(p[..., :1] < 50, np.nan, canvas.rays(p)))
        far = Area((Ellipse((170.0, 80.0), 1.0, 1.0),))
        region = Region(0, 0, 100, 100)
        self.assertTrue(may_reach(far, stages.area_ground, nowhere, region))
        self.assertFalse(may_reach(far, stages.area_ground, canvas, region))

    def test_extents_hold_all_parts(self):
        area = Area((Stroke(((10.0, 20.0), (30.0, 5.0)), 4.0, 0.0), Ellipse((80.0, 40.0), 10.0, 20.0)), grow=2.0)
        low, high = extent_of(area)
        self.assertEqual((low.tolist(), high.tolist()), ([4.0, -1.0], [92.0, 52.0]))
        self.assertIsNone(extent_of(replace(area, inverted=True)))


class InDrafts(unittest.TestCase):
    def test_repairs_are_seen_while_a_hand_moves_once_they_have_been_shown(self):
        own, project, set_id = scene()
        spot, elsewhere = (4.0, -6.0), (14.0, 12.0)
        area = Area((Ellipse(spot, 6.0, 6.0, softness_pct=10.0),))
        ways = {
            "clone": Repair(Mend.CLONE, area=area, source=elsewhere, to=spot), "fill": Repair(Mend.FILL, area=area),
            "off": Repair(Mend.FILL, area=area, on=False)}
        for name, repair in ways.items():
            with self.subTest(name):
                changed = project.with_set(replace(project.set(set_id), repairs=(repair,)))
                bare = own.draft(project, set_id, 420, Job()).pixels
                first = own.draft(changed, set_id, 420, Job()).pixels
                np.testing.assert_array_equal(first, bare)  # not waited for
                seen = to_view(own.picture(changed, set_id, 420 / own.size(changed, set_id, Job())[0], Job()).light)
                draft = own.draft(changed, set_id, 420, Job()).pixels
                moved = np.abs(draft.astype(int) - bare)[..., :3].max(axis=2) > 0
                if name == "off":
                    self.assertFalse(moved.any())
                    continue
                self.assertGreater(moved.mean(), 0.002)
                self.assertLess(moved.mean(), 0.1)
                off = np.abs(draft[..., :3].astype(int) - seen)[moved].mean()
                self.assertLess(off, np.abs(bare[..., :3].astype(int) - seen)[moved].mean() * 0.6)
                turned = changed.with_set(replace(changed.set(set_id), view=View(yaw_deg=20.0)))
                plain = project.with_set(replace(project.set(set_id), view=View(yaw_deg=20.0)))
                there = own.draft(turned, set_id, 420, Job()).pixels.astype(int)
                self.assertGreater((np.abs(there - own.draft(plain, set_id, 420, Job()).pixels) > 0).mean(), 0.002)


class Filling(unittest.TestCase):
    def test_a_hole_in_a_smooth_picture_is_filled_as_it_was(self):
        y, x = np.mgrid[:120, :160].astype(np.float32)
        light = np.dstack([0.2 + 0.002 * x, 0.3 + 0.001 * y, 0.4 + 0 * x]).astype(np.float32)
        known = np.hypot(x - 80, y - 60) > 25
        holed = np.where(known[..., None], light, 9.0).astype(np.float32)
        found = smoothly_filled(holed, known)
        self.assertLess(np.abs(found - light).max(), 0.02)
        np.testing.assert_allclose(found[known], light[known], atol=1e-5)

    def test_a_fill_takes_a_thing_away_and_covers_what_no_frame_shows(self):
        plain, canvas = picture()
        spot = (0.0, -4.0)
        light, _ = picture((Repair(Mend.FILL, Area((Stroke((spot,), 5.0, 20.0),))),))
        before, after = at(plain, canvas, spot, 5), at(light, canvas, spot, 5)
        self.assertLess(after.std(axis=(0, 1)).mean(), 0.35 * before.std(axis=(0, 1)).mean())
        top = next(lat for lat in np.arange(5.0, 60, 0.5) if not at(plain, canvas, (0.0, lat), 0).any())
        wide, _ = picture((Repair(Mend.FILL, Area((Stroke(((0.0, top - 0.5),), 6.0, 0.0),))),))
        self.assertGreater(at(wide, canvas, (0.0, top), 0).min(), 0.02)

    def test_texture_is_taken_from_the_same_places_whatever_the_blend(self):
        own, project, set_id = scene()
        mended = replace(project.set(set_id), repairs=(Repair(Mend.TEXTURE, Area((Stroke(((-6.0, 1.0),), 3.0),))),))
        seen = []
        with patch("windfell.engine.repairs.patch_places", wraps=patch_places) as looked:
            for pct in (20.0, 90.0):
                changed = project.with_set(replace(mended, joining=replace(mended.joining, blend_pct=pct)))
                seen.append(own.picture(changed, set_id, 0.4, Job()).light)
            self.assertEqual(looked.call_count, 1)
            plain = own.picture(project.with_set(mended), set_id, 0.4, Job()).light
            self.assertEqual(looked.call_count, 1, "the usual blend is that in which it is looked for")
        untouched = own.picture(project, set_id, 0.4, Job()).light
        self.assertGreater(np.abs(plain - untouched).max(), 0.05, "something is filled")
        self.assertLess(max(np.quantile(np.abs(s - plain), 0.999) for s in seen), 0.03)


class FlatViews(unittest.TestCase):
    def setUp(self):
        self.home = tempfile.TemporaryDirectory()
        self.addCleanup(self.home.cleanup)
        self.path = Path(self.home.name) / "flat.tif"
        self.engine, self.project, self.set_id = scene()

    def test_a_flat_view_written_changed_and_taken_back_lies_where_it_was(self):
        look = (4.0, -3.0, 34.0)
        written = write_flat_view(self.engine, self.project, self.set_id, look, self.path, Job())
        pixels = tifffile.imread(self.path)
        self.assertEqual((pixels.dtype, pixels.shape[:2]), (np.uint16, (written.height, written.width)))
        self.assertAlmostEqual(written.width / written.height, 1.5, delta=0.01)
        flat = flat_set(self.project.set(self.set_id), *look)
        stages = self.engine.stages(self.project.with_set(flat), self.set_id)
        spot = stages.canvas(Job()).pixels(rays_of([(4.0, -3.0)]))[0]
        cv2.circle(pixels, tuple(np.rint(spot).astype(int).tolist()), 14, (65535, 0, 0, 65535), -1)
        tifffile.imwrite(self.path, pixels)
        for seen in (look, (6.0, -2.0, 38.0)):
            repair = taken_back(self.engine, self.project, self.set_id, seen, self.path, Job())
            self.assertAlmostEqual(repair.yaw_deg, 4.0, delta=0.05)
            self.assertAlmostEqual(repair.pitch_deg, -3.0, delta=0.05)
            self.assertAlmostEqual(repair.roll_deg, 0.0, delta=0.1)
            self.assertAlmostEqual(repair.hfov_deg, 34.0, delta=0.1)
        light, canvas = picture((repair,))
        plain, _ = picture()
        dot = at(light, canvas, (4.0, -3.0), 1).mean(axis=(0, 1))
        self.assertGreater(dot[0], 5 * dot[1])
        beside = at(light, canvas, (9.0, 0.0), 3), at(plain, canvas, (9.0, 0.0), 3)
        self.assertLess(np.abs(beside[0] - beside[1]).mean(), 0.03)

    def test_a_picture_of_something_else_is_refused_by_a_sentence(self):
        rng = np.random.default_rng(1)
        cv2.imwrite(str(self.path), rng.integers(0, 255, (300, 450, 3), np.uint8))
        with self.assertRaisesRegex(BadRequest, "does not look like this part"):
            taken_back(self.engine, self.project, self.set_id, (0.0, 0.0, 40.0), self.path, Job())

    def test_pieces_are_kept_with_the_project_and_missed_when_gone(self):
        self.path.write_bytes(b"x")
        piece = Repair(Mend.PICTURE, path=str(self.path))
        project = self.project.with_set(replace(self.project.set(self.set_id), repairs=(piece,)))
        place = Path(self.home.name) / "p.windfell"
        save_project(place, project, {})
        again, _ = load_project(place)
        self.assertEqual(again.set(self.set_id).repairs, (piece,))
        self.path.unlink()
        self.assertEqual(missing_files(again), [str(self.path)])
