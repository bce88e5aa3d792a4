"""What Align and Join measured replaces what Readiness guessed."""

from __future__ import annotations

import json
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from tests.support import frames_in, ridge
from windfell.align.parallax import Depth, Parallax, depth_of
from windfell.engine.core import Engine
from windfell.engine.measured import sideways_px, with_measured
from windfell.engine.survey import registered_coverage, surveyed
from windfell.job import Job
from windfell.readiness.checks import findings
from windfell.readiness.survey import LightDrift
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path


class Measured(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        engine = Engine(None, 2**28)
        cls.folder = Path(ridge())
        cls.set = FrameSet("r", "Ridge", Kind.PANORAMA, tuple(frame_from_path(p) for p in frames_in(ridge())))
        project = Project((cls.set,))
        cls.survey = surveyed(engine, project, "r", Job())
        stages = engine.stages(project, "r")
        cls.found = stages.registration(Job())
        cls.lights = stages.fitted_lights(Job())
        cls.coverage, cls.depth = registered_coverage(cls.found), depth_of(cls.found, 1.5)

    def measured(self, survey, depth=None, lights=None):
        ids = [f.id for f in self.set.used]
        return with_measured(survey, ids, self.found, self.coverage, depth or self.depth, lights)

    def faults(self, survey) -> set[str]:
        return {f.fault for f in findings(survey)}

    def test_a_guess_of_parallax_goes_and_what_was_measured_is_said(self):
        guessed = replace(self.survey, pairs=tuple(replace(p, parallax_px=40.0) for p in self.survey.pairs))
        self.assertIn("parallax", self.faults(guessed))
        self.assertNotIn("parallax", self.faults(self.measured(guessed)))
        side = max(self.survey.frames[0].size)
        link = self.found.links[0]
        shared = np.zeros((len(link.points_a), 2))
        shared[::2, 0], shared[1::2, 0] = side / 200, -side / 200
        deep = Depth(side / 200, {}, (Parallax(link.a, link.b, side / 200, shared),))
        (said,) = [f for f in findings(self.measured(self.survey, deep)) if f.fault == "parallax"]
        self.assertIn("as Align measured", said.title)
        self.assertIn(f"{side / 100:.0f} px", said.title)

    def test_overlap_is_that_of_the_cameras(self):
        thin = replace(self.survey.coverage, thin=((0, 1, 0.05),))
        self.assertIn("thin overlap", self.faults(replace(self.survey, coverage=thin)))
        self.assertNotIn("thin overlap", self.faults(self.measured(replace(self.survey, coverage=thin))))
        near = {(p.a, p.b): p.overlap for p in self.measured(self.survey).pairs}
        self.assertAlmostEqual(near[0, 1], 0.30, delta=0.07)

    def test_drifts_are_those_of_the_light_that_was_fitted(self):
        truth = json.loads((self.folder / "truth.json").read_text())["frames"]
        gains = np.log2([f["gain"] for f in truth]).mean(axis=1)
        wanted = gains - np.median(gains)
        false = replace(self.survey, drifts=tuple(LightDrift(1.0, 30.0) for _ in self.survey.frames))
        drifts = self.measured(false, lights=self.lights).drifts
        np.testing.assert_allclose([d.ev for d in drifts], wanted, atol=0.03)
        warm = np.array([f["gain"][0] / f["gain"][2] for f in truth])
        self.assertEqual(list(np.argsort([d.mired for d in drifts])), list(np.argsort(warm)))
        self.assertIs(self.measured(false).drifts, false.drifts)

    def test_a_frame_that_the_registration_does_not_know_leaves_the_guess(self):
        other = replace(self.survey, frames=(*self.survey.frames[:-1], replace(self.survey.frames[-1], id="new")))
        self.assertIs(self.measured(other), other)

    def test_the_range_of_what_neighbours_err_alike(self):
        shared = np.zeros((100, 2))
        shared[:50, 1], shared[50:, 1] = 3.0, -2.0
        self.assertAlmostEqual(sideways_px(Parallax(0, 1, 2.0, shared)), 5.0)
        self.assertEqual(sideways_px(Parallax(0, 1, 0.0, shared)), 0.0)
