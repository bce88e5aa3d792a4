"""The window, by what a person presses and reads."""

import json
import os
import time
from dataclasses import replace
from pathlib import Path

import cv2
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QPushButton

from tests.app.support import WindowTest, with_proofs
from tests.support import frames_in, green, ridge, stranger
from windfell.app import theme
from windfell.app.actions import ACTIONS
from windfell.app.deeds import Deeds
from windfell.app.session import Session
from windfell.app.widgets.finder import CommandFinder
from windfell.engine.core import Engine
from windfell.geometry.projections import PROJECTIONS
from windfell.recipe import edits
from windfell.recipe.model import ProjectionChoice
from windfell.recipe.outline import Edges


class Beginning(WindowTest):
    def test_an_empty_window_teaches_and_opens_the_demo(self):
        wall = self.window.stations["gather"].page
        words = " ".join(label.text() for label in wall.currentWidget().findChildren(QLabel))
        self.assertIn("Drop frames here", words)
        self.click(wall.demo)
        names = [s.name for s in self.session.project.sets]
        self.assertEqual(names[:3], ["Ridge sweep", "Village green", "Kite clip"])
        self.assertEqual(names[3:], [
            "Two-row sweep", "Tarn round", "Drystone wall", "Turning stars", "Turning stars as trails",
            "Lantern boats", "One kite, eight places", "Group before the chapel", "Chapel brackets as a stack",
            "Chapel brackets", *(f"Chapel brackets, position {n}" for n in (1, 2, 3)), "Night sky over the tarn"])
        self.assertEqual(self.session.station, "shape")

    def test_dropped_files_become_lanes_and_a_bad_one_is_named(self):
        bad = Path(self._home.name) / "bad.jpg"
        bad.write_bytes(b"not a picture")
        paths = [*frames_in(ridge()), *frames_in(green()), str(bad)]
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(p) for p in paths])
        event = QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data,
                           Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(event)
        self.settle()
        lanes = self.window.stations["gather"].page.lanes
        self.assertEqual([len(lane.cards) for lane in lanes], [4, 9])
        self.assertIn("bad.jpg", self.window.status.words.text())
        gather = self.window.stations["gather"]
        self.click(lanes[1].accept)
        self.assertEqual([s.proposed for s in self.session.project.sets], [True, False])
        self.assertEqual(self.session.history.undo_words, f"accept {self.session.project.sets[1].name}")
        self.click(gather.accept)
        self.assertEqual([s.proposed for s in self.session.project.sets], [False, False])
        self.assertFalse(gather.accept.isEnabled())
        for _ in range(2):
            self.session.undo()
        self.assertTrue(all(s.proposed for s in self.session.project.sets))
        self.click(gather.page.lanes[0].remove)
        self.assertEqual(len(self.session.project.sets), 1)

    def test_an_empty_folder_is_said(self):
        self.window.open_paths([self._home.name])
        self.until(lambda: "no pictures or videos" in self.window.status.words.text())


class Gathering(WindowTest):
    def test_a_frame_left_out_is_kept_and_comes_back_by_undo(self):
        self.open("gather")
        card = self.window.stations["gather"].page.lanes[0].cards[1]
        self.click(card, QPoint(card.width() - 15, card.height() - 14))
        self.assertFalse(self.session.frame_set.frames[1].on)
        self.assertEqual(self.window.undo_button.toolTip(), "Undo: keep aside frame 2")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.session.project, small_project_like(self.session))
        self.assertTrue(self.session.frame_set.frames[1].on)

    def test_kind_name_and_removal_are_edits(self):
        self.open("gather")
        lane = self.window.stations["gather"].page.lanes[0]
        lane.kind.press("stack")
        self.assertEqual(str(self.session.project.sets[0].kind), "stack")
        lane = self.window.stations["gather"].page.lanes[0]
        lane.name.setText("Fell")
        lane.name.editingFinished.emit()
        self.assertEqual(self.session.project.sets[0].name, "Fell")
        self.click(self.window.stations["gather"].page.lanes[0].remove)
        self.assertEqual(len(self.session.project.sets), 1)
        for _ in range(3):
            self.session.undo()
        self.assertEqual(self.session.project.sets[0].name, "Ridge sweep")
        self.assertIsNone(self.session.history.undo_words)

    def test_choosing_a_frame_tells_what_it_is(self):
        self.open("gather")
        gather = self.window.stations["gather"]
        self.click(gather.page.lanes[0].cards[0], QPoint(20, 20))
        self.assertIn("1/400 s", gather._facts.text())


def small_project_like(session: Session):
    """The project before any edit."""
    return session.history._steps[0].project


class Aligning(WindowTest):
    def test_errors_are_listed_and_a_stranger_is_set_aside_with_its_reason(self):
        self.session.add_files([*frames_in(ridge()), str(stranger())])
        self.until(lambda: self.session.frame_set is not None)
        self.session.go("align")
        self.settle()
        align = self.window.stations["align"]
        table = align.frames
        rows = [[table.item(r, c).text() for c in range(5)] for r in range(table.rowCount())]
        placed = [row[1] for row in rows]
        self.assertEqual(sorted(placed), ["no", "yes", "yes", "yes", "yes"])
        self.assertIn("by hand", rows[placed.index("no")][4])
        self.assertEqual(self.window.ridge.states["align"], "findings")
        self.assertGreaterEqual(align.links.rowCount(), 3)
        self.assertIn("4 of 5", align.summary.text())

    def test_a_doubtful_frame_is_said_with_its_reason(self):
        self.open("align")
        self.window.registrations.doubts = {2: "held to frame 2 by one spot alone"}
        self.window.station.refresh()
        self.assertIn("one spot", self.window.station.frames.item(2, 4).text())
        table = self.window.station.frames
        self.assertEqual(table.item(1, 4).text(), "")
        self.assertTrue(self.window.registrations.findings)
        self.window.registrations.doubts = {2: "held to frame 2 by one spot alone, which may be a thing. " * 3}
        self.window.station.refresh()
        for width in (1900, 1280, 1100):
            self.window.resize(width, 800)
            self.settle()
            self.assertGreaterEqual(table.rowHeight(2), table.sizeHintForRow(2), "all of it is seen")
        self.assertGreater(table.rowHeight(2), table.rowHeight(1))

    def test_frames_that_do_not_join_are_said_where_the_picture_would_be(self):
        paths = frames_in(ridge())
        self.session.add_files([paths[0], paths[3]])
        self.until(lambda: self.session.frame_set is not None)
        self.session.go("shape")
        self.settle()
        self.assertIn("overlap", self.window.source.error)
        self.assertTrue(self.window.isVisible())

    def test_a_focal_length_can_be_given_and_a_wrong_one_is_said(self):
        self.open("align")
        field = self.window.stations["align"].focal
        field.setText("far")
        field.editingFinished.emit()
        self.assertIn("not a focal length", self.window.status.words.text())
        field.setText("500")
        field.editingFinished.emit()
        self.settle()
        self.assertEqual(self.session.frame_set.registration.focal_px, 500.0)
        for _ in range(2):
            field.clear()
            field.editingFinished.emit()
            self.settle()
            self.assertIsNone(self.session.frame_set.registration.focal_px)
            self.assertRegex(field.text(), r"\d+\.\d px")


class Shaping(WindowTest):
    @with_proofs
    def test_proofs_show_all_projections_and_a_click_chooses(self):
        self.open("shape")
        proofs = self.window.stations["shape"].proofs
        self.assertEqual(set(proofs.cards), set(PROJECTIONS))
        for card in proofs.cards.values():
            self.assertIsNotNone(card.image)
            self.assertRegex(card.figures[0], r"\d+ x \d+ px")
        self.assertTrue(proofs.cards["cylindrical"].active)
        self.click(proofs.cards["equirectangular"])
        self.assertIs(self.session.frame_set.view.projection, ProjectionChoice.EQUIRECTANGULAR)
        self.settle()
        self.assertEqual(self.window.source.shown.projection, "equirectangular")

    def test_dragging_the_picture_turns_it_in_one_undoable_step(self):
        self.open("shape")
        self.key(Qt.Key.Key_T)
        view = self.window.view
        self.drag(view, QPointF(view.rect().center()), QPointF(120, 30))
        turned = self.session.frame_set.view
        self.assertLess(turned.yaw_deg, -5)
        self.assertGreater(turned.pitch_deg, 1)
        self.session.undo()
        self.assertEqual(self.session.frame_set.view.yaw_deg, 0.0)
        self.assertIsNone(self.session.history.undo_words)

    def test_a_ruler_steps_by_keys_takes_numbers_and_resets(self):
        self.open("shape")
        ruler = self.window.stations["shape"].rulers["view.roll_deg"]
        line, field = ruler._line, ruler._field
        QTest.keyClick(line, Qt.Key.Key_Right)
        self.assertAlmostEqual(self.session.frame_set.view.roll_deg, 0.1)
        field.setText("2,5")
        field.editingFinished.emit()
        self.assertAlmostEqual(self.session.frame_set.view.roll_deg, 2.5)
        field.setText("nonsense")
        field.editingFinished.emit()
        self.assertEqual(field.text(), "2.5°")
        QTest.mouseDClick(line, Qt.MouseButton.LeftButton)
        self.assertEqual(self.session.frame_set.view.roll_deg, 0.0)
        self.assertEqual(self.session.history.undo_words, "roll 2.5° to 0.0°")

    def test_trim_level_and_sphere(self):
        self.open("shape")
        self.key(Qt.Key.Key_M)
        self.assertIs(self.session.frame_set.outline.edges, Edges.TRIM)
        self.settle()
        trimmed = self.window.source.shown
        self.session.change("view.roll_deg", 9.0)
        self.key(Qt.Key.Key_L)
        self.assertEqual(self.session.frame_set.view.roll_deg, 0.0)
        self.click(self.window.stations["shape"].sphere, QPoint(8, 10))
        self.settle()
        shown = self.window.source.shown
        self.assertEqual(shown.width, 2 * shown.height)
        self.assertLess(trimmed.height, shown.height)


class Joining(WindowTest):
    def test_seams_shares_and_switches(self):
        self.open("join")
        join = self.window.stations["join"]
        self.assertAlmostEqual(sum(join.seams.shares), 1.0, delta=0.02)
        seams = self.window.view.grab().toImage()
        self.click(join.show_seams, QPoint(8, 10))
        self.assertNotEqual(self.window.view.grab().toImage(), seams)
        self.click(join.show_seams, QPoint(8, 10))
        self.assertEqual(self.window.view.grab().toImage(), seams)
        self.click(join.light, QPoint(8, 10))
        self.assertFalse(self.session.frame_set.joining.match_light)
        self.settle()
        self.session.undo()
        self.assertTrue(join.light.isChecked())


class Combining(WindowTest):

    def test_a_frame_that_an_undo_takes_away_is_no_longer_chosen(self):
        self.open("gather")
        rows = self.session.project
        other = next(s for s in rows.sets if s.id != "row")
        moved = other.frames[0].id
        self.session.try_edit(lambda: edits.move_frames(self.session.project, [moved], "row", None))
        self.session.select_frame(moved)
        self.session.undo()
        self.assertIsNone(self.session.frame_id)
        self.window.do("switch_frame")

    def test_the_theme_reaches_every_part_and_what_is_opened_later(self):
        self.open("shape")
        self.window.do("other_theme")
        self.until(lambda: self.window.wardrobe.settled)
        for part in (self.window.frames, self.window.status, *(s.controls for s in self.window.stations.values())):
            self.assertIn(theme.PEAT.sheet, part.styleSheet())
        self.assertTrue(self.window.updatesEnabled())
        self.window.wardrobe.change()
        self.window.do("other_theme")
        self.until(self.window.updatesEnabled)
        self.assertFalse(self.window.wardrobe.settled)
        self.session.go("join")
        join = self.window.stations["join"].controls
        self.assertTrue(theme.is_dressed(join) or not self.window.updatesEnabled(), "seen before it is dressed")
        self.until(self.window.updatesEnabled)
        self.assertIn(theme.LIMESTONE.sheet, join.styleSheet())
        self.until(lambda: self.window.wardrobe.settled)

    def test_a_kept_painting_follows_what_it_shows(self):
        self.open("gather")
        card = self.window.stations["gather"].page.lanes[0].cards[0]
        seen = set()
        for change in (lambda: None, lambda: setattr(card, "frame", replace(card.frame, on=False)),
                       lambda: setattr(card, "problem", "soft"), lambda: setattr(card, "number", 12),
                       lambda: setattr(card, "picked_too", True), lambda: card.setFixedSize(120, 100)):
            change()
            image = card.grab().toImage()
            seen.add((image.size().toTuple(), bytes(image.constBits())))
        self.assertEqual(len(seen), 6)

    def test_compare_shows_the_reference_frame(self):
        self.open("combine", "still")
        now = self.window.source.shown.image
        QTest.keyPress(self.window.windowHandle(), Qt.Key.Key_B)
        self.until(lambda: self.window.before.settled and self.window.before.shown is not None)
        self.assertTrue(self.window.view.held)
        self.assertNotEqual(self.window.before.shown.image, now)
        QTest.keyRelease(self.window.windowHandle(), Qt.Key.Key_B)
        self.assertFalse(self.window.view.held)
        for key, mode in ((Qt.Key.Key_D, "divide"), (Qt.Key.Key_K, "blink"), (Qt.Key.Key_H, "ghost")):
            self.key(key)
            self.assertEqual(self.window.view.compare, mode)
        self.key(Qt.Key.Key_H)
        self.assertEqual(self.window.view.compare, "off")


class Exporting(WindowTest):
    def test_the_plan_is_told_and_the_picture_written(self):
        self.open("export", "still")
        export = self.window.stations["export"]
        export.set_place(str(Path(self._home.name) / "green.tif"))
        export.format.press("png")
        self.settle()
        self.assertTrue(export.place.text().endswith("green.png"))
        self.assertIn("480 x 320 px", export.check.text())
        self.click(export.write)
        self.until(lambda: export.written is not None)
        self.assertEqual(cv2.imread(str(export.written.path)).shape, (320, 480, 3))
        self.assertIn("Written", export.result.text())
        self.assertEqual(self.window.ridge.states["export"], "far")
        self.window.refresh()
        self.assertEqual(self.window.ridge.states["export"], "made")


class Viewing(WindowTest):
    def test_zoom_pan_and_the_pointer(self):
        self.open("shape")
        view = self.window.view
        fit = view.zoom
        self.key(Qt.Key.Key_Z)
        self.assertAlmostEqual(view.zoom, 1.0)
        self.assertGreater(view.zoom, fit)
        before = view.picture_rect().x()
        self.drag(view, QPointF(view.rect().center()), QPointF(-60, 0))
        self.assertNotEqual(view.picture_rect().x(), before)
        shown = view.source.shown
        self.until(lambda: view.source.tile(0, 0, 0) is not None or shown.image.width() == shown.width)
        QTest.mouseMove(view, view.rect().center())
        self.until(lambda: "x " in self.window.status.pointer.text())
        self.key(Qt.Key.Key_Z)
        self.assertAlmostEqual(view.zoom, fit)

    def test_half_a_gigapixel_stays_smooth(self):
        self.open("shape")
        frame_set = self.session.frame_set
        self.session.change_all({"view.full_sphere": True, "output.width_px": 32_000})
        self.settle()
        view, shown = self.window.view, self.window.source.shown
        self.assertEqual((shown.width, shown.height), (32_000, 16_000))
        view.look_at(0.5, 0.5, 1.0)
        took = []
        for n in range(12):
            begun = time.monotonic()
            view.look_at(0.5 + n * 0.002, 0.5, 1.0)
            view.grab()
            took.append(time.monotonic() - begun)
        # a drawing must not wait for tiles: it takes milliseconds, tiles at this size take far longer; most of them,
        # since a machine that is shared may stand still for a moment
        self.assertLess(sorted(took)[len(took) // 2], 1.5)
        self.until(lambda: len(view.source._tiles) >= 3)
        self.assertIsNotNone(frame_set)

    def test_both_themes_and_small_and_scaled_windows_keep_their_words(self):
        self.open("shape")
        for _ in theme.THEMES:
            self.window.do("other_theme")
            for station in ("gather", "align", "shape", "join", "export"):
                self.session.go(station)
                self.window.resize(1100, 700)
                self.app.processEvents()
                for button in self.window.findChildren(QPushButton):
                    if button.isVisible():
                        need = button.fontMetrics().horizontalAdvance(button.text())
                        self.assertGreaterEqual(button.width(), need, button.text())
        self.assertEqual(theme.current(), theme.LIMESTONE)


class Commands(WindowTest):
    def test_every_action_has_a_method_and_no_two_share_a_key(self):
        keys = [k for spec in ACTIONS for k in spec.keys]
        self.assertEqual(len(keys), len(set(keys)))
        for spec in ACTIONS:
            self.assertTrue(callable(getattr(Deeds, f"on_{spec.name}", None)), spec.name)

    def test_the_finder_lists_and_runs_commands(self):
        self.open("shape")
        finder = CommandFinder(self.window, list(self.window.actions_by_name.values()), self.window.why_not)
        self.assertEqual(finder.list.topLevelItemCount(), len(ACTIONS))
        rows = [finder.list.topLevelItem(n) for n in range(len(ACTIONS))]
        told = {r.text(0): r.text(1) for r in rows}
        self.assertEqual(told["Save project"], "Ctrl+S")
        self.assertIn("Undo  (nothing to undo)", told)
        finder.field.setText("trim edges")
        self.assertEqual(finder.list.topLevelItemCount(), 1)
        QTest.keyClick(finder.field, Qt.Key.Key_Return)
        self.assertIs(self.session.frame_set.outline.edges, Edges.TRIM)

    def test_number_keys_open_stations(self):
        self.open("shape")
        for key, station in ((Qt.Key.Key_1, "gather"), (Qt.Key.Key_2, "prepare"), (Qt.Key.Key_6, "finish"),
                             (Qt.Key.Key_7, "export")):
            self.key(key)
            self.assertEqual(self.session.station, station)


class Projects(WindowTest):
    def test_saved_closed_and_opened_again_equal(self):
        self.open("shape")
        self.session.change("view.roll_deg", 3.0)
        path = os.path.join(self._home.name, "fell.windfell")
        self.assertTrue(self.session.save_to(path))
        kept = self.session.project
        self.session.replace_all(type(kept)(), None)
        self.assertTrue(self.session.open_project(path))
        self.assertEqual(self.session.project, kept)
        self.assertEqual(self.session.recent(), [path])
        self.assertFalse(self.session.unsaved)

    def test_a_damaged_project_is_said_and_the_work_stays(self):
        self.open("shape")
        path = Path(self._home.name) / "bad.windfell"
        path.write_text("no")
        before = self.session.project
        self.window.open_paths([str(path)])
        self.assertIn("bad.windfell", self.window.status.words.text())
        self.assertEqual(self.session.project, before)

    def test_work_comes_back_after_a_crash(self):
        self.open("shape")
        self.session.change("view.roll_deg", 4.0)
        self.session._keep_safe()
        unsaved = Path(self._home.name) / "state" / "unsaved"
        for file in list(unsaved.iterdir()):
            note = file.read_text() if file.suffix == ".json" else None
            if note:
                self.assertIn("pid", json.loads(note))
            file.rename(file.with_name(file.name.replace(str(os.getpid()), "4194302")))
        later = Session(Engine(None, 2**28))
        self.assertTrue(later.recover())
        self.assertEqual(later.project, self.session.project)
        later.close()
