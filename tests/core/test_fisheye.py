"""Frames through a fisheye of which nothing is said, or that the metadata name."""

import contextlib
import io
import tempfile
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from unittest import mock

import numpy as np

from tests.support import drawn, engine, frames_in, project_of, ridge, rotation_errors_deg
from windfell.align.features import Features
from windfell.align.fisheye import (
    Turns,
    fisheye_by_turns,
    fisheye_diagonal,
    focal_of_diagonal,
    laid_flat,
    matched_pairs,
    may_be_fisheye,
    worth_a_look,
)
from windfell.align.panorama import grounded
from windfell.align.parallax import depth_of
from windfell.align.registration import PairFit, PanoramaRegistration, Placed, Unplaced
from windfell.align.solve import LensHint
from windfell.cli.main import main
from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_ridge
from windfell.demo.truth import START
from windfell.develop.lens import FULL_FRAME_HALF_MM
from windfell.engine.fisheyes import fisheye_correction, fits_fisheye, joins_better, through_fisheye
from windfell.engine.measured import with_measured
from windfell.engine.mend import mended
from windfell.engine.stage import ideal_features
from windfell.engine.survey import readiness, registered_coverage, share_seen, surveyed
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.geometry.rotation import angle_between, from_yaw_pitch_roll
from windfell.job import Job
from windfell.readiness.findings import Mend
from windfell.recipe.model import LensCorrection

WIDTH, HEIGHT = 720, 480
# one for all: what it finds once it keeps
ENGINE = engine()
NAMED = Camera("Canon", "Canon EOS 5D Mark III", "Canon EF 8-15mm f/4L Fisheye USM", 1.0, focal_mm=15.0)


def fisheye_lens(focal: float) -> Lens:
    """An equisolid one; its focal length counts in half diagonals."""
    focal_px = focal * 0.5 * float(np.hypot(WIDTH, HEIGHT))
    return Lens(WIDTH, HEIGHT, focal_px, optics=Optics(mapping="equisolid", focal=focal))


def shots() -> list[Shot]:
    lens = fisheye_lens(15.0 / FULL_FRAME_HALF_MM)
    turns = np.radians([(-60, 1, -1), (0, -1, 1), (61, 1, 0)])
    return [Shot(lens, from_yaw_pitch_roll(*t), seed=n) for n, t in enumerate(turns)]


@lru_cache(maxsize=1)
def taken() -> tuple[Path, Path]:
    """Folders of the same frames: without a word on the lens, and with its name."""
    def draw(folder: Path) -> None:
        photographer = Photographer(paint_ridge(2600, 5, low=-90, high=90))
        for part in ("mute", "named"):
            (folder / part).mkdir(parents=True)
        for n, shot in enumerate(shots()):
            pixels = photographer.take(shot)
            write_jpeg(folder / "mute" / f"f{n + 1}.jpg", pixels, b"")
            write_jpeg(folder / "named" / f"f{n + 1}.jpg", pixels, exif_bytes(shot, START, NAMED))

    folder = drawn("fisheye", draw)
    return folder / "mute", folder / "named"


def _diagonal(features: list[Features]) -> float | None:
    return fisheye_diagonal(features, matched_pairs(features, Job()), Job())


def _features(folder: Path) -> list[Features]:
    project, set_id = project_of(frames_in(folder))
    own = project.set(set_id)
    return ideal_features(ENGINE, ENGINE.opened_all(project, own, Job()), own.frames, Job())


def _of_lens(lens: Lens, rotations: list[np.ndarray]) -> list[Features]:
    """Features of random spots around, as frames turned so show them."""
    rng = np.random.default_rng(4)
    rays = rng.normal(size=(6000, 3))
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    looks = rng.normal(size=(len(rays), 128)).astype(np.float32)
    looks /= np.linalg.norm(looks, axis=1, keepdims=True)
    frames = []
    for rotation in rotations:
        px = np.nan_to_num(lens.project(rays @ rotation), nan=-1e4, posinf=-1e4, neginf=-1e4)
        px += rng.normal(0, 0.3, px.shape)
        seen = (np.abs(px - lens.centre) < lens.centre).all(axis=1)
        frames.append(Features(px[seen], looks[seen], WIDTH, HEIGHT))
    return frames


class Fisheyes(unittest.TestCase):
    def _joined(self, folder: Path, tolerance_deg: float) -> tuple:
        project, set_id = project_of(frames_in(folder))
        host = ENGINE
        through, words = through_fisheye(host, project, set_id, Job())
        found = host.stages(through, set_id).registration(Job())
        self.assertEqual(found.placed, [0, 1, 2])
        off = rotation_errors_deg([f.rotation for f in found.frames], [s.rotation for s in shots()])
        self.assertLess(off.max(), tolerance_deg)
        return through.set(set_id), words

    def test_one_of_which_nothing_is_known_is_told_and_joined(self):
        own, words = self._joined(taken()[0], 0.15)
        self.assertIn("fisheye of about", words)
        self.assertTrue(all(f.lens.profile for f in own.frames))

    def test_one_that_the_metadata_name_is_taken_by_its_profile(self):
        own, words = self._joined(taken()[1], 0.1)
        self.assertIn("8-15mm", words)
        self.assertEqual({f.lens.profile for f in own.frames}, {"Canon | Canon EF 8-15mm f/4L Fisheye USM"})

    def test_others_are_left_as_they_are(self):
        project, set_id = project_of(frames_in(ridge()))
        self.assertEqual(through_fisheye(ENGINE, project, set_id, Job()), (project, ""))
        # what was decided by hand is not decided anew
        project, set_id = project_of(frames_in(taken()[0]))
        own = project.set(set_id)
        by_hand = project.with_set(replace(own, frames=tuple(
            replace(f, lens=LensCorrection(k1=-0.02)) for f in own.frames)))
        self.assertEqual(through_fisheye(ENGINE, by_hand, set_id, Job()), (by_hand, ""))

    def test_the_angle_is_told_by_what_agrees(self):
        for folder, low, high in ((taken()[0], 130, 185), (ridge(), None, None)):
            degrees = _diagonal(_features(folder))
            if low is None:
                self.assertIsNone(degrees)
            else:
                self.assertTrue(low <= degrees <= high, degrees)

    def test_a_plain_row_is_told_without_a_look_at_its_light(self):
        for folder, pairs in ((taken()[0], [(0, 1), (0, 2), (1, 2)]), (ridge(), [])):
            features = _features(folder)
            self.assertEqual(worth_a_look(features, matched_pairs(features, Job()), Job()), pairs)

    def test_what_no_flat_view_shows_agrees_on_nothing(self):
        points = np.random.default_rng(2).uniform([5, 5], [90, 90], (60, 2))  # a corner: beyond a right angle
        corner = Features(points, np.zeros((60, 128), np.float32), WIDTH, HEIGHT)
        alike = [((0, 1), np.stack([np.arange(60)] * 2, axis=1))]
        self.assertEqual(worth_a_look([corner, corner], alike, Job()), [])
        with mock.patch("windfell.align.fisheye.explanations", return_value=([], "")) as asked:
            worth_a_look([corner, corner], alike, Job())
        self.assertEqual([len(c.args[0]) for c in asked.call_args_list], [60, 60, 60, 16, 0, 0, 0])

    def test_the_correction_means_the_angle(self):
        for degrees in (135.0, 180.0, 210.0):
            focal = fisheye_correction(degrees).focal_mm / FULL_FRAME_HALF_MM
            self.assertAlmostEqual(focal * np.radians(degrees) / 2, 1.0, 2)

    def test_features_laid_flat_are_not_tried_as_bent_ones(self):
        flat = laid_flat(_features(taken()[0]), focal_of_diagonal(150))
        flat.append(replace(flat[0], points=flat[0].points[:0], descriptors=flat[0].descriptors[:0]))
        ground = grounded(flat, [LensHint(("one",), None)] * 4, Job())
        self.assertEqual(ground.members, (0, 1, 2))
        self.assertTrue(all(np.isfinite(o.points_a).all() for o in ground.held))

    def test_far_more_must_agree_than_through_a_plain_lens(self):
        frames = [replace(f, look=None) for f in laid_flat(_features(taken()[0])[:2], 0.7)]
        for fisheye, told in ((124, False), (126, True)):
            with mock.patch("windfell.align.fisheye.worth_a_look", return_value=[(0, 1)]), \
                    mock.patch("windfell.align.fisheye.find_links", return_value=([], [])), \
                    mock.patch("windfell.align.fisheye.agreeing", side_effect=[60, 100, 80, 90, fisheye, 30, 0]):
                self.assertEqual(_diagonal(frames), 155.0 if told else None)

    def test_a_turn_that_features_at_the_edges_agree_on_tells_a_fisheye_and_where_frames_lie(self):
        apart = [from_yaw_pitch_roll(np.radians(yaw), 0.02, -0.03) for yaw in (-54, 54)]
        fisheye, plain = _of_lens(fisheye_lens(15.0 / FULL_FRAME_HALF_MM), apart), _of_lens(
            Lens(WIDTH, HEIGHT, 430.0), [from_yaw_pitch_roll(np.radians(yaw), 0, 0) for yaw in (-12, 12)])
        self.assertIsNone(fisheye_by_turns(plain, matched_pairs(plain, Job()), Job()))
        turns = fisheye_by_turns(fisheye, matched_pairs(fisheye, Job()), Job())
        self.assertIn(turns.degrees, (150.0, 165.0, 180.0))
        self.assertLess(angle_between(turns.of[0, 1], apart[1].T @ apart[0]), np.radians(6))

        def found(yaw: float, *links: tuple[int, int]) -> PanoramaRegistration:
            lens, off = Lens(WIDTH, HEIGHT, 400.0), from_yaw_pitch_roll(np.radians(yaw), 0, 0)
            fits = tuple(PairFit(a, b, *[np.zeros((0, 2))] * 2, 0.2, np.zeros(0)) for a, b in links)
            return PanoramaRegistration((Placed(lens, apart[0], 0.2), Placed(lens, apart[1] @ off, 0.2)), fits, 0.2)

        self.assertFalse(turns.contradict(found(0.0, (0, 1))))
        self.assertTrue(turns.contradict(found(20.0, (0, 1))))
        self.assertTrue(turns.contradict(found(0.0, (0, 2))))

    def test_what_a_plain_lens_makes_of_a_fisheyes_edges_is_not_kept(self):
        project, set_id = project_of(frames_in(taken()[0])[:2])
        host, wrong = ENGINE, PanoramaRegistration((Placed(Lens(WIDTH, HEIGHT, 700.0, k1=-0.4), np.eye(3), 0.2),
                                                    Unplaced("no overlap")), (), 0.2)
        for joined, words in ((None, "not all can be joined"), (PanoramaRegistration(wrong.frames[:1] * 2, (), 0.2),
                                                                "joined as such")):
            tried = [wrong, *[joined and replace(joined, frames=tuple(
                replace(f, lens=replace(f.lens, k1=0.0)) for f in joined.frames))] * 3]
            with mock.patch("windfell.engine.fisheyes._registered", side_effect=tried), \
                    mock.patch("windfell.engine.fisheyes.fisheye_diagonal", return_value=None), \
                    mock.patch("windfell.engine.fisheyes.fisheye_by_turns") as told:
                told.return_value.degrees, told.return_value.contradict = 165.0, lambda _: True
                through, said = through_fisheye(host, project, set_id, Job())
            self.assertIn(words, said)
            self.assertTrue(all(f.lens.profile for f in through.set(set_id).frames))
        for turns in (None, Turns(165.0, {})):
            with mock.patch("windfell.engine.fisheyes._registered", return_value=wrong), \
                    mock.patch("windfell.engine.fisheyes.fisheye_diagonal", return_value=None), \
                    mock.patch("windfell.engine.fisheyes.fisheye_by_turns", return_value=turns):
                self.assertEqual(through_fisheye(host, project, set_id, Job()), (project, ""))

    def test_only_what_is_left_out_or_odd_may_be_one(self):
        def found(*lenses: Lens | None, rms_px: float = 0.2) -> PanoramaRegistration:
            return PanoramaRegistration(tuple(
                Unplaced("no overlap") if x is None else Placed(x, np.eye(3), rms_px) for x in lenses), (), rms_px)

        plain = Lens(WIDTH, HEIGHT, 700.0)
        self.assertFalse(may_be_fisheye(found(plain, plain)))
        for doubtful in (None, found(plain, None), found(plain, replace(plain, k1=-0.4)), found(plain, rms_px=0.8)):
            self.assertTrue(may_be_fisheye(doubtful))
        self.assertTrue(fits_fisheye(found(plain, replace(plain, k1=-0.09))))
        for wrong in (None, found(plain, replace(plain, k1=0.3)), found(plain, plain, rms_px=1.2)):
            self.assertFalse(fits_fisheye(wrong))
        self.assertTrue(joins_better(found(plain, plain), None, 0.8))
        self.assertTrue(joins_better(found(plain, plain), found(plain, None), 0.8))
        self.assertFalse(joins_better(found(plain, None, rms_px=0.01), found(plain, plain), 0.8))
        for rms_px, better in ((0.15, True), (0.17, False)):
            self.assertEqual(joins_better(found(plain, plain, rms_px=rms_px), found(plain, plain), 0.8), better)
        self.assertFalse(joins_better(None, None, 0.8))

    def test_what_align_found_replaces_the_guess(self):
        project, set_id = project_of(frames_in(ridge()))
        found = ENGINE.stages(project, set_id).registration(Job())
        guessed = replace(surveyed(ENGINE, project, set_id, Job()), fisheye_deg=155.0)
        after = with_measured(guessed, [f.id for f in project.set(set_id).used], found, registered_coverage(found),
                              depth_of(found, 1.5))
        self.assertIsNone(after.fisheye_deg)

    def test_what_frames_share_is_told_through_the_fisheye(self):
        project, set_id = project_of(frames_in(taken()[0]))
        through, _ = through_fisheye(ENGINE, project, set_id, Job())
        seen = ENGINE.stages(through, set_id).as_taken(Job()).frames
        quick = {(p.a, p.b): p.overlap for p in surveyed(ENGINE, through, set_id, Job()).pairs}
        for a, b in ((0, 1), (1, 2)):
            self.assertAlmostEqual(quick[a, b], max(share_seen(seen[a], seen[b]), share_seen(seen[b], seen[a])), 1)
        # the frames' corners are counted, which see farther than anything is matched
        true = [Placed(s.lens, s.rotation, 0.0) for s in shots()]
        self.assertAlmostEqual(quick[0, 1], max(share_seen(true[0], true[1]), share_seen(true[1], true[0])), 1)

    def test_readiness_names_it_and_mends_it(self):
        project, set_id = project_of(frames_in(taken()[0]))
        host = ENGINE
        named = [f for f in readiness(host, project, set_id, Job()) if f.fault == "fisheye"]
        self.assertEqual([(f.mend, len(f.frames)) for f in named], [(Mend.FISHEYE, 3)])
        edit = mended(host, project, set_id, named, Job())
        self.assertEqual(edit.words, "correct as a fisheye")
        self.assertEqual(host.stages(edit.project, set_id).registration(Job()).placed, [0, 1, 2])
        after = readiness(host, edit.project, set_id, Job())
        self.assertFalse([f for f in after if f.fault in ("fisheye", "unconnected")])

    def test_the_command_line_says_so(self):
        told = io.StringIO()
        with tempfile.TemporaryDirectory() as folder, contextlib.redirect_stderr(told):
            out = Path(folder) / "out.jpg"
            status = main(["panorama", *frames_in(taken()[1]), "--out", str(out), "--width", "400"])
            self.assertTrue(out.exists())
        self.assertEqual(status, 0)
        self.assertRegex(told.getvalue(), "windfell: .*8-15mm")


if __name__ == "__main__":
    unittest.main()
