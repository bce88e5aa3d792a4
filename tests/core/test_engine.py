"""The engine: pictures from recipes, cached, in regions, at scales, nested, stopped."""

import tempfile
import threading
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import engine, frames_in, green, project_of, ridge, truth_of
from windfell.cache import Cache, key_of
from windfell.engine import registered, stack
from windfell.engine.core import Engine
from windfell.errors import CannotJoin
from windfell.frames import still
from windfell.job import Cancelled, Job
from windfell.pixels.colour import srgb_decoded, srgb_encoded, to_view
from windfell.pixels.tiles import Region
from windfell.recipe import edits
from windfell.recipe.areas import Area, Patch
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import Align, Frame, FrameSet, Kind, Project, Registration, View, frame_from_path
from windfell.recipe.outline import Edges, Outline
from windfell.recipe.output import Output
from windfell.recipe.sources import SetSource


class Panoramas(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.project, cls.id = project_of(frames_in(ridge()))

    def _picture(self, scale=1.0, region=None, project=None):
        return self.engine.picture(project or self.project, self.id, scale, Job(), region)

    def test_a_region_is_part_of_the_whole(self):
        whole = self._picture()
        region = Region(311, 90, 260, 170)
        part = self._picture(region=region)
        at = np.s_[90:260, 311:571]
        self.assertTrue((part.covered == whole.covered[at]).all())
        # tiles read their maps at other nodes and blend on other pyramids
        off = np.abs(part.light - whole.light[at])[part.covered]
        self.assertLess(np.percentile(off, 99.5), 0.02)

    def test_the_preview_is_the_picture_at_another_scale(self):
        whole, small = self._picture(), self._picture(0.5)
        down = cv2.resize(whole.light, small.light.shape[1::-1], interpolation=cv2.INTER_AREA)
        inner = cv2.erode(small.covered.astype(np.uint8), np.ones((9, 9))) > 0
        self.assertLess(np.abs(down - small.light)[inner].mean(), 0.012)

    def test_joined_frames_show_no_step_of_light(self):
        """Against the land itself, seen without drift, noise or dark corners."""
        from windfell.demo.photograph import Photographer, Shot
        from windfell.demo.scenes import paint_ridge
        from windfell.demo.truth import canvas_width
        from windfell.geometry.camera import Lens

        stages = self.engine.stages(self.project, self.id)
        found = stages.registration(Job())
        truth = truth_of(ridge())["frames"]
        lens = Lens(400, 200, truth[1]["focal_px"] * 0.6)
        middle = np.array(truth[1]["rotation"])
        shot = Shot(lens, middle)
        clean = Photographer(paint_ridge(canvas_width(truth[0]["focal_px"]))).clean(shot)
        canvas = stages.canvas(Job())
        world = found.frames[1].rotation @ middle.T
        y, x = np.mgrid[0:200, 0:400].astype(float)
        rays = lens.rays(np.stack([x, y], -1)) @ middle.T @ world.T
        at = canvas.pixels(rays).astype(np.float32)
        joined = cv2.remap(to_view(self._picture().light), at, None, cv2.INTER_LINEAR) / 255.0
        blur = lambda v: cv2.GaussianBlur(v.astype(np.float32), (0, 0), 6)  # noqa: E731
        ratio = np.log(blur(joined).mean(2) / blur(clean).mean(2))[20:-20, 20:-20]
        self.assertLess(ratio.std(), 0.03)  # drift planted: +-0.18 EV, corners 22 % darker

    def test_what_one_frame_has_burnt_out_is_shown_by_another(self):
        paths = frames_in(ridge(5, overlap=0.6))
        with tempfile.TemporaryDirectory() as folder:
            burnt = f"{folder}/burnt.png"
            pixels = cv2.imread(paths[2]).astype(np.float32) / 255
            cv2.imwrite(burnt, np.rint(255 * srgb_encoded(np.minimum(6 * srgb_decoded(pixels), 1))).astype(np.uint8))
            seen = []
            for third in (paths[2], burnt):
                project, set_id = project_of([*paths[:2], third, *paths[3:]])
                seen.append(self.engine.picture(project, set_id, 0.5, Job()))
        covered = seen[0].covered & seen[1].covered
        ratio = np.log2(np.maximum(seen[1].light, 1e-3) / np.maximum(seen[0].light, 1e-3))[covered]
        off = np.abs(ratio - np.median(ratio, axis=0)).max(axis=1)
        self.assertLess(np.mean(off > 0.3), 0.018)

    def test_the_whole_sphere_has_longitude_zero_in_its_middle(self):
        project, _ = project_of(frames_in(ridge())[:2], registration=Registration(level=False),
                                view=View(full_sphere=True), output=Output(width_px=400))
        picture = self._picture(project=project)
        self.assertEqual(picture.light.shape, (200, 400, 3))
        self.assertTrue(picture.covered[100, 200])
        self.assertFalse(picture.covered[:30].any())
        columns = np.flatnonzero(picture.covered.any(axis=0))
        self.assertGreater(columns.max() - 200, 200 - columns.min())  # the second frame lies right

    def test_trim_leaves_nothing_uncovered(self):
        project, _ = project_of(frames_in(ridge()), outline=Outline(Edges.TRIM))
        picture = self._picture(0.5, project=project)
        self.assertGreater(picture.covered.mean(), 0.9995)
        kept = self.engine.stages(project, self.id).kept_area(Job())
        self.assertTrue(0.5 < kept < 0.99)

    def test_moving_the_view_does_not_register_again(self):
        cache, seen = self.engine.cache, []
        self._picture(0.25)
        original = cache.get

        def watched(key, compute, on_disk=False):
            return original(key, lambda: seen.append(key) or compute(), on_disk)

        cache.get = watched
        try:
            turned = edits.set_values(self.project, self.id, {"view.yaw_deg": 20.0}).project
            self._picture(0.25, project=turned)
        finally:
            cache.get = original
        self.assertEqual(len(seen), 1)  # the canvas alone

    def test_an_empty_or_single_frame_set_is_refused_in_words(self):
        for paths in ([], frames_in(ridge())[:1]):
            project, set_id = project_of(paths)
            with self.assertRaises(CannotJoin):
                self.engine.picture(project, set_id, 0.2, Job())

    def test_frames_switched_off_take_no_part(self):
        first = self.project.sets[0].frames[0].id
        project = edits.switch_frame(self.project, self.id, first, False).project
        self.assertEqual(len(self.engine.stages(project, self.id).registration(Job()).frames), 3)

    def test_an_ignored_area_changes_the_registration_key(self):
        stages = self.engine.stages(self.project, self.id)
        frame = replace(self.project.sets[0].frames[0], ignored=Area((Patch(((0, 0), (50, 0), (50, 50))),)))
        frames = (frame, *self.project.sets[0].frames[1:])
        other = self.project.with_set(replace(self.project.sets[0], frames=frames))
        self.assertNotEqual(stages.key(Job()), self.engine.stages(other, self.id).key(Job()))

    def test_stop_is_heard_in_every_stage(self):
        for wait_s in (0.0, 0.15, 0.4):
            fresh, job = engine(), Job()
            stopped: list[float] = []
            threading.Timer(wait_s, lambda j=job, s=stopped: (s.append(time.monotonic()), j.stop())).start()
            with self.assertRaises(Cancelled):
                for _ in range(50):
                    fresh.cache = Cache(2**28)
                    fresh.picture(self.project, self.id, 1.0, job)
            self.assertLess(time.monotonic() - stopped[0], 5.0)


class Stacks(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.plate = cv2.imread(str(green() / truth_of(green())["clean_plate"]))[..., ::-1]

    def _stack(self, **parts):
        return project_of(frames_in(green()), Kind.STACK, **parts)

    def test_the_median_is_the_clean_plate(self):
        project, set_id = self._stack()
        found = to_view(self.engine.picture(project, set_id, 1.0, Job()).light)
        off = np.abs(found.astype(int) - self.plate).max(axis=2)
        masks = [cv2.imread(str(green() / f["mask"]), 0) > 0 for f in truth_of(green())["frames"]]
        walked = np.logical_or.reduce(masks)
        self.assertGreater(walked.mean(), 0.1)
        blurred = cv2.blur(off.astype(np.float32), (5, 5))
        self.assertLess(blurred[walked].max(), 22)  # noise and JPEG; a visitor differs by 60 and more
        self.assertLess(off.mean(), 4)

    def test_alignment_leaves_a_tripod_series_untouched(self):
        for way in (Align.SHIFT, Align.SIMILARITY, Align.PERSPECTIVE):
            project, set_id = self._stack(registration=Registration(way))
            found = self.engine.stages(project, set_id).registration(Job())
            self.assertTrue(all(f.still for f in found.frames))

    def test_strips_and_whole_agree_for_every_rule(self):
        for rule in Rule:
            project, set_id = self._stack(combining=Combining(rule))
            whole = self.engine.picture(project, set_id, 1.0, Job()).light
            strips = list(self.engine.strips(project, set_id, 1.0, Job(), lambda p: p.light))
            assert_allclose(np.concatenate(strips), whole, atol=1e-6)

    def test_mixed_sizes_are_named(self):
        paths = [*frames_in(green())[:2], frames_in(ridge())[0]]
        project, set_id = project_of(paths, Kind.STACK)
        with self.assertRaisesRegex(CannotJoin, "ridge-01"):
            self.engine.picture(project, set_id, 1.0, Job())

    def test_exposure_in_the_recipe_reaches_the_picture(self):
        project, set_id = self._stack()
        bright = tuple(replace(f, development=replace(f.development, exposure_ev=1.0))
                       for f in project.sets[0].frames)
        other = project.with_set(replace(project.sets[0], frames=bright))
        a = self.engine.picture(project, set_id, 0.5, Job()).light
        b = self.engine.picture(other, set_id, 0.5, Job()).light
        assert_allclose(b, 2 * a, rtol=0.01, atol=1e-3)


class Nested(unittest.TestCase):
    def test_a_stack_is_a_frame_of_a_panorama(self):
        paths = frames_in(ridge())
        inner = FrameSet("inner", "Mean of one place", Kind.STACK,
                         tuple(Frame(f"i{n}", frame_from_path(paths[1]).source) for n in range(3)),
                         combining=Combining(Rule.MEAN))
        outer = FrameSet("outer", "Row", Kind.PANORAMA,
                         (frame_from_path(paths[0]), Frame("n", SetSource("inner")), frame_from_path(paths[2])))
        made = engine()
        project = Project((inner, outer))
        found = made.stages(project, "outer").registration(Job())
        self.assertEqual(found.placed, [0, 1, 2])
        plain, set_id = project_of(paths[:3])
        direct = made.picture(plain, set_id, 0.5, Job())
        nested = made.picture(project, "outer", 0.5, Job())
        self.assertLess(abs(nested.light[nested.covered].mean() - direct.light[direct.covered].mean()), 0.01)
        opened = made.opened_all(project, outer, Job())
        for frame, longest in ((frame, longest) for frame in opened for longest in (300, 700, 5600)):
            side = max(frame.grey(longest, Job()).shape)
            with self.subTest(frame=type(frame).__name__, longest=longest):
                self.assertAlmostEqual(frame.grey_side(longest), side, delta=1)


class Caching(unittest.TestCase):
    def test_the_budget_is_kept_and_the_oldest_go(self):
        cache, made = Cache(3000), []
        for n in range(6):
            cache.get(str(n), lambda n=n: made.append(n) or np.zeros(1000, np.uint8))
        self.assertLessEqual(cache.used_bytes, 3000)
        cache.get("5", lambda: self.fail("it should be here"))
        cache.get("0", lambda: made.append("again") or np.zeros(1, np.uint8))
        self.assertEqual(made[-1], "again")

    def test_large_results_may_go_before_small_ones(self):
        cache, made = Cache(3000, largest_first=True), []
        for n, size in enumerate((100, 1500, 100, 1500, 1500)):
            cache.get(str(n), lambda n=n, size=size: made.append(n) or np.zeros(size, np.uint8))
        self.assertLessEqual(cache.used_bytes, 3000)
        for kept in "024":
            cache.get(kept, lambda: self.fail("it should be here"))
        cache.get("1", lambda: made.append("again") or np.zeros(1, np.uint8))
        self.assertEqual(made[-1], "again")

    def test_two_askers_wait_for_one_computation(self):
        cache, made = Cache(10**6), []

        def slow():
            time.sleep(0.05)
            made.append(1)
            return np.zeros(3)

        threads = [threading.Thread(target=lambda: cache.get("k", slow)) for _ in range(5)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(len(made), 1)

    def test_results_on_disk_outlive_the_program_and_damage_is_survived(self):
        with tempfile.TemporaryDirectory() as folder:
            Cache(10**6, Path(folder)).get("k", lambda: np.arange(5), on_disk=True)
            again = Cache(10**6, Path(folder)).get("k", lambda: self.fail("on disk"), on_disk=True)
            assert_allclose(again, np.arange(5))
            next(Path(folder).iterdir()).write_bytes(b"broken")
            anew = Cache(10**6, Path(folder)).get("k", lambda: np.arange(3), on_disk=True)
            self.assertEqual(len(anew), 3)

    def test_what_could_not_be_read_just_now_is_looked_at_again_by_the_next_program(self):
        """A share that drops out for a moment, say: the file is the same before and after."""
        for kind, paths in ((Kind.PANORAMA, frames_in(ridge(3))), (Kind.STACK, frames_in(green())[:3])):
            project, set_id = project_of(paths, kind, registration=Registration(align=Align.SHIFT))
            with self.subTest(str(kind)), tempfile.TemporaryDirectory() as folder:
                luma = still._jpeg_luma

                def torn(opened: still.StillFrame, reduce: int, path=paths[2], luma=luma) -> np.ndarray:
                    if opened.path == path:
                        raise OSError(5, "Input/output error")
                    return luma(opened, reduce)

                with mock.patch.object(still, "_jpeg_luma", torn):
                    self.assertEqual(self._placed(folder, project, set_id), [0, 1])
                self.assertEqual(self._placed(folder, project, set_id), [0, 1, 2])
                fails = mock.Mock(side_effect=AssertionError("it is on disk"))
                with (mock.patch.object(registered, "grounded", fails),
                      mock.patch.object(stack, "align_series", fails)):
                    self.assertEqual(self._placed(folder, project, set_id), [0, 1, 2])

    def _placed(self, folder: str, project: Project, set_id: str) -> list[int]:
        """The frames that a program that keeps what it finds in a folder has a place for."""
        stages = Engine(Path(folder), 2**28).stages(project, set_id)
        found = stages.registration(Job())
        if project.sets[0].kind is Kind.STACK:
            return found.used
        owner = stages.ownership(Job()).owner
        self.assertEqual(sorted(set(owner[owner >= 0].tolist())), list(range(len(found.placed))))
        return list(found.placed)

    def test_keys_differ_with_their_parts(self):
        self.assertNotEqual(key_of("a", 1.0), key_of("a", 1))
        self.assertEqual(key_of(View()), key_of(View()))
