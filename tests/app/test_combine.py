"""Combine's pages driven: rules and what goes with them, straightened by a line, curves straightened, cropped."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest
from windfell.recipe.model import Floor, Rule


class Combining(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("combine", "still")
        self.combine = self.window.stations["combine"]

    @property
    def own(self):
        return self.session.frame_set

    def at(self, x: float, y: float) -> QPointF:
        r = self.window.view.picture_rect()
        return QPointF(r.x() + x * r.width(), r.y() + y * r.height())

    def test_a_rule_is_chosen_with_what_goes_with_it(self):
        self.combine._choose("clipped-mean")
        self.settle()
        self.assertIs(self.own.combining.rule, Rule.CLIPPED_MEAN)
        self.assertTrue(all(r.isEnabled() for r in self.combine.kappa.values()))
        self.assertFalse(self.combine.bridge.isEnabled())
        self.combine._choose("maximum")
        self.combine.open_tab("light")
        self.combine.floor.press("auto")
        self.assertIs(self.own.combining.floor, Floor.AUTO)
        self.assertTrue(self.combine.bridge.isEnabled())
        base = self.own.frames[1].id
        self.combine.base.setCurrentIndex(2)
        self.combine.base.activated.emit(2)
        self.assertEqual(self.own.combining.base, base)
        self.settle()
        self.assertIsNone(self.window.source.error)
        for _ in range(4):
            self.session.undo()
        self.settle()
        self.assertIs(self.own.combining.rule, Rule.MEDIAN)

    def test_a_line_straightens_and_a_curve_bends(self):
        self.combine.open_tab("cut")
        self.combine.hand.press("level")
        start = self.at(0.3, 0.5)
        self.drag(self.window.view, start, self.at(0.6, 0.53) - start)
        self.assertGreater(self.own.view.roll_deg, 1.0)
        self.settle()
        self.combine.hand.press("straight")
        view = self.window.view
        spots = [self.at(0.3 + 0.05 * n, 0.5 + 0.01 * (n - 4) ** 2 / 4).toPoint() for n in range(9)]
        QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, spots[0])
        for p in spots[1:]:
            QTest.mouseMove(view, p)
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, spots[-1])
        self.until(lambda: self.own.outline.lines)
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.combine.unbend.click()
        self.assertEqual(self.own.outline.lines, ())
        self.settle()

    def test_two_rules_are_held_against_each_other(self):
        self.combine.proofs.held.emit("mean")
        self.settle()
        self.assertEqual(self.window.view.tags, ("Mean", "Median"))
        self.session.go("export")
        self.settle()
        self.assertEqual(self.window.view.compare, "off")
