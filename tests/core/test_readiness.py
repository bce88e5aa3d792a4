"""Readiness and proposed sets: planted faults are found, a clean set raises none, a card is sorted."""

import tempfile
import unittest
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np

from tests.support import engine, frames_in, green, project_of, ridge, stranger
from windfell.demo.faults import _photographer, write_planted
from windfell.engine.mend import mended
from windfell.engine.survey import matched_set, readiness, surveyed
from windfell.errors import CannotJoin
from windfell.job import Cancelled, Job
from windfell.readiness.checks import CHECKS, findings, missing_cap, unconnected
from windfell.readiness.coverage import coverage_of, missing_caps
from windfell.readiness.findings import Weight
from windfell.readiness.parallax import sideways_shift
from windfell.readiness.sharpness import burnt_blocks, detail_blocks
from windfell.readiness.survey import Coverage, FrameLook, PairLook, Survey
from windfell.recipe.edits import switch_frames
from windfell.recipe.model import Kind
from windfell.recipe.sources import VideoInstant

START = datetime(2026, 5, 16, 9, 0)


class OnRealFrames(unittest.TestCase):
    def test_clean_sets_raise_nothing(self):
        for folder, kind in ((ridge(), Kind.PANORAMA), (green(), Kind.STACK)):
            with self.subTest(kind):
                project, set_id = project_of(frames_in(folder), kind)
                self.assertEqual(readiness(engine(), project, set_id, Job()), [])

    def test_a_stranger_and_a_copy_are_named_and_kept_aside(self):
        paths = [*frames_in(ridge()), stranger(), frames_in(ridge())[1]]
        project, set_id = project_of([str(p) for p in paths])
        host = engine()
        found = {f.fault: f for f in readiness(host, project, set_id, Job())}
        self.assertLessEqual({"unconnected", "duplicate"}, set(found))
        edit = mended(host, project, set_id, [found["unconnected"], found["duplicate"]], Job())
        self.assertEqual([f.on for f in edit.project.sets[0].frames], [True] * 4 + [False] * 2)
        self.assertEqual(readiness(host, edit.project, set_id, Job()), [])
        aside = switch_frames(project, set_id, [project.sets[0].frames[0].id], False).project
        titles = [f.title for f in readiness(host, aside, set_id, Job())]
        self.assertTrue(any("Frame 5:" in t for t in titles) and any("6" in t for t in titles), titles)
        proposed = aside.with_set(replace(aside.sets[0], proposed=True))
        (note,) = (f for f in readiness(host, proposed, set_id, Job()) if f.fault == "kept aside")
        self.assertTrue(note.title.startswith("Frame 1: kept aside"), note.title)
        self.assertEqual((note.frames, note.weight), ((aside.sets[0].frames[0].id,), Weight.NOTE))
        apart = switch_frames(project, set_id, [project.sets[0].frames[n].id for n in (1, 2, 5)], False).project
        with self.assertRaisesRegex(CannotJoin, r"frames (1 and [45]|4 and 5) come nearest"):
            host.stages(apart, set_id).registration(Job())

    def test_what_cannot_be_read_is_named_and_the_rest_goes_on(self):
        with tempfile.TemporaryDirectory() as folder:
            cut = Path(folder) / "cut.jpg"
            cut.write_bytes(Path(frames_in(ridge())[1]).read_bytes()[:20_000])
            project, set_id = project_of([*frames_in(ridge()), str(cut), "/gone.jpg"])
            survey = surveyed(engine(), project, set_id, Job())
            self.assertEqual(len(survey.frames), 4)
            told = [f.title for f in findings(survey) if f.fault == "unreadable"]
            self.assertTrue(any("cut short" in t for t in told) and any("/gone.jpg" in t for t in told), told)

    def test_planted_drift_is_matched_away(self):
        """+-0.5 EV and about +-600 K, planted as developments' inverse by brightness of the files."""
        from windfell.recipe.developing import develop_each
        from windfell.recipe.model import Development

        project, set_id = project_of(frames_in(green())[:4], Kind.STACK)
        ids = [f.id for f in project.sets[0].frames]
        planted = {ids[1]: Development(5900.0, 0.0, 0.5), ids[2]: Development(7100.0, 0.0, -0.5)}
        drifted = develop_each(project, set_id, planted, "drift").project
        host = engine()
        faults = {f.fault for f in readiness(host, drifted, set_id, Job())}
        self.assertLessEqual({"exposure drift", "white balance drift"}, faults)
        found, order = matched_set(host, drifted, set_id, ids[0], Job())
        self.assertEqual(order, ids)
        for own in found.developments:
            self.assertLess(abs(own.exposure_ev), 0.03)
            self.assertLess(abs(1e6 / (own.temperature_k or 6504) - 1e6 / 6504), 3)

    def test_stopping_is_heard(self):
        job = Job()
        job.stop()
        project, set_id = project_of(frames_in(green()), Kind.STACK)
        with self.assertRaises(Cancelled):
            surveyed(engine(), project, set_id, job)


class Planted(unittest.TestCase):
    """A few of the faults that bench/readiness.py counts over hundreds of sets."""

    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.addClassCleanup(_photographer.cache_clear)

    def found(self, kind: str, fault: str | None, seed: int) -> set[str]:
        planted = write_planted(Path(self.folder.name) / f"{fault}-{seed}", kind, fault, seed)
        project, set_id = project_of(list(planted.files), Kind(planted.kind))
        if planted.instants:
            frame = project.sets[0].frames[0]
            frames = tuple(
                replace(frame, id=str(n), source=VideoInstant(planted.files[0], t))
                for n, t in enumerate(planted.instants))
            project = project.with_set(replace(project.sets[0], frames=frames))
        return {f.fault for f in readiness(engine(), project, set_id, Job())} - {"bracket"}

    def test_in_a_series(self):
        for fault, seed in {None: 300, "bumped": 301, "missing lens correction": 303, "raw and JPEG double": 305,
                            "motion blur": 307}.items():
            with self.subTest(fault):
                found = self.found("stack", fault, seed)
                self.assertTrue(found == set() if fault is None else fault in found, found)


class Judging(unittest.TestCase):
    def test_an_open_cap_of_a_full_ring_is_named_with_its_width(self):
        rows = np.arcsin(np.linspace(-0.999, 0.999, 400))
        lon, lat = np.stack(np.meshgrid(np.radians(np.arange(0, 360, 2.0)), rows), -1).reshape(-1, 2).T
        rays = np.stack([np.sin(lon) * np.cos(lat), -np.sin(lat), np.cos(lon) * np.cos(lat)], -1)
        degrees = np.degrees(lat)
        self.assertEqual(missing_caps(rays, np.ones(len(rays), bool)), ())
        found = missing_caps(rays, degrees > -70)
        self.assertEqual([name for name, _ in found], ["nadir"])
        self.assertAlmostEqual(found[0][1], 40.0, delta=1.5)
        both = missing_caps(rays, np.abs(degrees) < 60)
        self.assertEqual([name for name, _ in both], ["zenith", "nadir"])
        row = (np.abs(degrees) < 30) & (np.cos(lon) > 0)
        self.assertEqual(missing_caps(rays, row), (), "a row has no caps")
        coverage = Coverage((), (), (), (), found)
        said = missing_cap(Survey(Kind.PANORAMA, True, (), (), coverage=coverage))
        self.assertIn("nadir is open, about 40° wide", said[0].title)
        self.assertEqual(missing_cap(Survey(Kind.STACK, True, (), (), coverage=coverage)), [])

    def test_every_check_copes_with_nothing(self):
        from windfell.readiness.survey import Survey

        for kind in Kind:
            empty = Survey(kind, False, (), ())
            self.assertEqual([f for check in CHECKS for f in check(empty)], [])

    def test_the_brightest_of_a_bracket_may_show_nothing(self):
        def told(kind: Kind, evs: tuple[float, ...], burnt: float, aligned: bool = False) -> list[str]:
            looks = tuple(FrameLook(
                str(n), n + 1, f"{n}.jpg", str(n), "file", (600, 400), None, ev, None, None, str(n),
                np.zeros((2, 3), np.float32), np.full((2, 3), burnt if n == 2 else 0, np.float32))
                for n, ev in enumerate(evs))
            held = (PairLook(0, 1, 1.0, np.eye(3), 0.0, 0.0),)
            return [f.title + " " + f.cost for f in unconnected(Survey(kind, aligned, looks, held))]

        self.assertEqual(told(Kind.STACK, (0, -2, 2), 0.6), [])
        self.assertIn("mixed into", told(Kind.STACK, (0, -2, 2), 0.4)[0])
        self.assertIn("Frame 3", told(Kind.STACK, (0, 0, 0), 0.97)[0])
        self.assertIn("left out", told(Kind.STACK, (0, 0, 0), 0.97, aligned=True)[0])
        self.assertIn("left out", told(Kind.PANORAMA, (0, 0, 0), 0.97)[0])

    def test_coverage_adds_up_and_knows_the_redundant(self):
        seen = np.zeros((4, 100), bool)
        for n, first in enumerate((0, 20, 25, 45)):
            seen[n, first : first + 55] = True
        pairs = [PairLook(a, b, 0.5, np.eye(3), 0.0, 0.0) for a in range(4) for b in range(a + 1, 4)]
        found = coverage_of(seen, np.ones(100), pairs, [True] * 4)
        self.assertAlmostEqual(sum(found.added), 1.0)
        self.assertEqual(found.added[0], 0.55)
        self.assertEqual(found.redundant, (1, 2))
        thin = coverage_of(seen[[0, 3]], np.ones(100), [PairLook(0, 1, 0.12, np.eye(3), 0.0, 0.0)], [True, True])
        self.assertEqual(thin.thin, ((0, 1, 0.12),))

    def test_parallax_is_told_from_a_walker_and_from_wrong_matches(self):
        rng = np.random.default_rng(3)
        far = rng.uniform(0, 600, (120, 2))
        near = rng.uniform(0, 600, (40, 2))
        walker = rng.uniform(0, 40, (40, 2)) + 200
        wild = rng.uniform(0, 600, (40, 2))
        step = np.array([14.0, 1.0])
        for name, extra, off, found in (("near", near, step, True), ("walker", walker, step, False),
                                        ("wild", wild, rng.uniform(-300, 300, (40, 2)), False)):
            with self.subTest(name):
                a = np.concatenate([far, extra])
                b = np.concatenate([far, extra + off]) + rng.normal(0, 0.3, a.shape)
                shift = sideways_shift(a, b, np.eye(3), 2.3, 640)
                self.assertEqual(shift > 0, found, shift)

    def test_blocks_measure_sharpness_and_burning(self):
        import cv2

        from tests.support import textured

        sharp = textured(480, 640, 5)[..., 1]
        soft = cv2.GaussianBlur(sharp, (0, 0), 1.6)
        self.assertGreater(np.nanmedian(detail_blocks(sharp) - detail_blocks(soft)), 1.0)
        white = np.zeros((96, 128, 3), np.uint8)
        white[:48] = 255
        self.assertAlmostEqual(float(burnt_blocks(white).mean()), 0.5, places=2)
