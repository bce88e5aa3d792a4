"""Shape's pages driven as a person drives them: the outline pulled, cropped, bent by hand; lines; proofs compared."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest, with_proofs
from windfell.job import Job
from windfell.recipe.model import ProjectionChoice
from windfell.recipe.outline import Edges, LineKind, Ratio


class OutlineByHand(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("shape")
        self.shape = self.window.stations["shape"]
        self.shape.open_tab("outline")

    @property
    def outline(self):
        return self.session.frame_set.outline

    def at(self, x: float, y: float) -> QPointF:
        r = self.window.view.picture_rect()
        return QPointF(r.x() + x * r.width(), r.y() + y * r.height())

    def pull(self, start, end) -> None:
        self.drag(self.window.view, self.at(*start), self.at(*end) - self.at(*start))

    def test_pull_says_what_it_costs_marks_an_amount_and_flies_to_the_worst(self):
        page = self.shape.outline
        self.assertFalse(page.pull.isEnabled())
        page.edges.press("pull")
        self.until(lambda: self.shape.said is not None and "x" in page.costs.cells["stretch"].value)
        self.settle()
        self.assertIs(self.outline.edges, Edges.PULL)
        self.assertTrue(page.pull.isEnabled())
        kept, trim = (int(v) for v in page.costs.cells["kept"].value.removesuffix(" %").split(" / "))
        self.assertGreater(kept, trim)
        self.assertGreater(page.pull._line.mark, 20)
        zoom = self.window.view.zoom
        self.click(page.costs.cells["stretch"])
        self.assertGreater(self.window.view.zoom, 1.5 * zoom)

    def test_a_side_is_pulled_by_less(self):
        page = self.shape.outline
        page.edges.press("pull")
        field = page.sides.fields["top_pct"]
        field.setText("40")
        field.editingFinished.emit()
        self.assertEqual(self.outline.top_pct, 40.0)
        self.assertAlmostEqual(self.outline.amounts[0], 0.4)
        field.setText("much")
        field.editingFinished.emit()
        self.assertEqual(field.text(), "40")
        self.settle()

    def test_a_crop_is_drawn_moved_and_undone_in_one_step(self):
        before = self.session.project
        self.shape.outline.hand.press("crop")
        self.settle()
        self.pull((0.2, 0.2), (0.7, 0.8))
        crop = self.outline.crop
        self.assertAlmostEqual(crop.left_pct, 20, delta=0.5)
        self.assertAlmostEqual(crop.height_pct, 60, delta=0.7)
        self.pull((0.45, 0.5), (0.55, 0.5))
        self.assertAlmostEqual(self.outline.crop.left_pct, 30, delta=0.5)
        self.settle()
        whole = self.window.source.shown.width
        self.shape.outline.hand.press("off")
        self.settle()
        self.assertAlmostEqual(self.window.source.shown.width / whole, 0.5, delta=0.02)
        self.shape.outline.hand.press("crop")
        self.shape.outline.clear.click()
        self.assertIsNone(self.outline.crop)
        for _ in range(3):
            self.session.undo()
        self.assertEqual(self.session.project, before)
        self.settle()

    def test_a_crop_keeps_the_ratio_that_is_chosen(self):
        page = self.shape.outline
        page.ratio.setCurrentIndex(1)
        page.ratio.activated.emit(1)
        self.assertEqual(self.outline.ratio, Ratio(1, 1))
        self.settle()
        self.shape.outline.hand.press("crop")
        self.settle()
        self.pull((0.3, 0.3), (0.6, 0.5))
        shown, crop = self.window.source.shown, self.outline.crop
        self.assertAlmostEqual(crop.width_pct * shown.width / (crop.height_pct * shown.height), 1.0, delta=0.02)
        self.settle()

    def test_a_node_of_the_net_is_dragged_and_put_back(self):
        self.shape.outline.hand.press("net")
        self.until(lambda: self.shape.by_hand.net.places is not None)
        self.settle()
        place = self.shape.by_hand.net.places[2, 4]
        self.pull(place, (place[0] + 0.02, place[1] - 0.08))
        (node,) = self.outline.net
        self.assertEqual((node.column, node.row), (4, 2))
        self.assertAlmostEqual(node.down_pct, -8, delta=0.8)
        self.settle()
        self.assertIsNotNone(self.session.engine.stages(self.session.project, "row").canvas(Job()).mesh)
        self.shape.by_hand.node_back(4, 2)
        self.assertEqual(self.outline.net, ())
        self.settle()

    def test_a_region_is_kept_stiff(self):
        self.shape.outline.hand.press("stiff")
        view = self.window.view
        spots = [self.at(*p).toPoint() for p in ((0.3, 0.4), (0.5, 0.4), (0.5, 0.6), (0.3, 0.6), (0.31, 0.42))]
        QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, spots[0])
        for p in spots[1:]:
            QTest.mouseMove(view, p)
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, spots[-1])
        self.until(lambda: self.outline.stiff)
        self.assertGreaterEqual(len(self.outline.stiff[0].corners), 3)
        self.settle()


class LinesAndProofs(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("shape")
        self.shape = self.window.stations["shape"]

    def test_a_drawn_curve_gets_a_row_with_its_strength_and_how_far_it_is_off(self):
        self.shape.open_tab("lines")
        self.shape.lines.draw.press("straight")
        bow = [(0.3 + 0.04 * n, 0.5 + 0.02 * (n - 4) ** 2 / 16) for n in range(9)]
        self.shape.by_hand.add_line(bow, LineKind.STRAIGHT)
        self.until(lambda: self.session.frame_set.outline.lines)
        self.settle()
        row = self.shape.lines.list.itemAt(0).widget()
        self.until(lambda: "→" in row.off.text())
        before, after = (float(v.strip(" %")) for v in row.off.text().split("→"))
        self.assertLess(after, 0.2 * before)
        row.field.setText("50")
        row.field.editingFinished.emit()
        self.assertEqual(self.session.frame_set.outline.lines[0].strength_pct, 50.0)
        row.remove.click()
        self.assertEqual(self.session.frame_set.outline.lines, ())
        self.assertEqual(self.shape.lines.list.count(), 0)
        self.settle()

    def test_the_picture_centres_on_what_is_pressed(self):
        self.shape.drag.press("centre")
        r = self.window.view.picture_rect()
        self.click(self.window.view, QPointF(r.x() + 0.75 * r.width(), r.center().y()).toPoint())
        self.until(lambda: self.session.frame_set.view.yaw_deg > 5)
        self.settle()

    def test_the_sides_are_pulled_to_a_field_of_view(self):
        self.shape.open_tab("field")
        self.click(self.shape.field.pull)
        self.settle()
        r = self.window.view.picture_rect()
        start = QPointF(r.right(), r.center().y())
        self.drag(self.window.view, start, QPointF(-0.2 * r.width(), 0))
        self.until(lambda: self.session.frame_set.view.hfov_deg is not None)
        self.assertIsNone(self.session.frame_set.view.vfov_deg)
        self.settle()

    def test_a_ratio_of_ones_own_is_typed(self):
        self.shape.open_tab("outline")
        field = self.shape.outline.ratio
        field.setEditText("7:3")
        field.lineEdit().editingFinished.emit()
        self.assertEqual(self.session.frame_set.outline.ratio, Ratio(7, 3))
        field.setEditText("wide")
        field.lineEdit().editingFinished.emit()
        self.assertIn("no ratio", self.window.status.words.text())
        self.settle()

    @with_proofs
    def test_two_projections_are_held_against_each_other(self):
        card = self.shape.proofs.cards["equirectangular"]
        self.shape.proofs.held.emit("equirectangular")
        self.assertEqual(self.window.view.compare, "divide")
        self.settle()
        self.assertTrue(card.against)
        self.assertEqual(self.window.before.shown.projection, "equirectangular")
        self.assertEqual(self.window.view.tags[0], "Equirectangular")
        self.shape.proofs.held.emit("equirectangular")
        self.assertEqual(self.window.view.compare, "off")
        self.settle()

    @with_proofs
    def test_the_chosen_proof_is_in_sight_and_the_most_suitable_first(self):
        self.settle()
        first = self.shape.proofs._row.itemAt(0).widget()
        self.assertTrue(first.active)
        self.shape._choose("miller")
        self.settle()
        card = self.shape.proofs.cards["miller"]
        self.assertIs(self.session.frame_set.view.projection, ProjectionChoice.MILLER)
        visible = self.shape.proofs.frame_of.viewport().rect()
        at = card.mapTo(self.shape.proofs.frame_of.viewport(), card.rect().center())
        self.assertTrue(visible.contains(at))

    def test_the_field_of_view_by_number_and_room_for_a_sky(self):
        self.shape.open_tab("field")
        page = self.shape.field
        self.click(page.own["view.hfov_deg"])
        self.assertEqual(self.session.frame_set.view.hfov_deg, 90.0)
        page.room.fields["top_pct"].setText("50 %")
        page.room.fields["top_pct"].editingFinished.emit()
        self.assertEqual(self.session.frame_set.outline.room.top_pct, 50.0)
        self.settle()
        self.session.undo()
        self.session.undo()
        self.assertIsNone(self.session.frame_set.view.hfov_deg)
        self.assertEqual(self.session.frame_set.outline.crop, None)
        self.settle()

