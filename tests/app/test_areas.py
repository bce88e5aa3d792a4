"""Areas drawn by hand on the picture: at Join what a frame keeps, at Combine where rules and layers hold."""

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QWheelEvent
from PySide6.QtTest import QTest

from tests.app.support import WindowTest
from windfell.app.picture.tool import on_view
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe import developing
from windfell.recipe.areas import Ellipse, Gradient, Grown, Meets, Patch, Range, Read, Stroke
from windfell.recipe.combining import Over, Rule
from windfell.recipe.pile import frames_from_words, numbers_in_words

NONE, CONTROL, SHIFT = (getattr(Qt.KeyboardModifier, m) for m in ("NoModifier", "ControlModifier", "ShiftModifier"))


class Drawing(WindowTest):
    def spot(self, x: float, y: float) -> QPoint:
        r = self.window.view.picture_rect()
        return QPoint(round(r.x() + x * r.width()), round(r.y() + y * r.height()))

    def draw(self, *shares: tuple[float, float], keys=NONE) -> None:
        """Drag over shares of the picture and wait until it is in the recipe."""
        view, steps, words = self.window.view, self.session.project, [self.spot(*p) for p in shares]
        QTest.mouseMove(view, words[0])
        QTest.mousePress(view, Qt.MouseButton.LeftButton, keys, words[0])
        for p in words[1:]:
            QTest.mouseMove(view, p)
            self.app.processEvents()
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, keys, words[-1])
        self.until(lambda: self.session.project is not steps)


class AtJoin(Drawing):
    def setUp(self):
        super().setUp()
        self.open("join")
        self.join, self.hand = self.window.stations["join"], self.window.hand
        self.join.open_page("own")
        self.session.select_frame(self.session.frame_set.frames[1].id)
        self.settle()

    @property
    def given(self):
        return self.session.frame_set.joining.given

    def owner(self, x: float, y: float) -> int:
        stages = self.window.session.engine.stages(self.session.project, self.session.set_id)
        canvas = stages.canvas(Job())
        at = Region(round(x * canvas.width), round(y * canvas.height), 1, 1)
        return int(stages.owners(canvas, at, Job())[0, 0])

    def test_what_is_painted_is_kept_seen_undone_and_taken_away(self):
        before = self.session.project
        x = next(x for x in np.linspace(0.2, 0.5, 60) if self.owner(x, 0.5) == 1) - 0.015
        self.assertEqual(self.owner(x, 0.5), 0)
        self.click(self.join.own.keep)
        self.assertTrue(self.window.area_bar.isVisible())
        self.assertEqual(self.window.area_bar.name.text(), "Keep for frame 2")
        self.draw((x, 0.45), (x, 0.55))
        self.assertEqual(self.session.history.undo_words, "paint: keep for frame 2")
        self.assertIsInstance(self.given[0].area.parts[0], Stroke)
        self.assertEqual(self.owner(x, 0.5), 1)
        self.until(lambda: self.hand.mask is not None and self.hand.mask.max() > 0.9)
        high, wide = self.hand.mask.shape
        self.assertGreater(self.hand.mask[high // 2, round(x * wide)], 0.9)
        self.assertEqual(self.hand.mask[high // 2, round(0.8 * wide)], 0)
        self.draw((x, 0.5), (x, 0.52), keys=CONTROL)
        self.assertIs(self.given[0].area.parts[1].meets, Meets.TAKE)
        self.settle()
        self.assertIn("2 drawn", self.join.own.words.text())
        self.click(self.join.own.forget)
        self.assertEqual(self.given, ())
        for _ in range(3):
            self.session.undo()
        self.assertEqual(self.session.project, before)
        self.click(self.window.area_bar.finished)
        self.assertFalse(self.window.area_bar.isVisible())
        self.assertIsNone(self.window.view.in_hand)
        self.settle()

    def test_keys_choose_the_frame_under_the_pointer_and_give_the_spot_to_the_next(self):
        x = next(x for x in np.linspace(0.2, 0.5, 60) if self.owner(x, 0.5) == 1) + 0.01
        self.session.select_frame(None)
        QTest.mouseMove(self.window.view, self.spot(x, 0.5))
        self.key(Qt.Key.Key_F)
        self.until(lambda: self.session.frame_id == self.session.frame_set.frames[1].id)
        self.key(Qt.Key.Key_F, SHIFT)
        self.until(lambda: self.given)
        self.assertIn("give a spot to frame", self.session.history.undo_words)
        self.assertNotEqual(self.owner(x, 0.5), 1)
        self.settle()

    def test_a_frame_is_seen_in_its_place_and_by_what_it_owns(self):
        for what in ("alone", "owned"):
            self.join.own.sees.press(what)
            self.until(lambda: self.join.own.overlay is not None)
            self.settle()
        image = self.join.own.overlay
        middle = next(x for x in np.linspace(0.2, 0.6, 60) if self.owner(x, 0.5) == 1) + 0.04
        self.assertGreater(image.pixelColor(round(middle * image.width()), image.height() // 2).alpha(), 60)
        self.assertEqual(image.pixelColor(round(0.9 * image.width()), image.height() // 2).alpha(), 0)
        self.join.own.sees.press("picture")
        self.assertIsNone(self.join.own.overlay)

    def test_another_page_or_station_puts_the_brush_away(self):
        for leave in (lambda: self.join.open_page("blend"), lambda: self.session.go("shape")):
            self.join.open_page("own")
            self.click(self.join.own.never)
            self.assertIs(self.window.view.in_hand, self.hand.tool)
            leave()
            self.assertIsNone(self.hand.target)
            self.assertFalse(self.window.area_bar.isVisible())
        self.settle()


class AtCombine(Drawing):
    def setUp(self):
        super().setUp()
        self.open("combine", "still")
        self.combine, self.hand, self.bar = self.window.stations["combine"], self.window.hand, self.window.area_bar
        self.combine.open_view("pile")
        self.pile = self.combine.pile
        self.session.select_frame(self.session.frame_set.frames[2].id)
        self.settle()

    @property
    def combining(self):
        return self.session.frame_set.combining

    def test_lights_over_a_base_is_one_press_and_then_painted(self):
        self.click(self.pile.lights)
        self.assertEqual((self.combining.rule, self.combining.base), (Rule.MAXIMUM, self.session.frame_id))
        self.assertEqual(self.combining.region.parts, ())
        self.draw((0.3, 0.5), (0.6, 0.5))
        self.assertEqual(len(self.combining.region.parts), 1)
        self.assertIn("over frame 3", self.pile.list.item(0).text())
        self.settle()
        self.session.undo()
        self.session.undo()
        self.assertIsNone(self.combining.base)
        self.assertIsNone(self.hand.target)
        self.settle()

    def test_every_kind_of_drawing_becomes_its_part(self):
        self.click(self.pile.add_frame)
        self.pile.take_area()
        self.bar.strength._line._move_to(80)
        made = {"brush": Stroke, "outline": Patch, "gradient": Gradient, "ellipse": Ellipse, "find": Grown,
                "bright": Range, "hue": Range}
        for kind, cls in made.items():
            self.bar.kinds.press(kind)
            self.draw((0.3, 0.3), (0.5, 0.35), (0.45, 0.6))
            part = self.combining.layers[0].area.parts[-1]
            self.assertIsInstance(part, cls, kind)
            self.assertEqual(part.strength_pct, 100.0 if cls is Grown else 80.0, kind) if cls is not Grown else None
        self.assertIs(part.of, Read.HUE)
        self.assertIs(part.meets, Meets.BOTH)
        width, height = self.window.source.shown.width, self.window.source.shown.height
        ellipse = next(p for p in self.combining.layers[0].area.parts if isinstance(p, Ellipse))
        self.assertAlmostEqual(ellipse.across, 2 * 0.15 * width, delta=0.03 * width)
        self.assertAlmostEqual(ellipse.down, 2 * 0.3 * height, delta=0.03 * height)
        self.settle()

    def test_shift_goes_straight_and_the_wheel_sizes_the_brush(self):
        self.click(self.pile.add_frame)
        self.pile.take_area()
        self.draw((0.2, 0.3), (0.21, 0.3))
        self.draw((0.6, 0.3), keys=SHIFT)
        first, last = self.combining.layers[0].area.parts[-1].points
        width = self.window.source.shown.width
        self.assertAlmostEqual(last[0] - first[0], 0.39 * width, delta=0.02 * width)
        size, at = self.hand.tool.size, QPointF(self.spot(0.5, 0.5))
        QTest.keyPress(self.window.view, Qt.Key.Key_Control, CONTROL)
        wheel = QWheelEvent(at, at, QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton, CONTROL,
                            Qt.ScrollPhase.NoScrollPhase, False)
        zoom = self.window.view.zoom
        self.app.sendEvent(self.window.view, wheel)
        QTest.keyRelease(self.window.view, Qt.Key.Key_Control)
        self.assertTrue(self.hand.tool.size > size or self.window.view.zoom > zoom)
        self.settle()

    def test_the_whole_is_inverted_grown_seen_alone_mended_and_cleared(self):
        self.click(self.pile.add_frame)
        self.pile.take_area()
        self.hand.tool.softness = 0.0
        self.draw((0.3, 0.4), (0.5, 0.4))
        self.until(lambda: self.hand.mask is not None and self.hand.mask.max() > 0.9)
        share = self.hand.mask.mean()
        self.hand.tool.size = 8.0
        self.draw((0.4, 0.4), keys=CONTROL)
        self.until(lambda: self.hand.blemishes is not None and len(self.hand.blemishes.holes) == 1)
        self.assertEqual(self.bar.found.text(), "1 hole, no specks")
        self.bar.more.click()
        self.click(self.bar.mend)
        self.until(lambda: len(self.combining.layers[0].area.parts) == 3)
        self.until(lambda: not self.hand.blemishes.holes)
        self.assertAlmostEqual(self.hand.mask.mean(), share, delta=0.02 * share + 1e-4)
        self.click(self.bar.invert)
        self.assertTrue(self.combining.layers[0].area.inverted)
        self.until(lambda: self.hand.mask.mean() > 0.5)
        self.bar.grow._line._move_to(1.0)
        self.assertGreater(self.combining.layers[0].area.grow, 1.0)
        self.click(self.bar.solo)
        alone = self.hand.tool.veil.pixelColor(2, 2)
        self.assertEqual((alone.red(), alone.alpha()), (255, 255))
        self.click(self.bar.solo)
        self.bar.veil_picked.emit(QColor("#0000ff"))
        self.assertGreater(self.hand.tool.veil.pixelColor(2, 2).blue(), 100)
        self.click(self.bar.clear)
        self.assertEqual(self.combining.layers[0].area.parts, ())
        self.settle()

    def test_layers_are_added_set_reordered_switched_off_duplicated_and_removed(self):
        before = self.session.project
        self.click(self.pile.add_frame)
        self.click(self.pile.add_rule)
        self.assertEqual([len(x.frames) for x in self.combining.layers], [1, 0])
        self.assertEqual(self.pile.chosen, 1)
        self.pile.frames.setText("2-4, 6")
        self.pile.frames.editingFinished.emit()
        self.assertEqual(len(self.combining.layers[1].frames), 4)
        self.assertEqual(numbers_in_words(self.session.frame_set, self.combining.layers[1].frames), "2-4, 6")
        self.pile.frames.setText("77")
        self.pile.frames.editingFinished.emit()
        self.assertEqual(len(self.combining.layers[1].frames), 4)
        self.pile.over.setCurrentIndex(self.pile.over.findData("screen"))
        self.pile.over.activated.emit(self.pile.over.currentIndex())
        self.assertIs(self.combining.layers[1].over, Over.SCREEN)
        for v in (-0.5, -1.0, -1.5):
            self.pile.rulers["exposure_ev"].changed.emit(v, v == -0.5)
        self.assertEqual(self.session.history.undo_words, "layer 2: exposure to -1.5")
        self.assertIn("maximum of 2-4, 6 — screens", self.pile.list.item(0).text())
        QTest.keyClick(self.pile.list, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
        QTest.keyClick(self.pile.list, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
        self.assertIs(self.combining.layers[0].over, Over.SCREEN)
        self.assertEqual(self.pile.chosen, 0)
        self.pile.list.item(0).setCheckState(Qt.CheckState.Unchecked)
        self.assertFalse(self.combining.layers[1].on)
        self.click(self.pile.double)
        self.assertEqual(len(self.combining.layers), 3)
        self.click(self.pile.remove)
        self.assertEqual(len(self.combining.layers), 2)
        self.settle()
        self.assertIsNone(self.window.source.error)
        while self.session.history.undo_words:
            self.session.undo()
        self.assertEqual(self.session.project, before)
        self.settle()

    def test_one_look_is_copied_to_the_frames_of_a_layer(self):
        frames = self.session.frame_set.frames
        developed = developing.develop(
            self.session.project, self.session.set_id, [frames[1].id], {"exposure_ev": 0.5})
        self.session.edit(developed, True)
        self.session.select_frame(frames[1].id)
        self.click(self.pile.add_rule)
        self.pile.frames.setText("4-5")
        self.pile.frames.editingFinished.emit()
        self.click(self.pile.look)
        lit = [f.development.exposure_ev for f in self.session.frame_set.frames]
        self.assertEqual(lit, [0, 0.5, 0, 0.5, 0.5, 0, 0, 0, 0])
        self.pile.list.setCurrentRow(1)
        self.click(self.pile.look)
        self.assertEqual({f.development.exposure_ev for f in self.session.frame_set.frames}, {0.5})

    def test_a_layer_is_dragged_to_its_place_turned_and_sized(self):
        self.click(self.pile.add_frame)
        self.click(self.pile.place.button)
        view, width = self.window.view, self.window.source.shown.width
        for step in ((0.1, 0.05), (-0.04, 0.0)):
            start = QPointF(self.spot(0.4, 0.4))
            self.drag(view, start, QPointF(self.spot(0.4 + step[0], 0.4 + step[1])) - start)
        layer = self.combining.layers[0]
        self.assertAlmostEqual(layer.right_px, 0.06 * width, delta=0.01 * width)
        self.assertGreater(layer.down_px, 5)
        self.assertEqual(self.session.history.undo_words, "layer 1: moved to its place")
        self.session.undo()
        self.assertAlmostEqual(self.combining.layers[0].right_px, 0.1 * width, delta=0.01 * width)
        self.settle()
        tool, rect = self.pile.place.tool, view.picture_rect()
        self.until(lambda: abs(tool.middle.x() - 0.6) < 0.005)
        start = tool.handle("turn", rect)
        self.drag(view, start, QPointF(start.y() - on_view(tool.middle, rect).y(), 0))
        self.assertAlmostEqual(self.combining.layers[0].turn_deg, -45, delta=1)
        self.until(lambda: tool.angle < -44)
        start = tool.handle("size", rect)
        self.drag(view, start, 0.2 * (on_view(tool.middle, rect) - start))
        self.assertAlmostEqual(self.combining.layers[0].size_pct, 80, delta=1)
        self.assertIn("size to ", self.session.history.undo_words)
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.click(self.pile.remove)
        self.assertIsNot(view.in_hand, tool)

    def test_frames_by_their_numbers(self):
        own = self.session.frame_set
        ids = [f.id for f in own.frames]
        self.assertEqual(frames_from_words(own, "2-3, 1"), (ids[1], ids[2], ids[0]))
        self.assertEqual(frames_from_words(own, ""), ())
        for words in ("x", "0", "3-2", "1-99"):
            with self.assertRaises(ValueError):
                frames_from_words(own, words)
