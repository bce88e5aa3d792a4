"""The next set the same way: recipes, whole cards, a folder that is being filled."""

import base64
import json
import os
import re
import shutil
import tempfile
import threading
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

from tests.core.test_bracketed import chapel
from tests.support import engine, frames_in, green, project_of, ridge
from windfell.cli.main import main
from windfell.engine.applying import free_place, made_card
from windfell.engine.proposals import propose
from windfell.engine.watching import Watched
from windfell.errors import BadRequest, FrameUnreadable
from windfell.job import Job
from windfell.recipe.areas import Area, Ellipse
from windfell.recipe.collecting import collected
from windfell.recipe.combining import Combining, Display, Layer, Rule
from windfell.recipe.finishing import Adjustment, Finish, Light
from windfell.recipe.manners import Manner, Recipe, applied, manner_of, read_recipe, recipe_of, write_recipe
from windfell.recipe.model import BentSeam, Development, FineSpot, Joining, Kind, Project, View
from windfell.recipe.outline import Crop, Edges, Outline
from windfell.recipe.output import Format, Output, Words
from windfell.recipe.project_file import load_project, missing_files
from windfell.recipe.sources import FileSource
from windfell.recipe.written import folder_beside, without_leftovers

SMALL = Manner(output=Output(Format.JPEG, 8, long_px=300))


class Recipes(unittest.TestCase):
    def one(self) -> tuple[Project, str]:
        project, set_id = project_of(
            frames_in(ridge()), view=View(yaw_deg=20.0, projection="mercator"),
            outline=Outline(Edges.TRIM, crop=Crop(10.0, 10.0, 50.0, 50.0)), joining=Joining(
                blend_pct=33.0, fine=(FineSpot(1.0, 2.0),), bent=(BentSeam("a", "b"),)),
            finish=Finish((Adjustment(Light(0.5), "Light"),)), output=Output(Format.PNG, words=Words("Somebody")))
        own = project.set(set_id)
        frames = tuple(replace(f, development=Development(exposure_ev=0.7)) for f in own.frames)
        return project.with_set(replace(own, frames=frames)), set_id

    def test_what_was_decided_is_kept_without_the_geometry(self):
        project, set_id = self.one()
        found = manner_of(project.set(set_id))
        self.assertEqual((found.view.projection, found.view.yaw_deg), ("mercator", 0.0))
        self.assertEqual((found.outline.edges, found.outline.crop), (Edges.TRIM, None))
        self.assertEqual((found.development.exposure_ev, found.joining.blend_pct), (0.7, 33.0))
        self.assertEqual((found.joining.fine, found.joining.bent), ((), ()))
        self.assertEqual(found.output.words.creator, "Somebody")
        stack, stack_id = project_of(frames_in(green()), Kind.STACK, combining=Combining(
            Rule.MAXIMUM, base="x", layers=(Layer(area=Area((Ellipse((1, 1), 2, 2),))),)))
        found = manner_of(stack.set(stack_id)).combining
        self.assertEqual((found.rule, found.base, found.layers), (Rule.MAXIMUM, None, ()))

    def test_a_file_holds_it_and_another_set_takes_it(self):
        project, set_id = self.one()
        recipe = recipe_of(project, set_id, "Dusk")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "dusk.json"
            write_recipe(path, recipe)
            self.assertEqual(read_recipe(path), recipe)
            path.write_text('{"name": "x", "panorama": {"output": {"depth": 99}}}')
            with self.assertRaisesRegex(BadRequest, "depth"):
                read_recipe(path)
            with self.assertRaisesRegex(BadRequest, "^[^(]*gone.json: the file is gone"):
                read_recipe(path.with_name("gone.json"))
            path.write_text("nothing")
            with self.assertRaisesRegex(BadRequest, "no recipe"):
                read_recipe(path)
        other, other_id = project_of(frames_in(ridge(seed=9)), view=View(full_sphere=True))
        made = applied(other, other_id, recipe).set(other_id)
        self.assertEqual([f.source for f in made.frames], [f.source for f in other.set(other_id).frames])
        self.assertEqual({f.development.exposure_ev for f in made.frames}, {0.7})
        self.assertEqual((made.view.projection, made.finish, made.output.format),
                         ("mercator", recipe.panorama.finish, Format.PNG))
        stack, stack_id = project_of(frames_in(green()), Kind.STACK)
        self.assertEqual(applied(stack, stack_id, recipe), stack)

    def test_the_stacks_inside_have_a_manner_of_their_own(self):
        sets = propose(engine(), frames_in(chapel()), Job()).sets
        project = Project(tuple(sets))
        recipe = recipe_of(project, sets[0].id, "Brackets")
        self.assertEqual((recipe.inner.combining.rule, recipe.stack), (Rule.EXPOSURES, None))
        changed = replace(recipe, inner=replace(recipe.inner, combining=Combining(
            Rule.MAXIMUM, display=Display.NONE)))
        made = applied(project, sets[0].id, changed)
        self.assertEqual({s.combining.rule for s in made.sets[1:]}, {Rule.MAXIMUM})
        self.assertEqual([s.registration for s in made.sets[1:]], [s.registration for s in sets[1:]])


class Cards(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)
        self.card = self.folder / "card"
        self.card.mkdir()
        for n, path in enumerate([*frames_in(ridge()), *frames_in(green())[:4]]):
            shutil.copy(path, self.card / f"f{n:02d}.jpg")

    def recipe(self) -> str:
        path = self.folder / "r.json"
        write_recipe(path, Recipe("Small", SMALL, replace(SMALL, combining=Combining(Rule.MEDIAN))))
        return str(path)

    def test_a_card_is_made_and_told(self):
        (self.card / "bad.jpg").write_bytes(b"nothing")
        out, report = self.folder / "new" / "out", self.folder / "r2.json"
        words = ["apply", self.recipe(), str(self.card), "--out", str(out), "--report", str(report)]
        self.assertEqual(main(words), 0)
        rows = json.loads(report.read_text())["sets"]
        self.assertEqual([(r["kind"], r["frames"]) for r in rows[:2]], [("panorama", 4), ("stack", 4)])
        for row in rows[:2]:
            picture = cv2.imread(row["file"])
            self.assertEqual((picture.shape[1], picture.shape[0]), (row["width"], row["height"]))
            self.assertEqual(max(picture.shape), 300)
        self.assertIn("bad.jpg", rows[2]["problem"])
        page = (out / "report.html").read_text()
        self.assertIn("2 of 3 written", page)
        small = re.search(r"base64,([A-Za-z0-9+/=]+)", page).group(1)
        self.assertIsNotNone(cv2.imdecode(np.frombuffer(base64.b64decode(small), np.uint8), cv2.IMREAD_COLOR))

    def test_one_that_cannot_be_made_does_not_keep_the_others(self):
        from windfell.engine import applying
        from windfell.errors import OutputFailed

        plain, calls = applying.export, []

        def failing(engine, project, set_id, path, job):
            calls.append(path)
            if len(calls) == 1:
                raise OutputFailed(path, "it cannot be.")
            return plain(engine, project, set_id, path, job)

        with mock.patch.object(applying, "export", failing):
            rows = made_card(engine(), Recipe("x", SMALL, SMALL), [str(p) for p in sorted(self.card.iterdir())],
                             self.folder, Job())
        self.assertIn("it cannot be", rows[0].problem)
        self.assertIsNotNone(rows[1].path)

    def test_nothing_is_written_over(self):
        (self.folder / "a.jpg").touch()
        self.assertEqual(free_place(self.folder, "a", ".jpg").name, "a 2.jpg")
        self.assertEqual(free_place(self.folder, "b/c", ".jpg").name, "b-c.jpg")

    def test_wrong_words_are_said(self):
        out = str(self.folder / "o")
        self.assertEqual(main(["apply", str(self.folder / "no.json"), str(self.card), "--out", out]), 2)
        empty = self.folder / "empty"
        empty.mkdir()
        self.assertEqual(main(["apply", self.recipe(), str(empty), "--out", out]), 2)
        self.assertEqual(main(["apply", self.recipe(), "a.jpg", "b.jpg", "--watch", "--out", out]), 2)
        bad = self.folder / "bad.jpg"
        bad.write_bytes(b"nothing")
        self.assertEqual(main(["apply", self.recipe(), str(bad), "--out", out]), 3)

    def test_a_folder_that_is_being_filled(self):
        inbox, out = self.folder / "in", self.folder / "made"
        inbox.mkdir()

        def fill() -> None:
            time.sleep(0.7)
            for path in frames_in(green())[:3]:
                shutil.copy(path, inbox)

        filler = threading.Thread(target=fill)
        filler.start()
        status = main(["apply", self.recipe(), str(inbox), "--watch", "--settle", "1", "--until", "4", "--out",
                       str(out)])
        filler.join()
        self.assertEqual(status, 0)
        self.assertEqual(sorted(p.suffix for p in out.iterdir()), [".html", ".jpg"])


class Collecting(unittest.TestCase):
    def test_a_project_and_its_frames_are_moved_together(self):
        with tempfile.TemporaryDirectory() as home, tempfile.TemporaryDirectory() as away:
            card = Path(home) / "a"
            other = Path(home) / "b"
            for folder, paths in ((card, frames_in(ridge())), (other, frames_in(green())[:2])):
                folder.mkdir()
                for n, path in enumerate(paths):
                    shutil.copy(path, folder / f"f{n}.jpg")
            row, _ = project_of(frames_in(card))
            pair, _ = project_of(frames_in(other), Kind.STACK, combining=Combining(
                darks=(FileSource(str(other / "f1.jpg")),)))
            project = Project((row.sets[0], replace(pair.sets[0], id="pair")))
            place = Path(home) / "whole" / "tarn.windfell"
            place.parent.mkdir()
            written = collected(project, place, {}, Job())
            names = sorted(p.name for p in (place.parent / "tarn frames").iterdir())
            self.assertEqual(names, ["f0-2.jpg", "f0.jpg", "f1-2.jpg", "f1.jpg", "f2.jpg", "f3.jpg"])
            before = {p: p.stat().st_mtime_ns for p in (place.parent / "tarn frames").iterdir()}
            collected(written, place, {}, Job())
            self.assertEqual({p: p.stat().st_mtime_ns for p in (place.parent / "tarn frames").iterdir()}, before)
            shutil.move(str(place.parent), away)
            shutil.rmtree(card)
            found, _ = load_project(Path(away) / "whole" / "tarn.windfell")
            self.assertEqual(missing_files(found), [])
            self.assertEqual([[f.id for f in s.frames] for s in found.sets], [[f.id for f in s.frames]
                                                                              for s in project.sets])
            self.assertTrue(found.sets[1].combining.darks[0].path.startswith(away))
            with self.assertRaisesRegex(FrameUnreadable, "gone"):
                collected(project, Path(away) / "x.windfell", {}, Job())

    def test_folders_of_killed_processes_go(self):
        with tempfile.TemporaryDirectory() as home:
            with folder_beside(Path(home) / "x.ora") as inner:
                name = inner.name
                self.assertTrue(inner.is_dir())
            gone = Path(home) / name.replace(f"-{os.getpid()}-", "-999999999-")
            gone.mkdir()
            (gone / "whole.png").write_bytes(b"half")
            without_leftovers(Path(home))
            self.assertEqual(list(Path(home).iterdir()), [])


class Watching(unittest.TestCase):
    def test_files_are_said_once_they_are_whole(self):
        with tempfile.TemporaryDirectory() as folder:
            seen = Watched(folder, 5.0)
            self.assertEqual(seen.look(0.0), [])
            one = Path(folder) / "a.jpg"
            one.write_bytes(b"1")
            self.assertEqual(seen.look(1.0), [])
            one.write_bytes(b"12")
            self.assertEqual(seen.look(5.0), [])
            self.assertEqual(seen.look(9.0), [])
            self.assertEqual(seen.look(10.0), [str(one)])
            self.assertEqual(seen.look(20.0), [])
            seen.put_back([str(one)])
            self.assertEqual(seen.look(21.0), [])
            self.assertEqual(seen.look(27.0), [str(one)])
            os.unlink(one)
            (Path(folder) / "words.txt").write_text("no picture")
            self.assertEqual(seen.look(40.0), [])


if __name__ == "__main__":
    unittest.main()
