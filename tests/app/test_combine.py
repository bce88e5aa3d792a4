"""Combine's pages driven: rules and what goes with them, straightened by a line, curves straightened, cropped."""

from dataclasses import replace
from unittest import mock

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel

from tests.app.support import WindowTest, with_proofs
from windfell.recipe.combining import Floor, Rule
from windfell.recipe.edits import Edit
from windfell.recipe.model import Kind


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

    def test_black_is_picked_on_the_picture_and_undone_in_one_step(self):
        self.combine._choose("maximum")
        self.combine.open_tab("light")
        self.settle()
        before = self.session.project
        self.click(self.combine.pick)
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.at(0.5, 0.9).toPoint())
        self.until(lambda: self.own.combining.floor is Floor.LEVEL)
        self.assertGreater(self.own.combining.floor_pct, 0.5)
        self.assertFalse(self.combine.pick.isChecked())
        self.assertIsNone(self.window.view.in_hand)
        self.settle()
        self.window.do("compare_divide")
        self.settle()
        self.assertEqual(self.window.view.tags, ("black as it is", "now"))
        self.assertIs(self.window.before.shown.project.set("still").combining.floor, Floor.OFF)
        self.window.do("compare_off")
        self.settle()
        plain = self.window.view.grab().toImage()
        self.click(self.combine.clipping, QPoint(8, 10))
        self.until(lambda: self.combine.clipping._stripes is not None)
        self.assertNotEqual(self.window.view.grab().toImage(), plain)
        self.combine.clipping.click()
        self.assertEqual(self.window.view.grab().toImage(), plain)
        self.window.do("undo")
        self.assertEqual(self.session.project, before)

    def test_darks_and_flats_are_chosen_counted_and_let_go(self):
        self.combine.open_tab("light")
        row, paths = self.combine.fields, [f.source.path for f in self.own.frames]
        self.assertFalse(row.none.isEnabled())
        for fields, chosen in (("darks", paths[:2]), ("flats", paths[2:3]), ("darks", [])):
            asked = "windfell.app.widgets.fields_row.QFileDialog.getOpenFileNames"
            with mock.patch(asked, return_value=(chosen, "")):
                self.click(row.more[fields])
        self.assertEqual(row.words.text(), "2 darks, 1 flat")
        self.assertEqual([s.path for s in self.own.combining.darks], paths[:2])
        self.click(row.none)
        self.assertEqual((self.own.combining.darks, self.own.combining.flats), ((), ()))
        self.session.undo()
        self.session.go("gather")
        self.assertIn("9 frames, 2 darks, 1 flat", [x.text() for x in self.window.findChildren(QLabel)])
        self.session.go("combine")
        self.settle()
        self.assertIsNone(self.window.source.error)

    def test_the_base_is_held_against_the_result(self):
        self.assertIsNone(self.combine.held_against(self.session.project))
        base = self.own.frames[2].id
        self.session.change("combining.base", base, True)
        self.window.do("compare_blink")
        self.settle()
        self.assertEqual(self.window.view.tags, ("the base", "now"))
        layers = self.window.before.shown.project.set("still").combining.layers
        self.assertEqual([x.frames for x in layers], [(base,)])

    def test_the_display_of_exposures_and_their_masks_have_rulers(self):
        self.combine.open_tab("display")
        self.assertFalse(self.combine.masks["combining.grow_px"].isEnabled())
        self.combine._choose("exposures")
        for path, value in (("combining.grow_px", 12.0), ("combining.soften_px", 4.0)):
            self.assertTrue(self.combine.masks[path].isEnabled())
            self.combine.masks[path]._line._move_to(value)
        self.assertEqual((self.own.combining.grow_px, self.own.combining.soften_px), (12.0, 4.0))
        for path, value in (("combining.compression_pct", 60.0), ("combining.detail_pct", 25.0),
                            ("combining.highlights_pct", -30.0), ("combining.shadows_pct", 40.0)):
            self.combine.tones[path]._line._move_to(value)
        c = self.own.combining
        self.assertEqual((c.compression_pct, c.detail_pct), (60.0, 25.0))
        self.assertEqual((c.highlights_pct, c.shadows_pct), (-30.0, 40.0))
        self.combine.display.press("fusion")
        self.assertFalse(self.combine.tones["combining.detail_pct"].isEnabled())
        self.settle()
        self.assertIsNone(self.window.source.error)

    def test_how_much_a_frame_is_heard_is_seen_in_black_and_white(self):
        self.combine.open_view("core")
        self.session.select_frame(self.own.frames[1].id)
        self.combine.core.maps.press("heard")
        self.until(lambda: self.combine.core.overlay is not None)
        first = self.combine.core.overlay
        self.assertTrue(first.pixelColor(first.width() // 2, 5).alpha() == 255)
        self.session.select_frame(self.own.frames[2].id)
        self.until(lambda: self.combine.core.overlay is not first)

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

    def test_the_core_of_a_panorama_is_not_asked_for(self):
        self.combine.open_view("core")
        core = self.combine.core
        own = next(s for s in self.session.project.sets if s.kind is Kind.PANORAMA)
        self.session.set_id = own.id
        core.look_at(QPointF(0.5, 0.5))
        self.assertIsNone(core._stages_now())
        self.settle()
        self.assertIsNone(core.core)

    def test_the_core_follows_the_pointer_pins_and_shows_a_frame_while_its_point_is_held(self):
        self.combine.open_view("core")
        core = self.combine.core
        QTest.mouseMove(self.window.view, self.at(0.4, 0.6).toPoint())
        self.until(lambda: core.core is not None)
        first = core.plot.title
        self.key(Qt.Key.Key_Y)
        self.until(lambda: core.pinned[0].core is not None)
        QTest.mouseMove(self.window.view, self.at(0.6, 0.7).toPoint())
        self.until(lambda: core.plot.title != first)
        self.settle()
        core.plot.grab()
        x, y, _ = core.plot._points[3]
        QTest.mousePress(core.plot, Qt.MouseButton.LeftButton, pos=QPointF(x, y).toPoint())
        self.assertEqual(self.session.frame_id, self.own.used[core.plot._near(QPointF(x, y))].id)
        self.until(lambda: self.window.source.shown.project.set("still").combining.layers)
        QTest.mouseRelease(core.plot, Qt.MouseButton.LeftButton, pos=QPointF(x, y).toPoint())
        self.settle()
        self.assertEqual(self.window.source.shown.project.set("still").combining.layers, ())
        for what in ("against", "whose"):
            core.maps.press(what)
            self.until(lambda: core.overlay is not None)
        self.assertGreater(core.overlay.pixelColor(5, 5).alpha(), 100)
        for axis in ("time", "exposure"):
            core.axis.press(axis)
            core.plot.grab()
        core.let_go()
        self.assertEqual(core.pins, [])
        shown = self.window.view.grab().toImage()
        self.combine.open_view("proofs")
        self.assertNotEqual(self.window.view.grab().toImage(), shown)
        self.settle()

    def test_trails_and_frames_have_pages_of_their_own(self):
        self.combine._choose("maximum")
        self.combine.open_tab("trails")
        self.combine.every._line._move_to(2)
        self.combine.fades["combining.fade_out_pct"]._line._move_to(40)
        self.combine.beyond.click()
        c = self.own.combining
        self.assertEqual((c.every, c.fade_out_pct, c.beyond_noise), (2, 40.0, True))
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.combine._choose("median")
        self.assertFalse(self.combine.every.isEnabled())
        self.combine.open_view("frames")
        spoil = self.combine.spoil
        self.until(lambda: spoil.list.count() == len(self.own.used))
        self.assertIn("dB", spoil.words.text())
        dark = replace(self.own.frames[3].development, exposure_ev=-1.5)
        frames = tuple(replace(f, development=dark) if n == 3 else f for n, f in enumerate(self.own.frames))
        darker = self.session.project.with_set(replace(self.own, frames=frames))
        self.session.edit(Edit("darken a frame", darker), True)
        self.until(lambda: "frame 4" in spoil.list.item(0).text() and "EV" in spoil.list.item(0).text())
        self.click(spoil.leave)
        self.assertEqual([f.on for f in self.own.frames].index(False), 3)
        self.settle()
        self.session.select_frame(self.own.frames[1].id)
        for value in (2.0, 3.0):
            spoil.weight.changed.emit(value, value == 2.0)
        self.assertEqual(self.own.frames[1].weight, 3.0)
        self.assertEqual(self.session.history.undo_words, "weight of frame 2 to 3")
        self.until(lambda: any("weight 3" in spoil.list.item(n).text() for n in range(spoil.list.count())))
        self.click(spoil.by_noise)
        self.until(lambda: "by their noise" in (self.session.history.undo_words or ""))
        self.assertGreater(len({f.weight for f in self.own.frames if f.on}), 3)
        self.click(spoil.alike)
        self.assertEqual({f.weight for f in self.own.frames}, {1.0})
        self.settle()

    @with_proofs
    def test_proofs_say_one_figure_each(self):
        self.until(lambda: self.combine.proofs.settled)
        cards = self.combine.proofs.cards
        self.assertEqual(set(cards), {str(r) for r in Rule})
        self.assertIn("dB", cards["mean"].figures[1])
        self.assertIn("rejects", cards["clipped-mean"].figures[1])
        self.assertIn("brightens", cards["maximum"].figures[1])

    def test_a_line_straightens_and_a_curve_bends(self):
        self.combine.open_tab("cut")
        self.combine.cut.hands.press("level")
        start = self.at(0.3, 0.5)
        self.drag(self.window.view, start, self.at(0.6, 0.53) - start)
        self.assertGreater(self.own.view.roll_deg, 1.0)
        self.settle()
        self.combine.cut.hands.press("straight")
        view = self.window.view
        spots = [self.at(0.3 + 0.05 * n, 0.5 + 0.01 * (n - 4) ** 2 / 4).toPoint() for n in range(9)]
        QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, spots[0])
        for p in spots[1:]:
            QTest.mouseMove(view, p)
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, spots[-1])
        self.until(lambda: self.own.outline.lines)
        self.settle()
        self.assertIsNone(self.window.source.error)
        self.combine.cut.unbend.click()
        self.assertEqual(self.own.outline.lines, ())
        self.settle()

    @with_proofs
    def test_two_rules_are_held_against_each_other(self):
        self.combine.proofs.held.emit("mean")
        self.settle()
        self.assertEqual(self.window.view.tags, ("Mean", "Median"))
        self.session.go("export")
        self.settle()
        self.assertEqual(self.window.view.compare, "off")
