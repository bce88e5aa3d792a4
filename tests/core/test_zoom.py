"""Frames of one size at several focal lengths that nobody wrote down."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from tests.support import engine, frames_in, project_of, ridge, rotation_errors_deg
from windfell.align import panorama
from windfell.align.pairs import Link
from windfell.align.solve import LensHint
from windfell.align.zoom import told_apart
from windfell.demo.faults import _photographer
from windfell.demo.files import write_jpeg
from windfell.demo.photograph import Shot
from windfell.engine.stage import Detail
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job


def linked(a: int, b: int, larger: float, count: int = 60) -> Link:
    """A link of two frames of which the second sees things so much larger."""
    p = np.random.default_rng(a).uniform(0, 500, (count, 2))
    h = np.diag([larger, larger, 1.0])
    return Link(a, b, p, p * larger, np.ones(count, bool), h)


class Zooms(unittest.TestCase):
    def test_lenses_are_told_apart_by_how_large_they_see(self):
        hints = [LensHint(("k",), None)] * 5
        links = [linked(0, 1, 1.02), linked(1, 2, 1.6), linked(2, 3, 0.99), linked(0, 4, 0.97)]
        found = [h.key for h in told_apart(hints, links)]
        self.assertEqual(found[0], ("k",))
        self.assertEqual(found[0], found[1])
        self.assertEqual(found[0], found[4])
        self.assertEqual(found[2], found[3])
        self.assertNotEqual(found[0], found[2])

    def test_a_slow_drift_weak_links_and_known_lenses_tell_nothing(self):
        unknown, known = [LensHint(("k",), None)] * 4, [LensHint(("k",), 500.0)] * 4
        drifting = [linked(0, 1, 1.06), linked(1, 2, 1.06), linked(2, 3, 1.06)]
        weak = [linked(0, 1, 1.0), linked(1, 2, 1.7, count=12), linked(2, 3, 1.0)]
        zoomed = [linked(0, 1, 1.0), linked(1, 2, 1.7), linked(2, 3, 1.0)]
        for hints, links in ((unknown, drifting), (unknown, weak), (known, zoomed), (unknown, [])):
            self.assertEqual(told_apart(hints, links), hints)

    def test_wide_and_narrow_frames_without_metadata_are_all_placed(self):
        wide, narrow = Lens(900, 600, 560.0), Lens(900, 600, 1100.0)
        views = [(wide, 0, 0), (wide, 33, -2), (narrow, 6, -3), (narrow, 27, -4)]
        turns = [from_yaw_pitch_roll(*np.radians([yaw, pitch, 1.0])) for _, yaw, pitch in views]
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for n, ((lens, _, _), turn) in enumerate(zip(views, turns, strict=True)):
                paths.append(f"{folder}/f{n}.jpg")
                taken = _photographer("ridge", 3).take(Shot(lens, turn, noise=0.006, seed=n))
                write_jpeg(Path(paths[-1]), taken, quality=93)
            project, set_id = project_of(paths)
            stages = []
            job = Job(lambda p: stages.append(p.stage))
            found = engine().stages(project, set_id).registration(job)
        self.assertEqual(found.placed, [0, 1, 2, 3])
        self.assertNotIn(str(Detail.FINE), stages, "finer features were looked for, though the quick ones are enough")
        self.assertLess(rotation_errors_deg([f.rotation for f in found.frames], turns).max(), 0.1)
        for frame, (lens, _, _) in zip(found.frames, views, strict=True):
            self.assertLess(abs(frame.lens.focal_px / lens.focal_px - 1), 0.01)

    def test_lenses_that_were_told_apart_but_are_alike_are_one(self):
        def split(hints, links):
            return [replace(h, key=(*h.key, n // 2)) for n, h in enumerate(hints)]

        project, set_id = project_of(frames_in(ridge()))
        with mock.patch.object(panorama, "told_apart", side_effect=split):
            found = engine().stages(project, set_id).registration(Job())
        self.assertEqual(found.placed, [0, 1, 2, 3])
        self.assertEqual(len({f.lens.focal_px for f in found.frames}), 1)


if __name__ == "__main__":
    unittest.main()
