"""Files written: pixels, profile, metadata, and nothing left behind when it fails."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import tifffile
from PIL import ExifTags, Image

from tests.support import engine, frames_in, green, project_of, ridge
from windfell.engine.export import export
from windfell.engine.places import refuse_frames
from windfell.errors import BadRequest, OutputFailed
from windfell.job import Cancelled, Job
from windfell.output import tiff
from windfell.output.metadata import Carried
from windfell.output.sheet import Sheet
from windfell.output.writers import WRITERS, writer_for
from windfell.pixels.colour import to_view
from windfell.recipe.model import Kind
from windfell.recipe.output import ColourSpace, Compression, Format, Output


class Writing(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)

    def _export(self, name: str, kind: Kind = Kind.STACK, **output):
        paths = frames_in(green())[:3] if kind is Kind.STACK else frames_in(ridge())
        self.project, set_id = project_of(paths, kind, output=Output(**output))
        self.engine = engine()
        return export(self.engine, self.project, set_id, self.folder / name, Job())

    def test_frames_are_refused_by_whatever_name(self):
        paths = frames_in(green())[:3]
        project, _ = project_of(paths, Kind.STACK)
        link = self.folder / "other.jpg"
        link.symlink_to(paths[1])
        gone, _ = project_of([str(self.folder / "gone.jpg")], Kind.STACK)
        for own, name in ((project, Path(paths[0])), (project, link), (gone, self.folder / "x" / ".." / "gone.jpg")):
            with self.subTest(name), self.assertRaises(BadRequest):
                refuse_frames(own, name)
        refuse_frames(project, self.folder / "new.jpg")

    def test_every_format_and_depth_holds_the_picture(self):
        ways = [("a.tif", {"format": Format.TIFF}), ("b.tif", {"format": Format.TIFF, "depth": 8}),
                ("c.tif", {"format": Format.TIFF, "compression": Compression.NONE}),
                ("d.png", {"format": Format.PNG}), ("e.png", {"format": Format.PNG, "depth": 8}),
                ("f.jpg", {"format": Format.JPEG, "quality": 97})]
        for name, output in ways:
            with self.subTest(name, **output):
                written = self._export(name, **output)
                expected = to_view(self.engine.picture(self.project, "set", 1.0, Job()).light)
                if name.endswith("tif"):
                    pixels = tifffile.imread(written.path)
                else:
                    pixels = cv2.imread(str(written.path), cv2.IMREAD_UNCHANGED)[..., ::-1]
                eight = pixels if pixels.dtype == np.uint8 else np.rint(pixels / 257.0)
                off = np.abs(eight.astype(int) - expected)
                self.assertLessEqual(off.mean() if name.endswith("jpg") else off.max(), 1.5)
                self.assertEqual(os.listdir(self.folder), [name])
                os.unlink(written.path)

    def test_metadata_and_profile_are_carried_over(self):
        for name in ("a.tif", "b.png", "c.jpg"):
            with self.subTest(name):
                written = self._export(name, format=Format(writer_for(Path(name))),
                                       space=ColourSpace.DISPLAY_P3)
                with Image.open(written.path) as image:
                    exif = image.getexif()
                    inner = exif.get_ifd(ExifTags.IFD.Exif)
                    self.assertTrue(exif[ExifTags.Base.Software].startswith("Windfell"))
                    self.assertEqual(inner[ExifTags.Base.DateTimeOriginal], "2026:05:16 15:05:00")
                    self.assertAlmostEqual(float(inner[ExifTags.Base.FocalLength]), 22.5, delta=0.1)
                    self.assertGreater(len(image.info["icc_profile"]), 300)

    def test_a_panorama_is_transparent_where_no_frame_covers(self):
        written = self._export("p.tif", Kind.PANORAMA)
        pixels = tifffile.imread(written.path)
        self.assertEqual(pixels.shape, (written.height, written.width, 4))
        self.assertEqual(set(np.unique(pixels[..., 3])), {0, 65535})
        self.assertFalse(pixels[pixels[..., 3] == 0].any())

    def test_a_width_is_kept_to(self):
        written = self._export("w.png", Kind.PANORAMA, format=Format.PNG, width_px=333)
        self.assertEqual(cv2.imread(str(written.path)).shape[1], 333)

    def test_a_stopped_export_leaves_no_file(self):
        project, set_id = project_of(frames_in(ridge()))
        job = Job()
        original = tiff.TiffWriter.write

        def stopping(self, path, sheet, strips):
            def few():
                yield next(strips)
                job.stop()
                yield from strips
            original(self, path, sheet, few())

        with mock.patch.object(tiff.TiffWriter, "write", stopping), self.assertRaises(Cancelled):
            export(engine(), project, set_id, self.folder / "x.tif", job)
        self.assertEqual(os.listdir(self.folder), [])

    def test_a_full_disk_leaves_no_file(self):
        project, set_id = project_of(frames_in(green())[:2], Kind.STACK)

        def full(self, path, sheet, strips):
            path.write_bytes(b"part")
            next(strips)
            raise OSError(28, "No space left on device")

        with mock.patch.object(tiff.TiffWriter, "write", full), \
                self.assertRaisesRegex(OutputFailed, r"x\.tif.*No space left"):
            export(engine(), project, set_id, self.folder / "x.tif", Job())
        self.assertEqual(os.listdir(self.folder), [])
        usage = mock.Mock(free=10_000)
        with mock.patch("shutil.disk_usage", return_value=usage), self.assertRaisesRegex(OutputFailed, "left"):
            export(engine(), project, set_id, self.folder / "x.tif", Job())

    def test_places_that_cannot_be_written_are_refused_before_the_wait(self):
        project, set_id = project_of(frames_in(green())[:2], Kind.STACK)
        for place in (self.folder / "no" / "x.tif", self.folder):
            with self.assertRaises(OutputFailed):
                export(engine(), project, set_id, place, Job())

    def test_a_frame_is_never_written_over(self):
        paths = frames_in(green())[:2]
        before = Path(paths[0]).read_bytes()
        project, set_id = project_of(paths, Kind.STACK)
        with self.assertRaisesRegex(BadRequest, "one of the frames"):
            export(engine(), project, set_id, Path(paths[0]), Job())
        self.assertEqual(Path(paths[0]).read_bytes(), before)

    def test_too_wide_a_jpeg_is_refused(self):
        sheet = Sheet(70_000, 10, 3, 8, b"", Carried())
        with self.assertRaisesRegex(OutputFailed, "TIFF"):
            WRITERS["jpeg"].write(self.folder / "x.jpg", sheet, iter(()))

    def test_a_big_tiff_directory_is_readable(self):
        pixels = np.arange(3 * 40 * 50, dtype=np.uint16).reshape(40, 50, 3)
        from windfell.pixels.colour import SRGB
        from windfell.pixels.profiles import icc_of

        sheet = Sheet(50, 40, 3, 16, icc_of(SRGB), Carried(focal_mm=35.0))
        with mock.patch.object(tiff, "BIG_TIFF_BYTES", 10):
            WRITERS["tiff"].write(self.folder / "big.tif", sheet, iter((pixels,)))
        with tifffile.TiffFile(self.folder / "big.tif") as file:
            self.assertTrue(file.is_bigtiff)
            np.testing.assert_array_equal(file.pages[0].asarray(), pixels)
            self.assertEqual(file.pages[0].tags[34665].value["FocalLength"], (3500, 100))
