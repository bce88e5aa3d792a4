"""A line drawn on the picture goes to the frame that shows both of its ends best."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.support import frames_in, ridge
from windfell.engine.core import Engine
from windfell.engine.lines import line_on_frame
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.outline import LineKind


class Lines(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        frames = tuple(frame_from_path(p) for p in frames_in(ridge()))
        cls.project = Project((FrameSet("r", "R", Kind.PANORAMA, frames),))
        cls.engine = Engine(None, 2**28)
        cls.stages = cls.engine.stages(cls.project, "r")

    def depths(self, ends) -> dict[str, float]:
        """How far from its rim each frame shows the end that is nearer to it, px."""
        canvas, out = self.stages.canvas(Job()), {}
        rays = canvas.rays(np.array(ends) * [canvas.width, canvas.height] - 0.5)
        for n, posed in zip(self.stages.registration(Job()).placed, self.stages.posed(Job()), strict=True):
            seen = replace(posed, lens=replace(posed.lens, optics=None)).project(rays)
            size = np.array([posed.lens.width - 1, posed.lens.height - 1])
            out[self.stages.set.used[n].id] = float(np.nan_to_num(np.minimum(seen, size - seen), nan=-1e9).min())
        return out

    def test_the_one_that_shows_it_farthest_from_its_rim(self):
        chosen = set()
        for x in np.linspace(0.08, 0.92, 15):
            ends = [(x, 0.45), (x + 0.004, 0.6)]
            depths = self.depths(ends)
            line = line_on_frame(self.engine, self.project, "r", ends, LineKind.UPRIGHT, Job())
            self.assertEqual(line.frame, max(depths, key=depths.get))
            chosen.add(line.frame)
        self.assertEqual(len(chosen), 4)

    def test_no_frame_shows_both_ends(self):
        with self.assertRaisesRegex(BadRequest, "shorter"):
            line_on_frame(self.engine, self.project, "r", [(0.05, 0.5), (0.95, 0.5)], LineKind.LEVEL, Job())
