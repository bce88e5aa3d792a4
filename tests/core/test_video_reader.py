"""Instants of a video decoded in one go are those that were sought one by one."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from windfell.frames import video_reader
from windfell.frames.video import instant
from windfell.frames.video_reader import OPEN


def clip(path: Path, key_every: int) -> str:
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=Fraction(25), options={"g": str(key_every), "bf": "2"})
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
        for n in range(60):
            picture = np.full((48, 64, 3), 4 * n, np.uint8)
            for packet in stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")):
                out.mux(packet)
        for packet in stream.encode():
            out.mux(packet)
    return str(path)


class Readers(unittest.TestCase):
    TIMES = (0.0, 0.04, 0.05, 0.8, 2.36, 0.4, 0.44, 9.0, 2.0)

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.addCleanup(OPEN.close)
        self.folder = Path(folder.name)

    def test_pictures_are_the_same_in_any_order_and_with_any_key_frames(self):
        for key_every in (1, 12, 60):
            path = clip(self.folder / f"{key_every}.mp4", key_every)
            alone = []
            for t in self.TIMES:
                OPEN.close()
                alone.append(instant(path, t))
            OPEN.close()
            for t, expected in zip(self.TIMES, alone, strict=True):
                with self.subTest(key_every=key_every, t=t):
                    np.testing.assert_array_equal(instant(path, t), expected)
            level = float(alone[3].mean())
            self.assertLess(abs(level - 4 * 20), 6)

    def test_another_file_is_another_reader(self):
        one = clip(self.folder / "a.mp4", 60)
        dark = self.folder / "b.mp4"
        with av.open(str(dark), "w") as out:
            stream = out.add_stream("libx264", rate=Fraction(25))
            stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
            for _ in range(60):
                for packet in stream.encode(av.VideoFrame.from_ndarray(np.zeros((48, 64, 3), np.uint8),
                                                                       format="rgb24")):
                    out.mux(packet)
            for packet in stream.encode():
                out.mux(packet)
        self.assertGreater(instant(one, 1.0).mean(), 60)
        self.assertLess(instant(str(dark), 1.2).mean(), 20)

    def test_what_comes_after_goes_on_and_files_are_let_go(self):
        path = clip(self.folder / "a.mp4", 60)
        made = []
        whole = video_reader.Reader.__init__
        self.addCleanup(setattr, video_reader.Reader, "__init__", whole)
        video_reader.Reader.__init__ = lambda *a: (made.append(1), whole(*a))[1]
        for n in range(20):
            instant(path, 0.1 * n)
        self.assertEqual(len(made), 1)
        instant(path, 0.2)
        self.assertEqual(len(made), 2)
        self.assertLessEqual(len(OPEN._idle), video_reader.MOST_OPEN)
        OPEN.close()
        self.assertEqual(OPEN._idle, [])
