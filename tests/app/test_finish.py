"""Finish in the real window: the list, values dragged, areas, curves, clipping, looks, undo."""

import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.test_areas import Drawing
from windfell.app.picture.sampled import band_of, stripes_of
from windfell.finish.histogram import modest_light
from windfell.finish.kinds import KINDS
from windfell.recipe import finishing as f
from windfell.recipe.areas import Stroke
from windfell.recipe.repairs import Mend


class Finishing(Drawing):
    def setUp(self):
        super().setUp()
        self.open("finish", "row")
        self.station = self.window.stations["finish"]

    @property
    def adjustments(self):
        return self.session.frame_set.finish.adjustments

    def shown(self) -> np.ndarray:
        image = self.window.source.shown.image
        return np.array([[image.pixelColor(x, y).getRgb()[:3] for x in range(40, image.width() - 40, 37)]
                         for y in range(60, image.height() - 60, 23)])

    def test_every_kind_is_added_shown_with_all_its_values_and_undone(self):
        before = self.session.project
        actions = self.station.add.menu().actions()
        self.assertEqual([a.text() for a in actions], [k.title for k in KINDS.values()])
        for n, kind in enumerate(KINDS):
            actions[n].trigger()
            self.assertIsInstance(self.adjustments[-1].values, kind)
            page = self.station.pages[kind]
            self.assertIs(self.station.stack.currentWidget().widget(), page)
            for name, ruler in page.rulers.items():
                high = kind.__dataclass_fields__[name].metadata["high"]
                ruler._line._move_to(min(high, ruler._line.high) * 0.5)
                self.assertNotEqual(getattr(self.adjustments[-1].values, name), None)
            for name, rulers in page.bands.items():
                rulers[3]._line._move_to(20.0)
                self.assertEqual(getattr(self.adjustments[-1].values, name)[3], 20.0)
        self.settle()
        self.assertIsNone(self.window.source.error)
        while self.session.history.undo_words and self.session.project != before:
            self.session.undo()
        self.assertEqual(self.session.project, before)

    def test_a_dragged_value_is_one_step_and_changes_the_picture(self):
        self.settle()
        plain = self.shown()
        self.station.deeds.add_kind(f.Light)
        line = self.station.pages[f.Light].rulers["exposure_ev"]._line
        line._first = True
        for value in (0.5, 1.0, 1.5):
            line._move_to(value)
        self.assertEqual(self.adjustments[0].values.exposure_ev, 1.5)
        self.settle()
        self.assertGreater(self.shown().mean(), plain.mean() + 20)
        self.window.do("undo")
        self.assertEqual(self.adjustments[0].values, f.Light())
        self.settle()
        self.assertLess(np.abs(self.shown() - plain).mean(), 2)

    def test_switched_off_weakened_moved_duplicated_removed(self):
        station = self.station
        for kind in (f.Light, f.Mono, f.Vignette):
            station.deeds.add_kind(kind)
        station.list.setCurrentRow(1)
        station.strength._line._move_to(40.0)
        self.assertEqual(self.adjustments[1].strength_pct, 40.0)
        self.assertIn("40 %", station.list.item(1).text())
        station.list.item(1).setCheckState(Qt.CheckState.Unchecked)
        self.assertFalse(self.adjustments[1].on)
        station.list.setFocus()
        QTest.keyClick(station.list, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
        self.assertEqual([type(a.values) for a in self.adjustments], [f.Mono, f.Light, f.Vignette])
        self.assertEqual(station.chosen, 0)
        self.click(station.double)
        self.assertEqual([type(a.values) for a in self.adjustments], [f.Mono, f.Mono, f.Light, f.Vignette])
        self.click(station.remove)
        self.assertEqual(len(self.adjustments), 3)
        self.window.do("finish_off")
        self.assertFalse(self.session.frame_set.finish.on)
        self.assertFalse(station.all_on.isChecked())
        self.window.do("finish_off")
        self.settle()

    def test_an_area_limits_it_and_can_be_taken_away(self):
        self.station.deeds.add_kind(f.Mono)
        self.click(self.station.area)
        self.until(lambda: self.window.hand.target is not None)
        self.draw((0.4, 0.5), (0.6, 0.5))
        self.assertIsInstance(self.adjustments[0].area.parts[0], Stroke)
        self.settle()
        image = self.window.source.shown.image
        middle, beside = (image.pixelColor(round(x * image.width()), round(0.5 * image.height())).getRgb()[:3]
                          for x in (0.5, 0.15))
        self.assertLess(max(middle) - min(middle), 6)
        self.assertGreater(max(beside) - min(beside), 6)
        self.assertIn("in its area", self.station.list.item(0).text())
        self.click(self.station.everywhere)
        self.assertIsNone(self.adjustments[0].area)
        self.assertIsNone(self.window.hand.target)

    def test_a_curve_is_bent_over_the_histogram_and_picked_on_the_picture(self):
        self.settle()
        self.station.deeds.add_kind(f.Curve)
        view = self.station.histogram
        self.assertIsNotNone(view.shown)
        at = view._at(0.5, 0.5)
        self.drag(view, at, QPointF(0, -30))
        knots = self.adjustments[0].values.every
        self.assertEqual(len(knots), 3)
        self.assertGreater(knots[1][1], 0.55)
        page = self.station.pages[f.Curve]
        page.channel.press("blue")
        self.assertEqual(view.curve, f.STRAIGHT)
        self.click(page.straight)
        self.assertIs(self.window.view.in_hand, self.station.spot)
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(0.5, 0.6))
        self.assertEqual(len(self.adjustments[0].values.blue), 3)
        QTest.mouseDClick(view, Qt.MouseButton.LeftButton, pos=view._at(*view.curve[1]).toPoint())
        self.assertEqual(self.adjustments[0].values.blue, f.STRAIGHT)
        self.settle()

    def test_before_and_up_to_here_leave_out_what_they_say(self):
        self.station.deeds.add_kind(f.Mono)
        self.station.deeds.add_kind(f.Light)
        self.station.pages[f.Light].rulers["exposure_ev"]._line._move_to(2.0)
        self.station.list.setCurrentRow(0)
        self.click(self.station.up_to_here)
        self.settle()
        own = self.window.source.shown.project.set("row")
        self.assertEqual([type(a.values) for a in own.finish.adjustments], [f.Mono])
        self.click(self.station.up_to_here)
        self.window.do("compare_divide")
        self.settle()
        self.assertFalse(self.window.before.shown.project.set("row").finish.on)
        self.assertEqual(self.window.view.tags, ("without the finish", "with it"))

    def test_dodging_builds_up_by_strokes_of_few_per_cent(self):
        plain = self.shown()
        actions = {a.text(): a for a in self.station.add.menu().actions()}
        actions["Dodge and burn"].trigger()
        self.assertIsNotNone(self.window.hand.target)
        self.assertEqual(self.adjustments[-1].values, f.Dodge(middle_ev=1.0))
        for _ in range(2):
            self.draw((0.3, 0.5), (0.7, 0.5))
        parts = self.adjustments[-1].area.parts
        self.assertEqual([(type(p), p.strength_pct) for p in parts], [(Stroke, 8.0)] * 2)
        self.settle()
        self.assertGreater(self.shown().mean(), plain.mean())
        self.window.do("undo")
        self.assertEqual(len(self.adjustments[-1].area.parts), 1)

    def test_what_is_sharpened_is_looked_at_and_leaves_the_recipe_alone(self):
        self.station.deeds.add_kind(f.Detail)
        before = self.session.project
        self.click(self.station.alone)
        self.settle()
        shown = self.window.source.shown.project.set("row").finish.adjustments[-1].values
        self.assertTrue(shown.alone)
        colours = self.shown()
        self.assertEqual(np.ptp(colours, axis=2).max(), 0)  # black and white
        self.assertEqual(self.session.project, before)
        self.session.go("export")
        self.session.go("finish")
        self.settle()
        self.assertFalse(self.station.alone.isChecked())
        self.assertGreater(np.ptp(self.shown(), axis=2).max(), 0)

    def test_clipping_is_shown_in_form_and_auto_is_modest(self):
        self.station.deeds.add_kind(f.Light)
        self.station.pages[f.Light].rulers["exposure_ev"]._line._move_to(3.0)
        self.station.pages[f.Light].rulers["contrast_pct"]._line._move_to(30.0)
        self.settle()
        self.assertGreater(max(self.station.histogram.shown.white), 0.1)
        stripes = stripes_of(self.window.source.shown.image)
        seen = {stripes.pixelColor(x, y).alpha() for x in range(0, stripes.width(), 3)
                for y in range(0, stripes.height(), 3)}
        self.assertEqual(seen, {0, 150, 255})
        self.station.clipping.setChecked(True)
        self.window.view.grab()
        self.click(self.station.auto)
        self.settle()
        self.until(lambda: self.station.clipping._stripes is not None)
        values = self.adjustments[0].values
        self.assertLessEqual(abs(values.exposure_ev), 1.0)
        self.assertEqual(values.contrast_pct, 30.0)
        dark = np.full((1, 500, 3), 0.05, np.float32) * np.linspace(0.2, 2, 500, dtype=np.float32)[None, :, None]
        self.assertGreater(modest_light(dark).exposure_ev, 0.4)

    def test_a_colour_taken_on_the_picture_moves_its_band(self):
        self.settle()
        self.station.deeds.add_kind(f.Hues)
        page = self.station.pages[f.Hues]
        page.which.press("saturation_pct")
        page.drag.click()
        self.assertIs(self.window.view.in_hand, self.station.pull)
        rect = self.window.view.picture_rect()
        start = QPointF(rect.x() + 0.5 * rect.width(), rect.y() + 0.93 * rect.height())
        band = band_of(self.window.source.shown.image, QPointF(0.5, 0.93))
        self.drag(self.window.view, start, QPointF(0.1 * rect.width(), 0))
        found = self.adjustments[0].values.saturation_pct
        self.assertAlmostEqual(found[band], 40, delta=3)
        self.assertEqual(sum(v != 0 for v in found), 1)
        self.assertIn(f.BANDS[band], ("yellow", "green", "orange"))
        self.window.do("undo")
        self.assertEqual(self.adjustments[0].values, f.Hues())
        self.session.go("join")
        self.assertFalse(page.drag.isChecked())

    def test_one_adjustment_is_copied_to_other_sets(self):
        self.station.deeds.add_kind(f.Light)
        self.station.deeds.add_kind(f.Vignette)
        self.station.list.setCurrentRow(0)
        look = self.station.look
        look.fill()
        look.copy()
        look.take_one(["still"])
        own = self.session.frame_set.finish.adjustments[0]
        self.assertEqual(self.session.project.set("still").finish.adjustments, (own,))
        look.paste()
        self.assertEqual([type(a.values) for a in self.session.frame_set.finish.adjustments],
                         [f.Light, f.Vignette, f.Light])
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.session.project.set("still").finish.adjustments, ())

    def test_a_look_has_a_name(self):
        self.station.deeds.add_kind(f.Mono)
        self.station.look.keep_look("Grey day")
        self.station.look.fill()
        self.assertIn("Use: Grey day", [a.text() for a in self.station.look.menu_of.actions()])
        self.session.select_set("still")
        self.station.look.use(self.station.look.looks.all()["Grey day"], "Grey day")
        self.assertEqual([type(a.values) for a in self.adjustments], [f.Mono])
        self.station.look.looks.drop("Grey day")
        self.assertEqual(self.station.look.looks.all(), {})

    def test_repairs_are_painted_here_on_both_kinds_of_sets(self):
        mending = self.station.mending
        for set_id in ("row", "still"):
            self.session.select_set(set_id)
            self.settle()
            self.station.open_view("repairs")
            other = self.session.frame_set.frames[2].id
            with mock.patch("windfell.app.stations.mending.seen_behind", return_value=other):
                self.click(mending.texture)
                self.draw((0.5, 0.6), (0.54, 0.62))
                self.until(lambda: mending.other.text() == "Take frame 3")
            self.assertIn("true and not made up", self.said[-1])
            self.click(mending.other)
            self.assertEqual((mending.repairs[0].way, mending.repairs[0].frame), (Mend.FRAME, other))
            self.assertEqual(mending.other.text(), "Other frame…")
            self.window.do("undo")
            self.click(mending.paint)
            self.assertEqual([r.way for r in mending.repairs], [Mend.TEXTURE])
            self.settle()
            self.click(mending.answer)
            self.assertEqual(mending.repairs[0].answer, 1)
            self.click(mending.sources)
            self.draw((0.2, 0.6), (0.3, 0.62))
            self.assertEqual([type(p) for p in mending.repairs[0].sources.parts], [Stroke])
            self.window.do("undo")
            self.assertIsNone(mending.repairs[0].sources)
            self.click(mending.heal)
            QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(0.3, 0.6))
            self.until(lambda: self.window.hand.target is not None)
            self.draw((0.4, 0.6), (0.42, 0.6))
            self.assertEqual(mending.repairs[1].way, Mend.HEAL)
            self.assertIsNotNone(mending.repairs[1].to)
            for name, value in (("turn_deg", 30.0), ("size_pct", 150.0)):
                mending.shape[name].changed.emit(value - 1, True)
                mending.shape[name].changed.emit(value, False)
                self.assertEqual(getattr(mending.repairs[1], name), value)
            self.assertEqual(self.session.history.undo_words, "repair 2: size to 150 %")
            mending.fixed.setChecked(True)
            self.draw((0.44, 0.62), (0.46, 0.62))
            first, further = mending.repairs[1:]
            self.assertEqual((further.source, further.turn_deg, len(further.area.parts)), (first.source, 30.0, 1))
            self.assertNotEqual(further.to, first.to)
            self.draw((0.44, 0.66), (0.46, 0.66))
            self.assertEqual([len(r.area.parts) for r in mending.repairs], [1, 1, 1, 1])
            mending.fixed.setChecked(False)
            self.draw((0.44, 0.68), (0.46, 0.68))
            self.assertEqual([len(r.area.parts) for r in mending.repairs], [1, 1, 1, 2])
            for _ in range(5):
                self.window.do("undo")
            self.assertEqual([r.turn_deg for r in mending.repairs], [0.0, 0.0])
            self.session.select_frame(self.session.frame_set.frames[1].id)
            self.click(mending.other)
            self.draw((0.6, 0.5), (0.62, 0.5))
            self.assertEqual(mending.repairs[2].frame, self.session.frame_id)
            self.settle()
            self.assertIsNone(self.window.source.error)
            self.click(mending.remove)  # the newest is in hand
            self.assertEqual([r.way for r in mending.repairs], [Mend.TEXTURE, Mend.HEAL])
            self.assertIn("away", mending.list.item(1).text())
            while self.session.frame_set.repairs:
                self.window.do("undo")

    def test_a_look_is_kept_used_and_taken_to_other_sets(self):
        self.station.deeds.add_kind(f.Colour)
        self.station.pages[f.Colour].rulers["weak_pct"]._line._move_to(50.0)
        look = self.session.frame_set.finish
        said = []
        self.session.said.connect(lambda words, *_: said.append(words))
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "look.json"
            self.station.look.keep_as(place)
            self.station.look.fill()
            self.station.look.take_to(["still"])
            self.assertEqual(self.session.project.set("still").finish, look)
            self.window.do("undo")
            self.assertEqual(self.session.project.set("still").finish, f.Finish())
            self.session.select_set("still")
            self.assertEqual(self.station.adjustments, ())
            self.station.look.use_file(place)
            self.assertEqual(self.station.adjustments, look.adjustments)
            place.write_text("{")
            self.station.look.use_file(place)
            self.assertIn("look.json", said[-1])
        self.settle()
        self.assertIsNone(self.window.source.error)
