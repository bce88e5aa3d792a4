"""Subjects in the real window: the shelf, pieces taken and left, what stands behind them, the moving picture."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtTest import QTest

from tests.app.test_areas import Drawing
from tests.core.test_standing import panels, with_stay
from tests.core.test_subjects import series
from tests.support import write_picture
from windfell.app.stations.subjects_over import place_on_view
from windfell.engine.pieces_laid import suggested
from windfell.recipe import pieces, pile
from windfell.recipe.areas import Meets, Stroke
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.edits import Edit
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.outline import Crop
from windfell.subjects.suggesting import Suggest


class Plates(Drawing):
    """Something stands in many frames, or in half of them."""

    def open_frames(self, frames) -> None:
        paths = [write_picture(Path(self._home.name) / f"f{n}.png", f) for n, f in enumerate(frames)]
        own = FrameSet("s", "Stay", Kind.STACK, tuple(frame_from_path(p) for p in paths),
                       combining=Combining(Rule.MEDIAN))
        self.session.replace_all(Project((own,)), None)
        self.session.go("subjects")
        self.settle()
        self.station = self.window.stations["subjects"]

    @property
    def layers(self):
        return self.session.frame_set.combining.layers

    def test_the_ground_is_laid_over_what_the_plate_shows_by_one_press(self):
        self.open_frames(series(with_stay(5, 8))[0])
        mend = self.station.controls_of.mend
        self.assertTrue(mend.isEnabled())
        self.assertIn("stands for long", self.station.controls_of.words.text())
        self.station.deeds.turn(0)
        self.click(mend)
        self.assertTrue(pieces.is_ground(self.layers[0]))
        self.assertEqual(self.station.taken, [0])
        self.assertFalse(mend.isEnabled())
        self.settle()
        self.window.do("undo")
        self.assertEqual(len(self.layers), 1)

    def test_what_was_found_of_other_frames_is_not_shown(self):
        self.open_frames(series(with_stay(5, 8))[0])
        shelf, key = self.station.shelf, self.station._asked
        self.session.go("gather")
        own = self.session.frame_set
        fewer = replace(own, frames=tuple(replace(f, on=n < 4) for n, f in enumerate(own.frames)))
        self.session.edit(Edit("fewer", self.session.project.with_set(fewer)))
        self.station._arrived(key, shelf)
        self.assertIsNone(self.station._asked)
        self.session.go("subjects")
        self.settle()
        self.assertEqual(len(self.session.frame_set.used), 4)
        self.assertNotEqual(self.station._asked, key)

    def test_where_it_cannot_be_told_the_sign_goes_through_the_choices(self):
        self.open_frames(panels())
        self.assertFalse(self.station.controls_of.mend.isEnabled())
        rect = self.window.view.picture_rect()
        found = self.station.shelf.found
        sign = place_on_view(found, found.standing[0], rect)[1].toPoint()
        seen = []
        for _ in range(3):
            QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=sign)
            seen.append([x.frames for x in self.layers])
        frames = [f.id for f in self.session.frame_set.used]
        self.assertEqual({s[0] for s in seen[:2]}, {tuple(frames[0::2]), tuple(frames[1::2])})
        self.assertEqual(seen[2], [])
        self.settle()

    def test_a_boxed_subject_is_followed_and_the_frames_without_it_are_said_and_dropped(self):
        self.open_frames(series([[(30 + 36 * n, 120, 0)] if n not in (3, 4) else [] for n in range(8)])[0])
        w, h = self.station.shelf.found.size
        self.click(self.station.controls_of.follow)
        self.station.box.drawn.emit(QRectF(5 / w, 50 / h, 60 / w, 80 / h))
        self.assertEqual(len(self.station.offered), 6)
        self.assertIn("not found in frames 4, 5", self.station.controls_of.words.text())
        self.click(self.station.controls_of.drop)
        self.assertEqual([f.on for f in self.session.frame_set.frames], [n not in (3, 4) for n in range(8)])
        self.settle()
        self.assertEqual({t.frame for t in self.station.view.tiles}, {1, 2, 3, 6, 7, 8})
        self.assertEqual(self.station.boxed.lost, ())
        self.assertNotIn("not found", self.station.controls_of.words.text())
        self.assertTrue(all(f"frame {t.frame}" in t.words for t in self.station.view.tiles))
        self.station.view.hold(next(t.piece for t in self.station.view.tiles if t.frame == 8))
        self.assertIn("frame 8:", self.station.one.text())


class SubjectsStation(Drawing):
    def setUp(self):
        super().setUp()
        self.open("subjects", "still")
        self.station = self.window.stations["subjects"]
        self.movers = self.station.shelf.found.movers

    @property
    def layers(self):
        return self.session.frame_set.combining.layers

    def press_tile(self, piece: int) -> None:
        tile = next(t for t in self.station.view.tiles if t.piece == piece)
        at = self.station.view.rect_of(tile).center().toPoint()
        QTest.mouseClick(self.station.view, Qt.MouseButton.LeftButton, pos=at)

    def test_what_moves_lies_on_the_shelf_and_is_taken_and_left_by_presses(self):
        self.assertGreater(len(self.movers), 15)
        self.assertEqual({t.piece for t in self.station.view.tiles}, set(range(len(self.movers))))
        before = self.session.project
        self.settle()
        plate = self.window.source.shown
        self.press_tile(3)
        self.assertEqual(self.station.taken, [3])
        self.assertEqual(self.layers[0].frames, (self.session.frame_set.used[self.movers[3].frame].id,))
        self.settle()
        self.assertIsNot(self.window.source.shown, plate)
        self.assertTrue(next(t for t in self.station.view.tiles if t.piece == 3).taken)
        for j in self.station.shelf.found.conflicts_of(3)[:1]:
            self.assertTrue(next(t for t in self.station.view.tiles if t.piece == j).blocked)
        self.press_tile(3)
        self.assertEqual(self.layers, ())
        self.window.do("undo")
        self.assertEqual(self.station.taken, [3])
        self.window.do("undo")
        self.assertEqual(self.session.project, before)

    def test_suggested_pieces_have_no_conflicts_and_can_all_be_left(self):
        self.click(self.station.controls_of.suggest)
        taken = self.station.taken
        self.assertGreater(len(taken), 5)
        self.assertFalse(any(j in taken for i in taken for j in self.station.shelf.found.conflicts_of(i)))
        self.click(self.station.controls_of.all)
        self.assertEqual(len(self.station.taken), len(self.movers))
        self.assertIn("share", self.station.controls_of.words.text())
        self.click(self.station.controls_of.none)
        self.assertEqual(self.station.taken, [])

    def test_a_press_on_the_picture_drops_the_piece_there(self):
        self.press_tile(2)
        self.settle()
        m, (w, h) = self.movers[2], self.station.shelf.found.size
        y, x = np.nonzero(m.piece.matte > 200)
        k = len(x) // 2
        place = self.spot((m.piece.box[0] + x[k]) / m.scale / w, (m.piece.box[1] + y[k]) / m.scale / h)
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=place)
        self.assertEqual(self.station.taken, [])

    def test_shadows_order_and_what_lies_behind(self):
        self.press_tile(1)
        self.press_tile(4)
        whole = [x.area for x in self.layers]
        self.click(self.station.controls_of.shadows)
        self.assertEqual(sorted(self.station.taken), [1, 4])
        bare = [x.area for x in self.layers]
        self.assertEqual([len(a.parts) for a in whole], [2, 2])
        self.assertEqual([a.parts for a in bare], [a.parts[:1] for a in whole])
        self.station.view.hold(self.station.taken[0])
        first = self.station.taken[0]
        self.click(self.station.front)
        self.assertEqual(self.station.taken[-1], first)
        self.click(self.station.behind)
        self.assertEqual(self.station.taken[0], first)
        frame = self.session.frame_set.frames[4].id
        self.station.controls_of.base.setCurrentIndex(self.station.controls_of.base.findData(frame))
        self.station.controls_of.base.activated.emit(self.station.controls_of.base.currentIndex())
        self.assertEqual(pieces.base_of(self.session.frame_set), frame)
        self.assertEqual(sorted(self.station.taken), [1, 4])
        self.settle()
        self.station.controls_of.base.activated.emit(0)
        self.assertIsNone(pieces.base_of(self.session.frame_set))
        self.assertEqual(len(self.layers), 2)

    def test_a_shadow_reaches_as_far_as_the_ruler_says_and_all_else_about_the_piece_stays(self):
        self.press_tile(1)
        self.press_tile(4)
        self.click(self.station.behind)  # the fourth, in hand, below the first
        order = self.station.taken
        own = self.session.frame_set
        at = next(n for n, x in enumerate(self.layers) if pieces.mask_of(x) == self.station.shelf.shown[1].mask)
        painted = replace(self.layers[at].area, parts=(*self.layers[at].area.parts, Stroke(((50.0, 50.0),), 9.0)))
        self.session.edit(Edit("paint", pile.with_layer_area(self.session.project, own.id, at, painted)))
        masks = self.session.engine.masks
        before = masks[self.layers[at].area.parts[1].name]
        steps = self.session.project
        self.station.controls_of.reach._line._move_to(30.0)
        self.station.controls_of.reach._line._move_to(15.0)
        area = self.layers[at].area
        self.assertEqual((self.station.taken, area.parts[2]), (order, painted.parts[2]))
        self.assertLess(masks[area.parts[1].name].astype(int).sum(), 0.95 * before.astype(int).sum())
        self.window.do("undo")
        self.assertEqual(self.session.project, steps)

    def test_each_way_of_suggesting_takes_what_it_says(self):
        c = self.station.controls_of
        c.way.setCurrentIndex(c.way.findData(Suggest.NTH))
        c.way.activated.emit(c.way.currentIndex())
        self.assertFalse(c.numbers[Suggest.NTH].isHidden())
        self.assertTrue(c.numbers[Suggest.EVEN].isHidden())
        c.numbers[Suggest.NTH]._line._move_to(3.0)
        self.click(c.suggest)
        taken = self.station.taken
        self.assertEqual(taken, suggested(self.station.shelf.found, self.station.offered, None, True, Suggest.NTH, 3))
        by_track = {}
        for n in taken:
            by_track.setdefault(self.movers[n].track, []).append(self.movers[n].frame)
        self.assertTrue(any(len(frames) > 1 for frames in by_track.values()))

    def test_conflicts_are_listed_and_each_way_solves_them(self):
        found, page = self.station.shelf.found, self.station.conflicts
        one = next(n for n in range(len(self.movers)) if found.conflicts_of(n))
        other = found.conflicts_of(one)[0]
        self.press_tile(one)
        self.press_tile(other)
        self.station.open_view("conflicts")
        pair = tuple(sorted((one, other)))
        self.assertEqual(page.pairs, [pair])
        page.list.setCurrentRow(0)
        page.buttons["first"].click()
        self.assertEqual(self.station.taken[-1], pair[0])
        page.buttons["second"].click()
        self.assertEqual(self.station.taken[-1], pair[1])
        page.buttons["cut"].click()
        self.settle()
        self.assertEqual(page.pairs, [])
        sides = [x.area.parts[-1] for x in self.layers]
        self.assertTrue(all(p.meets is Meets.BOTH and p.name in self.session.engine.masks for p in sides))
        self.assertEqual(sorted(self.station.taken), list(pair))
        self.window.do("undo")
        self.assertEqual(page.pairs, [pair])
        page.buttons["drop first"].click()
        self.assertEqual(self.station.taken, [pair[1]])
        self.assertFalse(page.buttons["cut"].isEnabled())

    def test_frames_the_plate_and_the_picture_are_seen_against_each_other(self):
        view, station = self.window.view, self.station
        self.press_tile(2)
        frame = self.session.frame_set.frames[3].id
        station.see.setCurrentIndex(station.see.findData(frame))
        station.see.activated.emit(station.see.currentIndex())
        self.settle()
        seen = self.window.source.shown.project.set("still")
        self.assertEqual([x.frames for x in seen.combining.layers], [(frame,)])
        station.see.setCurrentIndex(0)
        station.see.activated.emit(0)
        self.window.do("compare_difference")
        self.settle()
        self.assertEqual((view.compare, view.tags), ("difference", ("the plate", "the picture")))
        self.assertEqual(self.window.before.shown.project.set("still").combining.layers, ())
        shot = view.grab().toImage()
        m, (w, h) = self.movers[2], station.shelf.found.size
        rect = view.picture_rect()
        x, y, wide, high = m.body_box
        inside, beside = (max(max(shot.pixelColor(
            int(rect.x() + (x + wide * i / 8 + far) / w * rect.width()),
            int(rect.y() + (y + high * j / 8) / h * rect.height())).getRgb()[:3])
            for i in range(9) for j in range(9)) for far in (0, (3 if x < w / 2 else -3) * wide))
        self.assertGreater(inside, 60)
        self.assertLess(beside, 30)

    def test_what_was_missed_is_painted_on_its_frame(self):
        self.session.select_frame(self.session.frame_set.frames[2].id)
        self.click(self.station.paint)
        self.until(lambda: self.window.hand.target is not None)
        layer = self.layers[-1]
        self.assertEqual((layer.frames, layer.area.parts), ((self.session.frame_id,), ()))
        self.draw((0.5, 0.5), (0.55, 0.5))
        self.assertIsInstance(self.layers[-1].area.parts[0], Stroke)
        self.window.hand.put_away()
        self.assertIs(self.window.view.in_hand, self.station.spot)

    def test_pieces_are_saved_and_opened_again(self):
        self.press_tile(0)
        with tempfile.TemporaryDirectory() as folder:
            path = str(Path(folder) / "p.windfell")
            self.session.save_to(path)
            self.session.open_project(path)
            self.session.select_set("still")
            self.session.go("subjects")
            self.settle()
            self.assertEqual(self.station.taken, [0])
            self.assertIn(pieces.mask_of(self.layers[0]), self.session.engine.masks)

    def test_the_moving_picture_plays_at_its_rate_and_is_written(self):
        page = self.station.animating
        self.station.open_view("animate")
        page.way.press("subjects")
        page.fps._line._move_to(20.0)
        self.click(page.play)
        self.until(lambda: page.now is not None)
        seen = {id(page.now)}
        self.until(lambda: seen.add(id(page.now)) or len(seen) > 3)
        self.assertIn("9 pictures, 0.5 s", page.words.text())
        page.back.click()
        self.assertIn("16 pictures", page.words.text())
        self.click(page.play)
        self.assertIsNone(page.now)
        page.loops.click()
        page.fps._line._move_to(60.0)
        self.click(page.play)
        self.until(lambda: page.now is not None)
        self.until(lambda: page.now is None and not page.play.isChecked())
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "m.gif"
            page.width_px._line._move_to(200.0)
            page.write_to(place)
            self.settle()
            with Image.open(place) as shown:
                self.assertEqual((shown.n_frames, shown.width, shown.info.get("loop")), (16, 200, None))
            said = []
            self.session.said.connect(lambda words, *_: said.append(words))
            page.write_to(Path(folder) / "m.avi")
            self.assertIn("ending", said[-1])

    def test_the_moving_picture_gathers_light_and_is_cut_as_the_picture_is(self):
        page = self.station.animating
        self.station.open_view("animate")
        page.way.press("lights")
        self.session.change("outline.crop", Crop(25.0, 0.0, 50.0, 100.0), True)
        page.cropped.click()
        page.width_px._line._move_to(200.0)
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "m.gif"
            page.write_to(place)
            self.settle()
            w, h = self.station.shelf.found.size
            with Image.open(place) as shown:
                self.assertEqual(shown.width, 200)
                self.assertLess(abs(shown.height - 200 * h / (w / 2)), 2)
                first = np.asarray(shown.convert("L")).astype(int)
                shown.seek(shown.n_frames - 1)
                last = np.asarray(shown.convert("L")).astype(int)
        self.assertGreater((last - first).mean(), 0)
        self.assertGreater((last >= first - 12).mean(), 0.98)

    def test_the_best_of_a_group_is_laid_in_and_another_takes_its_place(self):
        best = self.station.best
        self.station.open_view("best")
        best.draw.click()
        self.assertIs(self.window.view.in_hand, self.station.box)
        a, b = self.spot(0.2, 0.45), self.spot(0.4, 0.9)
        self.drag(self.window.view, QPointF(a), QPointF(b - a))
        self.until(lambda: len(best.buttons) == 9)
        self.settle()
        self.assertIs(self.window.view.in_hand, self.station.spot)
        best.buttons[6].click()
        self.settle()
        self.assertEqual(self.layers[-1].frames, (self.session.frame_set.used[6].id,))
        self.assertIn("best: frame 7", self.layers[-1].name)
        best.buttons[2].click()
        self.settle()
        self.assertEqual([x.frames for x in self.layers], [(self.session.frame_set.used[2].id,)])
        place, pressed = best.place, []
        with mock.patch("windfell.app.stations.best_page.pointed_box", lambda _, at, job: pressed.append(at) or
                        ((40, 50, 60, 70) if len(pressed) < 3 else None)):
            for more in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier):
                best.place = (20, 10, 30, 30)
                with mock.patch("PySide6.QtWidgets.QApplication.keyboardModifiers", lambda m=more: m):
                    QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, more, self.spot(0.25, 0.5))
                self.settle()
                self.assertEqual(best.place, (20, 10, 80, 110) if more else (40, 50, 60, 70))
            QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(0.25, 0.5))
            self.settle()
        self.assertIn("edge of its own", self.said[-1])
        np.testing.assert_allclose(pressed[0], (0.25 * 480, 0.5 * 320), atol=1.5)
        best.place = place
        self.window.do("undo")
        self.window.do("undo")
        self.assertEqual(self.layers, ())
