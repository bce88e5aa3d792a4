"""Another frame that sees behind what is to go is found; one that shows the same, or another light, is none."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine, frames_in, project_of, ridge, textured, write_picture
from windfell.engine.areas import ground_points
from windfell.engine.seen_behind import other_within, seen_behind
from windfell.job import Job
from windfell.recipe.areas import Area, Stroke
from windfell.recipe.combining import Combining, Layer, Rule
from windfell.recipe.model import Joining, Kind
from windfell.recipe.repairs import Mend, Repair


class SeenBehind(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_what_differs_within_and_agrees_around_is_something_else(self):
        rng = np.random.default_rng(2)
        land = rng.uniform(0.2, 0.3, (60, 80, 3)).astype(np.float32)
        inside = np.zeros((60, 80), bool)
        inside[20:40, 30:50] = True
        ring = (cv2.dilate(inside.astype(np.uint8), np.ones((13, 13))) > 0) & ~inside
        thing, part, beyond = land.copy(), land.copy(), land.copy()
        thing[20:40, 30:50] = (0.7, 0.05, 0.05)
        part[36:40, 30:50] = (0.7, 0.05, 0.05)
        beyond[22:24, 30:50] = np.nan
        for name, frame, least, most in (
                ("behind it", land, 0.95, 1.0), ("the same", thing, 0.0, 0.0), ("darker", 0.8 * land, 0.0, 0.0),
                ("its foot too", part, 0.7, 0.85), ("not all is seen", beyond, 0.0, 0.0)):
            with self.subTest(name):
                self.assertTrue(least <= other_within(thing, frame, inside, ring) <= most)

    def test_in_a_panorama_it_is_the_neighbour_that_does_not_show_the_thing(self):
        paths = frames_in(ridge())[:3]
        picture = cv2.imread(paths[0])
        cv2.rectangle(picture, (236, 259), (258, 281), (30, 30, 200), -1)
        with_thing = write_picture(self.folder / "a.png", np.ascontiguousarray(picture[..., ::-1]))
        plain, set_id = project_of([with_thing, *paths[1:]], joining=Joining(cut_seams=False))
        host = engine()
        own = plain.set(set_id)
        rays = host.stages(plain, set_id).posed(Job())[0].rays(np.array([[247.0, 270.0]]))
        ground = host.stages(plain, set_id).area_ground
        for spot, wanted in ((ground_points(ground, rays), own.frames[1].id),
                             (ground_points(ground, rays + [0.0, -0.12, 0.0]), None)):
            repair = Repair(Mend.TEXTURE, Area((Stroke(spot, 2.5, 0.0),)))
            project = plain.with_set(replace(own, repairs=(repair,)))
            self.assertEqual(seen_behind(host.stages(project, set_id), 0, Job()), wanted)

    def test_in_a_stack_too_and_an_empty_area_has_none(self):
        land = textured(200, 300, 5)
        pictures = [land.copy() for _ in range(3)]
        pictures[0][80:120, 140:160] = (200, 20, 30)
        paths = [write_picture(self.folder / f"s{n}.png", p) for n, p in enumerate(pictures)]
        project, set_id = project_of(paths, Kind.STACK)
        own = project.set(set_id)
        first = Combining(Rule.MEDIAN, layers=(Layer(frames=(own.frames[0].id,)),))
        repair = Repair(Mend.FILL, Area((Stroke(((150.0, 85.0), (150.0, 115.0)), 24.0, 0.0),)))
        for area, found in ((repair.area, True), (Area(), False)):
            made = project.with_set(replace(own, combining=first, repairs=(replace(repair, area=area),)))
            frame = seen_behind(engine().stages(made, set_id), 0, Job())
            self.assertEqual(frame in {f.id for f in own.frames[1:]}, found)


if __name__ == "__main__":
    unittest.main()
