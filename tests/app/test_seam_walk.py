"""The seam walk driven by its keys: to the next, given to the other frame, found fine, undone."""

from unittest import mock

from PySide6.QtCore import Qt

from tests.app.support import WindowTest
from windfell.recipe.model import Blend


class Walking(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("join")
        self.join = self.window.stations["join"]
        self.walk = self.join.walk
        self.until(lambda: self.walk.list.count() > 0)

    def test_the_keys_walk_fly_and_give_a_spot_away(self):
        before = self.session.project
        self.key(Qt.Key.Key_Period)
        self.settle()
        self.assertEqual(self.walk.list.currentRow(), 0)
        self.until(lambda: len(self.walk.loupes.images) == 3)
        self.assertGreater(self.window.view.zoom, self.window.view.fit_zoom)
        self.assertIn("joined", self.walk.loupes.names)
        stretch = self.walk.stretch
        self.assertIn(str(self.walk.walk.numbers[stretch.b]), self.walk.take.text())
        self.key(Qt.Key.Key_G)
        self.until(lambda: self.session.history.undo_words and "give a spot" in self.session.history.undo_words)
        self.assertTrue(any(g.keep for g in self.session.frame_set.joining.given))
        self.settle()
        self.session.undo()
        self.assertEqual(self.session.project, before)
        self.settle()

    def test_a_seam_is_laid_elsewhere_by_a_key_or_it_is_said_that_no_way_is_better(self):
        self.walk.step(1)
        self.settle()
        before, at = self.session.project, self.walk.stretch
        with mock.patch("windfell.engine.owning.worst_near", side_effect=[2.0, 0.4, 0.3, 0.1, 0.3]):
            self.key(Qt.Key.Key_E)
            self.until(lambda: self.session.project is not before)
        self.assertEqual(self.session.history.undo_words, "lay a seam elsewhere")
        kept = [g.frame for g in self.session.frame_set.joining.given if g.keep]
        self.assertEqual(kept, [self.session.frame_set.frames[self.walk.walk.numbers[at.b] - 1].id])
        self.settle()
        self.session.undo()
        self.settle()
        with mock.patch("windfell.engine.owning.worst_near", return_value=1.0):
            self.click(self.walk.elsewhere)
            self.until(lambda: "noticed less" in self.said[-1])
        self.assertEqual(self.session.project, before)

    def test_a_seam_is_bent_together_by_a_key_and_all_by_a_switch(self):
        self.walk.step(1)
        self.settle()
        self.key(Qt.Key.Key_V)
        joining = self.session.frame_set.joining
        self.assertEqual(len(joining.bent), 1)
        self.assertIn("bend frames", self.session.history.undo_words)
        self.settle()
        self.assertTrue(self.walk.bend.isChecked())
        self.until(lambda: "long" in self.join.even_words.text())
        self.key(Qt.Key.Key_V)
        self.assertEqual(self.session.frame_set.joining.bent, ())
        self.join.bend.click()
        self.assertTrue(self.session.frame_set.joining.bend_seams)
        self.settle()
        self.assertFalse(self.walk.bend.isEnabled())
        self.assertIsNone(self.window.source.error)

    def test_a_single_seam_is_blended_in_a_way_of_its_own(self):
        self.walk.step(1)
        self.settle()
        numbers = {self.walk.walk.numbers[n] for n in (self.walk.stretch.a, self.walk.stretch.b)}
        self.walk.way.setCurrentIndex(self.walk.way.findData("none"))
        self.walk.way.activated.emit(self.walk.way.currentIndex())
        own = self.session.frame_set
        (one,) = own.joining.seam_blends
        self.assertEqual({own.frames.index(own.frame(f)) + 1 for f in (one.a, one.b)}, numbers)
        self.assertIs(one.blend, Blend.NONE)
        self.settle()
        self.assertEqual(self.walk.way.currentData(), "none")
        self.assertIsNone(self.window.source.error)
        self.walk.blend_seam(None)
        self.assertEqual(self.session.frame_set.joining.seam_blends, ())
        self.settle()

    def test_what_is_edited_meanwhile_leaves_the_view_where_it_is(self):
        self.key(Qt.Key.Key_Period)
        self.settle()
        self.window.view.fit()
        self.key(Qt.Key.Key_G)
        self.until(lambda: self.session.frame_set.joining.given)
        self.settle()
        self.assertEqual(self.window.view.zoom, self.window.view.fit_zoom)
        self.assertIsNotNone(self.walk.stretch)

    def test_what_is_fine_leaves_the_list_and_comes_back_by_undo(self):
        count = self.walk.list.count()
        self.walk.step(1)
        self.settle()
        self.key(Qt.Key.Key_J)
        self.assertLess(self.walk.list.count(), count)
        self.assertEqual(len(self.session.frame_set.joining.fine), 1)
        self.session.undo()
        self.assertEqual(self.session.frame_set.joining.fine, ())
        self.until(lambda: self.walk.list.count() == count)

    def test_blending_is_chosen_and_its_width_only_means_something_for_bands(self):
        self.join.blending.press("none")
        self.settle()
        self.assertIs(self.session.frame_set.joining.blend, Blend.NONE)
        self.assertFalse(self.join.blend.isEnabled())
        self.join.blending.press("wide")
        self.settle()
        self.assertTrue(self.join.blend.isEnabled())
