"""Several frames at each position: recognised, combined first, joined as one light."""

import json
import tempfile
import unittest
from datetime import timedelta
from functools import lru_cache
from pathlib import Path

import numpy as np
import OpenEXR
from PIL import Image

from tests.support import drawn, engine, frames_in, rotation_errors_deg, truth_of
from windfell.cli.main import main
from windfell.demo.sets import START, BracketPlan, write_brackets
from windfell.engine.bracketed import best_exposed, positions_among
from windfell.engine.proposals import Acquaintances, bracketed_files, propose, shot_of
from windfell.engine.report import turned_by
from windfell.errors import BadRequest
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_rotvec
from windfell.job import Job
from windfell.recipe.combining import Combining, Display, Rule
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.nesting import as_tree, inner_rule, set_inner_rule
from windfell.recipe.sources import FileSource

SCALE = 0.35


@lru_cache(maxsize=4)
def chapel(positions: int = 3, steps: tuple = (0.0, -2.0, 2.0), told: bool = True) -> Path:
    """Brackets (or bursts) in the chapel, with times and exposures in the files or without."""
    plan = BracketPlan(positions, steps)

    def draw(folder: Path) -> None:
        write_brackets(folder, plan, SCALE, Job(), start=START + timedelta(hours=2))
        if not told:
            for path in frames_in(folder):
                with Image.open(path) as image:
                    plain = image.copy()
                plain.info.pop("exif", None)
                plain.save(path, quality=95)

    return drawn(f"chapel-{positions}-{len(steps)}-{np.ptp(steps):g}-{told}", draw)


def seen_of(paths):
    shots = [shot_of(p)[0] for p in paths]
    return shots, Acquaintances(engine(), shots, Job()).glances()


class Positions(unittest.TestCase):
    def test_by_exposures_and_by_likeness(self):
        for folder in (chapel(), chapel(told=False), chapel(4, (0.0, 0.0), told=False)):
            with self.subTest(folder.name):
                paths = frames_in(folder)
                shots, seen = seen_of(paths)
                found = positions_among(shots, seen)
                size = 2 if "-2-" in folder.name else 3
                self.assertEqual([[s.path for s in p] for p in found],
                                 [paths[k : k + size] for k in range(0, len(paths), size)])

    def test_a_plain_row_and_one_position_have_none(self):
        alone = [p for n, p in enumerate(frames_in(chapel())) if n % 3 == 0]
        self.assertEqual(positions_among(*seen_of(alone)), [])
        self.assertEqual(positions_among(*seen_of(frames_in(chapel())[:3])), [])

    def test_the_middle_exposure_is_looked_at_unless_another_is_much_better(self):
        shots, seen = seen_of(frames_in(chapel()))
        positions = [shots[k : k + 3] for k in range(0, 9, 3)]
        self.assertEqual(best_exposed(positions, seen), [0, 0, 0])
        shots, seen = seen_of(frames_in(chapel(2, (0.0, 4.0, 6.0))))
        self.assertEqual(best_exposed([shots[:3], shots[3:]], seen), [0, 0])

    def test_inner_sets_say_what_is_done(self):
        own = engine()
        inner = bracketed_files(own, frames_in(chapel()), "auto", None, "x", Job())
        self.assertEqual([s.combining.rule for s in inner], [Rule.EXPOSURES] * 3)
        self.assertTrue(all(s.combining.display is Display.NONE for s in inner))
        bursts = bracketed_files(own, frames_in(chapel(4, (0.0, 0.0), told=False)), "auto", None, "x", Job())
        self.assertEqual([s.combining.rule for s in bursts], [Rule.MEAN] * 4)
        asked = bracketed_files(own, frames_in(chapel()), 3, Rule.MAXIMUM, "x", Job())
        self.assertEqual({s.combining.rule for s in asked}, {Rule.MAXIMUM})
        with self.assertRaisesRegex(BadRequest, "9 frames cannot be shared out, 4"):
            bracketed_files(own, frames_in(chapel()), 4, None, "x", Job())

    def test_a_card_of_bursts_is_proposed_as_a_panorama_of_stacks(self):
        sets = propose(engine(), frames_in(chapel(4, (0.0, 0.0))), Job()).sets
        self.assertEqual([s.kind for s in sets], [Kind.PANORAMA] + [Kind.STACK] * 4)
        self.assertEqual({s.combining.rule for s in sets[1:]}, {Rule.MEAN})


class Joined(unittest.TestCase):
    def panorama(self, *words: str, name: str = "o.exr") -> tuple[np.ndarray, dict]:
        with tempfile.TemporaryDirectory() as folder:
            out, report = Path(folder) / name, Path(folder) / "r.json"
            self.assertEqual(main(["panorama", *words, "--out", str(out), "--report", str(report)]), 0)
            with OpenEXR.File(str(out)) as file:
                pixels = np.array(file.channels()["RGBA"].pixels)
            return pixels, json.loads(report.read_text())

    def test_every_frame_has_its_rotation_and_light_goes_beyond_white(self):
        paths = frames_in(chapel())
        pixels, report = self.panorama(*paths, "--brackets", "auto")
        self.assertEqual([f["file"] for f in report["frames"]], paths)
        self.assertEqual(report["positions"], [[0, 1, 2], [3, 4, 5], [6, 7, 8]])
        true = [np.array(f["rotation"]) for f in truth_of(chapel())["frames"]]
        found = [np.array(f["rotation"]) for f in report["frames"]]
        self.assertLess(rotation_errors_deg(found, true).max(), 0.1)
        self.assertTrue(all(0 <= k["a"] < 9 for k in report["links"]))
        covered = pixels[..., 3] > 0.5
        self.assertTrue((pixels[..., 3][~covered] == 0).all())
        # the dark exposures see what burns out at the middle one
        self.assertGreater(float((pixels[..., :3].max(axis=2)[covered] > 0.98).mean()), 0.0)

    def test_one_that_shows_too_little_stands_with_its_position(self):
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for n, path in enumerate(frames_in(chapel())):
                with Image.open(path) as image:
                    exif, pixels = image.info["exif"], np.asarray(image)
                if n == 5:
                    pixels = np.full_like(pixels, 255)
                paths.append(str(Path(folder) / Path(path).name))
                Image.fromarray(np.roll(pixels, n % 3, axis=1)).save(paths[-1], exif=exif, quality=95)
            _, report = self.panorama(*paths, "--brackets", "3")
        row = report["frames"][5]
        self.assertTrue(row["placed"])
        self.assertIn("as its position lies", row["doubt"])
        np.testing.assert_allclose(row["rotation"], report["frames"][3]["rotation"], atol=1e-9)
        self.assertNotEqual(report["frames"][4]["rotation"], report["frames"][3]["rotation"])

    def test_positions_have_one_light(self):
        pixels, _ = self.panorama(*frames_in(chapel()), "--brackets", "3")
        alone, _ = self.panorama(*frames_in(chapel())[::3])
        self.assertEqual(pixels.shape, alone.shape)
        fair = (pixels[..., 3] > 0.5) & (alone[..., :3].min(axis=2) > 0.03) & (alone[..., :3].max(axis=2) < 0.7)
        ev = np.log2(pixels[..., :3].mean(axis=2)[fair] / alone[..., :3].mean(axis=2)[fair])
        self.assertLess(abs(float(np.median(ev))), 0.06)
        x = np.broadcast_to(np.arange(pixels.shape[1]), fair.shape)[fair]
        thirds = [float(np.median(ev[(x >= a) & (x < a + pixels.shape[1] / 3)]))
                  for a in np.arange(3) * pixels.shape[1] / 3]
        self.assertLess(np.ptp(thirds), 0.03)

    def test_wrong_words_are_said(self):
        paths = frames_in(chapel())
        with tempfile.TemporaryDirectory() as folder:
            out = str(Path(folder) / "o.tif")
            self.assertEqual(main(["panorama", *paths, "--brackets", "4", "--out", out]), 2)
            self.assertEqual(main(["panorama", *paths, "--brackets", "some", "--out", out]), 2)
            self.assertEqual(main(["panorama", *paths, "--brackets", "3", "--keep", "1:m.png", "--out", out]), 2)
            self.assertEqual(list(Path(folder).iterdir()), [])


class Nested(unittest.TestCase):
    def test_a_shift_of_the_picture_is_a_turn_of_the_camera(self):
        lens = Lens(600, 400, 500.0)
        turn = from_rotvec(np.array([0.002, -0.004, 0.003]))
        k = np.array([[500.0, 0, lens.centre[0]], [0, 500.0, lens.centre[1]], [0, 0, 1]])
        np.testing.assert_allclose(turned_by(k @ turn @ np.linalg.inv(k), lens), turn, atol=1e-9)
        shift = np.array([[1, 0, 5.0], [0, 1, 0], [0, 0, 1]])
        found = turned_by(shift, lens)
        self.assertAlmostEqual(float(np.degrees(np.arctan2(found[0, 2], found[2, 2]))),
                               float(np.degrees(np.arctan(5 / 500))), delta=0.08)
        self.assertLess(np.abs(planar.apply(shift, np.zeros((1, 2)))[0, 1]), 1e-12)

    def nested(self) -> Project:
        own = engine()
        inner = bracketed_files(own, frames_in(chapel()), 3, None, "x", Job())
        from windfell.engine.bracketed import nested_frames

        return Project((FrameSet("outer", "Chapel", Kind.PANORAMA, nested_frames(inner)), *inner))

    def test_one_rule_for_all_inside(self):
        project = self.nested()
        self.assertEqual(inner_rule(project, "outer"), Rule.EXPOSURES)
        edit = set_inner_rule(project, "outer", Rule.MEDIAN)
        self.assertEqual({s.combining.rule for s in edit.project.sets[1:]}, {Rule.MEDIAN})
        self.assertEqual(inner_rule(edit.project, "outer"), Rule.MEDIAN)
        mixed = edit.project.with_set(project.sets[1])
        self.assertIsNone(inner_rule(mixed, "outer"))

    def test_the_tree_of_sets(self):
        project = self.nested()
        alone = FrameSet("alone", "Alone", Kind.STACK, (frame_from_path("a.jpg"),))
        tree = as_tree(Project((project.sets[1], alone, *project.sets[2:], project.sets[0])))
        self.assertEqual([(s.id == "outer", d) for s, d in tree],
                         [(False, 0), (True, 0), (False, 1), (False, 1), (False, 1)])

    def test_a_nested_stack_is_looked_at_by_its_reference_alone(self):
        project, own = self.nested(), engine()
        opened = own.opened(project, project.sets[0].frames[0], Job())
        first = project.sets[1]
        reference = next(f for f in first.frames if f.id == first.registration.reference)
        path = reference.source.path
        self.assertIsInstance(reference.source, FileSource)
        plain = own.opened(project, frame_from_path(path), Job())
        np.testing.assert_array_equal(opened.grey(300, Job()), plain.grey(300, Job()))

    def test_what_a_nested_panorama_does_not_cover_stays_open(self):
        from windfell.recipe.model import Align, Frame, Registration
        from windfell.recipe.sources import SetSource

        row = FrameSet("row", "Row", Kind.PANORAMA, tuple(frame_from_path(p) for p in frames_in(chapel())[::3]))
        around = FrameSet("around", "Around", Kind.STACK, (Frame("f", SetSource("row")),),
                          Registration(Align.FIT), combining=Combining(Rule.MEAN))
        own, project = engine(), Project((row, around))
        inner, outer = (own.picture(project, i, 0.5, Job()) for i in ("row", "around"))
        self.assertFalse(inner.covered.all())
        self.assertLess(float((inner.covered != outer.covered).mean()), 0.01)


if __name__ == "__main__":
    unittest.main()
