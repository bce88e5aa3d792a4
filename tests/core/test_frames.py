"""Frames read from files: kinds, orientation, profiles, metadata, and what is refused."""

import os
import tempfile
import unittest
import zlib
from pathlib import Path

import cv2
import numpy as np
import tifffile
from numpy.testing import assert_allclose, assert_array_equal
from PIL import ExifTags, Image

from tests.support import frames_in, green, ridge, textured, write_picture
from windfell.engine.core import Engine
from windfell.engine.proposals import propose
from windfell.errors import FrameUnreadable
from windfell.frames.still import StillFrame, upright
from windfell.job import Job
from windfell.pixels.colour import DISPLAY_P3
from windfell.pixels.profiles import icc_of, linearizer
from windfell.recipe.model import Kind


class WithFolder(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)


class Reading(WithFolder):
    def test_every_kind_gives_its_pixels(self):
        eight = textured(40, 50, 1)
        sixteen = eight.astype(np.uint16) * 257
        real = (eight / 255).astype(np.float32)
        files = {
            "a.png": (eight, lambda p: write_picture(p, eight)),
            "b.png": (sixteen, lambda p: cv2.imwrite(str(p), sixteen[..., ::-1])),
            "c.tif": (eight, lambda p: tifffile.imwrite(p, eight, photometric="rgb")),
            "d.tif": (sixteen, lambda p: tifffile.imwrite(p, sixteen, compression="zlib", predictor=True)),
            "e.tif": (real, lambda p: tifffile.imwrite(p, real)),
            "f.tif": (sixteen, lambda p: tifffile.imwrite(p, sixteen, tile=(16, 16))),
            # planes apart, more bits than are kept, and grey: there the tag of how planes lie is often left out
            "g.tif": (sixteen, lambda p: tifffile.imwrite(
                p, np.moveaxis(sixteen, -1, 0).copy(), photometric="rgb", planarconfig="separate")),
            "h.tif": (sixteen, lambda p: tifffile.imwrite(p, sixteen.astype(np.uint32) << 16, photometric="rgb")),
            "i.tif": (sixteen[..., :1].repeat(3, 2), lambda p: tifffile.imwrite(p, sixteen[..., 0])),
            "j.tif": (eight[..., :1].repeat(3, 2), lambda p: tifffile.imwrite(
                p, 255 - eight[..., 0], photometric="miniswhite")),
        }
        for name, (pixels, write) in files.items():
            with self.subTest(name):
                write(self.folder / name)
                frame = StillFrame(str(self.folder / name))
                self.assertEqual(frame.size, (50, 40))
                assert_array_equal(frame.encoded(), pixels)

    def test_grey_and_alpha_come_in_as_colour(self):
        grey = textured(30, 30, 2)[..., 0]
        write_picture(self.folder / "g.png", grey)
        assert_array_equal(StillFrame(str(self.folder / "g.png")).encoded(), np.dstack([grey] * 3))
        rgba = np.dstack([textured(30, 30, 3), np.full((30, 30), 255, np.uint8)])
        write_picture(self.folder / "a.png", rgba)
        assert_array_equal(StillFrame(str(self.folder / "a.png")).encoded(), rgba[..., :3])

    def test_every_exif_orientation_stands_upright(self):
        original = textured(24, 36, 4)
        for orientation in range(1, 9):
            with self.subTest(orientation):
                stored = next(
                    s for s in (np.rot90(f, k) for f in (original, original[:, ::-1]) for k in range(4))
                    if np.array_equal(upright(np.ascontiguousarray(s), orientation), original))
                exif = Image.Exif()
                exif[ExifTags.Base.Orientation] = orientation
                path = write_picture(self.folder / f"{orientation}.png", np.ascontiguousarray(stored), exif=exif)
                frame = StillFrame(path)
                self.assertEqual(frame.size, (36, 24))
                assert_array_equal(frame.encoded(), original)
                # a JPEG's grey, which registration reads, stands as its colours do
                smooth = cv2.GaussianBlur(np.ascontiguousarray(stored), (0, 0), 3)
                frame = StillFrame(write_picture(self.folder / f"{orientation}.jpg", smooth, exif=exif, quality=98))
                grey = cv2.cvtColor(frame.encoded(), cv2.COLOR_RGB2GRAY)
                self.assertEqual(grey.shape, (24, 36))
                assert_allclose(frame.luma().astype(int), grey.astype(int), atol=3)

    def test_orientation_six_is_a_quarter_turn_clockwise(self):
        stored = np.zeros((2, 3, 3), np.uint8)
        stored[0, 0] = 255  # top left of the stored picture comes to the top right
        assert_array_equal(upright(stored, 6)[0, -1], [255] * 3)

    def test_an_embedded_profile_reaches_the_light(self):
        pixels = textured(20, 20, 5)
        path = write_picture(self.folder / "p3.png", pixels, icc_profile=icc_of(DISPLAY_P3))
        expected = linearizer(icc_of(DISPLAY_P3))(pixels)
        assert_allclose(StillFrame(path).linear(20, 20), expected, atol=1e-3)

    def test_a_small_picture_is_the_mean_of_the_large(self):
        path = write_picture(self.folder / "j.jpg", textured(800, 600, 6), quality=97)
        frame = StillFrame(path)
        light = frame.linear(75, 100)
        whole = cv2.resize(frame.linear(600, 800), (75, 100), interpolation=cv2.INTER_AREA)
        self.assertLess(np.abs(light - whole).mean(), 0.01)  # the JPEG decoder averages encoded values

    def test_metadata_is_read(self):
        frame = StillFrame(frames_in(ridge())[0])
        m = frame.metadata
        self.assertEqual((m.camera, m.lens, m.iso, m.aperture), ("Fell Camera One", "Fell 16-45", 200, 8.0))
        self.assertAlmostEqual(m.exposure_s, 1 / 400)
        self.assertAlmostEqual(frame.focal_px / 486, 1, delta=0.02)  # whole mm in the tag


class Refusing(WithFolder):
    def _refused(self, name: str, content: bytes) -> str:
        path = self.folder / name
        path.write_bytes(content)
        with self.assertRaises(FrameUnreadable) as caught:
            StillFrame(str(path)).encoded()
        self.assertIn(str(path), str(caught.exception))
        self.assertNotIn("Traceback", str(caught.exception))
        return str(caught.exception)

    def test_damaged_files_are_named_in_a_sentence(self):
        jpeg = Path(frames_in(ridge())[0]).read_bytes()
        png = cv2.imencode(".png", textured(90, 90, 1))[1].tobytes()
        tiff_path = self.folder / "whole.tif"
        tifffile.imwrite(tiff_path, textured(90, 90, 1), compression="zlib")
        tiff = tiff_path.read_bytes()
        self.assertIn("empty", self._refused("empty.jpg", b""))
        self.assertIn("not a picture", self._refused("text.jpg", b"a letter, not a picture"))
        self.assertIn("cut short", self._refused("cut.jpg", jpeg[: len(jpeg) // 2]))
        self.assertIn("cut short", self._refused("cut.png", png[: len(png) // 2]))
        self._refused("cut.tif", tiff[: len(tiff) // 2])
        self._refused("head.jpg", jpeg[:30])
        self._refused("head.tif", tiff[:12])

    def test_an_absurd_size_is_refused_before_it_is_read(self):
        size = (100_000).to_bytes(4, "big") * 2
        header = b"IHDR" + size + b"\x08\x02\x00\x00\x00"
        png = b"\x89PNG\r\n\x1a\n" + (13).to_bytes(4, "big") + header + zlib.crc32(header).to_bytes(4, "big")
        idat = b"IDAT" + zlib.compress(b"\0" * 100)
        png += (len(idat) - 4).to_bytes(4, "big") + idat + zlib.crc32(idat).to_bytes(4, "big")
        self.assertIn("100000 x 100000", self._refused("huge.png", png))

    def test_a_missing_file_and_a_folder(self):
        for path in (self.folder / "none.jpg", self.folder):
            with self.assertRaises(FrameUnreadable):
                StillFrame(str(path))

    def test_a_file_deleted_while_in_use(self):
        path = write_picture(self.folder / "x.png", textured(20, 20, 1))
        frame = StillFrame(path)
        os.unlink(path)
        with self.assertRaisesRegex(FrameUnreadable, "gone"):
            frame.encoded()


class Proposing(WithFolder):
    def test_a_shuffled_card_gives_its_sets_and_names_the_bad_file(self):
        bad = self.folder / "bad.jpg"
        bad.write_bytes(b"")
        paths = [*frames_in(green()), str(bad), *reversed(frames_in(ridge()))]
        proposal = propose(Engine(None, 2**28), paths, Job())
        self.assertEqual([(s.kind, len(s.frames)) for s in proposal.sets],
                         [(Kind.PANORAMA, 4), (Kind.STACK, 9)])
        self.assertEqual(len(proposal.refused), 1)
        self.assertIn("bad.jpg", proposal.refused[0])
