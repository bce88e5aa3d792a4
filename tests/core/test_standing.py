"""What stands in many frames is told from the ground; pieces parted, suggested, their shadows shortened."""

import json
import unittest
import warnings
from dataclasses import replace

import numpy as np

from tests.core.test_subjects import SHAPE, Series, ground, series
from windfell.cli.main import main
from windfell.engine.cut_between import sides_of
from windfell.engine.following import followed
from windfell.engine.moving_lights import MovingLights, look_scale
from windfell.engine.pieces_laid import ground_layer, piece_layer, suggested, with_pieces
from windfell.engine.stack_subjects import found_subjects
from windfell.job import Job
from windfell.pixels.colour import srgb_encoded
from windfell.recipe import pieces
from windfell.recipe.areas import Found, Meets
from windfell.subjects.standing import PLAINLY
from windfell.subjects.suggesting import Suggest, chosen

STAYS = (150, 130, 0)


def with_stay(count: int, of: int) -> list:
    """Places of one that stands in the first `count` frames, while another walks."""
    return [([STAYS] if n < count else []) + [(24 + 30 * n, 196, 1)] for n in range(of)]


def panels() -> list[np.ndarray]:
    """Frames with one of two panels of one size, unlike in colour alone, in turn: either may be the ground."""
    frames, rng = [], np.random.default_rng(3)
    for n in range(8):
        light = ground(1)
        light[80:140, 120:180] = (0.5, 0.1, 0.08) if n % 2 else (0.08, 0.12, 0.5)
        light += 0.003 * rng.standard_normal(light.shape).astype(np.float32)
        frames.append(np.rint(255 * srgb_encoded(np.clip(light, 0, 1))).astype(np.uint8))
    return frames


def clean_light() -> np.ndarray:
    return np.rint(255 * srgb_encoded(np.clip(ground(1), 0, 1))).astype(float)


class Standing(Series):
    def composed(self, frames, chosen_ones=()):
        stages, project = self.stages(frames)
        found = found_subjects(stages, Job())
        own = project.sets[0]
        made, masks = with_pieces(own, found, chosen_ones, True)
        host = stages._host
        host.masks = {**host.masks, **masks}
        project = project.with_set(made)
        picture = host.picture(project, own.id, 1.0, Job())
        return found, np.rint(255 * srgb_encoded(np.clip(picture.light, 0, 1)))

    def test_one_who_stands_in_most_frames_is_not_part_of_the_plate(self):
        for stays in (4, 5, 6):
            with self.subTest(stays):
                frames, truth = series(with_stay(stays, 8))
                found, plate = self.composed(frames)
                self.assertTrue(found.standing and all(s.sure for s in found.standing))
                body, shadow = truth[0][0]
                off = np.abs(plate - clean_light()).max(axis=2)
                self.assertLess(np.percentile(off[body | shadow], 90), 14)
                there = {m.frame for m in found.movers if m.body_over(found.size)[100, 150] > 127}
                self.assertEqual(there, set(range(stays)))

    def test_one_who_stands_in_few_frames_leaves_the_plate_alone(self):
        for stays in (1, 2, 3):
            found = self.found(series(with_stay(stays, 8))[0])
            self.assertEqual(found.standing, ())

    def test_what_cannot_be_told_is_said_with_its_candidates(self):
        stages, project = self.stages(panels())
        found = found_subjects(stages, Job())
        self.assertEqual([s.sure for s in found.standing], [False])
        seen = found.standing[0].seen
        self.assertEqual({s.frames for s in seen}, {(0, 2, 4, 6), (1, 3, 5, 7)})
        self.assertGreater(seen[0].step, PLAINLY * seen[1].step)
        layer, masks = ground_layer(project.sets[0], found, found.standing[0], 1)
        self.assertEqual(layer.frames, tuple(project.sets[0].used[n].id for n in seen[1].frames))
        self.assertEqual(set(masks), set(layer.area.masks))
        self.assertIsNone(pieces.mask_of(layer))


class PiecesApart(Series):
    def test_a_line_along_which_both_look_alike_parts_what_overlaps(self):
        frames, truth = series([[(100, 120, 0)], [(122, 120, 1)], [(240, 120, 0)], [], [], [], []])
        stages, _ = self.stages(frames)
        found = found_subjects(stages, Job())
        one, other = (next(m for m in found.movers if m.frame == n) for n in (0, 1))
        sides = sides_of(stages, one, other, Job())
        first, second = truth[0][0][0], truth[1][0][0]
        self.assertGreater((sides[0][first & ~second] > 127).mean(), 0.98)
        self.assertGreater((sides[1][second & ~first] > 127).mean(), 0.98)
        self.assertTrue((sides[0][second & ~first] < 128).mean() > 0.9)
        both = one.whole_over(found.size).astype(int) * sides[0] / 255, other.whole_over(found.size) * (
            sides[1] / 255.0)
        where = (one.whole_over(found.size) > 200) & (other.whole_over(found.size) > 200)
        self.assertGreater(where.sum(), 30)
        np.testing.assert_allclose((both[0] + both[1])[where], 255, atol=60)

    def test_of_a_shadow_only_so_much_is_taken(self):
        frames, _ = series([[(30 + 42 * n, 120, 0)] for n in range(7)])
        stages, project = self.stages(frames)
        mover = found_subjects(stages, Job()).movers[2]
        size = mover.ground
        whole = mover.shadow_over(size).astype(int).sum()
        near, far = (mover.shadow_within(size, reach).astype(int).sum() for reach in (12, 400))
        self.assertLess(near, 0.6 * whole)
        self.assertGreater(near, 0.05 * whole)
        self.assertEqual(far, whole)
        own = project.sets[0]
        layer, masks = piece_layer(own, mover, True, reach=12)
        self.assertEqual(pieces.mask_of(layer), layer.area.parts[0].name)
        self.assertEqual(len(masks), 2)
        bare, _ = piece_layer(own, mover, False)
        self.assertEqual(pieces.mask_of(bare), pieces.mask_of(layer))
        again = replace(layer, area=replace(layer.area, parts=(*layer.area.parts, Found("x", meets=Meets.BOTH))))
        self.assertEqual(pieces.mask_of(again), pieces.mask_of(layer))


class Following(Series):
    def test_the_same_thing_is_followed_over_a_gap_that_breaks_its_track_and_no_other_is(self):
        places = [[(30 + 30 * n, 120, 0)] if n not in (3, 4, 5) else [] for n in range(9)]
        for n in (0, 2, 4, 6, 8):
            places[n] = [*places[n], (290 - 28 * n, 195, 1)]
        found = self.found(series(places)[0])
        self.assertGreater(len({m.track for m in found.movers}), 2)
        boxed = followed(found, (5, 50, 60, 80))
        colours = {m.piece.colour[0] > m.piece.colour[2] for m in (found.movers[i] for i in boxed.movers)}
        self.assertEqual(colours, {True})
        self.assertEqual([found.movers[i].frame for i in boxed.movers], [0, 1, 2, 6, 7, 8])
        self.assertEqual(boxed.lost, (3, 4, 5))
        self.assertEqual(followed(found, (300, 5, 10, 10)).movers, ())

    def test_the_command_line_names_the_frames_without_the_boxed_one(self):
        frames, _ = series([[(30 + 36 * n, 120, 0)] if n != 3 else [] for n in range(7)])
        out, report = self.folder / "o.png", self.folder / "r.json"
        code = main(["subjects", *self.files(frames), "--out", str(out), "--box", "5,50,60,80", "--report",
                     str(report)])
        self.assertEqual(code, 0)
        told = json.loads(report.read_text())
        self.assertEqual(told["dropped"], [{"frame": 3, "reason": "the boxed subject was not found in it"}])
        self.assertEqual([m["frame"] for m in told["movers"]], [0, 1, 2, 4, 5, 6])


class Lights(unittest.TestCase):
    def test_the_plate_is_the_middle_of_those_that_show_a_spot(self):
        rng = np.random.default_rng(0)
        planes = [rng.uniform(0.1, 1, (60, 80, 3)).astype(np.float16) for _ in range(5)]
        planes[1][:, :30], planes[3][:, :30], planes[4][:20, :10] = np.nan, np.nan, np.nan
        planes = [np.where(np.arange(60)[:, None, None] > 55, np.float16(np.nan), p) for p in planes]
        lights = MovingLights.__new__(MovingLights)
        lights.shape, lights.moved, lights._planes, lights._frames = (60, 80), True, planes, planes
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)
            wanted = np.nan_to_num(np.nanmedian(np.stack(planes).astype(np.float32), axis=0), nan=0.0)
        np.testing.assert_allclose(lights.plate(), wanted, atol=1e-6)
        self.assertFalse(lights.seen(1)[0, 0])
        self.assertEqual(lights.plain(1)[0, 0, 0], 0)

    def test_many_frames_are_looked_at_smaller(self):
        self.assertEqual(look_scale(8, (1000, 700), 1400), 1.0)
        self.assertEqual(look_scale(8, (2800, 2000), 1400), 0.5)
        many = look_scale(200, (1920, 1080), 1400)
        self.assertLessEqual(200 * 6 * many**2 * 1920 * 1080, 300e6 * 1.001)


class Reports(Series):
    def test_the_report_says_where_something_stands_for_long(self):
        files = self.files(series(with_stay(5, 8))[0])
        out, report = self.folder / "o.png", self.folder / "r.json"
        self.assertEqual(main(["subjects", *files, "--out", str(out), "--report", str(report)]), 0)
        told = json.loads(report.read_text())["standing"]
        self.assertTrue(told[0]["sure"])
        self.assertTrue({5, 7} <= set(told[0]["seen_in"][0]) <= {5, 6, 7})
        x, y, w, h = told[0]["box"]
        self.assertTrue(x < 150 < x + w and y < 100 < y + h)


class Suggesting(unittest.TestCase):
    def setUp(self):
        self.middles = np.array([[10.0 * n, 0] for n in range(9)])
        self.frames, self.tracks = list(range(9)), [0] * 9
        self.next_to = [[j for j in (i - 1, i + 1) if 0 <= j < 9] for i in range(9)]

    def some(self, way, number, conflicts=None):
        return chosen(way, number, self.tracks, self.frames, self.middles, 100.0, conflicts or [[]] * 9)

    def test_each_way_takes_what_it_says(self):
        self.assertEqual(self.some(Suggest.MOST, 1, self.next_to), [0, 2, 4, 6, 8])
        self.assertEqual(self.some(Suggest.EVEN, 3), [0, 4, 8])
        self.assertEqual(self.some(Suggest.EVEN, 1), [4])
        self.assertEqual(self.some(Suggest.NTH, 4), [0, 4, 8])
        self.assertEqual(self.some(Suggest.APART, 25), [0, 3, 6])
        self.assertEqual(self.some(Suggest.NTH, 1, self.next_to), [0, 2, 4, 6, 8])

    def test_an_even_spread_follows_the_way_and_goes_around_conflicts(self):
        self.middles[5:] += [400, 0]
        found = self.some(Suggest.EVEN, 3)
        self.assertEqual((found[0], found[-1]), (0, 8))
        both = self.some(Suggest.EVEN, 2, [[8]] + [[] for _ in range(7)] + [[0]])
        self.assertEqual(both, [0, 7])

    def test_movers_are_suggested_by_every_way(self):
        frames, _ = series([[(30 + 42 * n, 120, 0)] for n in range(7)])
        folder = Series("run")
        folder.setUp()
        self.addCleanup(folder.doCleanups)
        found = folder.found(frames)
        every = list(range(len(found.movers)))
        third = suggested(found, every, None, False, Suggest.NTH, 3)
        self.assertEqual([found.movers[i].frame for i in third], [0, 3, 6])
        apart = suggested(found, every, None, False, Suggest.APART, 100 * 80 / np.hypot(*SHAPE))
        self.assertEqual([found.movers[i].frame for i in apart], [0, 2, 4, 6])


