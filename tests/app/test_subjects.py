"""Subjects in the real window: the shelf, pieces taken and left, what stands behind them, the moving picture."""

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtTest import QTest

from tests.app.test_areas import Drawing
from windfell.recipe import pieces
from windfell.recipe.areas import Stroke


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
        self.click(self.station.suggest)
        taken = self.station.taken
        self.assertGreater(len(taken), 5)
        self.assertFalse(any(j in taken for i in taken for j in self.station.shelf.found.conflicts_of(i)))
        self.click(self.station.all)
        self.assertEqual(len(self.station.taken), len(self.movers))
        self.assertIn("share", self.station.words.text())
        self.click(self.station.none)
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
        whole = [pieces.mask_of(x) for x in self.layers]
        self.click(self.station.shadows)
        self.assertEqual(sorted(self.station.taken), [1, 4])
        bare = [pieces.mask_of(x) for x in self.layers]
        self.assertFalse(set(bare) & set(whole))
        self.station.view.hold(self.station.taken[0])
        first = self.station.taken[0]
        self.click(self.station.front)
        self.assertEqual(self.station.taken[-1], first)
        self.click(self.station.behind)
        self.assertEqual(self.station.taken[0], first)
        frame = self.session.frame_set.frames[4].id
        self.station.base.setCurrentIndex(self.station.base.findData(frame))
        self.station.base.activated.emit(self.station.base.currentIndex())
        self.assertEqual(pieces.base_of(self.session.frame_set), frame)
        self.assertEqual(sorted(self.station.taken), [1, 4])
        self.settle()
        self.station.base.activated.emit(0)
        self.assertIsNone(pieces.base_of(self.session.frame_set))
        self.assertEqual(len(self.layers), 2)

    def test_a_box_leaves_one_track_on_the_shelf(self):
        x, y, w, h = self.movers[0].body_box
        wide, high = self.station.shelf.found.size
        self.click(self.station.follow)
        self.station.box.drawn.emit(QRectF((x - 2) / wide, (y - 2) / high, (w + 4) / wide, (h + 4) / high))
        self.assertEqual({t.track for t in self.station.view.tiles}, {self.movers[0].track})
        self.click(self.station.all)
        self.assertEqual({self.movers[n].track for n in self.station.taken}, {self.movers[0].track})
        self.click(self.station.follow)
        self.assertEqual(len(self.station.view.tiles), len(self.movers))

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
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "m.gif"
            page.width_px._line._move_to(200.0)
            page.write_to(place)
            self.settle()
            with Image.open(place) as shown:
                self.assertEqual((shown.n_frames, shown.width), (16, 200))
            said = []
            self.session.said.connect(lambda words, *_: said.append(words))
            page.write_to(Path(folder) / "m.avi")
            self.assertIn("ending", said[-1])

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
        best.buttons[2].click()
        self.settle()
        self.assertEqual([x.frames for x in self.layers], [(self.session.frame_set.used[2].id,)])
        self.window.do("undo")
        self.window.do("undo")
        self.assertEqual(self.layers, ())
