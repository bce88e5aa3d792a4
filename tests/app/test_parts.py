"""Parts of the window by themselves: the desk, frames column, bars, choices, the ridge line."""

import gc
import os
import shutil
import threading
import time
import unittest
from unittest import mock

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest, small_project
from tests.support import frames_in, green, ridge
from windfell.app.before import before_project
from windfell.app.ridge_line import STATES
from windfell.app.start import application
from windfell.app.widgets.bars import Bars
from windfell.app.widgets.choice import Choice
from windfell.errors import BadRequest
from windfell.frames import still
from windfell.recipe.model import FrameSet, Joining, Kind, Project, frame_from_path


class TheCollector(unittest.TestCase):
    def test_what_was_there_at_the_start_is_not_looked_through_again(self):
        application()
        self.assertFalse(gc.isenabled())
        self.assertGreater(gc.get_freeze_count(), 10_000)


class TheDesk(WindowTest):
    def test_the_newest_request_wins_and_the_older_one_ends_unseen(self):
        answers, gate = [], threading.Event()

        def slow(job):
            while not gate.wait(0.01):
                job.check()
            return "old"

        self.session.desk.ask("test", slow, answers.append)
        self.session.desk.ask("test", lambda job: "new", answers.append)
        self.until(lambda: answers == ["new"])
        gate.set()
        QTest.qWait(60)
        self.assertEqual(answers, ["new"])

    def test_what_computes_is_nicer_than_the_window_but_what_a_hand_waits_for_is_not(self):
        seen = {}

        def niceness(job):
            # threads that it starts are as nice as it is
            return os.getpriority(os.PRIO_PROCESS, threading.get_native_id()), *job.map(
                lambda _: os.getpriority(os.PRIO_PROCESS, threading.get_native_id()), range(2), "looking")

        own = os.getpriority(os.PRIO_PROCESS, 0)
        desk = self.session.desk
        desk.ask("test", niceness, lambda n: seen.update(later=n))
        desk.follow("hand", niceness, lambda n: seen.update(soon=n))
        self.until(lambda: len(seen) == 2)
        self.assertTrue(all(n > own for n in seen["later"]), seen)
        self.assertEqual(set(seen["soon"]), {own})

    def test_while_a_hand_does_something_what_is_quiet_leaves_cores_to_the_window(self):
        desk = self.session.desk
        self.app.processEvents()
        self.until(lambda: not desk._hand.isActive())
        desk.use_seats(4)
        with mock.patch.object(desk._seats, "use") as use:
            self.session.go("align")
            self.session.go("shape")
            self.until(lambda: use.call_count > 1)
        self.assertEqual([c.args for c in use.call_args_list], [(4, 2), (4, None)])
        jobs, done = {}, []
        for name, quiet in (("quiet", True), ("loud", False)):
            desk.ask(name, lambda job, n=name: jobs.update({n: job}), done.append, quiet=quiet)
        self.until(lambda: len(done) == 2)
        self.assertEqual({n: j._patient for n, j in jobs.items()}, {"quiet": True, "loud": False})

    def test_failures_become_sentences_and_defects_do_not_freeze(self):
        told = []

        def refused(job):
            raise BadRequest("This cannot be.")

        self.session.desk.ask("a", refused, self.fail, told.append)
        self.until(lambda: told == ["This cannot be."])
        self.session.desk.ask("b", lambda job: 1 // 0, self.fail)
        self.until(lambda: "went wrong" in self.window.status.words.text())

    def test_progress_and_stop_are_shown_while_something_runs(self):
        gate = threading.Event()

        def work(job):
            while not gate.wait(0.02):
                job.step("counting sheep", 0.5)

        self.session.desk.ask("work", work, lambda _: None)
        self.until(lambda: "counting sheep, 50 %" in self.window.status.pointer.text())
        self.assertTrue(self.window.status.stop.isVisible())
        begun = time.monotonic()
        self.click(self.window.status.stop)
        self.until(lambda: not self.session.desk.busy)
        self.assertLess(time.monotonic() - begun, 5.0)
        self.until(lambda: not self.window.status.stop.isVisible(), 1)
        gate.set()


class Stopped(WindowTest):
    def test_of_a_picture_that_was_stopped_no_tiles_are_asked_for_in_the_size_of_the_one_before(self):
        self.open("combine", "still")
        source = self.window.source
        asked = []
        with mock.patch.object(self.session.desk, "ask", lambda channel, *_, **__: asked.append(channel)):
            source.want_tiles(0, [(0, 0)])
            self.assertEqual(asked, ["picture tiles"])
            asked.clear()
            source._wanted, source._parts = (self.session.project, "row"), ("row", None)  # another is on its way
            source._stopped()
            self.assertTrue(source.settled)
            source.want_tiles(0, [(0, 0)])
            self.assertEqual(asked, [])
        source.again()
        self.settle()


class Column(WindowTest):
    def test_frames_are_picked_switched_and_stepped_by_keys(self):
        self.open("align")
        ticks = self.window.frames._ticks
        self.assertEqual(len(ticks), 4)
        self.click(ticks[2], QPoint(20, 60))
        self.assertEqual(self.session.frame_id, self.session.frame_set.frames[2].id)
        ticks[2].setFocus()
        QTest.keyClick(ticks[2], Qt.Key.Key_Space)
        self.assertFalse(self.session.frame_set.frames[2].on)
        self.assertIs(self.window.frames._ticks[2], ticks[2], "the keyboard stays where it is")
        self.assertFalse(ticks[2].frame.on)
        self.key(Qt.Key.Key_O)
        self.assertTrue(self.session.frame_set.frames[2].on)
        self.key(Qt.Key.Key_N)
        self.assertEqual(self.session.frame_id, self.session.frame_set.frames[3].id)
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(len(self.session.frame_set.frames), 3)
        self.assertEqual(self.session.history.undo_words, "remove frame 4 from Ridge sweep")
        self.assertEqual([t.frame for t in self.window.frames._ticks], list(self.session.frame_set.frames))
        self.session.undo()
        self.assertEqual([(t.number, t.frame) for t in self.window.frames._ticks],
                         list(enumerate(self.session.frame_set.frames, 1)))
        self.session.select_set("still")
        self.assertEqual([t.frame for t in self.window.frames._ticks], list(self.session.frame_set.frames))

    def test_each_frame_says_its_error_and_the_column_folds(self):
        self.open("align")
        self.assertRegex(self.window.frames._ticks[0].note, r"\d\.\d\d px")
        wide = self.window.frames.width()
        self.key(Qt.Key.Key_F4)
        self.assertLess(self.window.frames.width(), wide / 2)

    def test_at_join_each_frame_says_what_it_gives(self):
        self.open("join")
        self.window.refresh()
        self.assertRegex(self.window.frames._ticks[0].note, r"gives \d+ %")


class Stations(WindowTest):
    def test_states_are_told_in_words_too(self):
        self.open("shape")
        for name in self.session.stations:
            self.assertIn(self.window.ridge.states[name], STATES)
        self.assertEqual(self.window.ridge.states["shape"], "made")

    def test_the_ridge_line_goes_by_click_and_arrow(self):
        self.open("shape")
        ridge_line = self.window.ridge
        self.click(ridge_line, ridge_line._place(1).toPoint())
        self.assertEqual(self.session.station, "prepare")
        QTest.keyClick(ridge_line, Qt.Key.Key_Right)
        self.assertEqual(self.session.station, "align")

    def test_a_stack_has_its_own_stations(self):
        self.open("shape")
        self.session.select_set("still")
        self.assertEqual(self.session.stations, (
            "gather", "prepare", "align", "combine", "subjects", "finish", "export"))
        self.assertEqual(self.session.station, "combine")

    def test_a_stack_is_aligned_as_asked(self):
        self.open("align", "still")
        align = self.window.stations["align"]
        align.way.press("shift")
        self.settle()
        self.assertEqual(align.frames.item(3, 4).text(), "as it is")
        align.reference.setCurrentIndex(4)
        align.reference.activated.emit(4)
        self.settle()
        self.assertEqual(self.session.frame_set.registration.reference, self.session.frame_set.frames[4].id)
        self.assertIn("9 of 9", align.summary.text())

    def test_before_is_unjoined_or_the_reference_alone(self):
        project = small_project()
        self.assertEqual(before_project(project, "row").set("row").joining,
                         Joining(match_light=False, cut_seams=False, blend_pct=0.0))
        self.assertEqual(len(before_project(project, "still").set("still").frames), 1)


class Controls(WindowTest):
    def test_a_choice_shows_without_sending(self):
        sent, choice = [], Choice("Way", (("a", "A", ""), ("b", "B", "")))
        choice.picked.connect(sent.append)
        choice.set_value("b")
        self.assertEqual(sent, [])
        choice.press("a")
        self.assertEqual(sent, ["a"])

    def test_bars_pick_frames(self):
        picked, bars = [], Bars("Area", "%")
        bars.resize(400, 90)
        bars.picked.connect(picked.append)
        bars.show_values([1.0, None, 3.0])
        self.click(bars, QPoint(6 + int(2.5 * bars._slot()), 40))
        self.click(bars, QPoint(390, 40))
        self.assertEqual(picked, [2])


class Trouble(WindowTest):
    def test_a_frame_that_vanishes_is_named_and_can_be_pointed_to_again(self):
        first, second = os.path.join(self._home.name, "card"), os.path.join(self._home.name, "disk")
        shutil.copytree(green(), first)
        self.session.add_files(frames_in(type(green())(first)))
        self.until(lambda: self.session.frame_set is not None)
        path = os.path.join(self._home.name, "p.windfell")
        self.session.save_to(path)
        shutil.move(first, second)
        self.session.open_project(path)
        self.until(lambda: any("not there any more" in words for words in self.said))
        self.session.go("combine")
        self.settle()
        self.assertIn("green-01.jpg", self.window.source.error)
        self.session.point_to(second)
        self.until(lambda: "All frames are found." in self.said)
        self.window.source.again()
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.assertIsNotNone(self.window.source.shown)

    def test_a_truncated_frame_is_named_and_the_window_lives(self):
        bad = os.path.join(self._home.name, "cut.jpg")
        with open(frames_in(ridge())[1], "rb") as whole, open(bad, "wb") as cut:
            cut.write(whole.read()[:20_000])
        self.session.add_files([frames_in(ridge())[0], bad])
        self.until(lambda: self.session.frame_set is not None)
        self.session.go("shape")
        self.settle()
        self.assertIn("cut.jpg", self.window.source.error)
        self.assertIn("cut short", self.window.source.error)
        self.session.go("gather")
        self.settle()
        self.assertTrue(self.window.isVisible())

    def test_a_frame_that_could_not_be_read_for_a_moment_is_placed_when_aligned_again(self):
        paths = [shutil.copy(p, self._home.name) for p in frames_in(ridge(3))]
        whole = still._whole_jpeg

        def torn(opened: still.StillFrame) -> bytes:
            if opened.path == paths[2]:
                raise OSError(5, "Input/output error")
            return whole(opened)

        project = Project((FrameSet("row", "Row", Kind.PANORAMA, tuple(map(frame_from_path, paths))),))
        without = mock.patch.object(still.StillFrame, "preview", lambda _: None)
        with mock.patch.object(still, "_whole_jpeg", torn), without:
            self.session.replace_all(project, None)
            self.session.go("shape")
            self.settle()
        self.assertEqual(self.window.registrations.found.placed, [0, 1])
        self.assertIsNone(self.window.thumbnails.of(project.sets[0].frames[2]).image)
        narrow = self.window.source.shown.width / self.window.source.shown.height
        self.session.go("align")
        self.settle()
        self.click(self.window.stations["align"].again)
        self.settle()
        self.assertEqual(self.window.registrations.found.placed, [0, 1, 2])
        self.assertIsNotNone(self.window.thumbnails.of(project.sets[0].frames[2]).image)
        self.session.go("shape")
        self.settle()
        self.assertGreater(self.window.source.shown.width / self.window.source.shown.height, 1.2 * narrow)

    def test_after_stop_everything_can_be_asked_again(self):
        self.app.processEvents()
        self.session.replace_all(small_project(), None)
        self.session.go("shape")
        self.assertTrue(self.session.desk.runs("picture"))  # nothing arrives before events are let in
        self.window.do("stop")
        self.assertFalse(self.session.desk.busy)
        self.assertIn("Press R", self.window.source.error)
        self.key(Qt.Key.Key_R)
        self.until(lambda: self.window.source.shown is not None)
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.assertTrue(all(t.image for t in map(self.window.thumbnails.of, self.session.frame_set.frames)))
