"""A frame that looks straight down into a closed ring's hole is placed by the light of its rim, or not at all."""

import json
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from PIL import Image, ImageOps

from windfell import demo
from windfell.align import panorama, pole
from windfell.align.registration import Placed
from windfell.engine.core import Engine
from windfell.geometry.rotation import angle_between, from_rotvec, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

FOLDER = Path(demo.__file__).parent / "frames" / "tarn-round"
DOWN = 9


def registered(paths: list[str], down: int = DOWN):
    """The frames' registration where features find nothing between the one that looks down and the others."""
    find = panorama.find_links

    def without(*args, **more):
        links, refused = find(*args, **more)
        return [k for k in links if down not in (k.a, k.b)], refused

    project = Project((FrameSet("s", "S", Kind.PANORAMA, tuple(map(frame_from_path, paths))),))
    with patch.object(panorama, "find_links", without):
        return Engine(None, 2**29).stages(project, "s").registration(Job())


class Poles(unittest.TestCase):
    def setUp(self):
        self.paths = sorted(str(p) for p in FOLDER.glob("*.jpg"))

    def test_it_lies_where_the_camera_looked_if_not_straight_down(self):
        straight, tilted = pole._facing, from_rotvec(np.radians([5.0, -6.0, 0.0]))
        by_points, aside, turned = pole._by_points, from_rotvec(np.radians([0.1, 0.0, 0.25])), []

        def nudged(cameras, n, *more):
            turned.append(by_points(pole._with_pose(cameras, n, cameras.rotations[n] @ aside), n, *more))
            return turned[-1]

        with patch.object(pole, "_facing", lambda axis: straight(axis) @ tilted), patch.object(
                pole, "_closed", lambda ground: True), patch.object(pole, "_by_points", nudged):
            # whichever its number
            found = registered([self.paths[DOWN], *self.paths[:DOWN]], 0)
        self.assertEqual(len(found.placed), len(self.paths))
        self.assertTrue(all(k.a < k.b for k in found.links))
        truth = [np.array(f["rotation"]) for f in json.loads((FOLDER / "truth.json").read_text())["frames"]]
        truth = [truth[DOWN], *truth[:DOWN]]
        for rotations in ([f.rotation for f in found.frames], turned[0].rotations):
            turn = nearest_rotation(sum(t @ r.T for t, r in zip(truth[1:], rotations[1:], strict=True)))
            self.assertLess(np.degrees(angle_between(turn @ rotations[0], truth[0])), 0.02)

    def test_without_a_closed_ring_nothing_is_tried(self):
        with patch.object(pole, "_placed") as tried:
            registered([*self.paths[:4], self.paths[DOWN]], 4)
        tried.assert_not_called()

    def test_ground_that_is_not_this_one_stays_out(self):
        with tempfile.TemporaryDirectory() as folder:
            other = str(Path(folder) / "round-10.jpg")
            with Image.open(self.paths[DOWN]) as picture:
                ImageOps.mirror(picture).save(other, exif=picture.getexif(), quality=93)
            found = registered([*self.paths[:DOWN], other])
        self.assertEqual(len(found.placed), DOWN)
        self.assertNotIsInstance(found.frames[DOWN], Placed)


if __name__ == "__main__":
    unittest.main()
