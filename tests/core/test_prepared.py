"""Small parts of Gather and Prepare: edits of sets, kept developments, likely pairs, folders."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from windfell.align.candidates import ALL_UP_TO, likely_pairs
from windfell.align.features import Features
from windfell.errors import BadRequest, FrameUnreadable
from windfell.frames.listing import is_frame, pictures_in
from windfell.recipe import developing, edits
from windfell.recipe.developments import read_development
from windfell.recipe.kept import Kept
from windfell.recipe.model import Development, Frame, FrameSet, Kind, Project, Registration, frame_from_path
from windfell.recipe.sources import SetSource, VideoInstant


def two_sets() -> Project:
    sets = []
    for name in "ab":
        frames = tuple(Frame(f"{name}{n}", frame_from_path(f"/card/{name}{n}.jpg").source) for n in range(3))
        sets.append(FrameSet(name, name, Kind.STACK, frames, Registration(reference=f"{name}1")))
    return Project(tuple(sets))


class EditsOfSets(unittest.TestCase):
    def test_moved_frames_keep_their_order_and_free_the_reference(self):
        moved = edits.move_frames(two_sets(), ["a2", "a1"], "b", "b1").project
        self.assertEqual([f.id for f in moved.set("b").frames], ["b0", "a1", "a2", "b1", "b2"])
        self.assertIsNone(moved.set("a").registration.reference)
        self.assertEqual(moved.set("b").registration.reference, "b1")

    def test_a_set_cannot_be_moved_into_itself_or_merged_away_while_used(self):
        project = edits.add_frames(two_sets(), "b", [Frame("n", SetSource("a"))]).project
        with self.assertRaises(BadRequest):
            edits.move_frames(project, ["n"], "a")
        with self.assertRaises(BadRequest):
            edits.merge_sets(project, "b", "a")
        with self.assertRaises(BadRequest):
            edits.split_set(project, "a", "a0")

    def test_merging_takes_shared_frames_once(self):
        project = edits.vary(two_sets(), "a").project
        merged = edits.merge_sets(project, "a", project.sets[-1].id).project
        self.assertEqual(len(merged.set("a").frames), 3)

    def test_instants_that_stay_keep_their_decisions(self):
        frames = tuple(Frame(str(t), VideoInstant("/v.mp4", t), on=t != 1.0) for t in (0.0, 1.0, 2.0))
        project = Project((FrameSet("v", "v", Kind.STACK, frames),))
        found = edits.set_instants(project, "v", "/v.mp4", [2.0, 1.0, 1.5], "choose").project.sets[0].frames
        self.assertEqual([f.source.time_s for f in found], [1.0, 1.5, 2.0])
        self.assertEqual((found[0].id, found[0].on), ("1.0", False))

    def test_values_are_held_within_their_limits(self):
        done = developing.develop(two_sets(), "a", ["a0"], {"exposure_ev": 9.0}).project
        self.assertEqual(done.set("a").frames[0].development.exposure_ev, 5.0)


class Names(unittest.TestCase):
    def test_developments_are_kept_under_names(self):
        with tempfile.TemporaryDirectory() as folder:
            shelf = Kept(Path(folder) / "state" / "d.json", Development)
            self.assertEqual(shelf.all(), {})
            shelf.keep("Evening", Development(exposure_ev=0.5))
            shelf.keep("Fog", Development(haze_pct=40.0))
            self.assertEqual(shelf.all()["Evening"].exposure_ev, 0.5)
            shelf.drop("Evening")
            self.assertEqual(list(shelf.all()), ["Fog"])
            wrong = Path(folder) / "w.json"
            for text in ("{", "[]", '{"exposure_ev": "much"}', '{"tint": 900}'):
                wrong.write_text(text)
                with self.subTest(text), self.assertRaisesRegex(BadRequest, "no development"):
                    read_development(wrong)

    def test_folders_list_frames_only(self):
        with tempfile.TemporaryDirectory() as folder:
            for name in ("b.JPG", "a.cr3", "notes.txt", ".hidden.jpg", "c.mp4"):
                (Path(folder) / name).write_bytes(b"x")
            self.assertEqual([Path(p).name for p in pictures_in(folder)], ["a.cr3", "b.JPG", "c.mp4"])
        self.assertFalse(is_frame("truth.json"))
        with self.assertRaisesRegex(FrameUnreadable, "cannot be opened"):
            pictures_in(folder)


class LikelyPairs(unittest.TestCase):
    def test_few_are_all_tried_and_many_by_likeness(self):
        rng = np.random.default_rng(0)

        def frame(scene: int) -> Features:
            centre = np.random.default_rng(scene).random((12, 128))
            rows = centre[rng.integers(0, 12, 80)] + 0.05 * rng.random((80, 128))
            rows /= np.linalg.norm(rows, axis=1, keepdims=True)
            return Features(np.zeros((80, 2)), rows.astype(np.float32), 100, 100)

        few = [frame(0) for _ in range(5)]
        self.assertEqual(len(likely_pairs(few)), 10)
        scenes = [n % 8 for n in range(2 * ALL_UP_TO)]
        pairs = set(likely_pairs([frame(s) for s in scenes]))
        alike = {(a, b) for a in range(len(scenes)) for b in range(a + 1, len(scenes)) if scenes[a] == scenes[b]}
        self.assertLessEqual(alike, pairs)
        self.assertLess(len(pairs), 0.6 * len(scenes) * (len(scenes) - 1) / 2)
