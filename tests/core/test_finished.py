"""A set's picture with its finish: previews, tiles, drafts and files agree; areas stay where they were put."""

import contextlib
import io
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, frames_in, green, project_of, ridge
from windfell.cli.main import main
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe import finishing as f
from windfell.recipe.areas import Area, Ellipse, Found, Range, Read
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.finishes import read_finish, write_finish
from windfell.recipe.model import Frame, FrameSet, Kind, ProjectionChoice, View, picture_parts
from windfell.recipe.outline import Crop, Outline
from windfell.recipe.project_file import load_project, save_project
from windfell.recipe.sources import SetSource

ALL = f.Finish((
    f.Adjustment(f.Light(0.4, 20.0, -40.0, 40.0)), f.Adjustment(f.Colour(5500.0, 5.0, 10.0, 30.0)),
    f.Adjustment(f.Detail(local_pct=30.0, texture_pct=20.0, sharpen_pct=40.0)),
    f.Adjustment(f.Softness(glow_pct=30.0, blur_px=1.5), strength_pct=50.0), f.Adjustment(f.Vignette(-1.0, 30.0))))


def finished(project, set_id, finish):
    return project.with_set(replace(project.set(set_id), finish=finish))


class Finished(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.row, cls.id = project_of(frames_in(ridge()))
        cls.still, _ = project_of(frames_in(green()), Kind.STACK, combining=Combining(Rule.MEDIAN))

    def picture(self, project, scale=1.0, region=None):
        return self.engine.picture(project, self.id, scale, Job(), region)

    def test_nothing_is_changed_by_an_empty_finish_and_every_change_is_another_picture(self):
        plain = self.picture(self.row)
        idle = f.Finish((f.Adjustment(f.Light()), f.Adjustment(f.Vignette(-2.0), on=False)))
        np.testing.assert_array_equal(self.picture(finished(self.row, self.id, idle)).light, plain.light)
        off = replace(ALL, on=False)
        np.testing.assert_array_equal(self.picture(finished(self.row, self.id, off)).light, plain.light)
        self.assertEqual(picture_parts(finished(self.row, self.id, off), self.id), picture_parts(self.row, self.id))
        self.assertNotEqual(picture_parts(finished(self.row, self.id, ALL), self.id),
                            picture_parts(self.row, self.id))
        keys = {self.engine.stages(finished(self.row, self.id, x), self.id).key(Job()) for x in (f.Finish(), ALL)}
        self.assertEqual(len(keys), 2)

    def test_previews_and_tiles_agree_with_the_whole(self):
        for project in (self.row, self.still):
            project = finished(project, self.id, ALL)
            whole = self.picture(project)
            region = Region(150, 60, 200, 140)
            part = self.picture(project, 1.0, region)
            off = np.abs(to_view(part.light).astype(int) - to_view(whole.light)[60:200, 150:350])
            self.assertLess(np.percentile(off[part.covered], 99), 3)
            plain = self.picture(finished(project, self.id, f.Finish()))
            for scale in (0.5, 0.25):
                small = self.picture(project, scale)
                base = self.picture(finished(project, self.id, f.Finish()), scale)
                size = small.light.shape[1::-1]
                inner = cv2.erode(small.covered.astype(np.uint8), np.ones((9, 9))) > 0
                off = [np.abs(to_view(cv2.resize(a.light, size, interpolation=cv2.INTER_AREA)).astype(float)
                              - to_view(b.light))[inner].mean() for a, b in ((whole, small), (plain, base))]
                # of five adjustments, beyond what previews of frames at another scale differ by anyhow
                self.assertLess(off[0], 1.6 * off[1] + 2.0)

    def test_no_border_of_tiles_is_seen(self):
        fine = f.Detail(texture_pct=100.0, sharpen_pct=100.0)
        project = finished(self.still, self.id, f.Finish((
            f.Adjustment(fine), f.Adjustment(f.Light(shadows_pct=80.0)))))
        whole = self.engine.stages(project, self.id)
        size = whole.size(Job())
        one = whole.render(Region(0, 0, *size), 1.0, Job()).light
        halves = [whole.render(Region(x, 0, size[0] // 2, size[1]), 1.0, Job()).light for x in (0, size[0] // 2)]
        np.testing.assert_allclose(np.concatenate(halves, 1), one[:, : size[0] // 2 * 2], atol=2e-4)

    def test_an_area_stays_on_its_place_when_the_view_turns_and_the_picture_is_cropped(self):
        area = Area((Ellipse((4.0, -2.0), 8.0, 5.0, softness_pct=0.0),))
        mono = f.Finish((f.Adjustment(f.Mono(), area=area),))
        grey = []
        for yaw in (0.0, 12.0):
            project = finished(self.row, self.id, mono)
            project = project.with_set(replace(project.set(self.id), view=View(yaw_deg=yaw, hfov_deg=40.0)))
            part = self.picture(project)
            flat = (np.ptp(part.light, axis=2) < 1e-5) & part.covered & (part.light.max(axis=2) > 0.01)
            flat = cv2.morphologyEx(flat.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3))) > 0
            y, x = np.nonzero(flat)
            grey.append((len(x), x.mean(), part.light[flat].mean()))
        self.assertGreater(grey[0][0], 200)
        self.assertLess(abs(grey[1][0] / grey[0][0] - 1), 0.15)
        self.assertGreater(abs(grey[1][1] - grey[0][1]), 20)
        self.assertLess(abs(grey[1][2] / grey[0][2] - 1), 0.1)
        spot = Area((Ellipse((160.0, 120.0), 60.0, 40.0, softness_pct=0.0),))
        still = finished(self.still, self.id, f.Finish((f.Adjustment(f.Light(exposure_ev=2.0), area=spot),)))
        plain, lit = self.picture(self.still).light, self.picture(still).light
        np.testing.assert_allclose(lit[120, 160], 4 * plain[120, 160], rtol=1e-4)
        np.testing.assert_array_equal(lit[10, 10], plain[10, 10])
        cut = still.with_set(replace(still.set(self.id), outline=Outline(crop=Crop(10.0, 10.0, 80.0, 80.0))))
        size, inner = lit.shape[1::-1], self.picture(cut).light
        x, y = 160 - round(0.1 * size[0]), 120 - round(0.1 * size[1])
        np.testing.assert_allclose(inner[y, x], 4 * plain[120, 160], rtol=0.25)

    def test_an_area_that_reads_the_picture_reads_it(self):
        bright = Area((Range(Read.BRIGHTNESS, 70.0, 100.0, 2.0),))
        for project in (self.row, self.still):
            made = finished(project, self.id, f.Finish((f.Adjustment(f.Light(exposure_ev=-3.0), area=bright),)))
            plain, less = self.picture(project), self.picture(made)
            y = plain.light.mean(axis=2)
            sky, land = (y > 0.7) & plain.covered, (y < 0.15) & plain.covered
            self.assertGreater(sky.sum(), 200)
            self.assertLess((less.light[sky] / plain.light[sky]).mean(), 0.3)
            self.assertGreater(np.median(less.light[land] / np.maximum(plain.light[land], 1e-4)), 0.98)

    def test_drafts_agree_with_the_picture_step_by_step_and_in_areas(self):
        w, h = self.engine.size(self.still, self.id, Job())
        left = Area((Ellipse((w * 0.25, h * 0.5), w * 0.4, h * 0.8),))
        # the second is judged by what the first made, the last by what all made; it holds in a part alone
        finish = f.Finish((
            f.Adjustment(f.Light(-3.0)), f.Adjustment(f.Light(shadows_pct=100.0)), f.Adjustment(f.Light(3.0)),
            f.Adjustment(f.Light(highlights_pct=-100.0), area=left)))
        project = finished(self.still, self.id, finish)
        draft = self.engine.draft(project, self.id, 300, Job()).pixels
        sharp = self.picture(project, draft.shape[1] / w)
        off = draft[..., :3].astype(float) - to_view(sharp.light)
        self.assertLess(np.abs(off).mean(), 3.0)
        self.assertLess(abs(off[:, : w // 8].mean()), 2.0)

    def test_drafts_show_the_finish(self):
        for project in (self.row, self.still):
            plain = self.engine.draft(project, self.id, 300, Job()).pixels
            made = self.engine.draft(finished(project, self.id, ALL), self.id, 300, Job()).pixels
            size = made.shape[1::-1]
            scale = size[0] / self.engine.size(project, self.id, Job())[0]
            real = self.picture(finished(project, self.id, ALL), scale)
            wanted = cv2.resize(to_view(real.light), size, interpolation=cv2.INTER_AREA).astype(float)
            inside = cv2.erode((made[..., 3] > 250).astype(np.uint8), np.ones((9, 9))) > 0
            off = np.abs(made[..., :3] - wanted)[inside].mean()
            self.assertLess(off, 0.5 * np.abs(plain[..., :3] - wanted)[inside].mean())

    def test_a_nested_set_brings_its_finish(self):
        inner = finished(self.still, self.id, f.Finish((f.Adjustment(f.Light(exposure_ev=1.0)),)))
        outer = FrameSet("outer", "Outer", Kind.STACK, (Frame("n", SetSource(self.id)),),
                         combining=Combining(Rule.MEAN))
        for project, gain in ((inner, 2.0), (self.still, 1.0)):
            project = replace(project, sets=(*project.sets, outer))
            light = self.engine.picture(project, "outer", 1.0, Job()).light
            np.testing.assert_allclose(np.median(light / self.picture(self.still).light), gain, rtol=0.01)

    def test_an_adjustment_is_told_of_the_picture_as_those_before_it_leave_it(self):
        shadows = f.Adjustment(f.Light(shadows_pct=100.0))
        first = [f.Adjustment(f.Light(exposure_ev=ev)) for ev in (-3.0, 5.0)]
        pictures = [self.picture(finished(self.still, self.id, f.Finish((a, shadows)))).light for a in first]
        bright = self.picture(finished(self.still, self.id, f.Finish((first[1],)))).light
        # nothing is dark any more that could be lifted, whatever was asked of this engine before
        np.testing.assert_allclose(np.median(pictures[1] / np.maximum(bright, 1e-4)), 1.0, atol=0.02)
        dark = self.picture(finished(self.still, self.id, f.Finish((first[0],)))).light
        self.assertGreater(np.median(pictures[0] / np.maximum(dark, 1e-4)), 2.2)

    def test_beyond_the_frames_nothing_dark_is_drawn_in(self):
        soft = f.Finish((f.Adjustment(f.Softness(blur_px=6.0)),))
        plain, made = self.picture(self.row), self.picture(finished(self.row, self.id, soft))
        rim = plain.covered & (cv2.erode(plain.covered.astype(np.uint8), np.ones((7, 7))) == 0)
        self.assertGreater(np.median(made.light[rim] / np.maximum(plain.light[rim], 1e-3)), 0.85)
        np.testing.assert_array_equal(made.covered, plain.covered)

    def test_a_sphere_has_no_line_where_its_edges_meet(self):
        soft = f.Finish((f.Adjustment(f.Softness(blur_px=5.0)),))
        lights = []
        for yaw in (0.0, 180.0):
            project = finished(self.row, self.id, soft)
            view = View(ProjectionChoice.EQUIRECTANGULAR, yaw_deg=yaw, hfov_deg=360.0)
            part = self.picture(project.with_set(replace(project.set(self.id), view=view)), 0.5)
            lights.append((part.light, part.covered))
        (middle, there), (apart, cut) = lights
        width = middle.shape[1]
        back = np.roll(apart, width // 2, axis=1)
        inner = cv2.erode((there & np.roll(cut, width // 2, axis=1)).astype(np.uint8), np.ones((15, 15))) > 0
        at_edge = inner.copy()
        at_edge[:, : width // 2 - 4], at_edge[:, width // 2 + 4 :] = False, False
        self.assertGreater(at_edge.sum(), 200)
        off = np.abs(back - middle).max(axis=2)
        self.assertLess(off[at_edge].mean(), 2 * off[inner].mean() + 0.002)

    def test_projects_keep_their_finish(self):
        area = Area((Ellipse((4.0, -2.0), 8.0, 5.0),))
        project = finished(self.row, self.id, replace(ALL, adjustments=(
            *ALL.adjustments, f.Adjustment(f.Mono(), "grey lake", area=area))))
        with tempfile.TemporaryDirectory() as folder:
            save_project(Path(folder) / "p.windfell", project, {})
            self.assertEqual(load_project(Path(folder) / "p.windfell")[0].sets[0].finish, project.sets[0].finish)


class Files(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_a_finish_goes_to_other_sets_by_a_file_without_what_belongs_to_one_picture(self):
        place = self.folder / "look.json"
        mine = f.Adjustment(f.Mono(), area=Area((Found("a mask"),)))
        write_finish(place, replace(ALL, adjustments=(*ALL.adjustments, mine)))
        self.assertEqual(read_finish(place), ALL)
        words = json.loads(place.read_text())
        words["adjustments"][0]["area"] = {"parts": [{"kind": "found", "name": "x"}]}
        place.write_text(json.dumps(words))
        with self.assertRaises(BadRequest):
            read_finish(place)

    def test_the_command_line_finishes_pictures(self):
        place, out = self.folder / "look.json", self.folder / "out.png"
        write_finish(place, f.Finish((f.Adjustment(f.Mono()),)))
        project = self.folder / "p.windfell"
        save_project(project, project_of(frames_in(green()), Kind.STACK)[0], {})
        runs = (("panorama", *frames_in(ridge())), ("stack", *frames_in(green()), "--rule", "median"),
                ("subjects", *frames_in(green())), ("render", str(project)))
        for words in runs:
            with self.subTest(words[0]):
                self.assertEqual(main([*words, "--out", str(out), "--finish", str(place)]), 0)
                pixels = cv2.imread(str(out), cv2.IMREAD_COLOR).astype(int)
                self.assertLess(np.percentile(np.ptp(pixels, axis=2), 99.9), 3)
        for wrong in ("{", '{"adjustments": [{"values": {"kind": "glitter"}}]}', "[]"):
            place.write_text(wrong)
            told = io.StringIO()
            with contextlib.redirect_stderr(told):
                self.assertEqual(main([*runs[1], "--out", str(out), "--finish", str(place)]), 2)
            self.assertEqual(told.getvalue().count("\n"), 1)
            self.assertIn("look.json", told.getvalue())
