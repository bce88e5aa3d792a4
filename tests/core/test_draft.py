"""Drafts: the picture while a hand moves."""

import unittest
from dataclasses import replace
from itertools import pairwise
from unittest.mock import patch

import numpy as np

from tests.support import engine, frames_in, green, project_of, ridge
from windfell.engine.draft import ShownFrame, _shrunk, opaque
from windfell.engine.surface import Ownership, _cut, columns, softly
from windfell.job import Job
from windfell.join.blend import wide_correction
from windfell.pixels.colour import to_view
from windfell.recipe.model import Development, Joining, Kind, View
from windfell.recipe.outline import Edges, Outline
from windfell.shape.canvas import Canvas


class Drafts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.project, cls.set_id = project_of(frames_in(ridge()))

    def varied(self, **parts):
        return self.project.with_set(replace(self.project.set(self.set_id), **parts))

    def both(self, project, side=420):
        """The draft, and the picture at its size as a screen shows it, with where it is covered."""
        draft = self.engine.draft(project, self.set_id, side, Job())
        picture = self.engine.picture(project, self.set_id, draft.pixels.shape[1] / draft.width, Job())
        return draft, to_view(picture.light), picture.covered

    def assert_alike(self, project, within=6.0):
        """Textured frames read by other filters differ by a few levels; a frame or band amiss by tens."""
        draft, seen, covered = self.both(project)
        self.assertEqual(draft.pixels.shape[:2], seen.shape[:2])
        shown = draft.pixels[..., 3] > 0
        self.assertLess(np.mean(shown != covered), 0.02)
        off = np.abs(draft.pixels[..., :3].astype(float) - seen)[shown & covered]
        self.assertLess(off.mean(), within)
        self.assertLess(np.percentile(off, 99), 60)

    def test_a_draft_shows_what_the_picture_shows(self):
        views = {
            "as found": {}, "turned": {"view": View(yaw_deg=20.0, pitch_deg=-12.0, roll_deg=5.0)},
            "wide blend": {"joining": Joining(blend_pct=100.0)}, "no blend": {"joining": Joining(blend_pct=0.0)},
            "unmatched": {"joining": Joining(match_light=False, cut_seams=False)},
        }
        for name, parts in views.items():
            with self.subTest(name):
                self.assert_alike(self.varied(**parts))

    def test_one_that_becomes_smaller_is_shrunk_from_what_is_ready(self):
        project = self.varied(joining=Joining(blend_pct=37.0))
        self.engine.draft(project, self.set_id, 424, Job())
        with patch("windfell.engine.draft._light", side_effect=AssertionError("made anew")):
            for side in (300, 212):
                draft = self.engine.draft(project, self.set_id, side, Job())
                picture = self.engine.picture(project, self.set_id, draft.pixels.shape[1] / draft.width, Job())
                off = np.abs(draft.pixels[..., :3].astype(float) - to_view(picture.light))
                shown = (draft.pixels[..., 3] > 0) & picture.covered
                self.assertGreater(shown.mean(), 0.9 * picture.covered.mean())
                self.assertLess(off[shown].mean(), 7.0)

    def test_what_was_ready_may_be_gone_a_moment_later(self):
        project, cache = self.varied(joining=Joining(blend_pct=43.0)), self.engine.cache
        before = self.engine.draft(project, self.set_id, 424, Job()).pixels
        holds = cache.holds

        def gone(key):
            held = holds(key)
            cache.forget(key)
            return held

        with patch.object(cache, "holds", gone):
            small = self.engine.draft(project, self.set_id, 300, Job()).pixels
        self.assertGreater((small[..., 3] > 0).mean(), 0.5)
        np.testing.assert_array_equal(self.engine.draft(project, self.set_id, 424, Job()).pixels, before)

    def test_a_shrunk_frame_lies_where_it_lay(self):
        pixels = np.zeros((30, 40, 4), np.uint8)
        pixels[10:20, 10:20] = 200
        small = _shrunk(ShownFrame(pixels, (24, 12, 64, 42), (80, 60)), 2.0)
        self.assertEqual(small.size, (40, 30))
        y, x = np.nonzero(small.pixels[..., 3] > 100)
        self.assertAlmostEqual((x + small.box[0]).mean(), 19.0, delta=0.6)
        self.assertAlmostEqual((y + small.box[1]).mean(), 13.0, delta=0.6)

    def test_the_whole_sphere_closes(self):
        self.assert_alike(self.varied(view=View(full_sphere=True)))

    def test_wide_bands_are_in_it(self):
        bright = tuple(replace(f, development=Development(exposure_ev=0.6 * (n % 2)))
                       for n, f in enumerate(self.project.set(self.set_id).frames))
        stepped = self.varied(frames=bright, joining=Joining(match_light=False, cut_seams=False, blend_pct=100.0))
        self.assert_alike(stepped, within=8.0)
        hard = self.varied(frames=bright, joining=Joining(match_light=False, cut_seams=False, blend_pct=0.0))
        soft, harsh = (self.engine.draft(p, self.set_id, 420, Job()).pixels.astype(int) for p in (stepped, hard))
        self.assertGreater(np.abs(soft - harsh)[..., :3].mean(), 1.5)

    def test_a_wider_blend_is_a_little_wider_and_soon_there(self):
        bright = tuple(replace(f, development=Development(exposure_ev=0.6 * (n % 2)))
                       for n, f in enumerate(self.project.set(self.set_id).frames))

        def correction(blend_pct):
            project = self.varied(frames=bright, joining=Joining(
                match_light=False, cut_seams=False, blend_pct=blend_pct))
            return self.engine.stages(project, self.set_id).draft_wide(Job()).correction

        with patch("windfell.engine.joined.wide_correction", wraps=wide_correction) as made:
            seen = [correction(pct) for pct in np.geomspace(50.0, 100.0, 13)]
        self.assertLessEqual(made.call_count, 3)
        steps = [np.abs(b - a).mean() for a, b in pairwise(seen)]
        whole = np.abs(seen[-1] - seen[0]).mean()
        self.assertGreater(min(steps), 0.02 * whole)
        self.assertLess(max(steps), 0.2 * whole)

    def test_trimmed_it_has_no_empty_corner(self):
        draft = self.engine.draft(self.varied(outline=Outline(Edges.TRIM)), self.set_id, 420, Job())
        self.assertGreater((draft.pixels[..., 3] > 0).mean(), 0.985)

    def test_of_a_stack_it_is_the_rule_of_small_frames(self):
        project, set_id = project_of(frames_in(green()), Kind.STACK)
        draft = self.engine.draft(project, set_id, 300, Job())
        scale = draft.pixels.shape[1] / draft.width
        picture = self.engine.picture(project, set_id, scale, Job())
        off = np.abs(draft.pixels[..., :3].astype(int) - to_view(picture.light))
        self.assertLess(off.max(), 2)

    def test_shares_are_made_whole(self):
        rgba = np.array([[[50, 25, 10, 100], [100, 100, 100, 255], [5, 5, 5, 10]]], np.uint8)
        out = opaque(rgba.copy())
        np.testing.assert_array_equal(out[0, 0], [128, 64, 26, 255])
        np.testing.assert_array_equal(out[0, 1], rgba[0, 1])
        np.testing.assert_array_equal(out[0, 2], 0)


class Surfaces(unittest.TestCase):
    def test_a_part_of_it_goes_on_at_its_edges_and_around(self):
        values = np.random.default_rng(1).random((40, 60, 3)).astype(np.float32)
        half = np.pi
        for surface in (Canvas("rectilinear", -1.5, -1.0, 1.5, 1.0, 60, 40),
                        Canvas("equirectangular", -half, -half / 2, half, half / 2, 60, 40)):
            for left, top in ((20, 10), (-4, 3), (30, -9), (48, 31), (-70, 5), (130, 50)):
                where = np.stack(np.meshgrid(left + np.arange(9.0), top + np.arange(7.0)), -1).astype(np.float32)
                part, moved = _cut(values, surface, where)
                x, y = (np.rint(moved[..., c]).astype(int) for c in (0, 1))
                rows = np.clip(np.rint(where[..., 1]).astype(int), 0, 39)
                across = columns(surface, np.rint(where[..., 0]).astype(int))
                np.testing.assert_array_equal(part[y, x], values[rows, across])

    def test_places_at_infinity_need_no_room_and_change_nothing_elsewhere(self):
        owner = np.zeros((40, 60), np.int16)
        owner[:, 30:] = 1
        own = Ownership(Canvas("rectilinear", -1.5, -1.0, 1.5, 1.0, 60, 40), owner)
        where = np.stack(np.meshgrid(np.arange(60.0), np.arange(40.0)), axis=-1).astype(np.float32)
        share = softly(own, 1, where)
        wild = where.copy()
        wild[0, :3] = [[np.inf], [np.nan], [-1e30]]
        there = softly(own, 1, wild)
        np.testing.assert_allclose(there[1:], share[1:], atol=1e-5)
        self.assertTrue(np.isfinite(there).all())
