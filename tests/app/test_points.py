"""Align's two frames side by side, by what a person presses, draws and reads."""

from dataclasses import replace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest
from tests.support import frames_in, ridge, truth_of
from windfell.engine.points import more_points
from windfell.errors import CannotJoin
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe import developing
from windfell.recipe.areas import Patch
from windfell.recipe.edits import Edit
from windfell.recipe.model import Camera, HandPose
from windfell.recipe.outline import LineKind


class TwoFrames(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("align")
        self.align = self.window.stations["align"]
        self.align.shown.press("points")
        self.settle()
        self.points = self.align.points

    def shared_spot(self) -> tuple[np.ndarray, np.ndarray]:
        """A spot in the middle of the overlap of frames 1 and 2, by the truth."""
        a, b = truth_of(ridge())["frames"][:2]
        lenses = [Lens(t["width"], t["height"], t["focal_px"], t["distortion"]["k1"]) for t in (a, b)]
        grid = lenses[0].grid(31)
        there = lenses[1].project(lenses[0].rays(grid) @ np.array(a["rotation"]).T @ np.array(b["rotation"]))
        inside = np.all((there > 20) & (there < [lenses[1].width - 20, lenses[1].height - 20]), axis=1)
        inside &= np.all((grid > 20) & (grid < [lenses[0].width - 20, lenses[0].height - 20]), axis=1)
        marks = np.array([(m.x, m.y) for m in self.points.panes[0].marks])
        free = np.linalg.norm(grid[:, None] - marks[None], axis=-1).min(axis=1)
        best = np.argmax(np.where(inside & (grid[:, 1] > 250), free, 0))
        return grid[best], there[best]

    def at(self, side: int, spot) -> QPoint:
        return self.points.panes[side].to_view(*spot).toPoint()

    def test_all_points_are_listed_the_worst_first_and_its_pair_is_shown(self):
        rows = self.points.list.rows
        shown = [float(rows.data(rows.index(n, 1))) for n in range(5)]
        self.assertEqual(shown, sorted(shown, reverse=True))
        self.assertGreater(rows.rowCount(), 100)
        self.click(self.points.worst)
        self.settle()
        worst = self.points.rows[self.points.row]
        self.assertEqual(worst.error, max(r.error for r in self.points.rows))
        used = [f.id for f in self.session.frame_set.used]
        self.assertEqual(set(self.points.pair), {used[worst.a], used[worst.b]})
        self.assertTrue(all(p.loupe_at for p in self.points.panes))

    def test_one_click_finds_the_partner_and_undo_takes_the_point_back(self):
        before = self.session.project
        here, there = self.shared_spot()
        self.click(self.points.panes[0], self.at(0, here))
        self.until(lambda: self.session.frame_set.registration.points)
        self.settle()
        point = self.session.frame_set.registration.points[0]
        self.assertLess(np.hypot(point.bx - there[0], point.by - there[1]), 1.5)
        self.assertIn("agrees to", self.window.status.words.text())
        self.assertEqual(sum(r.by_hand is not None for r in self.points.rows), 1)
        self.session.undo()
        self.settle()
        self.assertEqual(self.session.project, before)

    def test_where_the_light_is_plain_the_second_click_is_asked_for(self):
        sky = QPointF(14, 12)
        pane = self.points.panes[0]
        self.points.click(0, *pane.to_px(pane.to_view(sky.x(), sky.y())))
        self.until(lambda: not self.session.desk.busy)
        self.assertIn("click the spot there", self.window.status.words.text())
        self.points.click(1, 30.0, 40.0)
        self.settle()
        self.assertEqual(self.session.frame_set.registration.points[0].bx, 30.0)

    def test_a_point_is_moved_weighed_and_deleted(self):
        here, there = self.shared_spot()
        self.points._add(tuple(here), tuple(there), "add a point")
        self.settle()
        row = next(n for n, r in enumerate(self.points.rows) if r.by_hand is not None)
        self.points.choose(row)
        self.points._drag(1, row, there[0] + 2, there[1] - 1, True)
        self.settle()
        self.assertAlmostEqual(self.session.frame_set.registration.points[0].bx, there[0] + 2)
        self.points.fields.weight.setText("5")
        self.points.fields.weight.editingFinished.emit()
        self.assertEqual(self.session.frame_set.registration.points[0].weight, 5.0)
        self.points.fields.weight.setText("heavy")
        self.points.fields.weight.editingFinished.emit()
        self.assertIn("not a weight", self.window.status.words.text())
        self.settle()
        self.click(self.points.delete)
        self.settle()
        self.assertEqual(self.session.frame_set.registration.points, ())
        self.assertEqual(self.session.history.undo_words, "delete a point")

    def test_found_points_are_dropped_and_limited(self):
        count = len(self.points.rows)
        self.points.choose(0)
        self.click(self.points.delete)
        self.settle()
        self.assertEqual(len(self.session.frame_set.registration.dropped), 1)
        self.assertLess(len(self.points.rows), count)
        middle = float(np.median([r.error for r in self.points.rows]))
        self.points.fields.limit.setText(f"{middle:.2f} px")
        self.points.fields.limit.editingFinished.emit()
        self.settle()
        self.assertLess(len(self.points.rows), 0.8 * count)
        self.points.fields.limit.setText("")
        self.points.fields.limit.editingFinished.emit()
        self.settle()
        self.assertGreater(len(self.points.rows), 0.9 * count)

    def test_points_are_filled_in_where_there_are_none(self):
        limit = float(np.percentile([r.error for r in self.points.rows], 3))
        self.session.change("registration.worst_px", limit)
        self.settle()
        self.click(self.points.fill)
        self.until(lambda: not self.session.desk.busy)
        self.settle()
        filled = self.session.frame_set.registration.points
        self.assertGreater(len(filled), 2)
        self.assertEqual(self.session.history.undo_words, f"fill in {len(filled)} points")

    def test_lines_are_drawn_chosen_and_removed(self):
        pane = self.points.panes[0]
        self.points.tools.press("upright")
        top, foot = pane.to_view(100, 60), pane.to_view(104, 300)
        self.drag(pane, top, foot - top)
        self.settle()
        line = self.session.frame_set.registration.lines[0]
        self.assertEqual((line.kind, len(line.points)), (LineKind.UPRIGHT, 2))
        self.assertIn("°", pane.lines[0][2])
        self.assertLess(abs(float(pane.lines[0][2].rstrip("°"))), 0.2)
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, pos=((top + foot) / 2).toPoint())
        self.assertEqual(pane.line, 0)
        self.click(self.points.delete)
        self.assertEqual(self.session.frame_set.registration.lines, ())

    def test_a_straight_line_takes_clicks_and_ends_with_a_double_click(self):
        pane = self.points.panes[1]
        self.points.tools.press("straight")
        for x in (40, 120, 200):
            QTest.mouseClick(pane, Qt.MouseButton.LeftButton, pos=pane.to_view(x, 200).toPoint())
        QTest.mouseDClick(pane, Qt.MouseButton.LeftButton, pos=pane.to_view(200, 200).toPoint())
        line = self.session.frame_set.registration.lines[0]
        self.assertEqual(line.kind, LineKind.STRAIGHT)
        self.assertGreaterEqual(len(line.points), 3)

    def hand(self, side: int = 0):
        return self.points.ignoring.hands[side]

    def stroke(self, pane, spots, modifiers=Qt.KeyboardModifier.NoModifier):
        """Drawn by the mouse, as far as the recipe has it."""
        places = [pane.to_view(*s).toPoint() for s in spots]
        before = self.session.project
        QTest.mouseMove(pane, places[0])
        with mock.patch("PySide6.QtWidgets.QApplication.keyboardModifiers", lambda: modifiers):
            QTest.mousePress(pane, Qt.MouseButton.LeftButton, modifiers, places[0])
            for place in places[1:]:
                QTest.mouseMove(pane, place)
                self.app.processEvents()
            QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, modifiers, places[-1])
        self.until(lambda: self.session.project is not before)
        self.settle()

    def ignored(self) -> np.ndarray | None:
        frame, engine = self.session.frame_set.frames[0], self.session.engine
        return engine.ignored(engine.opened(self.session.project, frame, Job()), frame, Job())

    def test_an_ignored_area_gives_no_points_for_all_frames_and_is_cleared(self):
        pane = self.points.panes[0]
        self.points.tools.press("ignore")
        self.window.area_bar.kinds.press("outline")
        self.stroke(pane, [(5, 5), (310, 5), (310, 470), (5, 470)])
        frame = self.session.frame_set.frames[0]
        self.assertEqual([type(p) for p in frame.ignored.parts], [Patch])
        for k in self.window.registrations.found.links:
            if k.a == 0:
                inside = np.all((k.points_a > 8) & (k.points_a < [307, 467]), axis=1)
                self.assertFalse(inside.any())
        self.click(self.points.for_all)
        self.assertTrue(all(f.ignored == frame.ignored for f in self.session.frame_set.frames))
        self.session.undo()
        self.window.area_bar.more.setChecked(True)
        self.click(self.window.area_bar.clear)
        self.assertIsNone(self.session.frame_set.frames[0].ignored)
        self.settle()

    def test_paint_is_laid_on_and_taken_away(self):
        pane = self.points.panes[0]
        self.points.tools.press("ignore")
        self.assertTrue(self.window.area_bar.isVisible())
        self.stroke(pane, [(60, 100), (120, 100), (200, 100)])
        mask, k = self.ignored(), self.ignored().shape[1] / pane.source.shown.width
        at = lambda x, y: self.ignored()[round(y * k), round(x * k)]  # noqa: E731
        self.assertGreater(min(at(60, 100), at(130, 100), at(200, 100)), 240)
        self.assertEqual(at(130, 250), 0)
        self.assertIsNotNone(self.hand().tool.veil)
        self.stroke(pane, [(150, 100), (200, 100)], Qt.KeyboardModifier.ControlModifier)
        self.assertGreater(at(60, 100), 240)
        self.assertLess(at(190, 100), 20)
        self.assertLess(self.ignored().sum(), mask.sum())
        self.session.undo()
        self.assertEqual(self.ignored().sum(), mask.sum())
        self.session.undo()
        self.assertIsNone(self.ignored())
        self.settle()

    def test_the_hand_goes_with_the_pointer_and_what_it_left_is_hatched(self):
        first, second = self.points.panes
        self.points.tools.press("ignore")
        self.stroke(first, [(60, 100), (120, 100), (200, 100)])
        self.assertIsNone(first.ignored)
        self.stroke(second, [(60, 300), (160, 300)])
        self.assertIsNone(self.hand(0).target)
        # the brush is as large for either hand
        self.hand(1).tool.resized.emit(90.0)
        QTest.mouseMove(first, first.to_view(60, 100).toPoint())
        self.assertEqual(self.hand(0).tool.size, 90.0)
        QTest.mouseMove(second, second.to_view(60, 300).toPoint())
        self.settle()
        self.assertEqual(self.window.area_bar.name.text(), "Ignored in frame 2")
        self.assertIsNotNone(first.ignored)
        areas = [f.ignored for f in self.session.frame_set.frames[:2]]
        self.assertEqual([len(a.parts) for a in areas], [1, 1])
        self.click(self.window.area_bar.invert)
        self.assertTrue(self.session.frame_set.frames[1].ignored.inverted)
        self.assertFalse(self.session.frame_set.frames[0].ignored.inverted)
        self.session.undo()
        self.click(self.window.area_bar.finished)
        self.assertEqual(self.points.tools_value, "points")
        self.assertFalse(self.window.area_bar.isVisible())
        self.settle()
        self.assertIsNotNone(second.ignored)
        self.points.tools.press("ignore")
        self.session.go("gather")
        self.assertFalse(self.window.area_bar.isVisible())
        self.settle()

    def test_paint_lies_where_the_frame_as_taken_shows_it(self):
        """The pane shows the lens corrected, features are found before it is."""
        frame = self.session.frame_set.frames[0]
        self.session.edit(developing.correct_lens(self.session.project, "row", [frame.id], {"k1": -0.2}), True)
        self.settle()
        pane = self.points.panes[0]
        self.points.tools.press("ignore")
        self.window.area_bar.brush.set_value(20.0)
        self.hand().tool.size = 20.0
        spot = np.array([40.0, 60.0])
        self.stroke(pane, [tuple(spot), tuple(spot + 4)])
        w, h = pane.source.shown.width, pane.source.shown.height
        middle = (np.array([w, h]) - 1) / 2
        r2 = np.sum((spot - middle) ** 2) / (0.25 * (w * w + h * h))
        taken = middle + (spot - middle) * (1 - 0.2 * r2)
        k = self.ignored().shape[1] / w
        rows, columns = np.nonzero(self.ignored() > 127)
        self.assertLess(np.hypot(*(np.array([columns.mean(), rows.mean()]) / k - taken - 2)), 4)
        self.assertGreater(np.linalg.norm(taken - spot), 12)
        veil = self.hand().mask
        rows, columns = np.nonzero(veil > 0.5)
        self.assertLess(np.hypot(*(np.array([columns.mean(), rows.mean()]) * w / veil.shape[1] - spot - 2)), 4)
        self.settle()

    def test_a_pair_of_another_set_is_let_go(self):
        pair = self.points.pair
        other = replace(self.session.frame_set, id="other", frames=tuple(
            replace(f, id=f"o{f.id}") for f in self.session.frame_set.frames))
        self.session.edit(Edit("add", replace(self.session.project, sets=(*self.session.project.sets, other))))
        self.points.tools.press("ignore")
        self.session.set_id = "other"
        self.session.go("shape")  # Align is left with the other set in hand
        self.assertEqual(self.points.tools_value, "points")
        self.points._fill()
        with self.assertRaises(CannotJoin):
            more_points(self.session.engine, self.session.project, "other", *pair, Job())
        self.settle()

    def test_the_pair_is_chosen_from_the_list(self):
        self.points.pairs.setCurrentIndex(2)
        self.points.pairs.activated.emit(2)
        self.settle()
        self.assertEqual(self.points.pair, tuple(f.id for f in self.session.frame_set.frames[2:4]))
        self.assertIn("3 – 4", self.points.pairs.currentText())


class Directions(WindowTest):
    def test_a_direction_is_typed_locked_and_given_back(self):
        self.open("align")
        align = self.window.stations["align"]
        frame = self.session.frame_set.frames[1]
        self.assertFalse(align.direction.lock.isEnabled())
        self.session.select_frame(frame.id)
        self.assertEqual(align.direction.angles.text().count(","), 2)
        self.click(align.direction.lock)
        self.settle()
        self.assertIsNotNone(self.session.frame_set.frames[1].pose)
        align.direction.angles.setText("10, 2, 0")
        align.direction.angles.editingFinished.emit()
        self.settle()
        self.assertEqual(self.session.frame_set.frames[1].pose, HandPose(10.0, 2.0, 0.0))
        align.direction.angles.setText("there")
        align.direction.angles.editingFinished.emit()
        self.assertIn("not a direction", self.window.status.words.text())
        self.click(align.direction.lock)
        self.assertIsNone(self.session.frame_set.frames[1].pose)
        self.settle()

    def test_a_layout_is_given_and_a_wrong_one_is_said(self):
        self.open("align")
        align = self.window.stations["align"]
        align.layout_hint.setText("2x3")
        align.layout_hint.editingFinished.emit()
        self.assertIn("not a layout of 4 frames", self.window.status.words.text())
        align.layout_hint.setText("1x4")
        align.layout_hint.editingFinished.emit()
        r = self.session.frame_set.registration
        self.assertEqual((r.rows, r.columns), (1, 4))
        self.settle()
        self.assertEqual(len(self.window.registrations.found.placed), 4)

    def test_the_camera_may_have_slid(self):
        self.open("align")
        self.window.stations["align"].camera.press("slid")
        self.settle()
        self.assertEqual(self.session.frame_set.registration.camera, Camera.SLID)
        self.assertTrue(self.window.registrations.found is None or self.window.registrations.found.flat)
        self.assertEqual(len(frames_in(ridge())), 4)
        shape = self.window.stations["shape"]
        shape.set_drag("turns")
        self.session.go("shape")
        self.assertEqual(shape.way, "moves", "along a flat subject there is nothing to turn")
        self.window.do("toggle_turning")
        self.assertEqual(shape.way, "moves")
        self.assertFalse(shape.drag._buttons["turns"].isVisible())
