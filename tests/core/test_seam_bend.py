"""Frames bent along their seams until what both show there meets, and nowhere else."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from tests.core.test_parallax import near
from tests.support import engine, project_of, textured
from windfell.cli.main import main
from windfell.geometry.bend import Bend, typical_px
from windfell.job import Job
from windfell.join.seam_bend import REACH, meeting, with_drifts
from windfell.pixels.colour import srgb_decoded
from windfell.recipe.model import BentSeam, Joining


class Meetings(unittest.TestCase):
    def setUp(self):
        picture = cv2.GaussianBlur(textured(200, 400, 3), (0, 0), 1.5)
        self.one = srgb_decoded(picture / 255).astype(np.float32)
        y, x = np.meshgrid(np.arange(200, dtype=np.float32), np.arange(400, dtype=np.float32), indexing="ij")
        self.shift = 3 * np.sin(y / 60)
        self.other = cv2.remap(self.one, x - self.shift, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        self.seam = np.zeros((200, 400), bool)
        self.seam[:, 200] = True

    def test_what_lies_apart_is_found_near_the_seam_whatever_the_light(self):
        for gain in (1.0, 0.8):
            found = meeting(self.one, gain * self.other, np.ones((200, 400), bool), self.seam)
            self.assertGreater(len(found), 300)
            truth = self.shift[np.clip(np.rint(found.spots[:, 1]).astype(int), 0, 199), 0]
            self.assertLess(np.median(np.abs(found.apart[:, 0] - truth)), 0.2)
            self.assertLess(np.abs(found.spots[:, 0] - 200).max(), REACH + 8)

    def test_features_meet_halfway(self):
        found = meeting(self.one, self.other, np.ones((200, 400), bool), self.seam)
        begun = found.spots - found.apart / 2
        np.testing.assert_allclose(begun, np.rint(begun), atol=1e-4)

    def test_what_one_frame_alone_shows_says_little(self):
        strange = srgb_decoded(cv2.GaussianBlur(textured(200, 400, 77), (0, 0), 1.5) / 255).astype(np.float32)
        self.other[50:110] = strange[50:110]
        found = meeting(self.one, self.other, np.ones((200, 400), bool), self.seam)
        rows = found.spots[:, 1]
        self.assertLess(((rows > 58) & (rows < 102)).sum() / 44, 0.35 * ((rows > 125) & (rows < 190)).sum() / 65)

    def test_what_is_not_shared_or_differs_says_nothing(self):
        shared = np.ones((200, 400), bool)
        shared[:100] = False
        found = meeting(self.one, self.other, shared, self.seam)
        self.assertGreater(found.spots[:, 1].min(), 100)
        flat = np.full_like(self.one, 0.2)
        self.assertEqual(len(meeting(flat, flat, np.ones((200, 400), bool), self.seam)), 0)

    def test_drifts_are_kept_where_they_are_known_and_fade_beyond(self):
        rng = np.random.default_rng(1)
        points = np.stack([rng.uniform(380, 420, 500), rng.uniform(0, 599, 500)], -1)
        drift = np.stack([2 * np.sin(points[:, 1] / 90), 0.5 * np.cos(points[:, 1] / 120)], -1)
        before = Bend(800, 600, np.full((5, 5, 2), 0.25))
        bend = with_drifts(800, 600, points, drift, np.ones(500), before)
        self.assertLess(typical_px(bend.at(points) - drift - 0.25), 0.15)
        far = np.array([[100.0, 300.0], [700.0, 100.0]])
        np.testing.assert_allclose(bend.at(far), 0.25, atol=0.02)
        twice = bend.scaled(1600, 1200)
        np.testing.assert_allclose(twice.at(2 * points), 2 * bend.at(points), atol=0.05)


class Rows(unittest.TestCase):
    def test_a_row_with_parallax_meets_at_its_seams(self):
        own = engine()
        project, set_id = project_of(sorted(str(p) for p in near().glob("*.png")))
        plain = own.stages(project, set_id)
        bent = own.stages(project.with_set(replace(
            project.set(set_id), joining=Joining(bend_seams=True))), set_id)
        found = bent.seam_bends(Job())
        self.assertGreater(found.before_px, 0.8)
        self.assertLess(found.after_px, 0.45 * found.before_px)
        self.assertEqual(set(found.bends), {0, 1, 2})
        canvas = plain.canvas(Job())
        self.assertEqual((canvas.width, canvas.height), (bent.canvas(Job()).width, bent.canvas(Job()).height))
        ids = [f.id for f in project.set(set_id).frames]
        one = own.stages(project.with_set(replace(
            project.set(set_id), joining=Joining(bent=(BentSeam(ids[0], ids[1]),)))), set_id)
        self.assertEqual(set(one.seam_bends(Job()).bends), {0, 1})
        self.assertNotEqual(one.key(Job()), plain.key(Job()))

    def test_the_command_line_bends_and_says_so(self):
        with tempfile.TemporaryDirectory() as folder:
            out, report = Path(folder) / "row.png", Path(folder) / "row.json"
            paths = sorted(str(p) for p in near().glob("*.png"))
            words = ["panorama", *paths, "--out", str(out), "--bend-seams", "--report", str(report)]
            self.assertEqual(main(words), 0)
            said = json.loads(report.read_text())["seams_bent"]
            self.assertEqual(said["frames_bent"], 3)
            self.assertLess(said["after_px"], said["before_px"])
