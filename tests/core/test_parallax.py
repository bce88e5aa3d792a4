"""Near things seen aside: frames bent until they meet, against truth; and the ladder of finer features."""

import json
import tempfile
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import _HOME, engine, frames_in, project_of, ridge, stranger, textured
from windfell.align.adjust import Observations
from windfell.align.cameras import cameras_of
from windfell.align.closer import doubtful_pairs
from windfell.align.even import BOUND_SHARE, evened
from windfell.align.features import Features
from windfell.align.help import HandPoint, Help, meeting_points
from windfell.align.panorama import grounded
from windfell.align.parallax import parallax_px
from windfell.align.registration import PanoramaRegistration, Placed
from windfell.align.solve import Ground, LensHint
from windfell.cli.main import main
from windfell.demo import sets as demo_sets
from windfell.engine.stage import Detail, ideal_features
from windfell.frames.still import StillFrame
from windfell.geometry.bend import Bend
from windfell.geometry.camera import Lens
from windfell.geometry.optics import NODES, REACH, Optics
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Cancelled, Job
from windfell.recipe.model import Joining

SHIPPED = Path(demo_sets.__file__).parent / "frames" / "ridge-sweep"
SMALL = 0.5
AMOUNT_PX = 5.0


def drift(n: int, points: np.ndarray, width: int, height: int) -> np.ndarray:
    """How far px (n, 2) of the moved frame n lie from the original's: nearer ground moves more."""
    depth = np.clip((points[:, 1] / height - 0.45) / 0.55, 0, 1) ** 1.5
    aside = (-1) ** n * 0.5 * AMOUNT_PX * depth
    return np.stack([aside, 0.4 * aside * np.sin(3 * points[:, 0] / width)], axis=-1)


@lru_cache(maxsize=1)
def near() -> Path:
    """Three frames of the row whose ground moved aside, as if the camera had."""
    folder = Path(_HOME.name) / "near"
    folder.mkdir()
    for n, path in enumerate(sorted(SHIPPED.glob("*.jpg"))[:3]):
        picture = cv2.resize(cv2.imread(str(path)), None, fx=SMALL, fy=SMALL, interpolation=cv2.INTER_AREA)
        h, w = picture.shape[:2]
        grid = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1).reshape(-1, 2).astype(float)
        there = (grid + drift(n, grid, w, h)).reshape(h, w, 2).astype(np.float32)
        moved = cv2.remap(picture, there, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        cv2.imwrite(str(folder / f"near-{n}.png"), moved)
    return folder


def near_project(even: bool):
    paths = sorted(str(p) for p in near().glob("*.png"))
    return project_of(paths, joining=Joining(even_parallax=even))


def off_in_overlaps(posed: list[Posed]) -> np.ndarray:
    """px between where a frame's spots are seen in the next by truth and by the poses, on near ground."""
    truth = json.loads((SHIPPED / "truth.json").read_text())["frames"]
    out = []
    for a in range(len(posed) - 1):
        b = a + 1
        w, h = posed[a].lens.width, posed[a].lens.height
        lens = Lens(w, h, SMALL * truth[a]["focal_px"], truth[a]["distortion"]["k1"])
        grid = lens.grid(30)
        world = lens.rays(grid + drift(a, grid, w, h)) @ np.array(truth[a]["rotation"]).T
        original = lens.project(world @ np.array(truth[b]["rotation"]))
        there = original
        for _ in range(10):
            there = original - drift(b, there, w, h)
        with np.errstate(invalid="ignore"):
            shared = np.all((there > 10) & (there < [w - 10, h - 10]), axis=1) & (grid[:, 1] > 0.5 * h)
        out.append(np.linalg.norm(posed[b].project(posed[a].rays(grid[shared])) - there[shared], axis=1))
    return np.concatenate(out)


class BendOfAFrame(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        self.bend = Bend(600, 400, rng.normal(0, 3, (8, 11, 2)))
        self.points = rng.uniform([0, 0], [599, 399], (400, 2))

    def test_undone_undoes(self):
        there = self.points + self.bend.at(self.points)
        assert_allclose(self.bend.undone(there), self.points, atol=0.05)  # six rounds; the drift is steep here

    def test_no_spot_moves_farther_than_its_largest_coefficient(self):
        most = np.linalg.norm(self.bend.coefficients, axis=-1).max()
        self.assertLessEqual(np.linalg.norm(self.bend.at(self.points), axis=1).max(), most)

    def test_equal_coefficients_move_all_alike_even_beyond_the_frame(self):
        plain = Bend(600, 400, np.tile([2.0, -1.0], (5, 5, 1)))
        points = np.array([[0.0, 0.0], [599, 399], [-50, 200], [900, 900]])
        assert_allclose(plain.at(points), np.tile([2.0, -1.0], (4, 1)), atol=1e-12)

    def test_a_scaled_bend_drifts_in_its_own_px(self):
        half = self.bend.scaled(300, 200)
        assert_allclose(half.at(self.points * [299 / 599, 199 / 399]), self.bend.at(self.points) / 2, atol=1e-9)

    def test_what_is_not_seen_stays_unseen(self):
        self.assertTrue(np.isnan(self.bend.at(np.array([[np.nan, np.nan]]))).all())

    def test_a_bent_frame_sees_what_it_shows_with_and_without_optics(self):
        smooth = Bend(600, 400, np.random.default_rng(1).normal(0, 0.8, (5, 6, 2)))
        radius = np.linspace(0, REACH, NODES)
        by_profile = Optics(bend=tuple(radius * (1 - 0.03 * radius**2)))
        for name, optics in (("none", None), ("barrel", by_profile)):
            with self.subTest(name):
                posed = Posed(Lens(600, 400, 500.0, -0.04, optics=optics), from_yaw_pitch_roll(0.3, 0.1, 0.05),
                              bend=smooth)
                assert_allclose(posed.project(posed.rays(self.points)), self.points, atol=0.02)


class Evening(unittest.TestCase):
    def test_near_ground_meets_and_the_figures_say_how_well(self):
        made, job = engine(), Job()
        project, set_id = near_project(True)
        stages = made.stages(project, set_id)
        found = stages.registration(job)
        self.assertGreater(parallax_px(found), 0.4)
        straight = [replace(p, bend=None) for p in stages.posed(job)]
        before, after = off_in_overlaps(straight), off_in_overlaps(stages.posed(job))
        self.assertGreater(np.sqrt(np.mean(before**2)), 0.7)
        # a third of what it was, over everything that the frames share on the ground
        self.assertLess(np.sqrt(np.mean(after**2)), 0.33 * np.sqrt(np.mean(before**2)))
        evened = stages.evened(job)
        self.assertLess(evened.after_px, 0.5 * evened.before_px)
        most = BOUND_SHARE * max(found.frames[0].lens.width, found.frames[0].lens.height)
        for bend in evened.bends.values():
            self.assertLessEqual(np.linalg.norm(bend.coefficients, axis=-1).max(), most + 1e-9)

    def test_ground_that_moved_far_is_followed_to_where_no_points_are(self):
        rng, (w, h) = np.random.default_rng(2), (1067, 1600)
        lens = Lens(w, h, 1620.0)
        turns = [from_yaw_pitch_roll(np.radians(yaw), 0, 0) for yaw in (0.0, 25.0)]
        frames = tuple(Placed(lens, t, 0.1) for t in turns)
        one, two = (f.posed for f in frames)

        def meet(p: np.ndarray) -> np.ndarray:
            depth = np.clip((p[:, 1] / h - 0.45) / 0.55, 0, 1) ** 1.5
            return two.project(one.rays(p)) + np.stack([20 * depth, 4 * depth * np.sin(3 * p[:, 0] / w)], axis=-1)

        p = rng.uniform([360, 20], [1040, 1530], (700, 2))
        q = meet(p)
        fair = np.all((q > 30) & (q < [w - 30, h - 70]), axis=1)
        shared = Observations(0, 1, p[fair], q[fair] + rng.normal(0, 0.06, q[fair].shape))
        found = evened(PanoramaRegistration(frames, (), 0.1), [shared], Job())
        bent = [replace(f.posed, bend=found.bends[n]) for n, f in enumerate(frames)]
        grid = lens.grid(30)
        there = meet(grid)
        seen = np.all((there > 20) & (there < [w - 20, h - 20]), axis=1) & (grid[:, 1] > 0.45 * h)
        off = np.linalg.norm(bent[1].project(bent[0].rays(grid[seen])) - there[seen], axis=1)
        self.assertLess(np.sqrt(np.mean(off**2)), 0.3)

    def test_where_nothing_is_to_be_evened_out_no_frame_is_bent(self):
        project, set_id = project_of(frames_in(SHIPPED)[:3], joining=Joining(even_parallax=True))
        stages = engine().stages(project, set_id)
        evened = stages.evened(Job())
        self.assertEqual(evened.bends, {})
        self.assertEqual(evened.after_px, evened.before_px)
        self.assertTrue(all(p.bend is None for p in stages.posed(Job())))

    def test_the_picture_changes_and_its_key_too(self):
        made, job = engine(), Job()
        pictures, keys = [], []
        for even in (False, True):
            project, set_id = near_project(even)
            keys.append(made.stages(project, set_id).key(job))
            pictures.append(made.picture(project, set_id, 0.3, job).light)
        self.assertNotEqual(*keys)
        self.assertGreater(np.abs(pictures[0][:200, :300] - pictures[1][:200, :300]).max(), 0.01)

    def test_dropped_points_have_no_say_and_those_made_by_hand_have(self):
        found = Observations(0, 1, np.array([[10.0, 20.0], [30, 40]]), np.array([[1.0, 2.0], [3, 4]]))
        aside = Observations(0, 1, np.array([[50.0, 60.0]]), np.array([[5.0, 6.0]]), np.array([9.0]))
        ground = Ground(cameras_of([(100, 100)] * 2, [0, 0], np.array([90.0])), (0, 1), (found,), 1.0, (), ("", ""))
        by_hand = HandPoint(0, 1, (70.0, 80.0), (7.0, 8.0), 3.0)
        help_ = Help((by_hand,), dropped=frozenset({(0, 1, 10, 20)}), worst_px=0.1)
        points = meeting_points(ground, (found, aside), help_)
        assert_allclose(np.concatenate([o.points_a for o in points]), [[30, 40], [50, 60], [70, 80]])
        self.assertEqual([None if o.weight is None else list(o.weight) for o in points], [None, None, [3.0]])

    def test_it_stops_when_told(self):
        project, set_id = near_project(True)
        stages = engine().stages(project, set_id)
        stages.registration(Job())
        stopped = Job()
        stopped.stop()
        with self.assertRaises(Cancelled):
            stages.evened(stopped)

    def test_the_command_line_evens_and_reports(self):
        paths = sorted(str(p) for p in near().glob("*.png"))
        with tempfile.TemporaryDirectory() as folder:
            report = Path(folder) / "report.json"
            code = main(["panorama", *paths, "--out", f"{folder}/p.jpg", "--parallax", "even",
                         "--report", str(report)])
            self.assertEqual(code, 0)
            evened = json.loads(report.read_text())["parallax_evened"]
        self.assertEqual(evened["frames_bent"], 3)
        self.assertLess(evened["after_px"], evened["before_px"])


class CloserLook(unittest.TestCase):
    def _frames(self, paths):
        made, job = engine(), Job()
        project, _ = project_of(paths)
        used = project.sets[0].used
        opened = made.opened_all(project, project.sets[0], job)
        by_detail = {d: ideal_features(made, opened, used, job, d) for d in Detail}
        return by_detail, [LensHint(o.lens_key, o.focal_px) for o in opened]

    def test_finer_features_are_others_and_asked_for_only_where_a_frame_has_no_place(self):
        by_detail, hints = self._frames(frames_in(ridge()))
        self.assertTrue(all(f.binary for f in by_detail[Detail.QUICK]))
        self.assertFalse(any(f.binary for f in by_detail[Detail.FINE]))
        asked = []

        def finer(numbers, order=(0, 1, 2, 3)):
            asked.append(numbers)
            return [by_detail[Detail.FINE][n] for n in order]

        grounded(by_detail[Detail.QUICK], hints, Job(), finer=finer)
        self.assertEqual(asked, [])
        few = [*by_detail[Detail.QUICK][:3], _strongest(by_detail[Detail.QUICK][3], 12)]
        self.assertNotIn(3, grounded(few, hints, Job()).members)
        ground = grounded(few, hints, Job(), finer=finer)
        self.assertEqual(asked, [[2, 3]], "frames that follow each other come first")
        self.assertIn(3, ground.members)
        asked.clear()
        order = (3, 0, 1, 2)
        ground = grounded([few[n] for n in order], hints, Job(), finer=lambda numbers: finer(numbers, order))
        self.assertEqual(asked, [[0, 1], [0, 2, 3]], "then all others")
        self.assertEqual(ground.members, (0, 1, 2, 3))

    def test_a_stranger_stays_one_and_its_reason_is_of_the_closer_look(self):
        by_detail, hints = self._frames([*frames_in(ridge())[:3], str(stranger())])
        ground = grounded(by_detail[Detail.QUICK], hints, Job(), finer=lambda _: by_detail[Detail.FINE])
        self.assertEqual(ground.members, (0, 1, 2))
        pairs = [(r.a, r.b) for r in ground.refused if 3 in (r.a, r.b)]
        self.assertEqual(sorted(pairs), sorted(set(pairs)))

    def test_a_ring_that_hangs_together_by_one_end_is_looked_at_where_it_should_close(self):
        by_detail, hints = self._frames(frames_in(ridge()))
        features = by_detail[Detail.QUICK]
        ground = grounded(features, hints, Job())
        pairs = [(a, b) for a in range(4) for b in range(a + 1, 4)]
        firm = tuple(Observations(a, a + 1, np.zeros((90, 2)), np.zeros((90, 2))) for a in range(3))
        self.assertEqual(doubtful_pairs(replace(ground, held=firm), features, pairs), [])
        self.assertEqual(doubtful_pairs(replace(ground, held=firm[1:]), features, pairs), [(0, 1)])


class LumaOfAJpeg(unittest.TestCase):
    def test_it_is_what_the_colours_give(self):
        with tempfile.TemporaryDirectory() as folder:
            path = f"{folder}/a.jpg"
            cv2.imwrite(path, textured(301, 407, 5), [cv2.IMWRITE_JPEG_QUALITY, 97])
            still = StillFrame(path)
            for reduce in (1, 2, 4):
                with self.subTest(reduce):
                    grey = cv2.cvtColor(still.encoded(reduce), cv2.COLOR_RGB2GRAY).astype(int)
                    luma = still.luma(reduce).astype(int)
                    self.assertEqual(luma.shape, grey.shape)
                    self.assertLess(np.abs(luma - grey).mean(), 2.0)

    def test_other_formats_have_none(self):
        with tempfile.TemporaryDirectory() as folder:
            cv2.imwrite(f"{folder}/a.png", textured(60, 80, 5))
            self.assertIsNone(StillFrame(f"{folder}/a.png").luma())


def _strongest(features: Features, count: int) -> Features:
    return replace(features, points=features.points[:count], descriptors=features.descriptors[:count])


if __name__ == "__main__":
    unittest.main()
