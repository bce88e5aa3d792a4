"""Kinds of files beyond the plain ones: raw, modern still formats, inks, video."""

import datetime
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import av
import cv2
import imagecodecs
import numpy as np
import OpenEXR
import pillow_heif
import tifffile
from numpy.testing import assert_allclose, assert_array_equal
from PIL import Image

from tests.support import engine, frames_in, project_of, ridge, textured, write_picture
from windfell.demo.clip import write_video
from windfell.demo.dng import write_dng
from windfell.engine.export import export
from windfell.engine.sources import open_source
from windfell.errors import FrameUnreadable
from windfell.frames import video
from windfell.frames.raw import turned_up
from windfell.frames.still import StillFrame
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded, to_view
from windfell.recipe.model import Align, Kind, Registration, frame_from_path
from windfell.recipe.output import Format, Output
from windfell.recipe.sources import VideoInstant

DAY = datetime.datetime(2026, 5, 16, 14, 5)


def smooth_light(height: int, width: int) -> np.ndarray:
    """Slow gradients of all colours: what interpolating a mosaic does not change."""
    y, x = np.mgrid[0:height, 0:width] / max(height, width)
    return np.dstack([0.1 + 0.5 * x, 0.15 + 0.4 * y, 0.3 + 0.2 * x * y]).astype(np.float32)


class InFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def refused(self, name: str, data: bytes) -> str:
        path = self.folder / name
        path.write_bytes(data)
        with self.assertRaises(FrameUnreadable) as caught:
            StillFrame(str(path)).encoded()
        self.assertIn(name, str(caught.exception))
        return str(caught.exception)


class Raw(InFolder):
    def test_a_raw_decodes_to_its_light_within_a_percent(self):
        light = smooth_light(160, 240)
        write_dng(self.folder / "a.dng", light, DAY)
        frame = StillFrame(str(self.folder / "a.dng"))
        true = light @ SRGB_TO_WORKING.T.astype(np.float32)
        inner = np.s_[8:-8, 8:-8]
        full = frame.linear(240, 160)
        assert_allclose(full[inner], true[inner], rtol=0.01)
        half = frame.linear(60, 40)
        small = true.reshape(40, 4, 60, 4, 3).mean(axis=(1, 3))
        assert_allclose(half[2:-2, 2:-2], small[2:-2, 2:-2], rtol=0.01)

    def test_light_beyond_the_first_limit_is_kept(self):
        bright = np.full((64, 64, 3), 0.4, np.float32)
        bright[16:48, 16:48] = [1.4, 0.9, 1.2]
        write_dng(self.folder / "b.dng", bright)
        frame = StillFrame(str(self.folder / "b.dng"))
        true = np.array([1.4, 0.9, 1.2]) @ SRGB_TO_WORKING.T
        assert_allclose(frame.linear(64, 64)[30:34, 30:34].mean((0, 1)), true, rtol=0.02)

    def test_full_cells_leave_no_magenta(self):
        bright = np.full((64, 64, 3), 3.0, np.float32)
        bright[:, :24] = 0.3
        write_dng(self.folder / "e.dng", bright)
        burnt = StillFrame(str(self.folder / "e.dng")).linear(64, 64)[20:40, 40:60].mean((0, 1))
        self.assertGreater(burnt.min(), 1.0)
        assert_allclose(burnt, burnt.mean(), rtol=0.02)

    def test_metadata_and_orientation(self):
        write_dng(self.folder / "c.dng", smooth_light(60, 80), DAY, (1, 250), orientation=6)
        frame = StillFrame(str(self.folder / "c.dng"))
        self.assertEqual(frame.size, (60, 80))
        self.assertEqual(frame.encoded().shape, (80, 60, 3))
        m = frame.metadata
        self.assertEqual((m.taken, m.camera), (DAY, "Fell Camera One"))
        self.assertAlmostEqual(m.exposure_s, 1 / 250, 6)

    def test_broken_raws_are_named(self):
        write_dng(self.folder / "d.dng", smooth_light(80, 80))
        data = (self.folder / "d.dng").read_bytes()
        self.assertIn("raw", self.refused("cut.dng", data[: len(data) // 2]))
        self.assertIn("raw", self.refused("letter.nef", b"a letter, not a picture"))
        self.assertIn("empty", self.refused("none.cr3", b""))


class Transparent(InFolder):
    def test_what_one_frame_hides_a_stack_takes_from_the_others(self):
        colours, files = textured(60, 80, 5), []
        for n in range(3):
            alpha = np.full((60, 80), 255, np.uint8)
            alpha[:10], alpha[20:40, 20 * n : 20 * n + 15] = 0, 0
            files.append(write_picture(self.folder / f"{n}.png", np.dstack(
                [np.where(alpha[..., None] > 0, colours, 255), alpha])))
        project, set_id = project_of(files, Kind.STACK, registration=Registration(align=Align.NONE))
        picture = engine().picture(project, set_id, 1.0, Job())
        self.assertFalse(picture.covered[:10].any())
        self.assertTrue(picture.covered[10:].all())
        assert_allclose(to_view(picture.light)[10:].astype(int), colours[10:].astype(int), atol=1)
        for count, channels in ((3, 4), (2, 3)):  # the second time of frames that hide nothing
            own = replace(project.set(set_id), output=Output(Format.PNG, 8))
            if count == 2:
                whole = [write_picture(self.folder / f"w{n}.png", colours) for n in range(2)]
                own = replace(own, frames=tuple(frame_from_path(p) for p in whole))
            export(engine(), project.with_set(own), set_id, self.folder / "out.png", Job())
            written = np.asarray(Image.open(self.folder / "out.png"))
            self.assertEqual(written.shape[2], channels)
            if channels == 4:
                assert_array_equal(written[..., 3] > 0, picture.covered)

    def test_a_panorama_counts_only_what_its_frames_show(self):
        cut = []
        for path in frames_in(ridge())[:2]:
            pixels = np.asarray(Image.open(path))
            alpha = np.full(pixels.shape[:2], 255, np.uint8)
            alpha[: len(alpha) // 4] = 0
            cut.append(write_picture(self.folder / f"{Path(path).stem}.png", np.dstack([pixels, alpha])))
        shares, host = [], engine()
        for files in (frames_in(ridge())[:2], cut):
            project, set_id = project_of(files)
            stages = host.stages(project, set_id)
            shares.append((stages.coarse_coverage(stages.canvas(Job()), Job()).mean(),
                           host.picture(project, set_id, 0.25, Job()).covered.mean()))
        for whole, less in zip(*shares, strict=True):
            self.assertAlmostEqual(less / whole, 0.75, delta=0.05)


class Modern(InFolder):
    def test_lossy_formats_come_close_and_lossless_ones_exact(self):
        pixels = textured(48, 64, 1)
        Image.fromarray(pixels).save(self.folder / "a.webp", lossless=True)
        np.testing.assert_array_equal(StillFrame(str(self.folder / "a.webp")).encoded(), pixels)
        soft = (srgb_curve(smooth_light(48, 64)) * 255).astype(np.uint8)
        Image.fromarray(soft).save(self.folder / "b.avif", quality=95)
        pillow_heif.from_pillow(Image.fromarray(soft)).save(self.folder / "c.heic", quality=95)
        for name in ("b.avif", "c.heic"):
            with self.subTest(name):
                frame = StillFrame(str(self.folder / name))
                self.assertEqual(frame.size, (64, 48))
                self.assertLess(np.abs(frame.encoded().astype(int) - soft).mean(), 2.0)

    def test_exr_is_linear_light(self):
        light = smooth_light(20, 30) * 3
        OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": light}).write(str(self.folder / "a.exr"))
        assert_allclose(StillFrame(str(self.folder / "a.exr")).linear(30, 20), light @ SRGB_TO_WORKING.T, rtol=1e-4)

    def test_parts_that_are_transparent_are_known_and_go_on_smoothly(self):
        seen = np.zeros((40, 60), bool)
        seen[9:31, 11:49] = True
        colours = cv2.GaussianBlur(textured(40, 60, 5), (0, 0), 4)
        colours[~seen] = (255, 0, 255)
        rgba = np.dstack([colours, 255 * seen.astype(np.uint8)])
        for name in ("a.png", "a.webp"):
            write_picture(self.folder / name, rgba, **({"lossless": True, "exact": True} if "webp" in name else {}))
        cv2.imwrite(str(self.folder / "b.png"), cv2.cvtColor(257 * rgba.astype(np.uint16), cv2.COLOR_RGBA2BGRA))
        tifffile.imwrite(self.folder / "a.tif", rgba, photometric="rgb", extrasamples=["unassalpha"])
        half = np.dstack([rgba[..., :3] // 2, np.where(seen, 128, 0)]).astype(np.uint8)
        tifffile.imwrite(self.folder / "over.tif", half, photometric="rgb", extrasamples=["assocalpha"])
        light = np.dstack([srgb_decoded(colours / 255), seen]).astype(np.float32)
        tifffile.imwrite(self.folder / "f.tif", light, photometric="rgb", extrasamples=["unassalpha"])
        thin = 0.6 * np.dstack([light[..., :3] * seen[..., None], seen]).astype(np.float32)
        OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGBA": thin}).write(str(self.folder / "a.exr"))
        exif = Image.Exif()
        exif[274] = 6
        write_picture(self.folder / "turned.png", np.ascontiguousarray(np.rot90(rgba)), exif=exif)
        for name in ("a.png", "b.png", "turned.png", "a.webp", "a.tif", "over.tif", "f.tif", "a.exr"):
            with self.subTest(name):
                pixels, shown = StillFrame(str(self.folder / name)).shown()
                assert_array_equal(shown, seen)
                whole = pixels.astype(float) / (1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max)
                wanted = light[..., :3] if name in ("f.tif", "a.exr") else colours / 255
                assert_allclose(whole[seen], wanted[seen], atol=0.01)
                self.assertLess(np.abs(whole[5, 12:48] - whole[9, 12:48]).max(), 0.25)
                small, there = StillFrame(str(self.folder / name)).small(30, 20)
                self.assertEqual((small.shape, int(there.sum())), ((20, 30, 3), 10 * 18))

    def test_palette_and_wholly_transparent(self):
        flat = Image.fromarray(textured(20, 20, 2)).quantize(16)
        flat.save(self.folder / "p.png")
        np.testing.assert_array_equal(
            StillFrame(str(self.folder / "p.png")).encoded(), np.asarray(flat.convert("RGB")))
        rgba = np.dstack([textured(20, 20, 3), np.full((20, 20), 90, np.uint8)])
        for name in ("t.png", "t.webp"):
            write_picture(self.folder / name, rgba)
            with self.assertRaisesRegex(FrameUnreadable, "transparent all over"):
                StillFrame(str(self.folder / name)).encoded()

    def test_inks_without_a_profile_are_ideal_filters(self):
        colours = np.zeros((24, 72, 3), np.uint8)
        for n, c in enumerate(((200, 40, 30), (30, 60, 200), (240, 240, 240))):
            colours[:, 24 * n : 24 * n + 24] = c
        inks = Image.fromarray(colours).convert("CMYK")
        inks.save(self.folder / "i.jpg", quality=98)
        data = (self.folder / "i.jpg").read_bytes()
        at = data.index(b"\xff\xee")
        unmarked = data[:at] + data[at + 2 + int.from_bytes(data[at + 2 : at + 4], "big") :]
        (self.folder / "unmarked.jpg").write_bytes(unmarked)
        # stored the other way round, and no marker that says so
        Image.fromarray(255 - np.asarray(inks), "CMYK").save(self.folder / "other.jpg", quality=98)
        data = (self.folder / "other.jpg").read_bytes()
        at = data.index(b"\xff\xee")
        (self.folder / "other.jpg").write_bytes(
            data[:at] + data[at + 2 + int.from_bytes(data[at + 2 : at + 4], "big") :])
        tifffile.imwrite(self.folder / "i.tif", np.asarray(inks), photometric="separated")
        for name in ("i.jpg", "unmarked.jpg", "other.jpg", "i.tif"):
            with self.subTest(name):
                seen = to_view(StillFrame(str(self.folder / name)).linear(72, 24))
                assert_allclose(seen[12, [12, 36, 60]], colours[12, [12, 36, 60]], atol=3)

    def test_grey_profile_is_honoured(self):
        ramp = np.tile(np.arange(256, dtype=np.uint8), (8, 1))
        profile = imagecodecs.cms_profile("gray", gamma=1.0)
        write_picture(self.folder / "g.png", ramp, icc_profile=profile)
        light = StillFrame(str(self.folder / "g.png")).linear(256, 8)
        assert_allclose(light[0, :, 1], np.arange(256) / 255, atol=2e-3)

    def test_claimed_size_and_single_pixel(self):
        write_picture(self.folder / "one.png", np.full((1, 1, 3), 70, np.uint8))
        self.assertEqual(StillFrame(str(self.folder / "one.png")).linear(1, 1).shape, (1, 1, 3))
        header = bytearray((self.folder / "one.png").read_bytes())
        header[16:24] = (100_000).to_bytes(4, "big") * 2
        header[29:33] = __import__("zlib").crc32(bytes(header[12:29])).to_bytes(4, "big")
        self.assertIn("100000 x 100000", self.refused("huge.png", bytes(header)))


def srgb_curve(light: np.ndarray) -> np.ndarray:
    from windfell.pixels.colour import srgb_encoded

    return srgb_encoded(light)


class Video(InFolder):
    def setUp(self):
        super().setUp()
        self.path = str(self.folder / "clip.mp4")
        self.pictures = []
        base = (srgb_curve(smooth_light(120, 160)) * 255).astype(np.uint8)
        for n in range(50):
            one = base.copy()
            one[40:80, 3 * n : 3 * n + 12] = 250
            self.pictures.append(one)
        write_video(Path(self.path), self.pictures, 25, DAY)

    def test_facts(self):
        facts = video.video_facts(self.path)
        self.assertEqual((facts.width, facts.height, facts.rate), (160, 120, 25.0))
        self.assertAlmostEqual(facts.duration_s, 2.0, delta=0.05)
        self.assertEqual(facts.taken, DAY)

    def test_an_instant_is_the_frame_shown_then(self):
        for n in (0, 7, 24, 49):
            with self.subTest(n):
                found = video.instant(self.path, n / 25)
                error = np.abs(found.astype(int) - self.pictures[n]).mean()
                beside = np.abs(found.astype(int) - self.pictures[(n + 3) % 50]).mean()
                self.assertLess(error, 3.0)
                self.assertGreater(beside, error + 1.0)

    def test_choices_of_instants(self):
        facts = video.video_facts(self.path)
        self.assertEqual(video.evenly(0.2, 1.0, 5), [0.2, 0.4, 0.6000000000000001, 0.8, 1.0])
        assert_allclose(video.every_nth(facts, 0.0, 1.0, 5), [0, 0.2, 0.4, 0.6, 0.8, 1.0])
        chosen = video.differing(self.path, 0.0, 2.0, 0.02, Job())
        self.assertTrue(3 <= len(chosen) <= 40, chosen)
        self.assertEqual(len(video.strip(self.path, 6, 64, Job())), 6)

    def test_instants_are_frames_like_any_other(self):
        project, _ = project_of([self.path])
        host = engine()
        opened = open_source(VideoInstant(self.path, 0.4), host.cache, None)
        sheet = opened.sheet(1.0, Job())
        assert_allclose(sheet.light(0, 0, 160, 120)[100, 100], srgb_decoded(
            self.pictures[10][100, 100] / 255.0) @ SRGB_TO_WORKING.T, atol=0.03)
        from dataclasses import replace

        frame_set = project.sets[0]
        frames = tuple(
            replace(frame_set.frames[0], id=str(n), source=VideoInstant(self.path, t))
            for n, t in enumerate((0.2, 0.8, 1.4)))
        project = project.with_set(replace(frame_set, kind=Kind.STACK, frames=frames))
        picture = host.picture(project, "set", 1.0, Job())
        self.assertEqual(picture.light.shape, (120, 160, 3))
        # the median of three places of the bright box holds none of them
        self.assertLess(picture.light[60, :].max(), 0.75)

    def test_what_is_no_video_is_said(self):
        text = self.folder / "text.mp4"
        text.write_text("not a video")
        sound = self.folder / "sound.mkv"
        with av.open(str(sound), "w") as container:
            stream = container.add_stream("pcm_s16le", rate=8000)
            frame = av.AudioFrame.from_ndarray(np.zeros((1, 800), np.int16), "s16", "mono")
            frame.rate = 8000
            container.mux(stream.encode(frame))
            container.mux(stream.encode())
        for path, words in ((text, "not a video"), (sound, "no picture stream"), (self.folder / "gone.mp4", "exist")):
            with self.subTest(path.name), self.assertRaisesRegex(FrameUnreadable, words):
                video.video_facts(str(path))





class Previews(InFolder):
    def test_the_thumbnail_inside_is_found_and_turned(self):
        from windfell.demo.files import exif_bytes, write_jpeg
        from windfell.demo.photograph import Shot
        from windfell.geometry.camera import Lens

        pixels = (srgb_curve(smooth_light(400, 640)) * 255).astype(np.uint8)
        path = self.folder / "a.jpg"
        write_jpeg(path, pixels, exif_bytes(Shot(Lens(640, 400, 500.0), np.eye(3)), DAY))
        still = StillFrame(str(path))
        small = still.preview()
        self.assertEqual(small.shape[:2], (100, 160))
        self.assertEqual(still.metadata.taken, DAY)
        self.assertLess(np.abs(small.astype(int) - pixels[2::4, 2::4]).mean(), 4)
        Image.fromarray(pixels).save(self.folder / "b.jpg")
        self.assertIsNone(StillFrame(str(self.folder / "b.jpg")).preview())

    def test_the_preview_of_a_raw_stands_as_the_raw_library_turns_the_picture(self):
        lying = np.zeros((20, 30, 3), np.uint8)
        lying[:5, :5] = 255
        light = np.zeros((60, 80, 3), np.float32)
        light[:15, :15] = 0.9
        for orientation, flip in ((1, 0), (3, 3), (8, 5), (6, 6)):
            write_dng(self.folder / "t.dng", light, orientation=orientation)
            picture = StillFrame(str(self.folder / "t.dng")).encoded()
            small = turned_up(lying, flip)
            self.assertEqual(small.shape[0] > small.shape[1], picture.shape[0] > picture.shape[1])
            corners = [[int(np.argmax([p[y, x].mean() for y in (2, -3) for x in (2, -3)]))] for p in (small, picture)]
            self.assertEqual(corners[0], corners[1], orientation)
        assert_array_equal(turned_up(lying.swapaxes(0, 1), 6), lying.swapaxes(0, 1))

    def test_a_raw_without_preview_has_none(self):
        write_dng(self.folder / "c.dng", smooth_light(60, 80))
        preview = StillFrame(str(self.folder / "c.dng")).preview()
        self.assertTrue(preview is None or preview.ndim == 3)
