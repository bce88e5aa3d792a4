"""Lines drawn on the picture itself: the frame that shows them best takes them, the picture obeys."""

import numpy as np
from PySide6.QtCore import QPointF, Qt

from tests.app.support import WindowTest
from windfell.align.help import line_degrees
from windfell.engine.lines import line_on_frame
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.recipe.outline import LineKind


class LinesOnThePicture(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("shape")
        self.shape = self.window.stations["shape"]

    def at(self, x: float, y: float) -> QPointF:
        r = self.window.view.picture_rect()
        return QPointF(r.x() + x * r.width(), r.y() + y * r.height())

    def line(self, start: tuple[float, float], end: tuple[float, float]) -> None:
        self.drag(self.window.view, self.at(*start), self.at(*end) - self.at(*start))

    def test_a_line_dragged_level_levels_the_picture_and_undo_gives_it_back(self):
        before = self.session.project
        self.shape.drag.press("level")
        self.line((0.42, 0.50), (0.52, 0.53))
        self.until(lambda: self.session.frame_set.registration.lines)
        line = self.session.frame_set.registration.lines[0]
        self.assertIs(line.kind, LineKind.LEVEL)
        self.assertIn("frame", self.window.status.words.text())
        self.settle()
        stages = self.session.engine.stages(self.session.project, "row")
        found = stages.registration(Job())
        n = [f.id for f in self.session.frame_set.used].index(line.frame)
        self.assertLess(abs(line_degrees(found.frames[n], line.points, "level")), 0.05)
        self.session.undo()
        self.assertEqual(self.session.project, before)
        self.settle()

    def test_dragging_moves_again_when_told_and_at_other_stations(self):
        self.shape.drag.press("upright")
        self.assertTrue(self.window.view.lining)
        self.session.go("join")
        self.settle()
        self.assertFalse(self.window.view.lining)
        self.session.go("shape")
        self.settle()
        self.assertTrue(self.window.view.lining)
        self.key(Qt.Key.Key_T)
        self.assertFalse(self.window.view.lining)
        self.assertTrue(self.window.view.turning)
        self.shape.drag.press("moves")
        self.assertFalse(self.window.view.turning)

    def test_a_line_over_more_than_a_frame_is_refused_in_a_sentence(self):
        self.shape.drag.press("level")
        self.line((0.04, 0.5), (0.96, 0.5))
        self.until(lambda: "shorter" in self.window.status.words.text())
        self.assertEqual(self.session.frame_set.registration.lines, ())

    def test_a_twitch_of_the_hand_is_no_line(self):
        self.shape.drag.press("level")
        self.drag(self.window.view, self.at(0.45, 0.5), QPointF(5, 2))
        self.settle()
        self.assertIsNone(self.session.history.undo_words)

    def test_the_frame_sees_the_ends_where_the_picture_shows_them(self):
        engine, project = self.session.engine, self.session.project
        ends = [(0.44, 0.4), (0.45, 0.7)]
        line = line_on_frame(engine, project, "row", ends, LineKind.UPRIGHT, Job())
        stages = engine.stages(project, "row")
        n = [f.id for f in project.set("row").used].index(line.frame)
        canvas = stages.canvas(Job())
        rays = stages.posed(Job())[stages.registration(Job()).placed.index(n)].rays(np.array(line.points))
        back = (canvas.pixels(rays) + 0.5) / [canvas.width, canvas.height]
        np.testing.assert_allclose(back, ends, atol=1e-4)
        with self.assertRaises(BadRequest):
            line_on_frame(engine, project, "row", [(0.0, 0.0), (1.0, 1.0)], LineKind.LEVEL, Job())
