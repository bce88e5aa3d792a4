"""Stars and ground registered apart: both sharp in one picture, by the generator's truth."""

import json
import tempfile
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from tests.support import _HOME, engine, frames_in, project_of, truth_of
from windfell.align.features import Features
from windfell.align.ground import without_stars
from windfell.align.series import Onto
from windfell.align.stars import Stars
from windfell.cli.main import main
from windfell.combine.skyline import share_at, sky_share
from windfell.demo.stars import StarPlan, write_stars
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import Align, Kind, Registration


@lru_cache(maxsize=1)
def night() -> Path:
    """Five small frames from a tripod, the last of another night and aimed anew."""
    folder = Path(_HOME.name) / "night"
    folder.mkdir()
    write_stars(folder, 0.6, Job(), StarPlan(count=5, second_night=1))
    return folder


def stack(apart: bool):
    return project_of(frames_in(night()), Kind.STACK, combining=Combining(Rule.MEAN),
                      registration=Registration(Align.STARS, ground_apart=apart))


class GroundApart(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()

    def test_the_ground_stands_still_on_the_tripod_and_is_found_when_aimed_anew(self):
        project, set_id = stack(True)
        found = self.engine.stages(project, set_id).registration(Job())
        truth = truth_of(night())["frames"]
        first = truth[0]
        lens = Lens(first["width"], first["height"], first["focal_px"], first["distortion"]["k1"])
        grid = lens.grid(16)
        grid = grid[grid[:, 1] > 0.72 * lens.height]
        for place, t in zip(found.ground[1:], truth[1:], strict=True):
            self.assertIsInstance(place, Onto)
            there = lens.project(lens.rays(grid) @ np.array(first["rotation"]).T @ np.array(t["rotation"]))
            seen = np.all((there > 0) & (there < [lens.width, lens.height]), axis=1)
            off = np.linalg.norm(planar.apply(place.transform, grid) - there, axis=1)[seen]
            # a homography cannot follow the lens's bend when the camera is aimed anew
            self.assertLess(np.median(off), 0.4 if np.allclose(t["rotation"], first["rotation"]) else 3.0)

    def test_both_are_sharp_and_the_skyline_parts_them(self):
        pictures = {}
        for apart in (True, False):
            project, set_id = stack(apart)
            frames = project.sets[0].frames[:4]  # one night: the truth of the ground is the first frame
            project = replace(project, sets=(replace(project.sets[0], frames=frames),))
            pictures[apart] = to_view(self.engine.picture(project, set_id, 1.0, Job()).light).astype(float)
            if apart:
                sky = self.engine.stages(project, set_id).sky(Job())
        one = cv2.imread(frames_in(night())[0])[..., ::-1].astype(float)
        h, w = one.shape[:2]
        self.assertGreater(sky[: len(sky) // 3].min(), 0.99)
        self.assertLess(sky[-len(sky) // 12 :].max(), 0.01)
        ground = np.s_[round(0.8 * h) :, round(0.1 * w) : round(0.9 * w)]
        heaven = np.s_[: round(0.45 * h)]
        calm = {k: cv2.GaussianBlur(p, (0, 0), 1) for k, p in pictures.items()}
        off = {k: np.abs(p - cv2.GaussianBlur(one, (0, 0), 1)) for k, p in calm.items()}
        self.assertLess(off[True][ground].mean(), 0.4 * off[False][ground].mean())
        np.testing.assert_allclose(pictures[True][heaven], pictures[False][heaven], atol=1)

    def test_the_ground_counts_only_for_stars(self):
        project, set_id = stack(True)
        still = replace(project.sets[0], registration=Registration(Align.NONE, ground_apart=True))
        stages = self.engine.stages(replace(project, sets=(still,)), set_id)
        self.assertEqual(stages.registration(Job()).ground, ())

    def test_the_command_line_reports_both_places(self):
        with tempfile.TemporaryDirectory() as folder:
            code = main(["stack", *frames_in(night())[:3], "--out", f"{folder}/n.jpg", "--rule", "mean",
                         "--align", "stars", "--ground", "apart", "--report", f"{folder}/r.json"])
            self.assertEqual(code, 0)
            rows = json.loads(Path(f"{folder}/r.json").read_text())["frames"]
        for row in rows:
            self.assertTrue(row["used"] and row["ground"]["used"])
        self.assertNotEqual(rows[2]["transform"], rows[2]["ground"]["transform"])


class Skyline(unittest.TestCase):
    def test_features_at_stars_are_left_out(self):
        features = Features(np.array([[10.0, 10], [200, 200], [300, 40]]), np.eye(3, 128, dtype=np.float32), 500, 400)
        stars = Stars(np.array([[10.5, 10.5], [301.0, 41]]), np.ones(2), 500, 400)
        self.assertEqual(without_stars(features, stars).points.tolist(), [[200.0, 200.0]])
        none = Stars(np.zeros((0, 2)), np.zeros(0), 500, 400)
        self.assertEqual(len(without_stars(features, none)), 3)

    def test_where_nothing_moves_against_anything_one_side_takes_all(self):
        plain = np.full((60, 80, 3), 40.0, np.float32)
        share = sky_share(plain, [plain] * 3, [plain] * 3)
        self.assertIn(float(share.mean()), (0.0, 1.0))

    def test_a_region_of_the_share_is_the_share_there(self):
        share = np.tile(np.linspace(0, 1, 50, dtype=np.float32)[:, None], (1, 80))
        whole = share_at(share, Region(0, 0, 400, 250), 0.5, (800, 500))
        part = share_at(share, Region(40, 100, 90, 60), 0.5, (800, 500))
        np.testing.assert_allclose(part, whole[100:160, 40:130], atol=1e-3)
        self.assertTrue(np.all(np.diff(whole[:, 0]) >= -1e-6))


if __name__ == "__main__":
    unittest.main()
