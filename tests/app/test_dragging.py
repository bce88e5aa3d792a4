"""A hand that drags: pictures arrive while it moves, the last state when it rests."""

import threading
import time
import unittest

from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest, with_proofs
from windfell.app.picture.source import SIDES, SLOW_S, TOO_SLOW_S, _Side
from windfell.app.work import Desk
from windfell.job import Cancelled

EVENTS, MOST_EVENTS, STEP_S = 70, 3000, 0.016
ENOUGH = 6


@with_proofs
class Dragging(WindowTest):
    def drag_for(self, widget, start: QPointF, by: QPointF, source) -> int:
        """The pictures that arrived while the mouse moved every 16 ms, to and fro, for about a second; on a machine
        that others share as long as it takes for some, but not for ever: one that waits for rest gives none.
        """
        arrived = [0]
        source.arrived.connect(lambda: arrived.__setitem__(0, arrived[0] + 1))
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, pos=start.toPoint())
        begun = time.monotonic()
        for n in range(1, MOST_EVENTS + 1):
            if n > EVENTS and arrived[0] >= ENOUGH:
                break
            while time.monotonic() < begun + n * STEP_S:
                self.app.processEvents()
                time.sleep(0.001)
            there = 1 - abs((n / EVENTS) % 2 - 1)
            QTest.mouseMove(widget, (start + by * there).toPoint())
        seen = arrived[0]
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=(start + by).toPoint())
        return seen

    def assert_follows(self, widget, start, by, source):
        """Calmly there are 20 pictures and more; one that waits for rest gives none, one that is late a few."""
        self.assertGreaterEqual(self.drag_for(widget, start, by, source), ENOUGH)
        self.until(lambda: source.newest)
        self.settle()
        self.assertTrue(source.sharp)

    def test_at_shape_by_ruler_and_on_the_picture(self):
        self.open("shape")
        window = self.window
        line = window.stations["shape"].rulers["view.yaw_deg"]._line
        self.assert_follows(line, QPointF(line.width() / 2, 12), QPointF(60, 0), window.source)
        self.assertEqual(window.source.shown.project, self.session.project)
        window.stations["shape"].set_drag("turns")
        self.assert_follows(window.view, QPointF(300, 200), QPointF(90, 20), window.source)

    def test_at_join_by_the_blend(self):
        self.open("join")
        line = self.window.stations["join"].blend._line
        self.assert_follows(line, QPointF(line.width() * 0.3, 12), QPointF(line.width() * 0.5, 0), self.window.source)

    def test_at_prepare_in_both_frames(self):
        self.open("prepare")
        prepare = self.window.stations["prepare"]
        prepare.development.for_all.setChecked(True)
        line = prepare.development.rulers["exposure_ev"]._line
        for source in (prepare.first, prepare.second):
            self.assert_follows(line, QPointF(line.width() / 2, 12), QPointF(40, 0), source)

    def test_the_sharp_picture_and_proofs_wait_for_rest_and_give_way(self):
        self.open("shape")
        asked = []
        ask = self.session.desk.ask
        self.session.desk.ask = lambda channel, *a, **k: (asked.append(channel), ask(channel, *a, **k))[1]
        for value in (3.0, 4.0, 5.0):
            self.session.change("view.yaw_deg", value)
        self.assertEqual(set(asked), {"picture"})
        self.until(lambda: "picture sharp" in asked)
        self.session.change("view.yaw_deg", 6.0)
        self.assertFalse(self.session.desk.runs("picture sharp"))
        self.settle()
        self.assertIn("proof cylindrical", asked)
        self.assertEqual(self.window.source.shown.project, self.session.project)


@with_proofs
class ProofsGiveWay(WindowTest):
    def test_a_proof_that_gave_way_to_an_edit_that_does_not_touch_it_comes_all_the_same(self):
        self.open("shape")
        self.settle()
        desk = self.session.desk
        self.session.change("view.yaw_deg", 7.0)
        self.until(lambda: any(desk.runs(f"proof {v}") for v in self.window.stations["shape"].proofs.cards))
        asked, ask = [], desk.ask
        gave_way = {v for v in self.window.stations["shape"].proofs.cards if desk.runs(f"proof {v}")}
        desk.ask = lambda channel, *a, **k: (asked.append(channel), ask(channel, *a, **k))[1]
        self.session.change("name", "Ridge, once more")
        self.assertFalse(self.window.stations["shape"].proofs.settled)
        self.settle()
        self.assertLessEqual({f"proof {v}" for v in gave_way}, set(asked))


class Sides(unittest.TestCase):
    def test_drafts_that_are_late_become_smaller_at_once_where_much_too_late(self):
        side = _Side()
        first = SIDES.index(side.now)
        for _ in range(3):
            side.took(side.now, SLOW_S * 1.2)
        self.assertEqual(SIDES.index(side.now), first - 1)
        side = _Side()
        side.took(side.now, TOO_SLOW_S * 1.2)  # had frames to make ready
        self.assertEqual(SIDES.index(side.now), first)
        side.took(side.now, TOO_SLOW_S * 1.2)
        self.assertEqual(SIDES.index(side.now), max(0, first - 2))


@with_proofs
class Following(WindowTest):
    def test_one_runs_and_the_newest_waits(self):
        desk, seen, gate = Desk(), [], threading.Event()
        self.addCleanup(desk.close)
        desk.follow("a", lambda job: gate.wait(10) and "first", seen.append)
        for name in ("second", "third", "fourth"):
            desk.follow("a", lambda job, n=name: n, seen.append)
        gate.set()
        self.until(lambda: len(seen) == 2)
        self.until(lambda: not desk.busy)
        self.assertEqual(seen, ["first", "fourth"])

    def test_what_a_hand_waits_for_needs_no_seat(self):
        desk, gate, seen = Desk(), threading.Event(), []
        self.addCleanup(desk.close)
        self.addCleanup(gate.set)
        for name in "abc":
            desk.ask(name, lambda job: job.map(lambda _: gate.wait(20), range(9), "long"), lambda _: None, quiet=True)
        self.until(lambda: desk.runs("c"))

        def twenty(job):
            begun = time.perf_counter()
            job.map(lambda n: n, range(20), "short")
            return time.perf_counter() - begun

        desk.ask("hand", twenty, seen.append, soon=True)
        self.until(lambda: bool(seen))
        self.assertLess(seen[0], 0.25)

    def test_a_dropped_channel_forgets_what_waits(self):
        desk, seen, begun = Desk(), [], threading.Event()
        self.addCleanup(desk.close)

        def work(job):
            begun.set()
            while not job.stopped:
                time.sleep(0.001)
            raise Cancelled("")

        desk.follow("a", work, seen.append)
        desk.follow("a", lambda job: "late", seen.append)
        begun.wait(10)
        desk.drop("a")
        self.until(lambda: not desk.busy)
        desk.follow("a", lambda job: "new", seen.append)
        self.until(lambda: bool(seen))
        self.until(lambda: not desk.busy)
        self.assertEqual(seen, ["new"])
