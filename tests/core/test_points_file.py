"""Control points in files of their own, on the command line, and looked for on the light."""

import csv
import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.core.test_register import drawn
from tests.support import engine, frames_in, project_of, ridge, truth_of
from windfell.cli.main import main
from windfell.engine.points import matching_spot, more_points
from windfell.engine.report import point_rows
from windfell.errors import BadRequest
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe.model import frame_from_path
from windfell.recipe.points_file import points_words, read_points


class PointsFile(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.addCleanup(self._folder.cleanup)
        self.folder = Path(self._folder.name)
        self.frames = tuple(frame_from_path(f"/fell/{n}.jpg") for n in "abc")

    def write(self, name: str, text: str) -> Path:
        (self.folder / name).write_text(text)
        return self.folder / name

    def test_json_and_csv_hold_the_same(self):
        row = {"a": "a.jpg", "b": "c.jpg", "ax": 1.5, "ay": 2.0, "bx": 3.25, "by": 4.0, "weight": 2.0,
               "error_px": 0.1, "by_hand": True}
        found = []
        for name in ("p.json", "p.csv"):
            path = self.folder / name
            path.write_text(points_words([row], path))
            found.append(read_points(path, self.frames))
        self.assertEqual(found[0], found[1])
        point = found[0][0]
        self.assertEqual((point.a, point.b), (self.frames[0].id, self.frames[2].id))
        self.assertEqual((point.bx, point.weight), (3.25, 2.0))

    def test_what_is_wrong_is_said_with_its_place(self):
        cases = {
            "no list of points": ("p.json", json.dumps({"points": 3})),
            "no file of control points": ("q.json", "{"),
            "point 1 needs": ("r.json", json.dumps([{"a": "a.jpg"}])),
            "none of the frames": ("s.csv", "a,b,ax,ay,bx,by\nz.jpg,b.jpg,1,2,3,4\n"),
            "same frame twice": ("t.csv", "a,b,ax,ay,bx,by\na.jpg,a.jpg,1,2,3,4\n"),
            "no number": ("u.csv", "a,b,ax,ay,bx,by\na.jpg,b.jpg,1,2,3,four\n"),
            "out of its limits": ("v.csv", "a,b,ax,ay,bx,by,weight\na.jpg,b.jpg,1,2,3,4,900\n"),
        }
        for words, (name, text) in cases.items():
            with self.subTest(words), self.assertRaisesRegex(BadRequest, words):
                read_points(self.write(name, text), self.frames)


class CommandLine(unittest.TestCase):
    def test_points_go_out_and_in_again(self):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            frames = frames_in(ridge())
            status = main(["panorama", *frames, "--out", str(folder / "a.jpg"), "--points-out", str(folder / "p.csv"),
                           "--fov", "36.5", "--layout", "1x4", "--report", str(folder / "r.json")])
            self.assertEqual(status, 0)
            report = json.loads((folder / "r.json").read_text())
            focal = 0.5 * 320 / np.tan(np.radians(36.5 / 2))
            self.assertAlmostEqual(report["frames"][0]["focal_px"], focal, delta=0.1)
            self.assertLess(report["frames"][1]["standard_error"]["direction_deg"], 0.1)
            self.assertLess(report["parallax_px"], 0.5)
            rows = list(csv.DictReader((folder / "p.csv").read_text().splitlines()))
            self.assertEqual(len(rows), sum(k["points"] for k in report["links"]))
            few = [r for r in rows if (r["a"], r["b"]) == ("ridge-01.jpg", "ridge-02.jpg")][:5]
            (folder / "q.json").write_text(points_words(few, folder / "q.json"))
            out = ["--out", str(folder / "b.jpg"), "--report", str(folder / "s.json")]
            status = main(["panorama", *frames[:2], *out, "--points", str(folder / "q.json")])
            self.assertEqual(status, 0)
            self.assertEqual(json.loads((folder / "s.json").read_text())["links"][0]["by_hand"], 5)

    def test_a_flat_subject_is_joined_and_reported(self):
        with tempfile.TemporaryDirectory() as name:
            out = ["--out", f"{name}/w.jpg", "--report", f"{name}/r.json"]
            status = main(["panorama", *frames_in(drawn("wall"))[:3], *out, "--projection", "flat"])
            report = json.loads(Path(f"{name}/r.json").read_text())
        self.assertEqual(status, 0)
        self.assertEqual(report["projection"], "flat")
        self.assertEqual(len(report["frames"][2]["place"]), 3)

    def test_wrong_values_are_refused_in_a_sentence(self):
        frames = frames_in(ridge())
        for words in (["--fov", "180"], ["--layout", "two"], ["--layout", "2x3"], ["--points", "/nowhere.json"],
                      ["--fov", "40", "--lens", "900"]):
            with self.subTest(words):
                self.assertEqual(main(["panorama", *frames, "--out", "/tmp/never.jpg", *words]), 2)
        self.assertFalse(Path("/tmp/never.jpg").exists())


class OnTheLight(unittest.TestCase):
    def setUp(self):
        self.project, self.set_id = project_of(frames_in(ridge()))
        self.host = engine()
        self.ids = [f.id for f in self.project.sets[0].frames]

    def shared(self, count: int = 12):
        a, b = truth_of(ridge())["frames"][:2]
        lenses = [Lens(t["width"], t["height"], t["focal_px"], t["distortion"]["k1"]) for t in (a, b)]
        grid = lenses[0].grid(31)
        there = lenses[1].project(lenses[0].rays(grid) @ np.array(a["rotation"]).T @ np.array(b["rotation"]))
        inside = np.all((there > 25) & (there < [lenses[1].width - 25, lenses[1].height - 25]), axis=1)
        inside &= np.all((grid > 25) & (grid < [lenses[0].width - 25, lenses[0].height - 25]), axis=1)
        chosen = np.flatnonzero(inside & (grid[:, 1] > 200))
        return list(zip(grid[chosen], there[chosen], strict=True))[:: max(1, len(chosen) // count)]

    def test_the_partner_of_a_spot_is_found_with_its_likeness(self):
        off = []
        for here, there in self.shared():
            spot = matching_spot(self.host, self.project, self.set_id, *self.ids[:2], tuple(here), Job())
            if spot.likeness > 0.8:
                off.append(np.hypot(spot.x - there[0], spot.y - there[1]))
        self.assertGreater(len(off), 6)
        self.assertLess(np.median(off), 0.2)

    def test_it_is_found_too_where_the_frames_are_not_placed(self):
        project, set_id = project_of([frames_in(ridge())[0], frames_in(ridge())[1]])
        ids = [f.id for f in project.sets[0].frames]
        here, there = self.shared()[3]
        host = engine()
        one = host.stages(project, set_id)
        self.assertEqual(len(one.registration(Job()).placed), 2)
        spot = matching_spot(host, project, set_id, ids[1], ids[0], tuple(there), Job())
        self.assertLess(np.hypot(spot.x - here[0], spot.y - here[1]), 1.0)

    def test_points_are_filled_in_only_where_the_light_is_sure(self):
        found = more_points(self.host, self.project, self.set_id, *self.ids[:2], Job())
        rows = point_rows(self.host.stages(self.project, self.set_id), Job())
        self.assertTrue(all(r["error_px"] < 3 for r in rows))
        stages = self.host.stages(self.project, self.set_id)
        own, other = (stages.registration(Job()).frames[n].posed for n in (0, 1))
        for p in found:
            there = other.project(own.rays(np.array([[p.ax, p.ay]])))[0]
            self.assertLess(np.hypot(there[0] - p.bx, there[1] - p.by), 3.0)
