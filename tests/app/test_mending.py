"""Mending at Join: flat views, clones and fills painted in them, views taken back; looking around."""

import tempfile
from pathlib import Path

import cv2
import tifffile
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest

from tests.app.test_areas import Drawing
from windfell.app.picture.tool import on_view
from windfell.recipe.areas import Stroke
from windfell.recipe.repairs import Mend


class Mending(Drawing):
    def setUp(self):
        super().setUp()
        self.open("join")
        self.join, self.hand = self.window.stations["join"], self.window.hand
        self.join.open_page("mend")
        self.mending = self.join.mending

    @property
    def repairs(self):
        return self.session.frame_set.repairs

    def test_a_clone_is_begun_painted_switched_off_and_undone_in_a_flat_view(self):
        before = self.session.project
        for ruler, value in ((self.join.flat.pitch, 0.0), (self.join.flat.wide, 40.0)):
            ruler._line._move_to(value)
        self.join.flat.on.click()
        self.settle()
        shown = self.window.source.shown
        self.assertEqual(shown.projection, "rectilinear")
        self.assertAlmostEqual(shown.width / shown.height, 1.5, delta=0.02)
        self.click(self.mending.clone)
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(0.3, 0.5))
        self.until(lambda: self.hand.target is not None)
        self.assertEqual(self.repairs, ())
        self.draw((0.5, 0.5), (0.55, 0.5))
        repair = self.repairs[0]
        self.assertIs(repair.way, Mend.CLONE)
        self.assertEqual(repair.to, repair.area.parts[0].points[0])
        self.assertAlmostEqual(repair.to[0] - repair.source[0], 8.0, delta=2.0)
        self.settle()
        self.mending.list.item(0).setCheckState(Qt.CheckState.Unchecked)
        self.assertFalse(self.repairs[0].on)
        self.click(self.mending.fill)
        self.draw((0.7, 0.7), (0.72, 0.7))
        self.assertEqual([r.way for r in self.repairs], [Mend.CLONE, Mend.FILL])
        self.mending.list.setCurrentRow(1)
        self.click(self.mending.paint)
        self.draw((0.75, 0.7), (0.77, 0.7))
        self.assertEqual(len(self.repairs[1].area.parts), 2)
        self.assertIsInstance(self.repairs[1].area.parts[1], Stroke)
        self.click(self.mending.remove)
        self.assertEqual(len(self.repairs), 1)
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.join.open_page("blend")
        self.assertFalse(self.join.flat.on.isChecked())
        self.settle()
        self.assertNotEqual(self.window.source.shown.width / self.window.source.shown.height, 1.5)
        while self.session.history.undo_words:
            self.session.undo()
        self.assertEqual(self.session.project, before)
        self.settle()

    def test_a_repair_is_drawn_to_another_place_turned_and_sized_by_the_ring(self):
        self.click(self.mending.clone)
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(0.3, 0.5))
        self.until(lambda: self.hand.target is not None)
        self.draw((0.5, 0.5), (0.55, 0.5))
        self.settle()
        drawn, steps = self.repairs[0], len(self.session.history.undo_words)
        self.click(self.mending.place.button)
        tool = self.mending.place.tool
        self.until(lambda: tool.middle is not None)
        self.assertAlmostEqual(tool.middle.x(), 0.5, delta=0.01)
        self.draw((0.5, 0.52), (0.53, 0.5), (0.6, 0.45))
        self.settle()
        moved = self.repairs[0]
        self.until(lambda: abs(tool.middle.x() - 0.6) < 0.01)
        self.assertAlmostEqual(tool.middle.y(), 0.43, delta=0.01)
        self.assertEqual(moved.source, drawn.source)
        self.assertEqual(moved.to, moved.area.parts[0].points[0])
        self.draw((0.5, 0.6), (0.5, 0.65), keys=Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual((self.repairs[0].to, self.repairs[0].area), (moved.to, moved.area))
        self.assertLess(self.repairs[0].source[1], drawn.source[1])
        self.settle()
        middle, rect = tool.middle, self.window.view.picture_rect()
        for name, out in (("turn", QPointF(80, 0)), ("size", QPointF(0, 2))):
            start = tool.handle(name, rect)
            out = out if name == "turn" else 0.5 * (start - on_view(middle, rect))
            self.drag(self.window.view, start, out)
        self.assertGreater(self.repairs[0].turn_deg, 15)
        self.assertAlmostEqual(self.repairs[0].size_pct, 150, delta=8)
        self.settle()
        self.join.open_tab("walk")
        self.assertIsNot(self.window.view.in_hand, tool)
        self.assertFalse(self.mending.place.button.isChecked())
        for _ in range(4):
            self.session.undo()
        self.assertEqual(self.repairs[0], drawn)
        self.assertEqual(len(self.session.history.undo_words), steps)
        self.settle()
        self.assertIsNone(self.window.source.error)

    def test_gaps_are_filled_unless_too_much_would_be_made_up(self):
        self.mending.most.setValue(1)
        self.click(self.mending.grow)
        self.until(lambda: "would be made up" in " ".join(self.said))
        self.assertEqual(self.repairs, ())
        self.mending.most.setValue(60)
        self.click(self.mending.grow)
        self.until(lambda: len(self.repairs) == 1)
        self.assertEqual((self.repairs[0].way, self.repairs[0].most_pct), (Mend.GROW, 60.0))
        self.settle()
        self.assertIn("is made up", " ".join(self.said))
        self.assertFalse(self.mending.paint.isEnabled())
        self.click(self.mending.answer)
        self.assertEqual(self.repairs[0].answer, 1)
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.repairs, ())

    def test_a_flat_view_is_written_and_taken_back(self):
        for ruler, value in ((self.join.flat.pitch, -2.0), (self.join.flat.wide, 34.0)):
            ruler._line._move_to(value)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "window.tif"
            self.mending.write_to(str(path))
            self.until(path.exists)
            self.settle()
            pixels = tifffile.imread(path)
            cv2.circle(pixels, (pixels.shape[1] // 2, pixels.shape[0] // 2), 15, (65535, 0, 0, 65535), -1)
            tifffile.imwrite(path, pixels)
            self.mending.take_back(str(path))
            self.until(lambda: self.repairs)
            self.assertAlmostEqual(self.repairs[0].hfov_deg, 34.0, delta=0.5)
            self.assertIn("window.tif", self.mending.list.item(0).text())
            self.settle()
            self.assertIsNone(self.window.source.error)


class Around(Drawing):
    def test_drag_turns_wheel_zooms_and_the_key_leaves(self):
        self.open("join")
        look = self.window.look
        self.key(Qt.Key.Key_Q)
        self.assertIs(self.window.pages.currentWidget(), look)
        self.until(lambda: look.around is not None)
        self.settle()
        self.drag(look, QPointF(600, 200), QPointF(-120, -30))
        self.assertGreater(look.yaw, 4.0)
        self.assertLess(look.pitch, 0.0)
        wide, at = look.hfov, QPointF(300, 200)
        self.app.sendEvent(look, QWheelEvent(at, at, QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
                                             Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))
        self.assertLess(look.hfov, wide)
        yaw = look.yaw
        QTest.keyClick(look, Qt.Key.Key_Left)
        self.assertLess(look.yaw, yaw)
        look.grab()
        self.key(Qt.Key.Key_Q)
        self.assertIs(self.window.pages.currentWidget(), self.window.view)
        self.key(Qt.Key.Key_Q)
        self.session.select_set("still")
        self.assertIsNot(self.window.pages.currentWidget(), look)
        self.settle()
