"""Export in the window: the plan, its pages, named outputs, recipes, the queue; lanes of sets within sets."""

import json
import shutil
import unittest
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import tifffile
from PySide6.QtWidgets import QApplication

from tests.app.support import WindowTest, small_project
from tests.core.test_bracketed import chapel
from tests.support import frames_in, green
from windfell.app.export_queue import State
from windfell.app.stations.outputs import SHIPPED
from windfell.engine.bracketed import nested_frames
from windfell.engine.proposals import bracketed_files
from windfell.job import Job
from windfell.pixels.colour import SPACES
from windfell.pixels.profiles import icc_of
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.manners import Manner, Recipe
from windfell.recipe.model import FrameSet, Kind, Project
from windfell.recipe.output import Format, Intent, Output


class ExportTest(WindowTest):
    def station(self, set_id: str = "still"):
        self.open("export", set_id)
        self.export = self.window.stations["export"]
        self.export.set_place(str(self.home / "picture.tif"))
        self.settle()
        return self.export

    @property
    def home(self) -> Path:
        return Path(self._home.name)

    def done(self) -> bool:
        entries = self.export.queue.entries
        return bool(entries) and all(e.state not in (State.WAITING, State.WRITING) for e in entries)


class Pages(ExportTest):
    def test_every_control_is_an_edit(self):
        export = self.station()
        pages = export.pages
        for press, path, wanted in (
                (lambda: pages.format.press("webp"), "format", Format.WEBP),
                (lambda: pages.format.press("tiff"), "format", Format.TIFF),
                (lambda: pages.packing.press("zstd"), "compression", "zstd"),
                (lambda: pages.tiled.click(), "tiled", True), (lambda: pages.layered.click(), "layered", True),
                (lambda: pages.space.press("romm"), "space", "romm"),
                (lambda: pages.sharpen.changed.emit(40.0, True), "sharpen_pct", 40.0),
                (lambda: pages.bits.press("8"), "depth", 8), (lambda: pages.dither.click(), "dither", True),
                (lambda: (pages.format.press("jpeg"), pages.chroma.activated.emit(1)), "full_chroma", True),
                (lambda: pages.chroma.activated.emit(2), "full_chroma", False)):
            press()
            self.assertEqual(getattr(self.session.frame_set.output, path), wanted, path)
        for field, words, wanted in (("title", "The tarn", "The tarn"), ("keywords", "a, b,", ("a", "b"))):
            pages.words[field].setText(words)
            pages.words[field].editingFinished.emit()
            self.assertEqual(getattr(self.session.frame_set.output.words, field), wanted)
        pages.location.click()
        self.assertTrue(self.session.frame_set.output.words.location)
        self.settle()
        self.assertIn("the place", export.check.text())
        self.session.undo()
        self.assertFalse(self.session.frame_set.output.words.location)

    def test_sizes_in_words(self):
        export = self.station()
        export.size_words.setText("wide")
        export.size_words.editingFinished.emit()
        self.assertIn("no size", self.window.status.words.text())
        for words, field, wanted in (
                ("200 long", "long_px", 200), ("10cm", "print_mm", 100.0), ("50%", "scale_pct", 50.0)):
            export.size_words.setText(words)
            export.size_words.editingFinished.emit()
            self.assertEqual(getattr(self.session.frame_set.output, field), wanted)
        self.settle()
        self.assertIn("Half as fine", export.check.text())

    def test_the_check_names_what_is_worth_a_look(self):
        export = self.station("row")
        self.assertIn("covered by no frame", export.lines.text())
        self.assertIn("transparent", export.lines.text())
        self.assertIn("There is room", export.lines.text())
        export.format.press("jpeg")
        self.settle()
        self.assertIn("black", export.lines.text())

    def test_a_profile_and_its_proof(self):
        export = self.station()
        profile = self.home / "wide.icc"
        profile.write_bytes(icc_of(SPACES["romm"]))
        export.pages.use_profile(str(profile))
        self.assertEqual(self.session.frame_set.output.profile, str(profile))
        export.pages.intent.press("perceptual")
        self.assertEqual(self.session.frame_set.output.intent, Intent.PERCEPTUAL)
        export.pages.use_profile(str(self.home / "none.icc"))
        self.assertIn("none.icc", " ".join(self.said))
        self.assertEqual(self.session.frame_set.output.profile, str(profile))
        export.pages.proof.click()
        self.until(lambda: export._proof is not None)
        self.settle()
        shown = self.window.view.grab().toImage()
        export.pages.proof.click()
        self.assertIsNone(export._proof)
        self.assertFalse(shown.isNull())


class Outputs(ExportTest):
    def test_ticked_outputs_are_written_as_well(self):
        export = self.station()
        export.outputs.keep_output("Mine")
        self.assertEqual(set(export.outputs.named()), {*SHIPPED, "Mine"})
        export.outputs.tick("Phone", True)
        export.outputs.tick("Web", True)
        self.assertIn("Phone, Web", export.check.text())
        self.click(export.write)
        self.until(self.done)
        names = sorted(p.name for p in self.home.glob("picture*"))
        self.assertEqual(names, ["picture phone.jpg", "picture web.jpg", "picture.tif"])
        self.assertEqual(tifffile.imread(self.home / "picture.tif").shape, (320, 480, 3))

    def test_a_named_output_is_used_and_undone(self):
        export = self.station()
        before = self.session.frame_set.output
        export.outputs.use("Web")
        self.assertEqual(self.session.frame_set.output.format, Format.JPEG)
        self.session.undo()
        self.assertEqual(self.session.frame_set.output, before)
        export.outputs.fill()
        self.assertTrue(export.outputs.menu_of.actions())


class Queue(ExportTest):
    def test_it_waits_while_held_and_goes_on(self):
        export = self.station()
        self.click(export.later)
        self.assertTrue(export.hold.isChecked())
        self.assertEqual(export.hold.text(), "Go on")
        self.open("export", "row")
        export.set_place(str(self.home / "row.png"))
        export.format.press("png")
        export.size_words.setText("300x")
        export.size_words.editingFinished.emit()
        self.settle()
        self.click(export.later)
        self.assertEqual([e.state for e in export.queue.entries], [State.WAITING] * 2)
        self.assertIn("2 to do", export.queue_title.text())
        self.click(export.hold)
        self.until(self.done)
        self.assertEqual([e.state for e in export.queue.entries], [State.DONE] * 2)
        self.assertIn("written in", export.list.rows[1].words.text())
        self.assertEqual(cv2.imread(str(self.home / "row.png")).shape[1], 300)
        self.assertIn("The queue is done: 2 written", " ".join(self.said))
        self.click(export.clear)
        self.assertEqual((export.queue.entries, export.list.rows), ([], {}))

    def test_what_was_queued_is_written_as_it_was(self):
        export = self.station()
        self.click(export.later)
        self.session.change("combining.rule", Rule.MAXIMUM, True)
        self.click(export.hold)
        self.until(self.done)
        was = tifffile.imread(self.home / "picture.tif")
        export.set_place(str(self.home / "now.tif"))
        self.settle()
        self.click(export.write)
        self.until(lambda: (self.home / "now.tif").exists())
        self.assertGreater(float(np.abs(was.astype(int) - tifffile.imread(self.home / "now.tif")).mean()), 100)

    def test_one_that_fails_is_named_and_may_wait_again(self):
        export = self.station()
        place = self.home / "gone"
        place.mkdir()
        export.set_place(str(place / "x.tif"))
        self.settle()
        self.click(export.later)
        shutil.rmtree(place)
        self.click(export.hold)
        self.until(self.done)
        self.assertEqual(export.queue.entries[0].state, State.FAILED)
        self.assertIn("folder does not exist", export.result.text())
        place.mkdir()
        self.click(export.list.rows[1].more)
        self.until(self.done)
        self.assertEqual(export.queue.entries[0].state, State.DONE)

    def test_stop_leaves_nothing_and_holds_the_rest(self):
        export = self.station("row")
        self.session.change("output.scale_pct", 400.0, True)
        self.settle()
        self.click(export.write)
        self.click(export.later)
        self.until(lambda: export.queue.running is not None)
        self.window.do("stop")
        self.settle()
        self.assertEqual([e.state for e in export.queue.entries], [State.STOPPED, State.WAITING])
        self.assertTrue(export.hold.isChecked())
        self.assertEqual(list(self.home.glob("picture*")) + list(self.home.glob(".picture*")), [])
        self.click(export.list.rows[2].gone)
        self.assertEqual(len(export.queue.entries), 1)


class Recipes(ExportTest):
    def test_a_recipe_is_kept_and_done_to_others_as_one_step(self):
        export = self.station()
        self.session.change_all({"combining.rule": Rule.MAXIMUM, "output.format": Format.PNG}, True)
        export.recipe.keep_recipe("Bright")
        self.session.undo()
        self.assertEqual(self.session.frame_set.combining.rule, Rule.MEDIAN)
        export.recipe.use(export.recipe.recipes.all()["Bright"], export.recipe.outermost())
        own = {s.id: s for s in self.session.project.sets}
        self.assertEqual((own["still"].combining.rule, own["still"].output.format), (Rule.MAXIMUM, Format.PNG))
        self.assertEqual(own["row"].output.format, Format.TIFF)
        self.session.undo()
        self.assertEqual(self.session.project.set("still").combining.rule, Rule.MEDIAN)
        export.recipe.write_file(str(self.home / "r.json"))
        self.assertEqual(json.loads((self.home / "r.json").read_text())["stack"]["combining"]["rule"], "median")
        (self.home / "wrong.json").write_text("no")
        export.recipe.use_file(str(self.home / "wrong.json"))
        self.assertIn("wrong.json", " ".join(self.said))
        export.recipe.fill()
        self.assertTrue(any("Bright" in a.text() for a in export.recipe.menu_of.actions()))

    def test_a_watched_folder_becomes_sets_that_are_written(self):
        self.station()
        inbox = self.home / "in"
        inbox.mkdir()
        small = Manner(combining=Combining(Rule.MEAN), output=Output(Format.JPEG, 8, long_px=120))
        self.window.watch.begin(str(inbox), Recipe("Small", small, small), 0.5)
        self.assertEqual(self.window.stations["gather"].watch.text(), "Watch no longer")
        for path in frames_in(green())[:3]:
            shutil.copy(path, inbox)
        self.until(lambda: list((inbox / "made").glob("*.jpg")) if (inbox / "made").exists() else False)
        self.assertEqual(self.session.frame_set.combining.rule, Rule.MEAN)
        self.window.do("watch_folder")
        self.assertFalse(self.window.watch.on)


class Trees(ExportTest):
    def nested(self) -> None:
        inner = bracketed_files(self.session.engine, frames_in(chapel()), 3, None, "Chapel", Job())
        outer = FrameSet("outer", "Chapel", Kind.PANORAMA, nested_frames(inner))
        self.session.replace_all(Project((*small_project().sets, outer, *inner)), None)
        self.session.select_set("outer")
        self.session.go("gather")
        self.settle()
        self.board = self.window.stations["gather"].page.board

    def test_inner_sets_are_folded_and_shown_below_on_demand(self):
        self.nested()
        self.assertEqual([x.set_id for x in self.board.lanes], ["row", "still", "outer"])
        lane = self.board.lanes[2]
        self.assertIn("3 inside", lane.fold.text())
        self.click(lane.fold)
        self.settle()
        self.assertEqual(len(self.board.lanes), 6)
        self.assertGreater(self.board.lanes[3].layout().contentsMargins().left(), 30)
        self.click(lane.fold)
        self.assertEqual(len(self.board.lanes), 3)

    def test_an_inner_set_in_hand_has_its_lane_and_folding_hands_over_to_what_is_around(self):
        self.nested()
        inner = self.session.project.sets[4].id
        self.session.select_set(inner)
        self.settle()
        self.assertIn(inner, [lane.set_id for lane in self.board.lanes])
        self.assertTrue(self.board.lanes[2].fold.isChecked())
        self.click(self.board.lanes[2].fold)
        self.assertEqual((self.session.set_id, len(self.board.lanes)), ("outer", 3))

    def test_one_press_changes_the_rule_of_all_inside(self):
        self.nested()
        lane = self.board.lanes[2]
        self.assertEqual(lane.rule.currentData(), Rule.EXPOSURES)
        lane.rule.setCurrentIndex(lane.rule.findData(Rule.MEAN))
        lane.rule.activated.emit(lane.rule.currentIndex())
        self.assertEqual({s.combining.rule for s in self.session.project.sets[3:]}, {Rule.MEAN})
        self.session.undo()
        self.settle()
        self.assertEqual(self.board.lanes[2].rule.currentData(), Rule.EXPOSURES)

    def test_a_set_is_laid_behind_another(self):
        self.open("gather", "row")
        self.window.deeds.lay_behind("still")
        self.until(lambda: self.session.station == "combine")
        self.settle()
        own = self.session.frame_set
        self.assertEqual((own.kind, len(own.frames), len(own.combining.layers)), (Kind.STACK, 2, 1))
        self.window.do("place_by_stars")
        self.until(lambda: not self.session.desk.runs("compose"))
        QApplication.processEvents()
        self.assertIn("place it by hand", " ".join(self.said))

    def test_another_set_is_asked_for_if_there_is_one(self):
        self.open("gather", "row")
        before = len(self.session.frame_set.frames)
        with mock.patch("windfell.app.set_deeds.QInputDialog.getItem") as asked:
            asked.side_effect = lambda _parent, _title, _label, names, *_: (names[0], asked.call_count > 1)
            self.window.do("nest_set")
            self.assertEqual(len(self.session.frame_set.frames), before)
            self.window.do("nest_set")
            frames = self.session.frame_set.frames
            self.assertEqual((len(frames), frames[-1].source.set), (before + 1, "still"))
            self.session.undo()
            self.window.do("lay_behind")
            self.until(lambda: self.session.station == "combine")
            self.assertEqual([f.source.set for f in self.session.frame_set.frames], ["row", "still"])
        self.session.replace_all(Project(sets=(FrameSet("alone", "Alone", Kind.PANORAMA),)), None)
        self.window.do("nest_set")
        self.window.do("lay_behind")
        self.assertEqual(sum("no other set yet" in x for x in self.said), 2)


if __name__ == "__main__":
    unittest.main()
