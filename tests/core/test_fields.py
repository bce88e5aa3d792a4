"""Darks and flats: recognised by what they show, given to the stack they calibrate, mended from among its frames."""

import contextlib
import io
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from PIL import ExifTags, Image

from tests.support import engine, frames_in, project_of, ridge, textured, write_picture
from windfell.cli.main import main
from windfell.engine.applying import made_card
from windfell.engine.mend import mended
from windfell.engine.proposals import propose
from windfell.engine.proposed_fields import calibrated_by, fields_among
from windfell.engine.survey import readiness
from windfell.errors import BadRequest
from windfell.frames.shots import Shot
from windfell.job import Job
from windfell.pixels.colour import srgb_encoded
from windfell.pixels.fields import Field, FieldLook, field_of, was_covered
from windfell.recipe.calibrating import used_as_fields, with_fields, without_fields
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.manners import Manner, Recipe
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.output import Format, Output

SIZE = 200, 300
Y, X = (v / s for v, s in zip(np.mgrid[: SIZE[0], : SIZE[1]], SIZE, strict=True))
FALLOFF = (1 - 0.5 * ((X - 0.5) ** 2 + (Y - 0.5) ** 2)).astype(np.float32)
LAND = cv2.GaussianBlur(textured(*SIZE, 4), (0, 0), 2).astype(np.float32) / 255 * 0.5 + 0.03


def pattern() -> np.ndarray:
    """The sensor's own signal: a glow in a corner, hot px."""
    rng = np.random.default_rng(3)
    out = 0.002 * np.exp(-((X - 1) ** 2 + (Y - 1) ** 2) / 0.05)
    out[tuple(rng.integers(0, s, 160) for s in SIZE)] += 0.2
    return np.repeat(out[..., None], 3, axis=2).astype(np.float32)


def taken(light: np.ndarray, seed: int) -> np.ndarray:
    noise = 0.0006 * np.random.default_rng(seed).standard_normal((*SIZE, 3))
    seen = np.clip(light * FALLOFF[..., None] + pattern() + noise, 0, 1)
    return np.rint(255 * srgb_encoded(seen)).astype(np.uint8)


class Told(unittest.TestCase):
    def small(self, light: np.ndarray) -> np.ndarray:
        return cv2.resize(np.ascontiguousarray(light, np.float32), (150, 100), interpolation=cv2.INTER_AREA)

    def test_a_covered_lens_and_an_even_field_are_told_from_all_else(self):
        even = np.full((*SIZE, 3), 0.4, np.float32) * FALLOFF[..., None]
        clouds = even * (1 + 0.5 * LAND)
        post = even.copy()
        post[60:140, 140:150] *= 0.5
        lamp = pattern() + np.float32(0.0005)
        lamp[90:100, 100:110] = 0.3
        shaded = even * np.where(X < 0.5, 1, 0.1)[..., None]
        for name, light, wanted in (
                ("dark", pattern(), Field.DARK), ("flat", even, Field.FLAT), ("a lamp by night", lamp, None),
                ("clouds", clouds, None), ("a post in the mist", post, None), ("land", LAND, None),
                ("burnt out", np.ones_like(even), None), ("half of it shaded", shaded, None),
                ("dusk", 0.6 * np.exp2(-4 * Y)[..., None].repeat(3, 2), None)):
            with self.subTest(name):
                self.assertIs(field_of(self.small(light)).field, wanted)

    def test_a_bracket_s_shortest_and_a_night_as_black_are_no_darks(self):
        black = FieldLook(Field.DARK, 0.0005, 0.002, -3.0)
        lit = [FieldLook(None, low, 0.9, -3.0) for low in (0.02, 0.05, 0.04)]
        self.assertIs(was_covered(black, lit), True)
        self.assertIs(was_covered(replace(black, exposure_ev=-5.0), lit), False)
        self.assertIsNone(was_covered(replace(black, exposure_ev=None), lit))
        sparks = [replace(x, low=0.001) for x in lit]
        self.assertIs(was_covered(black, sparks), False)
        self.assertIs(was_covered(lit[0], lit), False)
        self.assertIs(was_covered(black, []), False)

    def test_flats_are_several_in_a_row_beside_darks(self):
        dark, flat, lit = (FieldLook(f, low, high, 0.0) for f, low, high in (
            (Field.DARK, 0.0, 0.001), (Field.FLAT, 0.3, 0.4), (None, 0.1, 0.8)))
        looks = {"a1": dark, "a2": lit, "a3": flat, "a4": lit, "a5": flat, "a6": flat, "a7": flat}
        shots = [Shot(p, (9, 9)) for p in looks]
        found = fields_among(shots, lambda s: looks[s.path])
        self.assertEqual(found, {"a1": Field.DARK, "a5": Field.FLAT, "a6": Field.FLAT, "a7": Field.FLAT})
        self.assertEqual(fields_among(shots[1:], lambda s: looks[s.path]), {}, "a plain sky, perhaps")
        others = [replace(s, size=(7, 7)) if s.path in ("a2", "a4") else s for s in shots]
        for some in (shots[:1], others):
            self.assertEqual(fields_among(some, lambda s: looks[s.path]), {}, "nothing of its size shows anything")


class Given(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.lights = [self.saved(f"f{n}.png", taken(LAND, n)) for n in range(5)]
        self.darks = [self.saved(f"f{5 + n}.png", taken(0 * LAND, 9 + n)) for n in range(3)]
        self.flats = [self.saved(f"f{8 + n}.png", taken(0 * LAND + 0.5, 20 + n)) for n in range(3)]

    def saved(self, name: str, picture: np.ndarray) -> str:
        exif = Image.Exif()
        exif[ExifTags.IFD.Exif] = {
            ExifTags.Base.ExposureTime: 30.0, ExifTags.Base.FNumber: 4.0, ExifTags.Base.ISOSpeedRatings: 800}
        return str(write_picture(self.folder / name, picture, exif=exif))

    def off(self, project: Project, set_id: str) -> float:
        """How far the mean is off the land, at the worst px but a few, of its light."""
        light = engine().picture(project, set_id, 1.0, Job()).light
        truth = write_picture(self.folder / "t.png", np.rint(255 * srgb_encoded(LAND)).astype(np.uint8))
        plain, _ = project_of([truth], Kind.STACK)
        ratio = light / np.maximum(engine().picture(plain, "set", 1.0, Job()).light, 1e-3)
        return float(np.quantile(np.abs(ratio / np.median(ratio) - 1), 0.999))

    def test_a_card_gives_them_to_its_stack_and_the_picture_is_calibrated(self):
        sets = propose(engine(), [*self.flats, *self.lights, *self.darks, *frames_in(ridge())], Job()).sets
        (own,) = [s for s in sets if s.kind is Kind.STACK]
        self.assertEqual([f.source.path for f in own.frames], self.lights)
        self.assertEqual([[s.path for s in some] for some in (own.combining.darks, own.combining.flats)],
                         [self.darks, self.flats])
        self.assertEqual(sum(len(s.frames) for s in sets), 9)
        told = io.StringIO()
        with contextlib.redirect_stdout(told):
            self.assertEqual(main(["inspect", *self.lights, *self.darks, *self.flats]), 0)
        self.assertIn("calibrated by 3 darks, 3 flats", told.getvalue())
        mean = Manner(combining=Combining(Rule.MEAN), output=Output(Format.PNG, 16))
        (made,) = made_card(engine(), Recipe("Mean", mean, mean), [*self.darks, *self.lights], self.folder, Job())
        self.assertIn(("Calibrated by", "3 darks"), made.figures)
        own = replace(own, combining=replace(own.combining, rule=Rule.MEAN))
        project = Project((own,))
        self.assertLess(self.off(project, own.id), 0.06)
        bare = without_fields(project, own.id).project
        self.assertGreater(self.off(bare, own.id), 0.2)

    def test_without_a_stack_of_their_size_they_stay_frames(self):
        sets = propose(engine(), [*self.darks, *frames_in(ridge())], Job()).sets
        self.assertEqual(sum(len(s.frames) for s in sets), 7)
        self.assertFalse(any(s.combining.darks for s in sets))
        shots = [Shot(p, (9, 9)) for p in ("a", "b", "c")]
        row = FrameSet("r", "Row", Kind.PANORAMA, tuple(frame_from_path(s.path) for s in shots[:2]))
        self.assertIsNone(calibrated_by([row], shots, {"c": Field.DARK}))

    def test_readiness_names_those_among_the_frames_and_mends_them(self):
        project, set_id = project_of([*self.darks[:2], *self.lights, self.flats[0]], Kind.STACK,
                                     combining=Combining(Rule.MEAN))
        own = engine()
        found = {f.fault: f for f in readiness(own, project, set_id, Job())}
        ids = [f.id for f in project.set(set_id).frames]
        self.assertEqual((found["darks"].frames, found["flats"].frames), (tuple(ids[:2]), (ids[-1],)))
        self.assertTrue(found["darks"].safe and not found["flats"].safe)
        self.assertNotIn("unconnected", found)
        edit = mended(own, project, set_id, [found["darks"], found["flats"]], Job())
        self.assertEqual(edit.words, "use 2 as darks; use 1 as flats")
        after = edit.project.set(set_id)
        self.assertEqual([f.id for f in after.frames], ids[2:-1])
        self.assertEqual((len(after.combining.darks), len(after.combining.flats)), (2, 1))
        self.assertFalse({"darks", "flats"} & {f.fault for f in readiness(own, edit.project, set_id, Job())})
        few = Project((replace(project.set(set_id), frames=project.set(set_id).frames[:4]),))
        self.assertFalse({"darks"} & {f.fault for f in readiness(own, few, set_id, Job())}, "too little beside them")

    def test_edits_keep_what_hangs_on_frames_whole(self):
        project, set_id = project_of(self.lights, Kind.STACK)
        own = project.set(set_id)
        first = own.frames[0].id
        project = project.with_set(replace(own, registration=replace(own.registration, reference=first),
                                           combining=replace(own.combining, base=first)))
        made = used_as_fields(project, set_id, "darks", [first]).project.set(set_id)
        self.assertEqual((made.registration.reference, made.combining.base, len(made.frames)), (None, None, 4))
        again = with_fields(project, set_id, "flats", [self.flats[0], self.flats[0]])
        self.assertEqual(again.words, "calibrate by 1 flat")
        with self.assertRaisesRegex(BadRequest, "no stack"):
            with_fields(project.with_set(replace(own, kind=Kind.PANORAMA)), set_id, "darks", ["b"])


if __name__ == "__main__":
    unittest.main()
