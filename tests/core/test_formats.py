"""Every format written, and read back by a reader that is not its writer where there is one."""

import os
import tempfile
import unittest
import warnings
import zipfile
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from xml.etree import ElementTree

import av
import cv2
import exifread
import exiv2
import imagecodecs
import numpy as np
import OpenEXR
import pillow_heif
import rawpy
import tifffile
from PIL import ExifTags, Image

from tests.support import engine, frames_in, green, project_of, ridge
from windfell.demo.dng import write_dng
from windfell.engine.carried import carried_over, sphere_place
from windfell.engine.export import export, sheet_depth
from windfell.engine.output_size import output_scale
from windfell.errors import BadRequest, FrameUnreadable, OutputFailed
from windfell.frames.masks import read_mask
from windfell.frames.pillow import avif_pixels, heif_pixels
from windfell.frames.still import StillFrame
from windfell.job import Job
from windfell.output.metadata import Carried, Pano
from windfell.output.sheet import Sheet
from windfell.output.writers import ENDINGS, WRITERS
from windfell.output.xmp import xmp_of
from windfell.pixels.colour import SPACES, SRGB, SRGB_TO_WORKING, Encoder
from windfell.pixels.profiles import icc_of, into_profile, linear_icc_of
from windfell.recipe.combining import Combining, Layer, Over, Rule
from windfell.recipe.model import Frame, FrameSet, Kind, Project, ProjectionChoice, View
from windfell.recipe.output import ColourSpace, Compression, Format, Intent, Output, Words
from windfell.recipe.sources import SetSource

RNG = np.random.default_rng(7)
WORDS = Words("A. Painter", "© 2026 A. Painter", "The tarn", "Seen from the dam", ("water", "ridge"), False)
CARRIED = Carried(datetime(2026, 5, 1, 9, 0, 0), 35.0, 52.0, "Brannock", "Fell Camera One", "Fell 16-45",
                  datetime(2026, 5, 1, 9, 3, 0), 9, 8, None, WORDS, Pano(1000, 500, 100, 50, 72.5))


def soft(h: int, w: int, c: int, depth: int) -> np.ndarray:
    """A picture that packs well and has every kind of slope."""
    y, x = np.mgrid[0:h, 0:w]
    planes = [0.5 + 0.45 * np.sin(x / (9 + 4 * n) + n) * np.cos(y / (13 + 3 * n)) for n in range(3)]
    light = np.stack(planes, -1)
    if c == 4:
        light = np.dstack([light, (x + y < 0.9 * (h + w)).astype(float)])
    if depth == 32:
        return (4 * light).astype(np.float32)
    top = 2**depth - 1
    return np.rint(light * top).astype(np.uint8 if depth == 8 else np.uint16)


def in_strips(picture: np.ndarray, rows: int = 37):
    for top in range(0, len(picture), rows):
        yield picture[top : top + rows]


def turned_jxl(picture: np.ndarray, orientation: int) -> bytes:
    """A bare JPEG XL whose head says how it is to be turned (ISO/IEC 18181-1, annexes C and D)."""
    data = imagecodecs.jpegxl_encode(picture, level=90)
    bits = "".join(f"{b:08b}"[::-1] for b in data[2:8])
    size = 1 + 5 + 3 + (0 if int(bits[6:9], 2) else 5)
    assert bits[0] == "1" and bits[size : size + 2] == "11", "a small size, all else as usual"
    # more fields: orientation, no own size, preview, animation; 8 bits, 16-bit buffers do, no more channels, XYB;
    # colours, tones and extensions as usual; then the transform as usual, to the next whole byte
    more = "01" + f"{orientation - 1:03b}"[::-1] + "000" + "000" + "1" + "00" + "1" + "1" + "1" + "00" + "1"
    head = bits[:size] + more
    head += "0" * (-len(head) % 8)
    packed = bytes(int(head[n : n + 8][::-1], 2) for n in range(0, len(head), 8))
    return data[:2] + packed + data[2 + -(-(size + 2) // 8) :]


class Written(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)

    def write(self, name: str, picture: np.ndarray, depth: int, carried: Carried = CARRIED, **output) -> Path:
        kind = ENDINGS[Path(name).suffix]
        h, w, c = picture.shape
        icc = linear_icc_of(SRGB) if depth == 32 else icc_of(SRGB)
        WRITERS[kind].write(self.folder / name, Sheet(w, h, c, depth, icc, carried, Output(Format(kind), **output)),
                            in_strips(picture))
        return self.folder / name


class EveryFormat(Written):
    def test_tiff_however_it_is_packed(self):
        for depth in (8, 16, 32):
            picture = soft(700, 1300, 3 if depth == 32 else 4, depth)
            for packing in Compression:
                for tiled in (False, True):
                    with self.subTest(depth=depth, packing=packing, tiled=tiled):
                        path = self.write("a.tif", picture, depth, compression=packing, tiled=tiled)
                        with tifffile.TiffFile(path) as file:
                            np.testing.assert_array_equal(file.pages[0].asarray(), picture)
                            levels = file.series[0].levels
                        self.assertEqual(len(levels), 2 if tiled else 1)
                        if packing is not Compression.ZSTD and depth == 8:
                            # the vision library shows 8 bits as they look before black
                            with Image.open(path) as image:
                                np.testing.assert_array_equal(np.asarray(image), picture)
                        elif packing is not Compression.ZSTD:
                            seen = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
                            turn = cv2.COLOR_BGRA2RGBA if seen.shape[2] == 4 else cv2.COLOR_BGR2RGB
                            np.testing.assert_array_equal(cv2.cvtColor(seen, turn), picture)

    def test_the_smaller_copies_of_a_tiled_tiff_are_means(self):
        picture = soft(1101, 2203, 3, 16)
        path = self.write("a.tif", picture, 16, tiled=True)
        with tifffile.TiffFile(path) as file:
            sizes = [x.shape[:2] for x in file.series[0].levels]
            half = file.series[0].levels[1].asarray()
        self.assertEqual(sizes, [(1101, 2203), (551, 1102), (276, 551)])
        wanted = picture[:1100, :2202].astype(float).reshape(550, 2, 1101, 2, 3).mean(axis=(1, 3))
        self.assertLess(np.abs(half[:550, :1101] - wanted).max(), 1.0)
        # an odd last column stands for two
        last = picture[:1100, -1].astype(float).reshape(550, 2, 3).mean(axis=1)
        self.assertLess(np.abs(half[:550, -1] - last).max(), 1.0)

    def test_without_loss(self):
        for name, depth, c in (("a.png", 8, 4), ("b.png", 16, 3), ("c.jxl", 8, 4), ("d.jxl", 16, 4),
                               ("e.webp", 8, 4)):
            with self.subTest(name):
                picture = soft(90, 140, c, depth)
                path = self.write(name, picture, depth, quality=100)
                if name.endswith("png"):
                    seen = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
                    seen = cv2.cvtColor(seen, cv2.COLOR_BGRA2RGBA if c == 4 else cv2.COLOR_BGR2RGB)
                else:
                    seen = {"jxl": imagecodecs.jpegxl_decode, "webp": imagecodecs.webp_decode}[name[2:]](
                        path.read_bytes())
                np.testing.assert_array_equal(seen[..., :3], picture[..., :3])
                np.testing.assert_array_equal(seen[..., 3:], picture[..., 3:])

    def test_with_loss_within_what_a_screen_shows(self):
        pillow_heif.register_heif_opener()
        picture = soft(90, 140, 3, 8)
        for name in ("a.jpg", "b.jxl", "c.webp", "d.avif", "e.heic"):
            with self.subTest(name):
                path = self.write(name, picture, 8, quality=95)
                if name.endswith("jxl"):
                    seen = imagecodecs.jpegxl_decode(path.read_bytes())
                elif name.endswith("avif"):
                    seen = imagecodecs.avif_decode(path.read_bytes())
                elif name.endswith("jpg"):
                    seen = cv2.imread(str(path))[..., ::-1]
                else:
                    seen = np.asarray(Image.open(path).convert("RGB"))
                self.assertEqual(seen.shape, picture.shape)
                self.assertLess(np.abs(seen.astype(int) - picture).mean(), 2.5)

    def test_more_than_8_bits_are_written_and_read_where_the_format_has_them(self):
        picture = soft(90, 140, 4, 16)
        picture[:20, :20] = 65535
        for c in (3, 4):
            seen = heif_pixels(str(self.write("a.heic", np.ascontiguousarray(picture[..., :c]), 16, quality=100)))
            self.assertEqual((seen.dtype, seen.shape[2], seen[:9, :9].min()), (np.uint16, c, 65535))
            off = np.abs(seen[..., :3].astype(int) - picture[..., :3])[picture[..., 3] > 0]
            self.assertLess(off.mean() * 1023 / 65535, 2.0, "steps of 10 bits")
            self.assertGreater(len(np.unique(seen[..., 0])), 400)
        self.assertEqual(sheet_depth(Output(Format.HEIF, 16)), 16)
        with av.open(str(self.folder / "a.heic")) as file:
            self.assertIn("p10", file.streams.video[0].codec_context.pix_fmt)
        for bits in (10, 12):
            path = self.folder / f"{bits}.avif"
            whole = np.rint(picture[..., :3] * ((2**bits - 1) / 65535)).astype(np.uint16)
            how = {"level": 100, "bitspersample": bits, "speed": 8}
            path.write_bytes(imagecodecs.avif_encode(whole, pixelformat="444", **how))
            seen = StillFrame(str(path)).encoded()
            np.testing.assert_array_equal(seen, np.rint(whole * (65535 / (2**bits - 1))))
            path.write_bytes(imagecodecs.avif_encode(whole[..., 0].copy(), **how))
            np.testing.assert_array_equal(StillFrame(str(path)).encoded()[..., 2], seen[..., 0])
        seen = avif_pixels(str(self.write("b.avif", soft(40, 60, 3, 8), 8)))
        self.assertEqual(seen.dtype, np.uint8)

    def test_light_beyond_white(self):
        picture = soft(60, 80, 4, 32)
        whole = self.write("a.exr", picture, 32)
        with OpenEXR.File(str(whole)) as file:
            seen = file.channels()["RGBA"].pixels
        np.testing.assert_array_equal(seen, picture)
        half = self.folder / "b.exr"
        WRITERS["exr"].write(half, Sheet(80, 60, 4, 16, b"", CARRIED, Output(Format.EXR, 16)), in_strips(picture))
        with OpenEXR.File(str(half)) as file:
            self.assertEqual(file.channels()["RGBA"].pixels.dtype, np.float16)
            np.testing.assert_array_equal(file.channels()["RGBA"].pixels, picture.astype(np.float16))
        plain = self.write("c.hdr", picture[..., :3].copy(), 32)
        seen = cv2.imread(str(plain), cv2.IMREAD_UNCHANGED)[..., ::-1]
        self.assertLess(np.abs(seen - picture[..., :3]).max(), 0.04)

    def test_what_was_written_comes_in_as_a_frame(self):
        """JPEG XL and Radiance, whose heads are read by code of our own; sizes of every form that a head may have."""
        for h, w in ((90, 140), (64, 128), (100, 133), (90, 160), (31, 700), (17, 9000)):
            for c in (3, 4):
                picture = soft(h, w, c, 16)
                frame = StillFrame(str(self.write("a.jxl", picture, 16, quality=100)))
                self.assertEqual(frame.size, (w, h))
                seen = picture[..., -1] > 0 if c == 4 else np.ones((h, w), bool)
                np.testing.assert_array_equal(frame.encoded()[seen], picture[..., :3][seen])
                self.assertEqual(frame.shown()[1] is None, c == 3)
        self.assertEqual((frame.metadata.taken, frame.metadata.focal35_mm), (CARRIED.taken, CARRIED.focal35_mm))
        (self.folder / "bare.jxl").write_bytes(imagecodecs.jpegxl_encode(soft(64, 96, 3, 8), lossless=True))
        np.testing.assert_array_equal(StillFrame(str(self.folder / "bare.jxl")).encoded(), soft(64, 96, 3, 8))
        (self.folder / "turned.jxl").write_bytes(turned_jxl(soft(64, 96, 3, 8), 6))
        frame = StillFrame(str(self.folder / "turned.jxl"))
        self.assertEqual((frame.size, frame.metadata.orientation), ((64, 96), 1))
        self.assertLess(np.abs(frame.encoded().astype(int) - np.rot90(soft(64, 96, 3, 8), -1)).mean(), 2.5)
        real = soft(64, 96, 3, 16).astype(np.float32) / 65535
        (self.folder / "real.jxl").write_bytes(imagecodecs.jpegxl_encode(real, lossless=True))
        np.testing.assert_array_equal(StillFrame(str(self.folder / "real.jxl")).encoded(), soft(64, 96, 3, 16))
        light = soft(60, 80, 3, 32)
        frame = StillFrame(str(self.write("c.hdr", light, 32)))
        self.assertEqual((frame.size, frame.encoded().dtype), ((80, 60), np.float32))
        self.assertLess(np.abs(frame.linear(80, 60) - light @ SRGB_TO_WORKING.T).max(), 0.05)
        (self.folder / "cut.jxl").write_bytes((self.folder / "bare.jxl").read_bytes()[:40])
        (self.folder / "cut.hdr").write_bytes(b"#?RADIANCE\n\n+X 80 +Y 60\n")
        for name in ("cut.jxl", "cut.hdr"):
            with self.assertRaisesRegex(FrameUnreadable, name):
                StillFrame(str(self.folder / name)).encoded()

    def test_what_is_no_number_in_a_float_tiff_is_dark(self):
        light = soft(60, 80, 3, 32)
        light[3:9, 4:8], light[20, 20:30], light[21, 20:30] = np.nan, np.inf, -np.inf
        for kind in (np.float16, np.float32, np.float64):
            tifffile.imwrite(self.folder / "a.tif", light.astype(kind), photometric="rgb")
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                read = StillFrame(str(self.folder / "a.tif")).encoded()
            self.assertEqual((read[3:9, 4:8].max(), read[20, 25, 0], read[21].min()), (0, 65504, 0))
            np.testing.assert_allclose(read[30:], light[30:], rtol=1e-3)
        tifffile.imwrite(self.folder / "mask.tif", light[..., 0])
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            mask = read_mask(self.folder / "mask.tif")
        self.assertEqual((mask[3:9, 4:8].max(), mask[20, 25], mask[21, 25]), (0, 255, 0))

    def test_a_jpeg_fits_into_a_size(self):
        picture = np.clip(soft(300, 400, 3, 8) + RNG.integers(-30, 30, (300, 400, 3)), 0, 255).astype(np.uint8)
        free = self.write("a.jpg", picture, 8).stat().st_size
        for progressive in (False, True):
            path = self.write("b.jpg", picture, 8, most_kb=30, progressive=progressive)
            self.assertLess(path.stat().st_size, min(free, 34_000))
            with Image.open(path) as image:
                self.assertEqual(bool(image.info.get("progressive")), progressive)
        with self.assertRaisesRegex(OutputFailed, "does not fit"):
            self.write("c.jpg", picture, 8, most_kb=4)

    def test_what_a_format_cannot_hold_is_said(self):
        picture = soft(8, 20, 3, 8)
        with self.assertRaisesRegex(OutputFailed, "sRGB alone"):
            self.write("a.jxl", picture, 8, space=ColourSpace.ROMM)
        with self.assertRaisesRegex(OutputFailed, "16383 px"):
            WRITERS["webp"].write(self.folder / "b.webp", Sheet(20_000, 8, 3, 8, b"", CARRIED), iter(()))


class Said(Written):
    def test_words_and_numbers_are_read_by_another_library(self):
        pillow_heif.register_heif_opener()
        picture = soft(40, 60, 3, 8)
        for name in ("a.tif", "b.png", "c.jpg", "d.webp"):
            with self.subTest(name):
                image = exiv2.ImageFactory.open(str(self.write(name, picture, 8, dpi=240.0)))
                image.readMetadata()
                xmp = {d.key(): str(d.value()) for d in image.xmpData()}
                self.assertIn("The tarn", xmp["Xmp.dc.title"])
                self.assertEqual(xmp["Xmp.dc.subject"], "water, ridge")
                self.assertIn("A. Painter", xmp["Xmp.dc.rights"])
                self.assertEqual((xmp["Xmp.GPano.FullPanoWidthPixels"], xmp["Xmp.GPano.CroppedAreaLeftPixels"],
                                  xmp["Xmp.GPano.CroppedAreaTopPixels"], xmp["Xmp.GPano.ProjectionType"]),
                                 ("1000", "100", "50", "equirectangular"))
                self.assertEqual(float(xmp["Xmp.GPano.PoseHeadingDegrees"]), 72.5)
                exif = {d.key(): str(d.value()) for d in image.exifData()}
                self.assertEqual(exif["Exif.Photo.LensModel"], "Fell 16-45")
                self.assertEqual(exif["Exif.Photo.CompositeImage"], "2")
                self.assertEqual(exif["Exif.Photo.SourceImageNumberOfCompositeImage"], "9 8")
                self.assertEqual(exif["Exif.Photo.DateTimeOriginal"], "2026:05:01 09:00:00")
        for name in ("e.avif", "f.heic"):
            with self.subTest(name), Image.open(self.write(name, picture, 8)) as image:
                self.assertIn(b"Fell Camera One", image.info["exif"])
                self.assertIn("water", str(image.info["xmp"]))

    def test_px_per_inch(self):
        picture = soft(40, 60, 3, 8)
        for name in ("a.tif", "b.png", "c.jpg"):
            with self.subTest(name), Image.open(self.write(name, picture, 8, dpi=240.0)) as image:
                self.assertEqual(tuple(round(float(v)) for v in image.info["dpi"]), (240, 240))

    def test_a_place_is_told_only_if_it_is_asked_for(self):

        picture = soft(40, 60, 3, 8)
        told = self.write("a.jpg", picture, 8, replace(CARRIED, gps=(54.4609, -3.0886)))
        with open(told, "rb") as file:
            found = exifread.utils.get_gps_coords(exifread.process_file(file))
        np.testing.assert_allclose(found, (54.4609, -3.0886), atol=1e-5)
        self.assertIn("54,27.65", xmp_of(replace(CARRIED, gps=(54.4609, -3.0886))).decode())
        self.assertNotIn(b"GPSLatitude", self.write("b.jpg", picture, 8).read_bytes())

    def test_frames_are_summed_up(self):
        paths = frames_in(ridge())
        project, set_id = project_of(paths, output=Output(words=WORDS))
        found = carried_over(engine(), project, set_id, Job())
        self.assertEqual((found.given, found.used, found.camera), (4, 4, "Fell Camera One"))
        self.assertLess(found.taken, found.until)
        self.assertIsNone(found.gps)
        self.assertEqual(found.words, WORDS)

    def test_where_frames_were_taken_stays_with_them_unless_it_is_asked_for(self):
        from windfell.output.metadata import exif_of

        paths = []
        for n, path in enumerate(frames_in(green())[:2]):
            with Image.open(path) as image:
                placed = exif_of(replace(CARRIED, gps=(54.25, -3.5)))
                image.save(self.folder / f"g{n}.jpg", exif=placed.tobytes(), quality=90)
            paths.append(str(self.folder / f"g{n}.jpg"))
        for keep, wanted in ((False, None), (True, (54.25, -3.5))):
            project, set_id = project_of(paths, Kind.STACK, output=Output(words=Words(location=keep)))
            self.assertEqual(carried_over(engine(), project, set_id, Job()).gps, wanted)

    def test_the_heading_is_that_of_a_frame_whose_file_says_it_also_in_a_stack(self):
        paths = []
        for n, path in enumerate(frames_in(ridge())):
            with Image.open(path) as image:
                exif = image.getexif()
                if n == 1:
                    exif.get_ifd(ExifTags.IFD.GPSInfo).update({
                        ExifTags.GPS.GPSImgDirection: 250.0, ExifTags.GPS.GPSImgDirectionRef: "T"})
                image.save(self.folder / f"h{n}.jpg", quality=95, exif=exif)
            paths.append(str(self.folder / f"h{n}.jpg"))
        project, set_id = project_of(paths, view=View(ProjectionChoice.EQUIRECTANGULAR, yaw_deg=15.0))
        own, host = project.set(set_id), engine()
        stacks = [FrameSet(f"s{n}", f"S {n}", Kind.STACK, (f, replace(f, id=f"{f.id}-again")))
                  for n, f in enumerate(own.frames)]
        outer = replace(own, id="outer", frames=tuple(Frame(f"n{s.id}", SetSource(s.id)) for s in stacks))
        project = Project((own, outer, *stacks))
        for name in (set_id, "outer"):
            with self.subTest(name):
                stages = host.stages(project, name)
                ahead = stages.registration(Job()).frames[1].rotation[:, 2] @ stages.canvas(Job()).rotation
                yaw = float(np.degrees(np.arctan2(ahead[0], ahead[2])))
                found = sphere_place(host, project, name, 1.0, Job())
                self.assertAlmostEqual((found.heading_deg + yaw) % 360, 250.0, delta=0.01)

    def test_a_sphere_says_where_it_lies(self):
        project, set_id = project_of(frames_in(ridge()), view=View(full_sphere=True), output=Output(width_px=800))
        found = carried_over(engine(), project, set_id, Job()).pano
        self.assertEqual((found.full_width, found.full_height, found.left, found.top), (800, 400, 0, 0))
        project, set_id = project_of(frames_in(ridge()), view=View(projection="equirectangular"))
        own = engine()
        part = carried_over(own, project, set_id, Job()).pano
        width, height = own.size(project, set_id, Job())
        self.assertLess(part.left + width, part.full_width)
        self.assertLess(part.top + height, part.full_height)
        middle = part.left + width / 2
        self.assertAlmostEqual(middle / part.full_width, 0.5, delta=0.02)


class Colours(Written):
    def test_a_profile_stands_in_for_a_space(self):
        profile = self.folder / "wide.icc"
        profile.write_bytes(icc_of(SPACES["romm"]))
        paths = frames_in(green())[:2]
        by_space = self._pixels(paths, space=ColourSpace.ROMM)
        by_file = self._pixels(paths, profile=str(profile), intent=Intent.RELATIVE)
        self.assertLess(np.abs(by_space.astype(int) - by_file).max(), 40)
        plain = self._pixels(paths)
        self.assertGreater(np.abs(plain.astype(int) - by_space).mean(), 500)

    def _pixels(self, paths, **output) -> np.ndarray:
        project, set_id = project_of(paths, Kind.STACK, output=Output(**output))
        return tifffile.imread(export(engine(), project, set_id, self.folder / "a.tif", Job()).path)

    def test_a_wrong_profile_is_said(self):
        wrong = self.folder / "no.icc"
        wrong.write_bytes(b"nothing" * 40)
        ink = self.folder / "ink.icc"
        data = bytearray(icc_of(SRGB))
        data[16:20] = b"CMYK"
        ink.write_bytes(bytes(data))
        for path, words in ((wrong, "no ICC profile"), (ink, "CMYK"), (self.folder / "gone.icc", "cannot be read")):
            project, set_id = project_of(frames_in(green())[:2], Kind.STACK, output=Output(profile=str(path)))
            with self.subTest(words), self.assertRaisesRegex(BadRequest, words):
                export(engine(), project, set_id, self.folder / "a.tif", Job())

    def test_an_intent_changes_what_lies_beyond(self):
        light = np.array([[[1.0, 0.0, 0.0], [0.2, 0.2, 0.2]]], np.float32)
        found = into_profile(light, icc_of(SRGB), "relative", 16)
        self.assertEqual(found[0, 0].tolist(), [65535, 0, 0])
        np.testing.assert_allclose(found[0, 1] / 65535, Encoder(SRGB, 32)(light)[0, 1], atol=2e-3)

    def test_dithering_keeps_what_eight_bits_cannot(self):
        light = np.full((256, 256, 3), 0.1234, np.float32)
        exact = 255 * float(Encoder(SRGB, 32)(light)[0, 0, 0])
        plain, spread = Encoder(SRGB, 8)(light), Encoder(SRGB, 8, dither=True)(light)
        self.assertGreater(abs(float(plain.mean()) - exact), 0.2)
        self.assertLess(abs(float(spread.mean()) - exact), 0.02)
        self.assertLessEqual(int(np.ptp(spread)), 1)


class Sizes(unittest.TestCase):
    def test_a_long_side_a_print_and_a_page(self):
        for output, wanted in ((Output(long_px=500), 0.5), (Output(print_mm=254.0), 3.0),
                               (Output(print_mm=254.0, dpi=100.0), 1.0), (Output(format=Format.HTML), 1.0)):
            project, set_id = project_of(frames_in(green())[:2], Kind.STACK, output=output)
            self.assertAlmostEqual(output_scale(project, set_id, (1000, 700)), wanted)
        self.assertAlmostEqual(output_scale(project, set_id, (24_000, 700)), 0.5)


class RawLike(Written):
    def test_a_burst_of_raws_becomes_one_raw(self):
        y, x = np.mgrid[0:120, 0:180]
        light = np.stack([0.1 + 0.5 * x / 180, 0.1 + 0.4 * y / 120, 0.25 + 0.1 * np.sin(x / 30)], -1)
        paths = []
        for n in range(4):
            noisy = light + 0.004 * np.random.default_rng(n).standard_normal(light.shape)
            write_dng(self.folder / f"f{n}.dng", np.clip(noisy, 0, 1).astype(np.float32))
            paths.append(str(self.folder / f"f{n}.dng"))
        for depth in (16, 32):
            project, set_id = project_of(paths, Kind.STACK, combining=Combining(Rule.MEAN),
                                         output=Output(Format.DNG, depth))
            out = export(engine(), project, set_id, self.folder / "mean.dng", Job()).path
            for balance in (None, [2.4, 1.0, 1.3, 1.0]):
                with self.subTest(depth=depth, balance=balance):
                    wanted = np.mean([_developed(p, balance) for p in paths], axis=0)[8:-8, 8:-8]
                    found = _developed(out, balance)[8:-8, 8:-8]
                    self.assertLess(float(np.median(np.abs(found / wanted - 1))), 0.005)
                    for c in range(3):
                        self.assertAlmostEqual(float(np.median(found[..., c] / wanted[..., c])), 1.0, delta=0.01)

    def test_light_beyond_white_finds_room(self):

        from windfell.recipe.model import Development

        project, set_id = project_of(frames_in(green())[:1], Kind.STACK, output=Output(Format.DNG))
        own = project.set(set_id)
        bright = replace(own, frames=(replace(own.frames[0], development=Development(exposure_ev=1.6)),))
        one, two = (tifffile.TiffFile(export(
            engine(), project.with_set(s), set_id, self.folder / f"{n}.dng", Job()).path)
            for n, s in enumerate((own, bright)))
        headroom = [f.pages[0].tags[50730].value[0] / f.pages[0].tags[50730].value[1] for f in (one, two)]
        self.assertEqual(headroom, [0, 2])
        plain, light = (f.pages[0].asarray().astype(float) * 2**h for f, h in zip((one, two), headroom, strict=True))
        fair = (plain > 6000) & (plain < 60000)
        self.assertAlmostEqual(float(np.median(light[fair] / plain[fair])), 2**1.6, delta=0.1)
        for file in (one, two):
            file.close()

    def test_its_tags_are_those_that_are_asked_for(self):
        project, set_id = project_of(frames_in(green())[:3], Kind.STACK, output=Output(Format.DNG))
        out = export(engine(), project, set_id, self.folder / "a.dng", Job()).path
        with tifffile.TiffFile(out) as file:
            tags = file.pages[0].tags
            self.assertEqual(tags[262].value, 34892)
            for code in (254, 50706, 50707, 50708, 50714, 50717, 50721, 50728, 50778, 277, 258):
                self.assertIn(code, tags)
            self.assertEqual(tuple(tags[50706].value)[:2], (1, 4))
        seen = _developed(out, None, rawpy.ColorSpace.sRGB)
        plate = cv2.imread(frames_in(green())[0])[..., ::-1] / 255.0
        plain = np.where(plate <= 0.04045, plate / 12.92, ((plate + 0.055) / 1.055) ** 2.4)
        self.assertLess(float(np.median(np.abs(seen - plain))), 0.01)


def _developed(path, balance, space=rawpy.ColorSpace.sRGB) -> np.ndarray:
    told = {"use_camera_wb": True} if balance is None else {"user_wb": balance}
    with rawpy.imread(str(path)) as raw:
        return raw.postprocess(output_color=space, gamma=(1, 1), no_auto_bright=True, output_bps=16,
                               adjust_maximum_thr=0.0, highlight_mode=rawpy.HighlightMode.Ignore,
                               **told).astype(float) / 65535


class InLayers(Written):
    def test_an_open_raster_of_a_row_is_its_picture(self):
        project, set_id = project_of(frames_in(ridge()), output=Output(Format.ORA, 16))
        out = export(engine(), project, set_id, self.folder / "a.ora", Job()).path
        with zipfile.ZipFile(out) as file:
            self.assertEqual(file.namelist()[0], "mimetype")
            self.assertEqual(file.read("mimetype"), b"image/openraster")
            stack = ElementTree.fromstring(file.read("stack.xml"))
            layers = list(stack.iter("layer"))
            self.assertEqual([x.get("name") for x in layers],
                             [Path(p).name for p in reversed(frames_in(ridge()))])
            whole = _png(file.read("mergedimage.png"))
            seen = np.zeros((*whole.shape[:2], 3))
            for layer in reversed(layers):
                part = _png(file.read(layer.get("src"))).astype(float) / 65535
                seen = seen * (1 - part[..., 3:]) + part[..., :3] * part[..., 3:]
            self.assertLessEqual(max(_png(file.read("Thumbnails/thumbnail.png")).shape), 256)
        self.assertEqual((whole.shape[1], whole.shape[0]), (int(stack.get("w")), int(stack.get("h"))))
        self.assertEqual(whole.dtype, np.uint16)
        off = np.abs(seen - whole[..., :3] / 65535)[whole[..., 3] > 0]
        # the layers have hard edges, the whole passes over
        self.assertLess(float(np.median(off)), 0.01)

    def test_a_pile_lies_over_each_other_as_it_was_made(self):
        from windfell.recipe.areas import Area, Ellipse

        paths = frames_in(green())[:3]
        project, set_id = project_of(paths, Kind.STACK)
        own = project.set(set_id)
        layer = Layer(Rule.MEAN, (own.frames[2].id,), "third", area=Area((Ellipse((240, 160), 200, 120),)),
                      over=Over.REPLACE, strength_pct=80.0)
        project, set_id = project_of(paths, Kind.STACK, output=Output(Format.TIFF, 16, layered=True))
        own = project.set(set_id)

        layer = replace(layer, frames=(own.frames[2].id,))
        project = project.with_set(replace(own, combining=Combining(layers=(layer,))))
        out = export(engine(), project, set_id, self.folder / "a.tif", Job()).path
        with tifffile.TiffFile(out) as file:
            whole, below, third = (p.asarray().astype(float) / 65535 for p in file.pages)
            self.assertEqual(file.pages[2].tags[285].value, "third")
        self.assertTrue((below[..., 3] == 1).all())
        self.assertAlmostEqual(float(third[160, 240, 3]), 0.8, delta=0.01)
        linear = [_linear(v[..., :3]) for v in (whole, below, third)]
        share = third[..., 3:]
        self.assertLess(np.abs(linear[1] * (1 - share) + linear[2] * share - linear[0]).max(), 2e-3)

    def test_layers_go_only_where_there_is_room(self):
        from windfell.cli.main import main

        status = main(["panorama", *frames_in(ridge()), "--layers", "--out", str(self.folder / "a.jpg")])
        self.assertEqual(status, 2)
        self.assertEqual(os.listdir(self.folder), [])


def _png(data: bytes) -> np.ndarray:
    found = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
    return cv2.cvtColor(found, cv2.COLOR_BGRA2RGBA if found.shape[2] == 4 else cv2.COLOR_BGR2RGB)


def _linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
