"""Recipes, their file, edits, history, safety copies."""

import json
import os
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from windfell.errors import BadRequest, OutputFailed, ProjectUnreadable
from windfell.recipe import edits
from windfell.recipe.areas import Area, Found
from windfell.recipe.autosave import Autosave, abandoned
from windfell.recipe.history import History
from windfell.recipe.model import Frame, FrameSet, Kind, Mask, Project, nested_in, picture_parts
from windfell.recipe.project_file import found_in, load_project, mask_name, missing_files, save_project
from windfell.recipe.sources import FileSource, SetSource, VideoInstant
from windfell.recipe.words import WrongWord, from_words, to_words
from windfell.recipe.written import written_whole


def sample() -> Project:
    inner = FrameSet("in", "Inner", Kind.STACK, (Frame("a", FileSource("/pictures/a.jpg")),))
    clip = Frame("clip", VideoInstant("/pictures/kite.mkv", 2.5), on=False)
    outer = FrameSet("out", "Outer", Kind.PANORAMA, (Frame("n", SetSource("in")), clip))
    return Project((inner, outer))


class Words(unittest.TestCase):
    def test_a_project_comes_back_equal(self):
        self.assertEqual(from_words(Project, json.loads(json.dumps(to_words(sample())))), sample())

    def test_unknown_fields_are_kept(self):
        words = to_words(sample())
        words["mood"] = {"wind": [1, 2]}
        words["sets"][0]["view"]["tint"] = "teal"
        again = to_words(from_words(Project, words))
        self.assertEqual(again["mood"], {"wind": [1, 2]})
        self.assertEqual(again["sets"][0]["view"]["tint"], "teal")

    def test_wrong_values_are_named_with_their_place(self):
        wrong = [
            ("sets.0.kind", "mosaic"), ("sets.0.view.yaw_deg", 900), ("sets.0.view.yaw_deg", "far"),
            ("sets.0.frames.0.on", 1), ("sets.0.frames.0.source.kind", "cloud"),
            ("sets.0.output.depth", True), ("sets", {}), ("sets.0.joining.blend_pct", float("nan")),
        ]
        for path, value in wrong:
            with self.subTest(path=path, value=value):
                words = to_words(sample())
                *parents, last = path.split(".")
                at = words
                for part in parents:
                    at = at[int(part)] if part.isdigit() else at[part]
                at[last] = value
                with self.assertRaisesRegex(WrongWord, last):
                    from_words(Project, words)

    def test_recipes_can_be_compared_and_hashed(self):
        self.assertEqual(hash(sample()), hash(sample()))


class ProjectFiles(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)

    def _real(self) -> Project:
        (self.folder / "frames").mkdir(exist_ok=True)
        file = self.folder / "frames" / "a.jpg"
        file.write_bytes(b"x")
        return Project((FrameSet("s", "S", Kind.STACK, (Frame("f", FileSource(str(file))),)),))

    def test_saved_and_opened_with_masks(self):
        mask = np.zeros((20, 30), np.uint8)
        mask[5:9] = 255
        project = self._real()
        frame = replace(project.sets[0].frames[0], masks=(Mask(mask_name(mask), "keep"),))
        project = project.with_set(replace(project.sets[0], frames=(frame,)))
        path = self.folder / "p.windfell"
        save_project(path, project, {mask_name(mask): mask, "unused": mask})
        again, masks = load_project(path)
        self.assertEqual(again, project)
        self.assertEqual(list(masks), [mask_name(mask)])
        np.testing.assert_array_equal(masks[mask_name(mask)], mask)

    def test_masks_of_what_is_ignored_become_areas_as_earlier_projects_are_read(self):
        mask = np.zeros((20, 30), np.uint8)
        mask[5:9] = 255
        name = mask_name(mask)
        project = self._real()
        frame = replace(project.sets[0].frames[0], masks=(Mask(name, "ignore"), Mask(name, "keep")))
        path = self.folder / "p.windfell"
        save_project(path, project.with_set(replace(project.sets[0], frames=(frame,))), {name: mask})
        again, masks = load_project(path)
        read = again.sets[0].frames[0]
        self.assertEqual(read.ignored, Area((Found(name),)))
        self.assertEqual(read.masks, (Mask(name, "keep"),))
        save_project(path, again, masks)
        self.assertEqual(load_project(path)[0], again)

    def test_paths_are_relative_so_a_moved_folder_still_opens(self):
        save_project(self.folder / "p.windfell", self._real(), {})
        moved = self.folder.parent / (self.folder.name + "-moved")
        os.rename(self.folder, moved)
        self.addCleanup(lambda: os.rename(moved, self.folder))
        project, _ = load_project(moved / "p.windfell")
        self.assertEqual(missing_files(project), [])
        self.assertTrue(project.sets[0].frames[0].source.path.startswith(str(moved)))

    def test_a_missing_frame_can_be_pointed_to_again(self):
        project = self._real()
        elsewhere = self.folder / "elsewhere" / "deep"
        elsewhere.mkdir(parents=True)
        os.rename(self.folder / "frames" / "a.jpg", elsewhere / "a.jpg")
        self.assertEqual(len(missing_files(project)), 1)
        self.assertEqual(missing_files(found_in(project, self.folder / "elsewhere")), [])

    def test_damaged_files_are_refused_in_a_sentence(self):
        path = self.folder / "bad.windfell"
        later = {"schema": 99, "sets": []}
        itself = {"schema": 1, "sets": [{"id": "a", "name": "A", "kind": "stack", "frames": [
            {"id": "f", "source": {"kind": "set", "set": "a"}}]}]}
        for content in (b"", b"PK nonsense", json.dumps(later), json.dumps(itself), "{}", "not json"):
            with self.subTest(content=content):
                if isinstance(content, bytes):
                    path.write_bytes(content)
                else:
                    with zipfile.ZipFile(path, "w") as archive:
                        archive.writestr("project.json", content)
                with self.assertRaisesRegex(ProjectUnreadable, "bad.windfell"):
                    load_project(path)

    def test_a_failed_save_leaves_the_old_file(self):
        path = self.folder / "p.windfell"
        save_project(path, self._real(), {})
        before = path.read_bytes()
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")), \
                self.assertRaisesRegex(OutputFailed, "No space left"):
            save_project(path, Project(), {})
        self.assertEqual(path.read_bytes(), before)
        self.assertEqual(sorted(os.listdir(self.folder)), ["frames", "p.windfell"])

    def test_a_block_that_raises_leaves_nothing(self):
        with self.assertRaises(ZeroDivisionError), written_whole(self.folder / "x.bin") as temporary:
            temporary.write_bytes(b"half")
            raise ZeroDivisionError
        for what in ("temporary", "other"):
            with self.assertRaises(OutputFailed) as told, written_whole(self.folder / "x.bin") as temporary:
                raise OutputFailed(temporary if what == "temporary" else "y.bin", "too wide.")
            self.assertEqual(told.exception.path, str(self.folder / "x.bin") if what == "temporary" else "y.bin")
        self.assertEqual(os.listdir(self.folder), [])

    def test_work_of_a_session_that_ended_badly_is_found(self):
        slots = self.folder / "unsaved"
        Autosave(slots).keep(self._real(), {}, "/home/p.windfell")
        self.assertEqual(abandoned(slots), [])  # this process still runs
        for file in slots.iterdir():
            file.rename(file.with_name(file.name.replace(str(os.getpid()), "4194301")))
        found = abandoned(slots)
        self.assertEqual((found[0].project, found[0].path), (self._real(), "/home/p.windfell"))


class Edits(unittest.TestCase):
    def test_undo_returns_an_equal_recipe_in_words(self):
        history = History(sample())
        history.do(edits.set_values(history.project, "out", {"view.yaw_deg": 12.0}))
        self.assertEqual(history.undo_words, "turn 0.0° to 12.0°")
        history.undo()
        self.assertEqual(history.project, sample())
        self.assertEqual(history.redo_words, "turn 0.0° to 12.0°")
        history.redo()
        self.assertEqual(history.project.set("out").view.yaw_deg, 12.0)

    def test_a_drag_is_one_step_from_where_it_began(self):
        history = History(sample())
        for n, yaw in enumerate((1.0, 5.0, 9.0)):
            history.do(edits.set_values(history.project, "out", {"view.yaw_deg": yaw}), n == 0)
        self.assertEqual(history.undo_words, "turn 0.0° to 9.0°")
        history.undo()
        self.assertEqual(history.project, sample())

    def test_values_are_held_within_their_limits(self):
        edit = edits.set_values(sample(), "out", {"view.pitch_deg": 400.0})
        self.assertEqual(edit.project.set("out").view.pitch_deg, 90.0)

    def test_a_set_cannot_contain_itself(self):
        with self.assertRaises(BadRequest):
            edits.add_frames(sample(), "in", [Frame("x", SetSource("out"))])
        self.assertEqual(nested_in(sample(), "out"), {"in"})

    def test_a_set_in_use_is_not_removed(self):
        with self.assertRaisesRegex(BadRequest, "Outer"):
            edits.remove_set(sample(), "in")

    def test_a_variant_shares_frames_and_gets_its_own_name(self):
        project = edits.vary(edits.vary(sample(), "in").project, "in").project
        self.assertEqual([s.name for s in project.sets], ["Inner", "Outer", "Inner 2", "Inner 3"])
        self.assertEqual(project.sets[2].frames, project.sets[0].frames)

    def test_output_and_names_leave_the_picture_as_it_is(self):
        before = picture_parts(sample(), "out")
        for path, value in (("output.quality", 50), ("name", "New")):
            after = edits.set_values(sample(), "out", {path: value}).project
            self.assertEqual(picture_parts(after, "out"), before)
        inner = edits.set_values(sample(), "in", {"combining.rule": edits.get_value(
            replace(sample().set("in")), "combining.rule").MEAN}).project
        self.assertNotEqual(picture_parts(inner, "out"), before)
