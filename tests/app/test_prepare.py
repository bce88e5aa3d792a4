"""Gather and Prepare, by what a person presses and reads."""

import os
import shutil
import tempfile
import threading
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from PySide6.QtCore import QItemSelectionModel, QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest, with_readiness
from tests.support import frames_in, green, textured, write_picture
from windfell.app.widgets.findings import FindingRow
from windfell.demo.clip import write_video
from windfell.engine.measured import with_measured
from windfell.recipe import developing, edits
from windfell.recipe.model import Align, Development, FrameSet, Kind, Project, frame_from_path
from windfell.recipe.sources import VideoInstant


class Lanes(WindowTest):
    def board(self):
        return self.window.stations["gather"].page.board

    def test_frames_are_chosen_together_moved_split_and_merged(self):
        self.open("gather")
        lane = self.board().lanes[1]
        ids = [c.frame.id for c in lane.cards]
        QTest.mouseClick(lane.cards[2], Qt.MouseButton.LeftButton)
        lane.picked.emit("still", ids[4], Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(self.board().picks.ids, set(ids[2:5]))
        self.assertEqual([n for n, c in enumerate(lane.cards) if c.picked_too], [2, 3, 4])
        self.assertEqual([n for n, c in enumerate(lane.cards) if c.chosen], [4])
        self.board().move(ids[2:5], "row", None)
        self.assertEqual([len(s.frames) for s in self.session.project.sets], [7, 6])
        self.assertEqual([f.id for f in self.session.project.sets[0].frames[4:]], ids[2:5])
        self.session.undo()
        self.assertEqual([f.id for f in self.session.project.sets[1].frames], ids)
        self.session.select_frame(ids[3])
        self.settle()
        self.click(self.board().lanes[1].split)
        self.assertEqual([len(s.frames) for s in self.session.project.sets], [4, 3, 6])
        from PySide6.QtWidgets import QMenu

        menu = QMenu()
        self.settle()
        self.board().lanes[1].fill_merge(menu)
        menu.actions()[-1].trigger()
        self.assertEqual([len(s.frames) for s in self.session.project.sets], [4, 9])
        for _ in range(2):
            self.session.undo()
        self.assertEqual([len(s.frames) for s in self.session.project.sets], [4, 9])

    def test_several_frames_are_kept_aside_at_once(self):
        self.open("gather", "still")
        lane = self.board().lanes[1]
        ids = [c.frame.id for c in lane.cards]
        self.board().picks.ids = set(ids[:3])
        lane.cards[1].switch()
        self.assertEqual([f.on for f in self.session.frame_set.frames[:4]], [False] * 3 + [True])
        self.assertEqual(self.session.history.undo_words, "keep aside 3 frames")

    @with_readiness
    def test_coverage_sharpness_and_times_are_plotted(self):
        self.open("gather")
        gather = self.window.stations["gather"]
        self.assertAlmostEqual(sum(gather.bars.values), 100, delta=1)
        gather.plot.press("sharpness")
        self.assertTrue(all(v > 0.7 for v in gather.bars.values))
        gather.plot.press("times")
        self.assertEqual(gather.bars.values, [0, 3, 6, 9])


class Folder(WindowTest):
    def test_a_folder_is_browsed_chosen_from_and_watched(self):
        folder = Path(self._home.name) / "card"
        folder.mkdir()
        for path in frames_in(green())[:5]:
            shutil.copy(path, folder)
        gather = self.window.stations["gather"]
        self.click(gather.browse)
        page = gather.page.folder
        page.place.setText(str(folder))
        page.place.editingFinished.emit()
        self.assertEqual(page.model.rowCount(), 5)
        self.settle()
        page.watch.setChecked(True)
        shutil.copy(frames_in(green())[5], folder)
        self.until(lambda: page.model.rowCount() == 6)
        for row in (0, 1, 2, 5):
            page.list.selectionModel().select(page.model.index(row), QItemSelectionModel.SelectionFlag.Select)
        self.assertIn("4 chosen", page.count.text())
        self.assertIn("MB", page.count.text())
        self.click(page.add)
        self.settle()
        self.assertEqual([len(s.frames) for s in self.session.project.sets], [4])
        self.assertFalse(gather.browse.isChecked())

    def test_a_folder_that_is_gone_is_said(self):
        page = self.window.stations["gather"].page.folder
        page.open_folder("/no/such/folder")
        self.assertIn("cannot be opened", self.window.status.words.text())

    def test_a_thousand_files_are_shown_without_a_wait(self):
        import time

        with tempfile.TemporaryDirectory() as folder:
            first = write_picture(Path(folder) / "f0000.jpg", textured(60, 80, 1))
            for n in range(1, 1000):
                os.link(first, Path(folder) / f"f{n:04d}.jpg")
            page = self.window.stations["gather"].page.folder
            self.click(self.window.stations["gather"].browse)
            begun = time.monotonic()
            page.open_folder(folder)
            self.app.processEvents()
            self.assertLess(time.monotonic() - begun, 10.0)
            self.assertEqual(page.model.rowCount(), 1000)
            self.session.desk.stop_all()


class Trimming(WindowTest):
    def setUp(self):
        super().setUp()
        self.path = str(Path(self._home.name) / "clip.mp4")
        base = cv2.GaussianBlur(textured(120, 160, 3), (0, 0), 1.2)
        pictures = []
        for n in range(50):
            one = base.copy()
            one[50:70, 2 * n : 2 * n + 16] = 240
            pictures.append(one)
        write_video(Path(self.path), pictures, 25)
        self.window.open_paths([self.path])
        self.settle()
        self.session.select_frame(self.session.frame_set.frames[0].id)
        self.trimmer = self.window.stations["gather"].trimmer

    def times(self):
        return [f.source.time_s for f in self.session.frame_set.frames]

    def test_a_video_becomes_a_set_of_instants(self):
        self.assertEqual(len(self.times()), 9)
        self.assertTrue(all(isinstance(f.source, VideoInstant) for f in self.session.frame_set.frames))
        self.assertIs(self.window.stations["gather"].instrument.currentWidget(), self.trimmer)

    def test_scrub_take_trim_and_choose(self):
        film = self.trimmer.film
        film.setFocus()
        film.go(0.5)
        QTest.keyClick(film, Qt.Key.Key_Right)
        self.assertAlmostEqual(film.at_s, 0.54, places=6)
        self.click(self.trimmer.take)
        self.assertIn(0.54, self.times())
        self.drag(film, QPointF(film.width() - 11, film.height() - 8), QPointF(-film.width() / 2, 0))
        self.assertAlmostEqual(film.end_s, 1.0, delta=0.08)
        self.trimmer.number.setValue(5)
        self.click(self.trimmer.nth)
        self.until(lambda: not self.session.desk.busy)
        self.assertTrue(all(t <= film.end_s + 1e-6 for t in self.times()))
        self.assertAlmostEqual(self.times()[1] - self.times()[0], 0.2, places=4)
        self.assertIn("every 5th", self.session.history.undo_words)
        kept = len(self.times())
        self.session.select_frame(self.session.frame_set.frames[1].id)
        self.click(self.trimmer.drop)
        self.assertEqual(len(self.times()), kept - 1)
        for _ in range(3):
            self.session.undo()
        self.assertEqual(len(self.times()), 9)

    def test_instants_are_written_out(self):
        folder = Path(self._home.name) / "out"
        folder.mkdir()
        self.trimmer.write_into(str(folder), "png")
        self.until(lambda: not self.session.desk.busy)
        self.assertEqual(len(list(folder.glob("clip-*.png"))), 9)


class Preparing(WindowTest):
    def prepare(self):
        return self.window.stations["prepare"]

    @with_readiness
    def test_two_neighbours_are_shown_at_their_overlap(self):
        self.open("prepare")
        view = self.prepare().view
        box = view.overlap_box()
        self.assertTrue(0.6 < box[0] < 0.8 and box[2] == 1.0, box)
        self.assertIsNotNone(view.before.shown)
        self.assertIn("Frame 1 and frame 2", self.prepare().words.text())
        self.key(Qt.Key.Key_N)
        self.key(Qt.Key.Key_N)
        self.settle()
        self.assertIn("Frame 2 and frame 3", self.prepare().words.text())
        self.prepare().way.press("ghost")
        self.assertEqual(view.compare, "ghost")

    def test_rulers_develop_one_frame_or_all_and_undo(self):
        self.open("prepare")
        controls = self.prepare().development
        controls.rulers["exposure_ev"].changed.emit(0.5, True)
        frames = self.session.frame_set.frames
        self.assertEqual([f.development.exposure_ev for f in frames], [0.5, 0, 0, 0])
        controls.for_all.setChecked(True)
        controls.rulers["temperature_k"].changed.emit(5000.0, True)
        self.assertEqual([f.development.temperature_k for f in self.session.frame_set.frames], [5000.0] * 4)
        self.assertIn("temperature as shot to 5000 K of 4 frames", self.session.history.undo_words)
        self.click(controls.as_shot)
        self.assertIsNone(self.session.frame_set.frames[2].development.temperature_k)
        controls.for_all.setChecked(False)
        for _ in range(3):
            self.session.undo()
        self.assertEqual(self.session.frame_set.frames[0].development, Development())
        self.settle()

    def test_developments_are_copied_kept_and_used(self):
        from PySide6.QtWidgets import QMenu

        self.open("prepare")
        controls = self.prepare().development
        controls.rulers["contrast_pct"].changed.emit(30.0, True)
        controls.rulers["shadows_pct"].changed.emit(20.0, True)
        controls.keep_as("Evening")
        controls.copied = {"contrast_pct"}
        controls.copy_to_all()
        self.assertEqual(self.session.frame_set.frames[3].development, Development(contrast_pct=30.0))
        menu = QMenu()
        self.session.select_frame(self.session.frame_set.frames[2].id)
        controls.fill_menu(menu)
        next(a for a in menu.actions() if a.text() == "Use: Evening").trigger()
        self.assertEqual(self.session.frame_set.frames[2].development.shadows_pct, 20.0)
        self.settle()

    def test_grey_is_picked_and_guessed(self):
        self.open("prepare", "still")
        controls, view = self.prepare().development, self.prepare().view
        self.click(controls.automatic)
        self.until(lambda: self.session.frame_set.frames[0].development.temperature_k is not None)
        self.click(controls.as_shot)
        self.click(controls.pick)
        rect = view.picture_rect()
        at = QPointF(rect.x() + 0.2 * rect.width(), rect.y() + 0.12 * rect.height())
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=at.toPoint())
        self.until(lambda: not self.session.desk.busy)
        told = self.window.status.words.text()
        balanced = self.session.frame_set.frames[0].development.temperature_k
        self.assertTrue(balanced or "gives no white balance" in told)
        self.assertFalse(controls.pick.isChecked())

    @with_readiness
    def test_findings_are_listed_and_what_is_safe_is_fixed(self):
        folder = Path(self._home.name)
        paths = []
        for n, path in enumerate(frames_in(green())[:5]):
            picture = cv2.imread(path)
            if n >= 3:
                picture = np.roll(picture, 6, axis=1)
            if n == 1:
                picture = cv2.convertScaleAbs(picture, alpha=0.8)
            paths.append(str(folder / f"g{n}.png"))
            cv2.imwrite(paths[-1], picture)
        frames = tuple(frame_from_path(p) for p in paths)
        self.session.replace_all(Project((FrameSet("s", "Knocked", Kind.STACK, frames),)), None)
        self.session.go("prepare")
        self.settle()
        listed = self.prepare().instrument
        titles = " | ".join(r.finding.title for r in listed.rows)
        self.assertIn("bumped before frame 4, by 6 px", titles)
        self.assertIn("Exposure drifts", titles)
        self.assertIn("safe to fix", listed._summary.text())
        self.click(listed.fix_all)
        self.until(lambda: self.session.frame_set.registration.align is Align.SIMILARITY)
        self.assertIn("match", self.session.history.undo_words)
        self.settle()
        self.assertEqual([r.finding.fault for r in listed.rows], [])
        self.session.undo()
        self.assertEqual(self.session.frame_set.frames, frames)
        self.settle()

    def test_match_brings_a_dark_frame_back(self):
        self.open("prepare", "still")
        s = self.session
        frames = s.frame_set.frames
        dark = replace(frames[2], development=Development(exposure_ev=-0.6))
        from windfell.recipe.edits import Edit

        s.edit(Edit("dark", s.project.with_set(replace(s.frame_set, frames=(*frames[:2], dark, *frames[3:])))))
        s.select_frame(frames[0].id)
        self.settle()
        self.click(self.prepare().development.match)
        self.until(lambda: abs(s.frame_set.frames[2].development.exposure_ev) < 0.03)
        self.assertIn("off by up to 0.6", self.window.status.words.text())
        self.settle()

    @with_readiness
    def test_a_lens_is_searched_used_and_remembered(self):
        self.open("prepare")
        self.prepare().open_tab("lens")
        lens = self.prepare().lens
        lens.search.setText("nothing of the kind")
        lens.search.editingFinished.emit()
        self.assertIn("no such lens", self.window.status.words.text())
        lens.use_profile("Canon | Canon EF 24-70mm f/2.8L II USM")
        self.assertTrue(all(f.lens.profile for f in self.session.frame_set.frames))
        self.settle()
        self.session.undo()
        self.assertIsNone(self.session.frame_set.frames[0].lens.profile)
        lens.refresh()
        self.assertTrue(lens.found.isEnabled(), "what was chosen by hand is offered for this body again")
        lens.rulers["k1"].changed.emit(-0.05, True)
        self.assertEqual(self.session.frame_set.frames[3].lens.k1, -0.05)
        self.settle()
        self.assertIsNone(self.prepare().first.error)


@with_readiness
class Measuring(WindowTest):
    def test_what_align_measured_replaces_the_first_guess(self):
        self.open("prepare")
        found = self.window.readiness
        self.until(lambda: found.survey is not None and found.survey.measured)
        far = tuple(replace(p, parallax_px=60.0) for p in found._looked.pairs)
        registered = self.window.registrations
        found._looked = replace(found._looked, pairs=far)
        kept, registered.depth = registered.depth, None
        found._measured()
        self.assertIn("parallax", {f.fault for f in found.findings})
        self.assertFalse(found.survey.measured)
        registered.depth = kept
        registered.arrived.emit()
        self.until(lambda: found.survey.measured)
        self.assertNotIn("parallax", {f.fault for f in found.findings})
        words = [r.finding.title for r in self.window.station.instrument.findChildren(FindingRow) if r.isVisible()]
        self.assertFalse([w for w in words if "sideways" in w])

    def test_what_was_measured_of_other_frames_is_forgotten(self):
        self.open("prepare")
        found, registered = self.window.readiness, self.window.registrations
        last = self.session.frame_set.frames[-1].id
        self.session.edit(edits.switch_frame(self.session.project, "row", last, False))
        self.settle()
        self.until(lambda: found.survey is not None and found.survey.measured and len(found.survey.frames) == 3)
        held, frame_set = registered.found, registered.frame_set
        self.session.edit(edits.switch_frame(self.session.project, "row", last, True))
        registered._have(held, {}, self.session.frame_set)
        self.assertIsNone(registered.coverage)
        registered._have(held, {}, frame_set)
        self.until(lambda: found.survey is not None and found.survey.measured and len(found.survey.frames) == 4)

    def test_what_is_measured_of_one_set_does_not_arrive_at_another(self):
        self.open("prepare")
        found = self.window.readiness
        self.until(lambda: found.survey is not None and found.survey.measured)
        begun, gate = threading.Event(), threading.Event()

        def late(*of):
            begun.set()
            gate.wait(10)
            return with_measured(*of)

        found._with = ()
        with mock.patch("windfell.app.readiness.with_measured", late):
            found._measured()
            begun.wait(10)
            self.session.select_set("still")
            gate.set()
            self.until(lambda: not self.session.desk.runs("readiness, measured"))
        ids = {f.id for f in self.session.frame_set.frames}
        self.assertTrue(found.survey is None or {f.id for f in found.survey.frames} <= ids)
        self.settle()

    def test_lights_of_other_developments_do_not_speak(self):
        self.open("prepare")
        found = self.window.readiness
        self.until(lambda: found.survey is not None and found.survey.measured)
        frame = self.session.frame_set.frames[0]
        self.session.edit(developing.develop(
            self.session.project, "row", [frame.id], {"exposure_ev": 1.0}), True)
        self.settle()
        self.assertAlmostEqual(found.survey.drifts[0].ev, found._looked.drifts[0].ev)
        self.assertGreater(found.survey.drifts[0].ev, 0.7)
