"""What comes in from outside: damaged in any way, it ends in a sentence that names it."""

import os
import platform
import subprocess
import sys
import tempfile
import unittest
import zipfile
from pathlib import Path

from PIL import Image

from tests.support import textured
from windfell.errors import BadRequest, FrameUnreadable, ProjectUnreadable, border
from windfell.frames.still import StillFrame
from windfell.job import Cancelled
from windfell.recipe.developments import read_development
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.points_file import read_points
from windfell.recipe.project_file import load_project, save_project
from windfell.recipe.written import without_leftovers, written_whole

DEEP = "[" * 100_000


class Border(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.addCleanup(self._folder.cleanup)
        self.folder = Path(self._folder.name)

    def test_whatever_a_library_raises_becomes_a_sentence(self):
        raised = (ZeroDivisionError("division by zero"), AttributeError("'int' object has no attribute 'name'"),
                  TypeError(""), IndexError("list index"), MemoryError(), RecursionError("deep"))
        for error in raised:
            told = self.assertRaisesRegex(FrameUnreadable, r"^a\.jpg: it .*\.$")
            with self.subTest(type(error).__name__), told, border("a.jpg", "it cannot be decoded"):
                raise error

    def test_own_errors_and_a_stop_pass(self):
        for error in (BadRequest("as it is"), Cancelled("stage")):
            told = self.assertRaises(type(error))
            with self.subTest(type(error).__name__), told, border("a.jpg", "it cannot be decoded"):
                raise error

    def test_a_picture_without_size_is_said(self):
        Image.fromarray(textured(20, 30, 1)).save(self.folder / "a.tif")
        data = bytearray((self.folder / "a.tif").read_bytes())
        at = data.index((256).to_bytes(2, "little") + (4).to_bytes(2, "little"))  # ImageWidth, LONG
        data[at + 8 : at + 12] = (0).to_bytes(4, "little")
        (self.folder / "a.tif").write_bytes(data)
        with self.assertRaisesRegex(FrameUnreadable, "a.tif"):
            StillFrame(str(self.folder / "a.tif")).encoded()

    def test_project_points_and_development_files_nested_without_end(self):
        path = self.folder / "p.windfell"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("project.json", DEEP)
        with self.assertRaisesRegex(ProjectUnreadable, "p.windfell"):
            load_project(path)
        (self.folder / "deep.json").write_text(DEEP)
        with self.assertRaisesRegex(BadRequest, "deep.json"):
            read_points(self.folder / "deep.json", ())
        with self.assertRaisesRegex(BadRequest, "deep.json"):
            read_development(self.folder / "deep.json")

    def test_a_damaged_zip_and_a_mask_that_claims_too_much(self):
        path = self.folder / "p.windfell"
        frame = frame_from_path("x.jpg")
        save_project(path, Project((FrameSet("s", "S", Kind.PANORAMA, (frame,)),)), {})
        whole = path.read_bytes()
        data = bytearray(whole)
        data[60:90] = bytes(30)
        path.write_bytes(data)
        with self.assertRaisesRegex(ProjectUnreadable, "p.windfell"):
            load_project(path)
        path.write_bytes(whole)
        self.assertEqual(load_project(path)[0].sets[0].name, "S")

    def test_thousands_of_frames_are_read(self):
        frames = tuple(frame_from_path(f"f{n}.jpg") for n in range(5000))
        path = self.folder / "many.windfell"
        save_project(path, Project((FrameSet("s", "S", Kind.STACK, frames),)), {})
        self.assertEqual(len(load_project(path)[0].sets[0].frames), 5000)


class Leftovers(unittest.TestCase):
    def test_a_killed_process_leaves_nothing_for_ever(self):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            code = ("import os, sys; from pathlib import Path\n"
                    "from windfell.recipe.project_file import written_whole\n"
                    "with written_whole(Path(sys.argv[1]) / 'o.tif') as t:\n"
                    "    t.write_bytes(bytes(999)); print(t.name, flush=True); os._exit(9)")
            run = subprocess.run([sys.executable, "-c", code, name], capture_output=True, text=True, check=False)
            gone = run.stdout.strip()
            self.assertTrue((folder / gone).exists())
            mine = folder / f".x.tif.{platform.node()}-{os.getpid()}-abc.part"
            others = [folder / n for n in (".x.tif.elsewhere.example-1-abc.part", ".x.part", "x.part")]
            for path in (mine, *others):
                path.write_bytes(b"")
            with written_whole(folder / "another.tif") as temporary:
                temporary.write_bytes(b"whole")
            self.assertFalse((folder / gone).exists())
            self.assertTrue(all(p.exists() for p in (mine, *others)))
            self.assertEqual((folder / "another.tif").read_bytes(), b"whole")
            without_leftovers(folder / "none")
