"""Reports and the stages they read, beyond what the command line's tests see."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.support import engine, frames_in, green, project_of, ridge, write_picture
from windfell.cache import Cache
from windfell.engine.export import planned_size
from windfell.engine.output_size import output_scale
from windfell.engine.report import panorama_report, stack_report
from windfell.engine.sources import BASE_SIDE, OpenedFile, canonical_scale
from windfell.frames.still import StillFrame
from windfell.job import Job
from windfell.pixels.tiles import scaled_size
from windfell.recipe.model import Align, Kind, Registration, View
from windfell.recipe.outline import Edges, Outline
from windfell.recipe.output import Output


class Reports(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()

    def test_a_panoramas_errors_are_those_of_its_links(self):
        project, set_id = project_of(frames_in(ridge()))
        stages = self.engine.stages(project, set_id)
        report = panorama_report(stages, (10, 5), {"total": 1.23456}, Job())
        squares = sum(k["points"] * k["rms_px"] ** 2 for k in report["links"])
        points = sum(k["points"] for k in report["links"])
        self.assertAlmostEqual(report["rms_px"], np.sqrt(squares / points), delta=0.01)
        self.assertEqual(report["seconds"], {"total": 1.235})
        self.assertEqual((report["width"], report["height"], report["kept_area"]), (10, 5, 1.0))
        self.assertIn("wide", report["reason"])

    def test_a_stack_names_a_frame_that_does_not_lie_on_the_reference(self):
        paths = [*frames_in(green())[:2], frames_in(ridge())[0]]
        project, set_id = project_of(paths, Kind.STACK, registration=Registration(Align.SIMILARITY))
        report = stack_report(self.engine.stages(project, set_id), {}, Job())
        self.assertEqual([f["used"] for f in report["frames"]], [True, True, False])
        self.assertIn("features", report["frames"][2]["reason"])
        self.assertIsNone(report["frames"][2]["transform"])

    def test_the_planned_size_is_what_a_width_asks_for(self):
        project, set_id = project_of(frames_in(ridge()), output=Output(width_px=640))
        width, height = planned_size(self.engine, project, set_id, Job())
        full = self.engine.size(project, set_id, Job())
        self.assertEqual(width, 640)
        self.assertAlmostEqual(height / width, full[1] / full[0], delta=0.002)

    def test_a_sphere_has_its_width_already(self):
        project, set_id = project_of(frames_in(ridge()), view=View(full_sphere=True), output=Output(width_px=600))
        self.assertEqual(self.engine.size(project, set_id, Job()), (600, 300))
        self.assertEqual(output_scale(project, set_id, (600, 300)), 1.0)

    def test_every_covered_spot_has_an_owner_and_shares_add_up(self):
        project, set_id = project_of(frames_in(ridge()), outline=Outline(Edges.LEAVE))
        owner, covers = self.engine.stages(project, set_id).owner_map(0.3, Job())
        self.assertEqual(owner.shape, covers.shape)
        self.assertEqual(set(np.unique(owner[covers])), {0, 1, 2, 3})


class Scales(unittest.TestCase):
    def test_kept_scales_are_never_coarser_than_asked(self):
        for wish in np.geomspace(0.01, 1.0, 60):
            kept = canonical_scale(float(wish))
            self.assertGreaterEqual(kept * 1.0001, wish)
            self.assertTrue(kept == 1.0 or kept <= wish * 2**0.5 * 1.0001)

    def test_small_scales_are_made_of_one_base_that_is_no_larger_than_needed(self):
        with tempfile.TemporaryDirectory() as name:
            path = write_picture(Path(name) / "large.jpg", np.zeros((400, 5600, 3), np.uint8) + 90)
            kept: list[int] = []

            class Noting(Cache):
                def get(self, key, make, on_disk=False):
                    found = super().get(key, make, on_disk)
                    if on_disk:
                        kept.append(found.width)
                    return found

            opened = OpenedFile(StillFrame(path), Noting(2**28))
            self.assertLess(opened.sheet(0.05, Job()).width, 420)
            opened.sheet(0.02, Job())
        self.assertEqual(len(set(kept)), 1)
        self.assertGreaterEqual(kept[0], BASE_SIDE)
        self.assertLessEqual(kept[0], 1280 * 2**0.5 + 2)

    def test_a_scaled_size_is_never_empty(self):
        self.assertEqual(scaled_size((1000, 3), 0.01), (10, 1))
