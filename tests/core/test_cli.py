"""The command line: reports, exit statuses, sentences, nothing left behind."""

import contextlib
import io
import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from tests.support import frames_in, green, ridge, stranger, textured, write_picture
from windfell.cli.commands import numbered
from windfell.cli.main import main
from windfell.errors import BadRequest
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.project_file import save_project


class CommandLine(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)
        self.out = str(self.folder / "out.tif")
        self.report = str(self.folder / "report.json")

    def _run(self, *words: str) -> tuple[int, str]:
        told = io.StringIO()
        with contextlib.redirect_stderr(told):
            status = main([str(w) for w in words])
        return status, told.getvalue()

    def _refused(self, *words: str, status: int = 2) -> str:
        found, told = self._run(*words)
        self.assertEqual(found, status, told)
        self.assertEqual(told.count("\n"), 1, told)
        self.assertNotIn("Traceback", told)
        self.assertEqual(os.listdir(self.folder), self.before)
        return told

    @property
    def before(self) -> list[str]:
        return getattr(self, "_before", [])

    def test_panorama_with_its_report(self):
        status, told = self._run("panorama", *frames_in(ridge()), stranger(), "--out", self.out,
                                 "--report", self.report, "--edges", "trim", "--width", "600")
        self.assertEqual(status, 0, told)
        self.assertIn(str(stranger()), told)
        report = json.loads(Path(self.report).read_text())
        self.assertEqual((report["kind"], report["width"]), ("panorama", 600))
        self.assertEqual([f["placed"] for f in report["frames"]], [True] * 4 + [False])
        self.assertTrue(report["frames"][4]["reason"])
        turn = np.array(report["frames"][0]["rotation"])
        np.testing.assert_allclose(turn @ turn.T, np.eye(3), atol=1e-9)
        for link in report["links"]:
            self.assertEqual(set(link), {"a", "b", "points", "by_hand", "rms_px"})
        for field in ("rms_px", "projection", "height", "kept_area", "seconds"):
            self.assertIn(field, report)
        self.assertIn("k1", report["frames"][0]["distortion"])

    def test_full_sphere_and_level_off(self):
        png = str(self.folder / "s.png")
        status, told = self._run("panorama", *frames_in(ridge())[:2], "--out", png, "--full-sphere",
                                 "--width", "500", "--level", "off", "--report", self.report)
        self.assertEqual(status, 0, told)
        self.assertEqual(cv2.imread(png, cv2.IMREAD_UNCHANGED).shape, (250, 500, 4))
        np.testing.assert_allclose(json.loads(Path(self.report).read_text())["frames"][0]["rotation"],
                                   np.eye(3), atol=1e-9)

    def test_a_known_focal_length_is_used(self):
        status, _ = self._run("panorama", *frames_in(ridge())[:3], "--out", self.out, "--lens", "500",
                              "--projection", "cylindrical", "--report", self.report)
        self.assertEqual(status, 0)
        report = json.loads(Path(self.report).read_text())
        self.assertAlmostEqual(report["frames"][0]["focal_px"], 500, delta=0.5)
        self.assertEqual(report["projection"], "cylindrical")

    def test_stack_with_its_report(self):
        wide = textured(330, 430, 3)
        paths = [write_picture(self.folder / f"{n}.png", wide[10 - n * 4 : 310 - n * 4, 8 : 408])
                 for n in range(2)]
        status, told = self._run("stack", *paths, "--out", self.out, "--rule", "mean", "--align", "shift",
                                 "--reference", "2", "--report", self.report)
        self.assertEqual(status, 0, told)
        report = json.loads(Path(self.report).read_text())
        self.assertEqual((report["kind"], report["reference"]), ("stack", 1))
        # a pixel (x, y) of the reference lies at (x, y - 4) of the frame
        np.testing.assert_allclose(report["frames"][0]["transform"], [[1, 0, 0], [0, 1, -4], [0, 0, 1]], atol=0.05)
        np.testing.assert_allclose(report["frames"][1]["transform"], np.eye(3))

    def test_frames_that_moved_and_are_not_aligned_are_said(self):
        land = textured(460, 660, 4)
        places = {"still": [(20, 20)] * 3, "moved": [(20, 20), (26, 33), (11, 8)]}
        for name, spots in places.items():
            files = [write_picture(self.folder / f"{name}-{n}.png", land[y:y + 400, x:x + 600])
                     for n, (x, y) in enumerate(spots)]
            for words in ((), ("--align", "none")):
                with self.subTest(name, words=words):
                    status, told = self._run("stack", *files, "--rule", "mean", "--out", self.out, *words)
                    self.assertEqual(status, 0, told)
                    said = re.search(r"about (\d+) px apart .* --align auto", told)
                    self.assertEqual(bool(said), name == "moved" and not words, told)
                    if said:
                        self.assertAlmostEqual(int(said[1]), 15, delta=1)

    def test_render_of_a_saved_project(self):
        frames = tuple(frame_from_path(p) for p in frames_in(green())[:3])
        sets = tuple(FrameSet(n, n.title(), Kind.STACK, frames, combining=Combining(Rule.MAXIMUM)) for n in "ab")
        project = self.folder / "p.windfell"
        save_project(project, Project(sets), {})
        self._before = ["p.windfell"]
        self.assertIn("A, B", self._refused("render", project, "--out", self.out))
        self.assertIn("no set named C", self._refused("render", project, "--set", "C", "--out", self.out))
        status, told = self._run("render", project, "--set", "B", "--out", self.out)
        self.assertEqual(status, 0, told)

    def test_demo_is_written_with_its_truth(self):
        status, _ = self._run("demo", self.folder, "--set", "Ridge sweep", "--scale", "0.08")
        self.assertEqual(status, 0)
        truth = json.loads((self.folder / "ridge-sweep" / "truth.json").read_text())
        self.assertEqual(len(truth["frames"]), 8)
        self.assertTrue((self.folder / "ridge-sweep" / truth["frames"][7]["file"]).exists())

    def test_bad_arguments_and_input_in_one_sentence(self):
        good = frames_in(ridge())
        cases = [
            (["panorama", good[0], "/none.jpg", "--out", self.out], 2, "/none.jpg"),
            (["panorama", good[0], "--out", self.out], 3, "two frames"),
            (["panorama", good[0], good[3], "--out", self.out], 3, "overlap"),
            (["panorama", *good, "--out", self.out, "--projection", "odd"], 2, "odd"),
            (["panorama", *good, "--out", self.out, "--width", "1"], 2, "1 is not a width"),
            (["panorama", *good, "--out", self.out, "--lens", "-3"], 2, "lens"),
            (["panorama", *good, "--out", str(self.folder / "x.bmp")], 2, "x.bmp"),
            (["panorama", *good, "--out", str(self.folder / "x.jxl"), "--colour", "romm"], 2, "does not go with"),
            (["panorama", *good, "--out", "/no/such/folder/x.tif"], 2, "/no/such/folder/x.tif"),
            (["panorama", *good, "--out", good[0]], 2, "one of the frames"),
            (["panorama", "--out", self.out], 2, "FRAME"),
            (["stack", good[0], green() / "green-01.jpg", "--out", self.out, "--rule", "mean"], 3, "green-01"),
            (["stack", *good, "--out", self.out, "--rule", "mean", "--reference", "9"], 2, "9"),
            (["stack", *good, "--out", self.out, "--rule", "mean", "--reference", "0"], 2, "1 to"),
            (["stack", *good, "--out", self.out, "--rule", "mean", "--reference", "no.jpg"], 2, "file's name"),
            (["stack", *good, "--out", self.out], 2, "rule"),
            (["render", "/none.windfell", "--out", self.out], 2, "/none.windfell"),
            (["demo", "/proc/none"], 2, "/proc/none"),
        ]
        for words, status, part in cases:
            with self.subTest(words=words):
                self.assertIn(part, self._refused(*words, status=status))

    def test_inspect_tells_sets_metadata_and_readiness(self):
        told = io.StringIO()
        with contextlib.redirect_stdout(told):
            self.assertEqual(main(["inspect", *frames_in(ridge()), str(stranger()), "--json"]), 0)
        words = json.loads(told.getvalue())
        (first,) = words["sets"]
        self.assertEqual((first["kind"], len(first["frames"])), ("panorama", 5))
        self.assertEqual(first["frames"][0]["iso"], 200)
        self.assertAlmostEqual(sum(f["adds"] or 0 for f in first["frames"]), 1.0, delta=0.01)
        apart = next(f for f in first["readiness"] if f["fault"] == "unconnected")
        self.assertEqual([first["frames"][n - 1]["file"] for n in apart["frames"]], [str(stranger())])
        plain = io.StringIO()
        with contextlib.redirect_stdout(plain):
            self.assertEqual(main(["inspect", str(green())]), 0)
        self.assertIn("9 of 9 frames in use", plain.getvalue())
        self.assertIn("no pictures", self._refused("inspect", str(self.folder)))

    def test_a_broken_file_is_an_unreadable_input_if_nothing_can_be_made_without_it(self):
        good = frames_in(ridge())
        cut = self.folder / "cut.jpg"
        whole = Path(good[1]).read_bytes()
        cut.write_bytes(whole[: len(whole) // 2])
        self._before = ["cut.jpg"]
        self.assertIn("cut.jpg: the file is cut short", self._refused("panorama", good[0], cut, "--out", self.out))

    def test_a_reference_is_named_by_number_or_by_file(self):
        files = ["/a/x.jpg", "/a/y.jpg", "/b/y.jpg"]
        self.assertEqual([numbered(w, files) for w in ("1", "3", "x.jpg", "/b/y.jpg")], [0, 2, 0, 2])
        with self.assertRaisesRegex(BadRequest, "1 to 3"):
            numbered("y.jpg", files)

    def test_help_and_bad_words_load_no_engine(self):
        code = "import sys; from windfell.cli.main import main; main(['panorama', '--nonsense']); print(*sys.modules)"
        self.assertFalse({"numpy", "cv2", "scipy", "windfell.engine.core"} & self._loaded(code))
        code = "import sys, windfell.engine.core; print(*sys.modules)"
        self.assertFalse({"av", "scipy", "rawpy", "OpenEXR"} & self._loaded(code))

    def _loaded(self, code: str) -> set[str]:
        run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        return set(run.stdout.split())

    def test_instants_of_a_video_are_written(self):
        from windfell.demo.clip import write_video

        clip = self.folder / "clip.mp4"
        write_video(clip, [textured(60, 80, n) for n in range(25)], 25)
        self._before = ["clip.mp4"]
        self.assertIn("--end", self._refused("frames", clip, "--count", "3", "--start", "2", "--end", "1",
                                             "--out", self.folder))
        self.assertIn("cannot be made", self._refused("frames", clip, "--count", "3", "--out", "/proc/none/x"))
        for command in (("panorama", clip), ("stack", clip, "--rule", "mean")):
            self.assertIn("is a video: write frames of it", self._refused(*command, "--out", self.out))
        with contextlib.redirect_stdout(io.StringIO()) as listed:
            status, _ = self._run("frames", clip, "--every", "5", "--start", "0.2", "--end", "0.8",
                                  "--out", self.folder, "--format", "jpeg")
        self.assertEqual(status, 0)
        self.assertEqual(len(listed.getvalue().split()), 4)
        self.assertTrue((self.folder / "clip-0000.400s.jpg").exists())

    def test_frames_are_developed_and_matched(self):
        development = self.folder / "d.json"
        development.write_text('{"exposure_ev": 1.0}')
        self._before = ["d.json"]
        self.assertIn("holds no development", self._refused(
            "stack", *frames_in(green())[:3], "--rule", "mean", "--out", self.out, "--develop", self._letter()))
        pictures = []
        for more in ([], ["--develop", development, "--match"]):
            status, told = self._run("stack", *frames_in(green())[:3], "--rule", "median", "--out", self.out, *more)
            self.assertEqual(status, 0, told)
            pictures.append(cv2.imread(self.out, cv2.IMREAD_UNCHANGED).astype(float))
        self.assertGreater(np.median(pictures[1]), 1.3 * np.median(pictures[0]))

    def _letter(self) -> Path:
        path = Path(tempfile.gettempdir()) / "windfell-letter.json"
        path.write_text("[]")
        self.addCleanup(path.unlink)
        return path


class Shaping(unittest.TestCase):
    """The options of a picture's shape, to the last px."""

    def _picture(self, *words: str) -> np.ndarray:
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "shaped.png"
            self.assertEqual(main(["panorama", *frames_in(ridge())[:2], "--out", str(out), *words]), 0)
            return cv2.imread(str(out), cv2.IMREAD_UNCHANGED)

    def _run(self, *words: str) -> dict:
        with tempfile.TemporaryDirectory() as folder:
            report = Path(folder) / "report.json"
            picture = self._picture("--report", str(report), *words)
            return {**json.loads(report.read_text()), "picture": picture}

    def test_a_pull_fills_its_rectangle_and_says_what_it_cost(self):
        for words in (("--edges", "pull", "--pull", "100"), ("--pull", "100")):
            found = self._run(*words)
            self.assertTrue((found["picture"][..., 3] == 65535).all())
            said = found["outline"]
            self.assertEqual(set(said), {"kept", "stretch", "shear", "line_bend", "horizon_deg", "vertical_deg"})
            self.assertGreater(said["kept"], 0.95)
            self.assertGreater(said["stretch"], 1.0)

    def test_crop_ratio_room_and_size(self):
        whole = self._picture().shape
        cut = self._picture("--crop", "100,50,300,200")
        self.assertEqual(cut.shape[:2], (200, 300))
        half = self._picture("--crop", "25%,25%,50%,50%", "--size", "50%").shape
        self.assertAlmostEqual(half[1] / whole[1], 0.25, delta=0.01)
        wide = self._picture("--edges", "trim", "--ratio", "2:1").shape
        self.assertAlmostEqual(wide[1] / wide[0], 2.0, delta=0.02)
        self.assertEqual(self._picture("--size", "400x").shape[1], 400)
        self.assertEqual(self._picture("--size", "x222").shape[0], 222)
        small = self._picture("--size", "0.1MP").shape
        self.assertAlmostEqual(small[0] * small[1], 1e5, delta=2e3)
        high = self._picture("--room", "100,0,0,0")
        self.assertAlmostEqual(high.shape[0] / whole[0], 2.0, delta=0.01)
        self.assertEqual(high[: whole[0] - 2, :, 3].max(), 0)

    def test_a_projection_and_a_field_of_view(self):
        for name in ("pannini", "stereographic", "transverse-cylindrical"):
            with self.subTest(name):
                found = self._run("--projection", name, "--hfov", "40", "--yaw", "5", "--size", "300x")
                self.assertEqual(found["projection"], name)
                self.assertEqual(found["picture"].shape[1], 300)
                self.assertGreater((found["picture"][..., 3] > 0).mean(), 0.4)

    def test_a_mask_keeps_a_spot_layers_are_written_and_seams_are_rated(self):
        with tempfile.TemporaryDirectory() as folder:
            mask = np.zeros((480, 320), np.uint8)
            mask[200:280, 220:300] = 255
            path = write_picture(Path(folder) / "mask.png", mask)
            layers = Path(folder) / "layers"
            found = self._run("--keep", f"1:{path}", "--layers", str(layers), "--blend", "feather")
            alone = [cv2.imread(str(p), cv2.IMREAD_UNCHANGED)[..., 3] > 0 for p in sorted(layers.glob("*.tif"))]
            self.assertEqual(len(alone), 2)
            plain = Path(folder) / "plain"
            self._run("--layers", str(plain))
            before = cv2.imread(str(plain / "layer-01.tif"), cv2.IMREAD_UNCHANGED)[..., 3] > 0
        self.assertGreater(alone[0].sum(), before.sum())
        ratings = [s["rating"] for s in found["seams"]]
        self.assertEqual(ratings, sorted(ratings, reverse=True))
        self.assertEqual(set(found["seams"][0]), {"a", "b", "x", "y", "rating"})

    def test_wrong_words_are_refused_in_a_sentence(self):
        for words in (
                ("--keep", "1"), ("--keep", "9:mask.png"), ("--keep", "1:/nowhere.png"), ("--pull", "120"),
                ("--ratio", "wide"), ("--crop", "1,2,3"), ("--size", "big"), ("--edges", "trim", "--pull", "30"),
                ("--crop", "9000,0,10,10"), ("--room", "1,2,3,x"), ("--width", "300", "--size", "50%"),
                ("--hfov", "0"), ("--pannini", "2,0"),
                ("--full-sphere", "--ratio", "2:1")):
            with self.subTest(words), contextlib.redirect_stderr(io.StringIO()) as said:
                status = main(["panorama", *frames_in(ridge()), "--out", "/tmp/never-written.png", *words])
                self.assertEqual(status, 2)
                self.assertEqual(len(said.getvalue().strip().splitlines()), 1)
                self.assertFalse(Path("/tmp/never-written.png").exists())
