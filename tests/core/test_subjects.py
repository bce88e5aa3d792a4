"""What moves: found with its shadow, tracked, its conflicts named, laid over the clean plate; moving pictures."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import av
import cv2
import numpy as np
from PIL import Image

from tests.support import engine, project_of, write_picture
from windfell.cli.main import main
from windfell.combine.meeting import as_layer_light, own_gain
from windfell.engine.best_of import appearances, best_layer
from windfell.engine.even_light import evened
from windfell.engine.following import followed
from windfell.engine.pieces_laid import suggested, with_pieces
from windfell.engine.pointed import around_both, pointed_box
from windfell.engine.stack_subjects import found_subjects
from windfell.errors import CannotJoin
from windfell.job import Job
from windfell.output.animations import durations_ms, palette_of, write_animation
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_encoded, to_view
from windfell.pixels.tiles import Region
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.subjects.alike import matched
from windfell.subjects.best_cut import best_cut
from windfell.subjects.conflicts import conflicts_of, together
from windfell.subjects.differing import cast_on, difference, noise_of, rooted
from windfell.subjects.pieces import Piece, laid, pieces_of

SHAPE = (200, 320)
COLOURS = ((0.7, 0.05, 0.04), (0.05, 0.1, 0.6))


def ground(seed: int = 1) -> np.ndarray:
    """A land of fine and coarse texture, linear light."""
    rng = np.random.default_rng(seed)
    coarse = rng.uniform(0.12, 0.3, (6, 9, 3)).astype(np.float32)
    coarse = cv2.resize(coarse, SHAPE[::-1], interpolation=cv2.INTER_CUBIC)
    fine = cv2.GaussianBlur(rng.standard_normal(SHAPE).astype(np.float32), (0, 0), 1.0)
    return coarse * (1 + 0.5 * fine / fine.std() * 0.3)[..., None]


def thing_in(light: np.ndarray, x: int, y: int, colour, size=(26, 60)) -> tuple[np.ndarray, np.ndarray]:
    """A standing thing with its foot at (x, y) and a shadow to its right, drawn; where body and shadow are."""
    shadow = np.zeros(SHAPE, np.float32)
    corners = np.array([(x - 8, y), (x + 12, y), (x + 64, y + 18), (x + 44, y + 18)])
    cv2.fillPoly(shadow, [corners], 1.0)
    light *= (1 - 0.5 * cv2.GaussianBlur(shadow, (0, 0), 1.0))[..., None]
    body = np.zeros(SHAPE, np.uint8)
    cv2.ellipse(body, (x, y - size[1] // 2), (size[0] // 2, size[1] // 2), 0, 0, 360, 1, -1)
    light[body > 0] = colour
    return body > 0, (shadow > 0.05) & (body == 0)


def series(places, seed: int = 1, drift: float = 0.0, noise: float = 0.003):
    """Frames, uint8, with things at `places` (of each frame (x, y, which)), and where each is."""
    rng, out, truth = np.random.default_rng(seed), [], []
    for n, own in enumerate(places):
        light = ground(seed)
        truth.append([thing_in(light, x, y, COLOURS[k]) for x, y, k in own])
        gain = 2.0 ** (drift * np.sin(1.9 * n)) * np.array([1 + 0.03 * np.cos(n), 1, 1])
        light = light * gain.astype(np.float32)
        light = light + rng.standard_normal(light.shape).astype(np.float32) * noise
        out.append(np.rint(255 * srgb_encoded(np.clip(light, 0, 1))).astype(np.uint8))
    return out, truth


ACROSS = [[(30 + 42 * n, 120, 0)] for n in range(7)]


def iou(a, b) -> float:
    return float((a & b).sum() / max((a | b).sum(), 1))


class Series(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def files(self, frames) -> list[str]:
        return [str(write_picture(self.folder / f"f{n + 1}.png", f)) for n, f in enumerate(frames)]

    def stages(self, frames):
        project, set_id = project_of(self.files(frames), Kind.STACK, combining=Combining(Rule.MEDIAN))
        return engine().stages(project, set_id), project

    def found(self, frames):
        return found_subjects(self.stages(frames)[0], Job())


class Finding(Series):
    def test_each_is_found_with_its_shadow_though_the_light_drifts(self):
        frames, truth = series(ACROSS, drift=0.3)
        found = self.found(frames)
        self.assertEqual([m.frame for m in found.movers], list(range(7)))
        for mover, ((body, shadow),) in zip(found.movers, truth, strict=True):
            with self.subTest(mover.frame):
                self.assertGreater(iou(mover.body_over(found.size) > 127, body), 0.85)
                self.assertGreater(iou(mover.whole_over(found.size) > 127, body | shadow), 0.75)
                x, _, w, h = mover.body_box
                self.assertLess(abs(x + w / 2 - (30 + 42 * mover.frame)), 4)
                self.assertLess(abs(h - 60), 8)

    def test_a_coat_that_looks_like_the_ground_dimmed_is_the_thing_and_a_shadow_between_two_is_not(self):
        plain = np.full((*SHAPE, 3), 0.3, np.float32)
        for beside in (False, True):
            light = plain.copy()
            body, shadow = thing_in(light, 120, 150, COLOURS[0], (34, 110))
            light[80:112][body[80:112]] = 0.7 * 0.3
            if beside:  # a second one stands in the shadow of the first
                second, _ = thing_in(light, 190, 190, COLOURS[1])
            seen = light + 0.003 * np.random.default_rng(3).standard_normal(light.shape).astype(np.float32)
            noise = noise_of([rooted(plain)] * 3, rooted(plain))
            pieces = pieces_of(seen, plain, difference(rooted(seen), rooted(plain), noise, False), noise)
            with self.subTest(beside=beside):
                self.assertEqual(len(pieces), 2 if beside else 1)
                mattes = [laid([(p.box, p.matte)], SHAPE) > 127 for p in pieces]
                self.assertGreater(iou(mattes[0], body), 0.9)
                self.assertLess((mattes[0] & shadow).sum(), 0.1 * shadow.sum())
                if beside:
                    self.assertGreater(iou(mattes[1], second), 0.85)

    def test_a_shadow_between_legs_stays_one(self):
        plain, body = np.full((*SHAPE, 3), 0.3, np.float32), np.zeros(SHAPE, bool)
        light = plain.copy()
        light[100:160, 112:128] *= 0.6  # it falls down from between them
        for rows, columns in (((40, 100), (100, 140)), ((100, 140), (100, 112)), ((100, 140), (128, 140))):
            body[slice(*rows), slice(*columns)] = True
        light[body] = COLOURS[1]
        light += 0.003 * np.random.default_rng(3).standard_normal(light.shape).astype(np.float32)
        noise = noise_of([rooted(plain)] * 3, rooted(plain))
        (one,) = pieces_of(light, plain, difference(rooted(light), rooted(plain), noise, False), noise)
        matte, shadow = (laid([(one.box, m)], SHAPE) > 127 for m in (one.matte, one.shadow))
        self.assertGreater(iou(matte, body), 0.93)
        self.assertGreater(shadow[108:155, 115:125].mean(), 0.9)

    def test_the_matte_is_soft_at_the_edge_and_whole_inside(self):
        frames, truth = series(ACROSS)
        found = self.found([cv2.GaussianBlur(f, (0, 0), 1.2) for f in frames])
        matte = found.movers[3].body_over(found.size)
        inner = cv2.erode(truth[3][0][0].astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        self.assertEqual(matte[inner].min(), 255)
        self.assertGreater(((matte > 20) & (matte < 235)).sum(), 60)

    def test_a_thing_of_two_colours_is_whole_to_its_edge_and_brings_no_ground(self):
        frames, truth = [], []
        for n in range(7):
            light = ground()
            body = np.zeros(SHAPE, bool)
            x, y = 20 + 40 * n, 70
            body[y : y + 48, x : x + 30] = True
            for row in range(y, y + 44, 8):  # stripes that run into the edge
                light[row : row + 4, x : x + 30] = (0.75, 0.03, 0.03)
                light[row + 4 : row + 8, x : x + 30] = (0.03, 0.08, 0.7)
            light += 0.003 * np.random.default_rng(n).standard_normal(light.shape).astype(np.float32)
            frames.append(np.rint(255 * srgb_encoded(np.clip(light, 0, 1))).astype(np.uint8))
            truth.append(body)
        found = self.found(frames)
        for mover, body in zip(found.movers, truth, strict=True):
            matte = mover.body_over(found.size) / 255.0
            self.assertGreater(np.percentile(matte[body], 4), 0.85)
            near = (cv2.dilate(body.astype(np.uint8), np.ones((7, 7))) > 0) & ~body
            self.assertLess(matte[near].mean(), 0.12)

    def test_what_looks_like_the_land_within_a_thing_belongs_to_it(self):
        frames = series(ACROSS)[0]
        plate = series([[]])[0][0]
        frames[3][84:96, 152:160] = plate[84:96, 152:160]
        matte = self.found(frames).movers[3].body_over(SHAPE[::-1])
        self.assertEqual(matte[86:94, 154:158].min(), 255)

    def test_what_flies_keeps_its_shadow_on_the_ground(self):
        frames = []
        for n in range(6):
            light = ground()
            x = 50 + 40 * n
            light[30:62, x - 14 : x + 14] = COLOURS[0]
            light[150:166, x - 20 : x + 20] *= 0.5
            light += np.random.default_rng(n).normal(0, 0.002, light.shape).astype(np.float32)
            frames.append(np.rint(255 * srgb_encoded(np.clip(light, 0, 1))).astype(np.uint8))
        found = self.found(frames)
        self.assertEqual(len(found.movers), 6)
        for m in found.movers:
            x = 50 + 40 * m.frame
            self.assertGreater((m.shadow_over(found.size)[152:164, x - 17 : x + 17] > 127).mean(), 0.9)

    def test_nothing_moves_nothing_is_found(self):
        rng = np.random.default_rng(3)
        frames, _ = series([[]] * 7, drift=0.2)
        y, x = np.mgrid[0:SHAPE[0], 0:SHAPE[1]].astype(np.float32)
        swayed = []
        for f in frames:  # the lower half's grass moves by up to a px
            way = rng.uniform(-1, 1, (8, 12)).astype(np.float32)
            way = cv2.resize(way, SHAPE[::-1], interpolation=cv2.INTER_CUBIC)
            swayed.append(cv2.remap(f, x + way * (y > 100), y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT))
        for shown in (frames, swayed):
            self.assertEqual(self.found(shown).movers, ())

    def test_a_frame_whose_light_changed_is_dropped_and_said(self):
        frames, _ = series(ACROSS)
        frames[4] = (frames[4].astype(np.float32) * 0.3).astype(np.uint8)
        frames[5] = np.ascontiguousarray(frames[5][::-1])
        found = self.found(frames)
        self.assertEqual([n for n, _ in found.dropped], [4, 5])
        self.assertIn("light changed", found.dropped[0][1])
        self.assertNotIn(4, {m.frame for m in found.movers})

    def test_of_a_film_that_is_cut_the_scene_of_the_reference_counts(self):
        own, truth = series(ACROSS[:4])
        others, _ = series([[]] * 6, seed=9)
        dark = [(f * 0.4).astype(np.uint8) for f in others]
        found = self.found(own + dark)
        self.assertEqual([n for n, _ in found.dropped], list(range(4, 10)))
        self.assertEqual([m.frame for m in found.movers], [0, 1, 2, 3])
        for mover, ((body, _),) in zip(found.movers, truth, strict=False):
            self.assertGreater(iou(mover.body_over(found.size) > 127, body), 0.8)
        with self.assertRaisesRegex(CannotJoin, "at least 3 frames of one place; only 2"):
            self.found(own[:2] + dark)
        with self.assertRaisesRegex(CannotJoin, "only 2"):
            self.found([*own[:2], (own[2] * 0.5).astype(np.uint8)])

    def test_a_track_follows_its_thing_past_another(self):
        places = [[(40 + 38 * n, 100, 0), (280 - 38 * n, 180, 1)] for n in range(7)]
        found = self.found(series(places)[0])
        self.assertEqual(len(found.movers), 14)
        by_track = {}
        for m in found.movers:
            by_track.setdefault(m.track, set()).add(m.piece.colour[0] > m.piece.colour[2])
        self.assertEqual(sorted(by_track), [0, 1])
        self.assertEqual([len(colours) for colours in by_track.values()], [1, 1])

    def test_what_shares_a_place_is_named_with_shadows_and_without(self):
        places = [[(60, 120, 0)], [(72, 120, 0)], [(118, 138, 0)], [(200, 120, 0)], [(260, 120, 0)], [], [], []]
        found = self.found(series(places)[0])
        self.assertEqual(len(found.movers), 5)
        self.assertEqual(found.conflicts_of(0, False), (1,))
        self.assertIn(2, found.conflicts_of(0))  # it stands on the first's shadow
        self.assertEqual(found.conflicts_of(4, False), ())
        chosen = suggested(found, range(5))
        self.assertTrue({3, 4} <= set(chosen))
        self.assertFalse(any(j in chosen for i in chosen for j in found.conflicts[i]))
        boxed = followed(found, (180, 50, 50, 90))
        self.assertEqual(len({found.movers[i].track for i in boxed.movers}), 1)
        # what the base shows is seen anyhow: what meets it gives way, and it is laid in once
        over = suggested(found, range(5), 1)
        self.assertIn(1, over)
        self.assertNotIn(0, over)
        frames = tuple(frame_from_path(f"f{n}.png") for n in range(8))
        made, masks = with_pieces(FrameSet("s", "S", Kind.STACK, frames), found, over, True, 1)
        self.assertEqual(len(made.combining.layers), len(over))
        self.assertEqual(made.combining.layers[0].frames, (frames[1].id,))
        self.assertEqual(set(masks), {p.name for x in made.combining.layers[1:] for p in x.area.parts})


class Parts(unittest.TestCase):
    def test_the_largest_set_leaves_out_the_one_that_meets_most(self):
        self.assertEqual(together(4, [[1], [0, 2], [1], []]), [0, 2, 3])
        self.assertEqual(together(2, [[1], [0]], [1, 0]), [1])

    def test_what_is_burnt_out_in_one_channel_says_nothing_of_the_light(self):
        rng = np.random.default_rng(5)
        plate = rng.uniform(0.1, 0.3, (90, 120, 3)).astype(np.float32)
        plate[:60] = np.float32([1.0, 0.4, 0.1]) * rng.uniform(1.5, 1.9, (60, 120, 1)).astype(np.float32)
        frame, plate = (cv2.transform(np.minimum(v, 1), SRGB_TO_WORKING) for v in (0.9 * plate, plate))
        np.testing.assert_allclose(matched(frame, plate).gain, 1 / 0.9, rtol=0.01)

    def test_light_is_matched_as_a_whole_and_slowly_over_the_picture(self):
        plate = ground()
        slope = np.exp2(np.linspace(-0.2, 0.2, SHAPE[1], dtype=np.float32))[None, :, None]
        frame = plate * slope * np.array([0.8, 0.7, 0.75], np.float32)
        m = matched(frame, plate)
        np.testing.assert_allclose(m.gain, [1.25, 1 / 0.7, 1 / 0.75], rtol=0.03)
        light = m.applied(frame, SHAPE)
        self.assertLess(np.median(np.abs(light / plate - 1)), 0.03)
        part = np.s_[30:60, 100:180]
        np.testing.assert_allclose(m.applied(frame[part], SHAPE, part), light[part], rtol=1e-5)
        self.assertGreater(m.agrees, 0.95)

    def test_spilled_light_fades_and_a_white_coat_does_not(self):
        plate = np.full((*SHAPE, 3), 0.2, np.float32)
        plate += 0.002 * np.random.default_rng(0).standard_normal(plate.shape).astype(np.float32)
        noise = noise_of([rooted(plate)] * 3, rooted(plate))
        y, x = np.mgrid[: SHAPE[0], : SHAPE[1]]
        puddle = np.exp(-((x - 90) ** 2 + (y - 100) ** 2) / (2 * 18.0**2))[..., None]
        for what, gain in (("puddle", 1 + 1.2 * puddle), ("coat", 1 + 1.2 * (
                (abs(x - 90) < 14) & (abs(y - 100) < 25))[..., None])):
            light = (plate * gain).astype(np.float32)
            light[60:140, 130:150] = (0.6, 0.05, 0.04)  # what spills it, or wears it
            off = difference(rooted(light), rooted(plate), noise, False)
            found = pieces_of(light, plate, off, noise)
            body = laid([(p.box, p.matte) for p in found], SHAPE) > 127
            with self.subTest(what):
                self.assertGreater(body[60:140, 131:149].mean(), 0.95)
                inside = body[90:110, 82:98].mean()
                self.assertTrue(inside < 0.1 if what == "puddle" else inside > 0.95, inside)

    def test_a_shadow_is_told_from_a_thing_of_the_same_darkness(self):
        plate = ground()
        noise = noise_of([rooted(plate)] * 3, rooted(plate))
        lit = plate.copy()
        lit[50:100, 50:100] *= 0.5
        lit[50:100, 150:200] = 0.5 * plate[50:100, 150:200].mean(axis=(0, 1))
        like = cast_on(lit, plate, noise)
        self.assertGreater(like[58:92, 58:92].mean(), 0.9)
        self.assertLess(like[58:92, 158:192].mean(), 0.3)

    def test_light_of_another_colour_is_no_shadow(self):
        plate = ground()
        noise = noise_of([rooted(plate)] * 3, rooted(plate))
        lit = plate.copy()
        lit[50:100, 50:100] *= np.array([0.45, 0.8, 0.8], np.float32)
        self.assertLess(cast_on(lit, plate, noise)[58:92, 58:92].mean(), 0.2)

    def test_a_gain_of_each_channel_is_told_in_a_layers_own_values(self):
        for gain in ((1.0, 1.0, 1.0), (1.3, 1.1, 0.9), (0.7, 0.85, 0.8)):
            np.testing.assert_allclose(own_gain(*as_layer_light(gain)), gain, rtol=1e-3)

    def test_things_of_one_frame_are_no_conflict(self):
        whole = np.full((20, 20), 255, np.uint8)
        one = Piece((5, 5, 20, 20), whole, 0 * whole, 9.0, (0.2, 0.2, 0.2))
        self.assertEqual(conflicts_of([(0, one), (0, one), (1, one)]), [[2], [2], [0, 1]])

    def test_times_keep_the_rate(self):
        for fps in (7, 8, 12, 25):
            self.assertAlmostEqual(sum(durations_ms(50, fps, 10)), 50_000 / fps, delta=10)


class Laying(Series):
    def test_pieces_stand_on_the_plate_which_stays_as_it_was(self):
        frames, truth = series(ACROSS, drift=0.3)
        stages, project = self.stages(frames)
        found = found_subjects(stages, Job())
        made, masks = with_pieces(project.sets[0], found, [1, 4], True)
        e = engine()
        e.masks = masks
        whole = Region(0, 0, SHAPE[1], SHAPE[0])
        picture = e.stages(project.with_set(made), made.id).render(whole, 1.0, Job()).light
        plate = stages.render(whole, 1.0, Job()).light
        wanted = ground()
        for n in (1, 4):
            thing_in(wanted, *ACROSS[n][0][:2], COLOURS[0])
        apart = np.ones(SHAPE, bool)
        for n in (1, 4):
            near = cv2.dilate((truth[n][0][0] | truth[n][0][1]).astype(np.uint8), np.ones((21, 21), np.uint8))
            apart &= near == 0
        np.testing.assert_allclose(picture[apart], plate[apart], atol=1e-6)
        inner = cv2.erode((truth[1][0][0] | truth[4][0][0]).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        # matched to the plate's light, not that of its own frame
        seen, land = to_view(picture).astype(float), to_view(plate).astype(float)
        bright = np.median(land[apart] / np.maximum(255 * srgb_encoded(wanted)[apart], 1))
        off = np.abs(seen - bright * 255 * srgb_encoded(wanted))
        self.assertLess(np.median(off[inner]), 5)
        self.assertLess(np.percentile(off, 99), 20)


class EvenLight(Series):
    def seen(self, own: FrameSet) -> np.ndarray:
        """The ruled picture of a set."""
        return engine().picture(Project((own,)), own.id, 1.0, Job()).light

    def test_a_drift_is_evened_out_toward_the_middle_frame_or_the_base(self):
        frames, _ = series([[(160 + 2 * n, 120, 0)] for n in range(3)] + [[]] * 4, drift=0.25)
        stages, _ = self.stages(frames)
        planted = 0.25 * np.sin(1.9 * np.arange(7))
        for base, goal in ((None, np.median(planted)), (2, planted[2])):
            own = evened(stages, base, Job())
            told = np.array([f.development.exposure_ev for f in own.used])
            self.assertLess(np.abs(told + planted - goal).max(), 0.02)
        # where things passed, the picture steps no more from one frame's light to another's
        shown = [self.seen(own)[..., 1] for own in (stages.set, evened(stages, None, Job()))]
        clean = self.seen(self.stages(series([[]], noise=0.0)[0] * 3)[0].set)[..., 1]  # the files are others now
        before, after = (np.log2(v / clean) for v in shown)
        ghosts = [abs(float(np.median(v[70:110, 155:170]) - np.median(v[70:110, 220:300]))) for v in (before, after)]
        self.assertGreater(ghosts[0], 0.15)
        self.assertLess(ghosts[1], 0.02)

    def test_without_a_drift_the_set_stays_and_another_light_is_left_alone(self):
        stages, _ = self.stages(series(ACROSS)[0][:1] * 4)
        self.assertTrue(evened(stages, None, Job()) is stages.set)
        frames, _ = series(ACROSS, drift=0.25)
        frames[4] = (frames[4].astype(np.float32) * 0.3).astype(np.uint8)
        own = evened(self.stages(frames)[0], None, Job())
        self.assertEqual(own.used[4].development.exposure_ev, 0.0)
        self.assertNotEqual(own.used[1].development.exposure_ev, own.used[2].development.exposure_ev)

    def test_another_scene_of_a_film_says_nothing_of_the_light(self):
        others = [(f * 0.6).astype(np.uint8) for f in series([[]] * 5, seed=9)[0]]
        own = evened(self.stages(series(ACROSS[:4], drift=0.1)[0] + others)[0], None, Job())
        told = [f.development.exposure_ev for f in own.used]
        self.assertEqual(told[4:], [0.0] * 5)
        self.assertLess(np.abs(told[:4]).max(), 0.2)
        self.assertGreater(np.abs(told[:4]).max(), 0.02)


class BestOfAGroup(Series):
    def test_the_cut_goes_where_both_agree(self):
        off = np.full((60, 80), 8.0, np.float32)
        off[9:51, 14:16] = off[9:51, 65:67] = off[9:11, 14:67] = off[49:51, 14:67] = 0.0
        inner, beyond = np.zeros(off.shape, bool), np.zeros(off.shape, bool)
        inner[25:35, 35:45] = True
        beyond[0], beyond[-1], beyond[:, 0], beyond[:, -1] = (True,) * 4
        taken = best_cut(off, inner, beyond)
        self.assertTrue(taken[11:49, 16:65].all())
        self.assertFalse(taken[:9].any() or taken[:, :14].any() or taken[:, 67:].any() or taken[51:].any())

    def test_what_is_pointed_at_is_found_by_its_edges_in_most_frames(self):
        places = [[(160 + 4 * n, 120, n % 2)] for n in range(5)]
        frames, truth = series(places)
        frames[2] = series([[]])[0][0]  # it had gone
        stages, _ = self.stages(frames)
        x, y, w, h = cv2.boundingRect(truth[0][0][0].astype(np.uint8))
        for spot in ((168, 90), (170, 104)):
            left, top, wide, high = pointed_box(stages, spot, Job())
            self.assertTrue(left < x + 3 and x + 12 + w < left + wide, (left, wide))
            self.assertTrue(y - 0.8 * h < top < y and y + h < top + high < y + 1.5 * h, (top, high))
        self.assertIsNone(pointed_box(stages, (60, 40), Job()), "the land goes on")
        self.assertEqual(around_both((10, 20, 30, 30), (5, 40, 10, 30)), (5, 20, 35, 50))

    def test_what_has_no_edge_or_goes_on_beyond_a_window_is_not_all_of_a_thing(self):
        soft = [cv2.GaussianBlur(f, (0, 0), 9) for f in series([[(160, 120, 1)]] * 3)[0]]
        self.assertIsNone(pointed_box(self.stages(soft)[0], (160, 60), Job()))
        post = series([[]] * 3)[0]
        for frame in post:
            frame[50:150, 155:165] = (200, 20, 30)
        left, top, wide, high = pointed_box(self.stages(post)[0], (160, 100), Job())
        self.assertTrue(top < 50 and top + high > 150 and wide < 30, (left, top, wide, high))
        with mock.patch("windfell.engine.pointed.LOOK_SIDE", 160):
            smaller = pointed_box(self.stages(post)[0], (160, 100), Job())
        np.testing.assert_allclose(smaller, (left, top, wide, high), atol=8)

    def test_the_wished_appearance_is_laid_in_without_a_step_though_it_shifted_and_its_light_changed(self):
        frames, truth = series([[(160, 120, 0)], [(160, 120, 1)], [(160, 120, 0)]])
        frames[1] = np.roll(frames[1], (2, 3), (0, 1))
        frames[1] = (frames[1].astype(np.float32) * 0.86).astype(np.uint8)
        stages, project = self.stages(frames)
        box = (140, 52, 40, 76)
        found = appearances(stages, box, Job())
        self.assertEqual([a.frame for a in found], [0, 1, 2])
        blue = [float(np.mean(a.picture[20:60, 15:25, 2]) > np.mean(a.picture[20:60, 15:25, 0])) for a in found]
        self.assertEqual(blue, [0, 1, 0])
        layer, mask = best_layer(stages, 1, box, Job())
        self.assertLess(abs(layer.right_px + 3) + abs(layer.down_px + 2), 1.2)
        e, own = engine(), project.sets[0]
        e.masks = {layer.area.parts[0].name: mask}
        made = replace(own, combining=replace(own.combining, layers=(layer,)))
        whole = Region(0, 0, SHAPE[1], SHAPE[0])
        seen = to_view(e.stages(project.with_set(made), own.id).render(whole, 1.0, Job()).light).astype(float)
        wanted = series([[(160, 120, 1)]])[0][0].astype(float)
        body = cv2.erode(truth[0][0][0].astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
        self.assertLess(np.median(np.abs(seen - wanted)[body]), 12)
        around = ~(truth[0][0][0] | truth[0][0][1])
        around = cv2.erode(around.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        self.assertLess(np.percentile(np.abs(cv2.blur(seen - wanted, (5, 5)))[around], 99.5), 6)


class Commands(Series):
    def test_subjects_writes_picture_masks_and_report(self):
        frames, truth = series(ACROSS)
        files = self.files(frames)
        out, report, masks = self.folder / "o.png", self.folder / "r.json", self.folder / "masks"
        words = ["--out", str(out), "--report", str(report), "--masks", str(masks)]
        self.assertEqual(main(["subjects", *files, *words, "--keep", "1,3-4"]), 0)
        told = json.loads(report.read_text())
        self.assertEqual((told["kind"], told["reference"], told["dropped"]), ("subjects", 0, []))
        self.assertEqual([m["frame"] for m in told["movers"] if m["used"]], [0, 2, 3])
        self.assertEqual(cv2.imread(str(out)).shape[:2], SHAPE)
        body = cv2.imread(str(masks / "mover-3-0.png"), cv2.IMREAD_UNCHANGED)
        self.assertEqual((body.dtype, body.shape), (np.uint8, SHAPE))
        self.assertGreater(iou(body > 127, truth[2][0][0]), 0.85)
        shadow = cv2.imread(str(masks / "mover-3-0-shadow.png"), cv2.IMREAD_UNCHANGED)
        self.assertGreater(iou(shadow > 127, truth[2][0][1]), 0.5)
        self.assertEqual(main(["subjects", *files, *words, "--box", "90,50,50,80", "--base", "2"]), 0)
        told = json.loads(report.read_text())
        self.assertEqual(told["reference"], 1)
        seen = cv2.imread(str(out))[..., ::-1].astype(float)
        base = frames[1].astype(float)
        where = cv2.erode(truth[1][0][0].astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        self.assertLess(np.abs(seen - base)[where].mean(), 3)

    def test_words_that_make_no_sense_get_a_sentence(self):
        files = self.files(series(ACROSS)[0])
        out = self.folder / "never.png"
        for words, status in ((["--keep", "9"], 2), (["--base", "0"], 2), (["--box", "1,2,3"], 2),
                              (["--box", "300,180,5,5"], 2), (["--masks", files[0]], 2)):
            with self.subTest(words[0]):
                self.assertEqual(main(["subjects", *files, "--out", str(out), *words]), status)
                self.assertFalse(out.exists())
        self.assertEqual(main(["subjects", files[0], files[1], "--out", str(out)]), 3)
        for words in (["--out", str(self.folder / "a.avi")], ["--out", str(self.folder / "a.gif"), "--fps", "0"],
                      ["--out", str(self.folder / "a.gif"), "--width", "3"]):
            self.assertEqual(main(["animate", *files, *words]), 2)
        self.assertFalse(list(self.folder.glob("a.*")))

    def test_animations_hold_as_many_pictures_as_frames_at_their_rate(self):
        files = self.files(series(ACROSS)[0])
        for suffix, way in ((".gif", "series"), (".gif", "trails"), (".webp", "subjects"), (".mp4", "series"),
                            (".webm", "subjects")):
            with self.subTest(suffix + way):
                out = self.folder / f"a{suffix}"
                words = ["--way", way, "--fps", "8", "--width", "160", "--trail", "2"]
                self.assertEqual(main(["animate", *files, "--out", str(out), *words]), 0)
                if suffix in (".gif", ".webp"):
                    with Image.open(out) as shown:
                        self.assertEqual((shown.n_frames, shown.size, shown.info.get("loop")), (7, (160, 100), 0))
                else:
                    with av.open(str(out)) as shown:
                        stream = shown.streams.video[0]
                        self.assertEqual((stream.width, stream.height), (160, 100))
                        self.assertAlmostEqual(float(stream.average_rate), 8, delta=0.1)
                        self.assertEqual(sum(1 for _ in shown.decode(video=0)), 7)

    def test_once_is_not_for_ever(self):
        pictures = [np.full((40, 60, 3), v, np.uint8) for v in (20, 200)]
        for suffix, once in ((".gif", None), (".webp", 1)):
            for loops, wanted in ((True, 0), (False, once)):
                write_animation(self.folder / f"l{suffix}", suffix, iter(pictures), 8.0, loops)
                with Image.open(self.folder / f"l{suffix}") as shown:
                    self.assertEqual(shown.info.get("loop"), wanted, suffix)

    def test_a_palette_keeps_what_is_rare_but_plain_to_see(self):
        rng = np.random.default_rng(2)
        grass = np.clip(rng.normal((70, 110, 40), 22, (60_000, 3)), 0, 255).astype(np.uint8)
        coats = np.repeat(np.array([[200, 20, 30], [30, 60, 210]], np.uint8), 8, axis=0)
        palette = palette_of(np.concatenate([grass, coats])).astype(float)
        self.assertEqual(palette.shape, (256, 3))
        off = [np.linalg.norm(palette - c, axis=1).min() for c in np.concatenate([coats[::8], grass[::997]])]
        self.assertLess(max(off[:2]), 6)
        self.assertLess(np.mean(off[2:]), 10)
        few = palette_of(np.array([[1, 2, 3], [250, 0, 0]] * 9, np.uint8))
        self.assertTrue({(1, 2, 3), (250, 0, 0)} <= {tuple(int(v) for v in c) for c in few})

    def test_a_frame_that_cannot_be_placed_is_a_picture_too(self):
        frames = series(ACROSS)[0]
        frames[3] = series([[]], seed=9)[0][0]
        out = self.folder / "u.gif"
        self.assertEqual(main(["animate", *self.files(frames), "--out", str(out)]), 0)
        with Image.open(out) as shown:
            self.assertEqual(shown.n_frames, 7)

    def test_pictures_that_are_the_same_stay_so_many(self):
        files = self.files(series([[]] * 5)[0])
        for suffix in (".gif", ".webp"):
            out = self.folder / f"s{suffix}"
            self.assertEqual(main(["animate", *files, "--out", str(out), "--way", "subjects"]), 0)
            with Image.open(out) as shown:
                self.assertEqual(shown.n_frames, 5)

    def test_trails_show_those_before_fading(self):
        files = self.files(series(ACROSS)[0])
        out = self.folder / "t.webp"
        self.assertEqual(main(["animate", *files, "--out", str(out), "--way", "trails", "--trail", "2"]), 0)
        with Image.open(out) as shown:
            shown.seek(5)
            last = np.asarray(shown.convert("RGB")).astype(float)
        red = [last[90, 30 + 42 * n, 0] - last[90, 30 + 42 * n, 2] for n in range(6)]
        self.assertLess(max(red[:3]), 0.35 * red[5])
        self.assertLess(red[3], 0.6 * red[5])
        self.assertLess(red[4], 0.9 * red[5])
        self.assertLess(red[3], 0.8 * red[4])


if __name__ == "__main__":
    unittest.main()
