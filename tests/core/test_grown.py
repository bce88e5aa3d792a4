"""Gaps of a ragged outline filled with texture, only where nothing is."""

import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, frames_in, project_of, ridge
from windfell.engine.checklist import Weight, planned
from windfell.engine.grown import gap_share, left_out
from windfell.finish.patch_fill import patch_taken
from windfell.finish.seamless import seamless
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.mending import repair_name
from windfell.recipe.model import View
from windfell.recipe.repairs import Mend, Repair

GROW = Repair(Mend.GROW)


@lru_cache(maxsize=1)
def scene():
    return engine(), *project_of(frames_in(ridge()))


def with_repairs(*repairs, **parts):
    own, project, set_id = scene()
    return own, project.with_set(replace(project.set(set_id), repairs=repairs, **parts)), set_id


def picture(scale: float, *repairs, **parts):
    own, project, set_id = with_repairs(*repairs, **parts)
    return own.picture(project, set_id, scale, Job())


class Growing(unittest.TestCase):
    def test_every_gap_is_filled_and_nothing_else_is_touched(self):
        plain, full = picture(0.5), picture(0.5, GROW)
        self.assertFalse(plain.covered.all())
        self.assertTrue(full.covered.all())
        np.testing.assert_array_equal(full.light[plain.covered], plain.light[plain.covered])
        gap = ~plain.covered
        self.assertLess(float((to_view(full.light).max(axis=2)[gap] < 12).mean()), 0.02)
        # it is texture, not a smear
        fine = np.abs(cv2.Laplacian(to_view(full.light).mean(axis=2), cv2.CV_64F))
        ground = np.arange(len(fine))[:, None] > 0.75 * len(fine)
        self.assertGreater(float(fine[gap & ground].mean()), 0.4 * float(fine[plain.covered & ground].mean()))

    def test_it_meets_what_is_there_without_a_step(self):
        plain, full = picture(0.5), picture(0.5, GROW)
        view = cv2.GaussianBlur(to_view(full.light).astype(np.float32), (0, 0), 3)
        edge = cv2.Laplacian(plain.covered.astype(np.uint8), cv2.CV_8U) > 0
        slopes = [cv2.Sobel(view, cv2.CV_32F, dx, dy) for dx, dy in ((1, 0), (0, 1))]
        step = np.linalg.norm(np.dstack(slopes), axis=2)
        self.assertLess(float(np.median(step[edge])), 2.0 * float(np.median(step[plain.covered])) + 4)

    def test_screen_and_file_show_the_same(self):
        large, small = picture(0.8, GROW), picture(0.2, GROW)
        size = small.light.shape[1::-1]
        shrunk = cv2.resize(to_view(large.light), size, interpolation=cv2.INTER_AREA).astype(int)
        gap = ~picture(0.2).covered
        self.assertLess(float(np.abs(shrunk - to_view(small.light))[gap].mean()), 9.0)

    def test_tiles_fit_together(self):
        own, project, set_id = with_repairs(GROW)
        whole = own.picture(project, set_id, 0.5, Job())
        h, w = whole.covered.shape
        region = Region(w // 2 - 37, h - 60, 90, 60)
        part = own.picture(project, set_id, 0.5, Job(), region)
        there = whole.light[region.top : region.top + 60, region.left : region.left + 90]
        np.testing.assert_allclose(part.light, there, atol=2e-3)

    def test_more_than_is_allowed_is_left_out_and_said(self):
        few = replace(GROW, most_pct=1.0)
        own, project, set_id = with_repairs(few)
        self.assertFalse(own.picture(project, set_id, 0.5, Job()).covered.all())
        stages = own.stages(project, set_id)
        share = gap_share(stages, Job())
        self.assertGreater(share, 0.01)
        self.assertEqual(left_out(stages, Job()), share)
        self.assertIsNone(left_out(own.stages(with_repairs(GROW)[1], set_id), Job()))
        lines = planned(own, project, set_id, Path("/tmp/x.tif"), Job()).lines
        self.assertTrue(any(x.weight is Weight.WRONG and "left out" in x.words for x in lines))
        lines = planned(*with_repairs(GROW), Path("/tmp/x.tif"), Job()).lines
        self.assertTrue(any(f"{100 * share:.1f} % of the picture is made up" in x.words for x in lines))

    def test_seams_that_show_are_named_before_the_wait(self):
        from types import SimpleNamespace
        from unittest import mock

        from windfell.engine import checklist

        own, project, set_id = with_repairs()
        for ratings, words in (
                ((2.0, 0.4), "One spot along a seam would be seen"), ((0.4,), "No seam would be noticed")):
            walk = [SimpleNamespace(rating=r) for r in ratings]
            with mock.patch.object(checklist, "seam_walk", lambda *_, w=walk: w):
                lines = planned(own, project, set_id, Path("/tmp/x.tif"), Job()).lines
            self.assertTrue(any(words in x.words for x in lines), [x.words for x in lines])

    def test_another_answer_is_another_one(self):
        one, other = picture(0.25, GROW), picture(0.25, replace(GROW, answer=1))
        self.assertGreater(float(np.abs(one.light - other.light).max()), 0.01)
        self.assertEqual(repair_name(replace(GROW, answer=1)), "gaps filled, answer 2; within the outline")

    def test_it_belongs_to_the_outline_that_is_shown(self):
        turned = picture(0.25, GROW, view=View(pitch_deg=6.0))
        self.assertTrue(turned.covered.all())


class Seams(unittest.TestCase):
    def test_pieces_of_different_light_meet_without_a_step(self):
        y, x = np.mgrid[0:60, 0:80].astype(np.float32)
        truth = np.dstack([0.4 + 0.003 * x + 0.05 * np.sin(y / 3)] * 3).astype(np.float32)
        hole = np.zeros((60, 80), bool)
        hole[20:40, 20:60] = True
        taken = np.dstack([x, y])
        # the left half is taken from below, the right from above, where it is darker or brighter
        taken[20:40, 20:40] += (0, 19)
        taken[20:40, 40:60] -= (0, 19)
        at = taken.astype(int)
        bright = truth + 0.01 * (30 - y)[..., None] / 30
        found = seamless(bright, hole, taken)
        np.testing.assert_array_equal(found[~hole], bright[~hole])
        plain = np.where(hole[..., None], bright[at[..., 1], at[..., 0]], bright)
        jump = lambda v: float(np.abs(v[20:40, 39] - v[20:40, 40]).mean())  # noqa: E731
        self.assertGreater(jump(plain), 0.015)
        self.assertLess(jump(found), 0.006)

    def test_no_colour_bleeds_in_from_another_thing_at_the_rim(self):
        y, x = np.mgrid[0:60, 0:80].astype(np.float32)
        light = np.full((60, 80, 3), 0.5, np.float32)
        light[:, 50:] = (0.9, 0.2, 0.1)
        hole = np.zeros((60, 80), bool)
        hole[20:40, 30:50] = True
        light[:, :30] += np.float32(0.02)
        grey = np.dstack([np.where(hole, 10, x), y])
        found = seamless(light, hole, grey)
        self.assertLess(np.ptp(found[20:40, 30:50], axis=2).max(), 0.06)
        np.testing.assert_allclose(found[20:40, 30:50], 0.52, atol=0.05)

    def test_a_hole_without_a_rim_keeps_what_was_taken(self):
        light = np.random.default_rng(0).uniform(0.2, 0.8, (12, 20, 3)).astype(np.float32)
        y, x = np.mgrid[0:12, 0:20].astype(np.float32)
        found = seamless(light, np.ones((12, 20), bool), np.dstack([x[:, ::-1], y]))
        np.testing.assert_allclose(found, light[:, ::-1], atol=0.35)
        self.assertTrue(np.isfinite(found).all())

    def test_what_was_taken_can_be_taken_again(self):
        rng = np.random.default_rng(2)
        light = cv2.GaussianBlur(rng.uniform(0.1, 0.9, (70, 90, 3)).astype(np.float32), (0, 0), 1.2)
        hole = np.zeros((70, 90), bool)
        hole[:14] = True
        out, taken, added = patch_taken(light, hole)
        at = taken.astype(int)
        self.assertFalse(hole[at[..., 1], at[..., 0]][hole].any())
        again = np.square(np.sqrt(light[at[..., 1], at[..., 0]]) + added)
        np.testing.assert_allclose(again[hole], out[hole], atol=1e-4)
        np.testing.assert_allclose(out[~hole], light[~hole], atol=1e-6)


if __name__ == "__main__":
    unittest.main()
