"""Dust at one place of all frames: found, told from the scene, evened out once for all."""

import tempfile
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from tests.support import drawn, engine, frames_in, green, project_of, ridge
from windfell.cli.main import main
from windfell.develop.dust import Dust, DustlessSheet, found_dust
from windfell.engine.dust import dust_of, has_dust, with_dust
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.sheet import Sheet
from windfell.recipe.model import Kind
from windfell.recipe.project_file import mask_name

SPECKS = ((90.0, 60.0, 6.0, 0.28), (220.0, 95.0, 5.0, 0.22), (160.0, 40.0, 7.0, 0.3))


def shadow(h: int, w: int, specks=SPECKS) -> np.ndarray:
    y, x = np.mgrid[0:h, 0:w]
    left = np.ones((h, w), np.float32)
    for cx, cy, r, deep in specks:
        left *= 1 - deep / (1 + np.exp(np.clip((np.hypot(x - cx, y - cy) - r) / (0.2 * r), -40, 40)))
    return left


@lru_cache(maxsize=1)
def dusty() -> Path:
    """The row through a dusty sensor."""
    def draw(folder: Path) -> None:
        folder.mkdir(parents=True)
        for path in frames_in(ridge(6)):
            light = (cv2.imread(path) / 255.0) ** 2.2
            light *= shadow(*light.shape[:2])[..., None]
            code = np.rint(255 * light ** (1 / 2.2)).astype(np.uint8)
            cv2.imwrite(str(folder / Path(path).name), code, [cv2.IMWRITE_JPEG_QUALITY, 97])

    return drawn("dusty", draw)


class Found(unittest.TestCase):
    def test_specks_in_the_sky_are_found_and_nothing_else(self):
        project, set_id = project_of(frames_in(dusty()))
        found = dust_of(engine(), project, set_id, Job())
        self.assertEqual(len(found.specks), len(SPECKS))
        wide = cv2.imread(frames_in(dusty())[0]).shape[1]
        places = sorted((round(x * wide), round(y * wide)) for x, y, _ in found.specks)
        for (x, y), (cx, cy, *_) in zip(places, sorted(SPECKS), strict=True):
            self.assertLess(np.hypot(x - cx, y - cy), 3)
        clean, _ = project_of(frames_in(ridge(6)))
        self.assertEqual(dust_of(engine(), clean, set_id, Job()).specks, ())

    def test_what_moves_with_the_scene_is_no_dust(self):
        rng = np.random.default_rng(4)
        frames = []
        for n in range(6):
            frame = np.full((240, 320), 170, np.uint8)
            cv2.circle(frame, (60 + 30 * n, 100), 6, 120, -1)
            frames.append(np.clip(frame + rng.normal(0, 1.5, frame.shape), 0, 255).astype(np.uint8))
        self.assertEqual(found_dust(frames).specks, ())
        edge = [f.copy() for f in frames]
        for f in edge:
            cv2.line(f, (0, 200), (319, 200), 100, 3)
        self.assertEqual(found_dust(edge).specks, ())

    def test_what_cannot_be_told_is_said(self):
        for paths, kind, words in ((frames_in(green()), Kind.STACK, "stood"),
                                   (frames_in(ridge())[:3], Kind.PANORAMA, "4 frames are needed")):
            project, set_id = project_of(paths, kind)
            with self.assertRaisesRegex(BadRequest, words):
                dust_of(engine(), project, set_id, Job())


class Evened(unittest.TestCase):
    def test_light_is_given_back_where_it_was_taken_and_nowhere_else(self):
        light = np.full((90, 120, 3), 0.4, np.float32)
        left = shadow(180, 240, ((120.0, 80.0, 12.0, 0.3),))
        sheet = DustlessSheet(Sheet(light * cv2.resize(left, (120, 90), interpolation=cv2.INTER_AREA)[..., None]),
                              np.rint(255 * left).astype(np.uint8))
        seen = sheet.light(0, 0, 120, 90)
        self.assertLess(float(np.abs(seen - light).max()), 0.02)
        part = sheet.light(50, 30, 75, 55)
        np.testing.assert_allclose(part, seen[30:55, 50:75], atol=3e-3)
        np.testing.assert_allclose(sheet.light(0, 60, 120, 90), light[60:], rtol=1e-5)

    def test_all_frames_are_mended_as_one_step_and_left_again(self):
        own = engine()
        project, set_id = project_of(frames_in(dusty()))
        dust = dust_of(own, project, set_id, Job())
        own.masks = {mask_name(dust.left): dust.left}
        edit = with_dust(project, set_id, mask_name(dust.left), len(dust.specks))
        self.assertEqual(edit.words, "even out 3 specks of dust")
        self.assertTrue(has_dust(edit.project, set_id))
        self.assertEqual(with_dust(edit.project, set_id, None).project, project)
        frame, plain = edit.project.set(set_id).frames[0], project.set(set_id).frames[0]
        opened = own.opened(project, plain, Job())
        clean = own.opened(project, replace(plain, source=replace(plain.source, path=frames_in(ridge(6))[0])), Job())
        light = lambda o, f: (lambda s: s.light(0, 0, s.width, s.height))(own.developed(o, f, 1.0, Job()))  # noqa: E731
        truth, dirty, mended = light(clean, plain), light(opened, plain), light(opened, frame)
        for cx, cy, r, _ in SPECKS:
            at = np.s_[int(cy - r / 2) : int(cy + r / 2), int(cx - r / 2) : int(cx + r / 2)]
            before, after = (abs(float(v[at].mean() / truth[at].mean()) - 1) for v in (dirty, mended))
            self.assertGreater(before, 0.15)
            self.assertLess(after, 0.05)

    def test_on_the_command_line(self):
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "a.png"
            self.assertEqual(main(["panorama", *frames_in(dusty()), "--dust", "even", "--out", str(out)]), 0)
            self.assertEqual(main(["panorama", *frames_in(ridge())[:3], "--dust", "even", "--out", str(out)]), 2)

    def test_a_frame_without_specks_is_read_as_it_is(self):
        none = Dust(np.full((20, 30), 255, np.uint8), ())
        plain = np.random.default_rng(0).uniform(0, 1, (20, 30, 3)).astype(np.float32)
        np.testing.assert_array_equal(DustlessSheet(Sheet(plain), none.left).light(0, 0, 30, 20), plain)


if __name__ == "__main__":
    unittest.main()
