"""The bench folds to a thin row and comes back as it was."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest, small_project
from windfell.app.bench import HIGH


class Folding(WindowTest):
    def setUp(self):
        super().setUp()
        self.session.replace_all(small_project(), None)
        self.bench = self.window.bench
        self.window.activateWindow()
        self.app.processEvents()

    def fold(self) -> None:
        QTest.keyClick(self.window, Qt.Key.Key_F4, Qt.KeyboardModifier.ShiftModifier)
        self.app.processEvents()

    def test_folded_every_station_keeps_what_is_needed_most_in_one_row(self):
        before = self.window.pages.height()
        self.fold()
        self.app.processEvents()
        self.assertGreater(self.window.pages.height(), before + 150)
        seen = set()
        for set_id in ("row", "still"):
            self.session.select_set(set_id)
            for station in self.session.stations:
                with self.subTest(f"{set_id} {station}"):
                    self.session.go(station)
                    self.app.processEvents()
                    needed = [w for w in self.window.station.needed if w.isVisible()]
                    self.assertTrue(needed)
                    seen.add(station)
                    edge = self.bench.mapToGlobal(QPoint(0, self.bench.height())).y()
                    for widget in needed:
                        low = widget.mapToGlobal(QPoint(0, widget.height())).y()
                        self.assertLessEqual(low, edge, "cut at the lower edge")
                        self.assertLessEqual(widget.minimumSizeHint().width(), widget.width())
        self.assertEqual(seen, {"gather", "prepare", "align", "shape", "join", "combine", "subjects", "finish",
                                "export"})

    def test_a_ruler_works_in_the_row_and_comes_back_to_its_place(self):
        self.session.go("shape")
        shape = self.window.station
        order = [shape.column.itemAt(n).widget() for n in range(shape.column.count())]
        self.fold()
        ruler = shape.rulers["view.yaw_deg"]
        self.assertTrue(ruler.isVisible())
        QTest.keyClick(ruler._line, Qt.Key.Key_PageUp)
        self.assertGreater(self.session.frame_set.view.yaw_deg, 0)
        self.fold()
        self.assertEqual([shape.column.itemAt(n).widget() for n in range(shape.column.count())], order)
        self.assertTrue(ruler.isVisible() and self.window.bench.controls.isVisible())
        self.assertEqual(self.bench.height(), HIGH)

    def test_the_border_is_dragged_and_pressed_twice(self):
        grip = self.bench.grip
        at = QPointF(grip.rect().center())
        self.drag(grip, at, QPointF(0, -90))
        self.app.processEvents()
        self.assertGreater(self.bench.height(), HIGH + 40)
        high = self.bench.height()
        QTest.mouseDClick(grip, Qt.MouseButton.LeftButton)
        self.assertTrue(self.bench.folded)
        QTest.mouseDClick(grip, Qt.MouseButton.LeftButton)
        self.assertEqual((self.bench.folded, self.bench.height()), (False, high))
        for _ in range(6):
            self.drag(grip, QPointF(grip.rect().center()), QPointF(0, 120), 1)
            self.app.processEvents()
        self.assertTrue(self.bench.folded)
        for _ in range(6):
            self.drag(grip, QPointF(grip.rect().center()), QPointF(0, -120), 1)
            self.app.processEvents()
        self.assertFalse(self.bench.folded)
