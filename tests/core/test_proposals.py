"""Sets proposed from files: by times, and by what frames show where the files say nothing."""

from __future__ import annotations

import itertools
import json
import tempfile
import unittest
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

from tests.support import textured, write_picture
from windfell.align.acquaintance import same_in_place
from windfell.align.movement import has_moved
from windfell.align.pairs import Link
from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.photograph import Shot as Taken
from windfell.engine import proposals
from windfell.engine.core import Engine
from windfell.engine.proposals import Acquaintances, propose, way_asked
from windfell.engine.stage import Detail
from windfell.frames.by_content import groups_by_content
from windfell.frames.propose import Likeness, grouped
from windfell.frames.shots import Form, Group, Relation, Shot
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.pixels.colour import srgb_decoded, srgb_encoded
from windfell.recipe.combining import Rule
from windfell.recipe.model import Align, Kind, Project, frame_from_path

START = datetime(2026, 5, 16, 12, 0)


def shots(count: int, start: float, step: float = 3.0, view: str = "", **facts) -> list[tuple[Shot, str]]:
    """Shots with the view that each shows: equal views are the same, those with one first letter overlap; of those
    that begin with "_" nothing can be seen.
    """
    out = []
    for n in range(count):
        shot = Shot(f"/card/{start:06.0f}-{n}.jpg", (600, 400), START + timedelta(seconds=start + step * n), **facts)
        out.append((shot, view if len(view) > 1 else f"{view}{n}"))
    return out


class Grouping(unittest.TestCase):
    def sorted_out(self, listed: list[tuple[Shot, str]], seed: int = 0):
        views = {s.path: v for s, v in listed}

        def relation(a: Shot, b: Shot) -> Relation | None:
            one, two = views[a.path], views[b.path]
            shift = 0.0 if one == two else 0.6
            shared = one[0] == two[0] != "_"
            return Relation(np.array([[1, 0, -shift], [0, 1, 0], [0, 0, 1.0]])) if shared else None

        def among(some) -> dict:
            pairs = {(a.path, b.path): relation(a, b) for a in some for b in some if a.path < b.path}
            return {p: r for p, r in pairs.items() if r is not None}

        like = Likeness(lambda a, b: 1.0 if views[a.path] == views[b.path] else 0.0, relation, among,
                        lambda a, b: float(views[a.path][-1] == views[b.path][-1]),
                        lambda s: views[s.path][0] == "_")
        shuffled = [s for s, _ in listed]
        np.random.default_rng(seed).shuffle(shuffled)
        return grouped(shuffled, like)

    def test_sets_close_in_time_are_told_apart_by_what_they_show(self):
        listed = shots(6, 0, view="a") + shots(8, 40, view="bb") + shots(5, 110, view="c")
        found = self.sorted_out(listed)
        self.assertEqual([(g.form, len(g.shots)) for g in found],
                         [(Form.SWEEP, 6), (Form.SERIES, 8), (Form.SWEEP, 5)])

    def test_a_stranger_in_step_and_a_slow_frame_do_not_split_a_set(self):
        listed = shots(3, 0, view="a") + shots(1, 9, view="x") + shots(3, 12, view="a")
        self.assertEqual([len(g.shots) for g in self.sorted_out(listed)], [7])
        slow = shots(3, 0, view="a") + shots(3, 60, view="a")
        self.assertEqual([len(g.shots) for g in self.sorted_out(slow)], [6])

    def test_brackets_at_every_position(self):
        listed = []
        for p in range(3):
            for n, ev in enumerate((0.0, -2.0, 2.0)):
                listed += shots(1, 20 * p + 2 * n, view=f"p{p}", exposure_ev=ev)
        (found,) = self.sorted_out(listed)
        self.assertEqual((found.form, [len(p) for p in found.positions]), (Form.BRACKET, [3, 3, 3]))

    def test_of_a_frame_that_shows_nothing_its_exposure_tells_where_it_was_taken(self):
        for positions, blank, evs in itertools.product((1, 3), range(3), ((0.0, -2.0, 2.0), (-3.0, 0.0, 3.0))):
            listed = []
            for p, (n, ev) in itertools.product(range(positions), enumerate(evs)):
                view = f"_{p}{n}" if n == blank else f"p{p}"
                listed += shots(1, 20 * p + 2 * n, view=view, exposure_ev=ev)
            (found,) = self.sorted_out(listed)
            self.assertEqual((found.form, [len(p) for p in found.positions]), (Form.BRACKET, [3] * positions))

    def test_one_that_shows_nothing_and_is_exposed_as_others_tells_nothing(self):
        for same in (0.0, 0.5, None):
            listed = shots(2, 0, view="aa", exposure_ev=0.0) + shots(1, 6, view="_x", exposure_ev=same)
            (found,) = self.sorted_out(listed)
            self.assertIs(found.form, Form.SWEEP)
        dark = [(Shot(f"/card/{n}.jpg", (600, 400), START + timedelta(seconds=n), exposure_ev=0.0), "_a")
                for n in range(5)]
        self.assertEqual([(g.form, len(g.shots)) for g in self.sorted_out(dark)], [(Form.SERIES, 5)])

    def test_a_raw_and_its_jpeg_count_once(self):
        listed = shots(3, 0, view="a")
        raw = Shot(listed[1][0].path.replace(".jpg", ".dng"), (600, 400), listed[1][0].taken, raw=True)
        (found,) = self.sorted_out([*listed, (raw, "a1")])
        self.assertEqual(len(found.shots), 4)
        self.assertEqual(found.aside, {listed[1][0].path})

    def test_a_smaller_copy_of_a_shot_counts_once_and_one_of_another_shape_is_no_copy(self):
        listed = shots(4, 0, view="a")
        for shape, size in (("the same", (300, 200)), ("another", (300, 300))):
            copies = [(replace(s, path=f"{s.path}-small.jpg", size=size), v) for s, v in listed]
            found = self.sorted_out([*listed, *copies])
            aside = set().union(*(g.aside for g in found))
            self.assertEqual(aside == {s.path for s, _ in copies}, shape == "the same")

    def test_two_cameras_at_work_at_once_do_not_part_each_others_sets(self):
        listed = shots(5, 0, view="a", camera="one") + shots(6, 1, view="bb", camera="two")
        listed += shots(4, 900, view="c", camera="one")
        self.assertEqual([(g.form, len(g.shots), {s.camera for s in g.shots}) for g in self.sorted_out(listed)],
                         [(Form.SWEEP, 5, {"one"}), (Form.SERIES, 6, {"two"}), (Form.SWEEP, 4, {"one"})])

    def test_frames_without_times_are_grouped_by_name_and_likeness(self):
        listed = [(Shot(f"/card/f{n}.jpg", (600, 400)), "aa" if n < 9 else f"b{n}") for n in range(14)]
        found = self.sorted_out(listed)
        self.assertEqual([(g.form, len(g.shots)) for g in found], [(Form.SERIES, 9), (Form.SWEEP, 5)])


class Bursts(unittest.TestCase):
    def burst(self, positions: int, length: int, pause: float, still=lambda p: True, on=lambda p: True):
        shots_ = [Shot(f"/card/{p:02d}-{k}.dng", (600, 400), START + timedelta(seconds=pause * p + k))
                  for p in range(positions) for k in range(length)]
        place = {s.path: n // length for n, s in enumerate(shots_)}
        beside = Relation(np.array([[1.0, 0, 0.6], [0, 1, 0], [0, 0, 1]]))
        here = Relation(np.eye(3))

        def relation(a: Shot, b: Shot):
            p, q = place[a.path], place[b.path]
            if p == q:
                return here if still(p) else None
            return (beside if on(min(p, q)) else here) if abs(p - q) == 1 else None

        return grouped(shots_, Likeness(lambda a, b: 0.0, relation, lambda some: {}))

    def test_bursts_are_told_by_their_times_where_some_show_only_sky_or_ground(self):
        (one,) = self.burst(10, 2, 12.0, still=lambda p: p not in (8, 9), on=lambda p: True)
        self.assertIs(one.form, Form.BRACKET)
        self.assertEqual([len(p) for p in one.positions], [2] * 10)

    def test_one_long_series_and_a_row_with_pauses_are_no_bursts(self):
        for groups in (self.burst(8, 3, 14.0, on=lambda p: False), self.burst(6, 2, 3.0, still=lambda p: False),
                       self.burst(6, 2, 2.0)):
            self.assertFalse(any(g.positions for g in groups))


class Card(unittest.TestCase):
    def test_a_shuffled_card_is_sorted_into_its_sets(self):
        from windfell.demo.sets import write_card

        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            with mock.patch("windfell.demo.faults.CANVAS", 2400):
                write_card(folder, 0.15, Job(), gap_s=45)
            truth = json.loads((folder / "card.json").read_text())
            files = [str(folder / f) for v in truth.values() for f in v["files"]]
            np.random.default_rng(2).shuffle(files)
            sets = propose(Engine(None, 2**28), files, Job()).sets
            outer = [s for s in sets if not s.name.endswith(("1", "2", "3")) or "position" not in s.name]
            listed = {frozenset(Path(f.source.path).name for f in s.frames if hasattr(f.source, "path"))
                      for s in outer}
            for title, words in truth.items():
                with self.subTest(title):
                    if words["kind"] != "bracket":
                        self.assertIn(frozenset(words["files"]), listed)
            inner = [s for s in sets if "position" in s.name]
            self.assertEqual({Path(f.source.path).name for s in inner for f in s.frames},
                             set(truth["Chapel brackets"]["files"]))


def seen(*views: tuple[str, float, float], exposures: dict[str, float] | None = None):
    """Shots without times (name, where it looks and how far above, in frames), and what they show of each other."""
    shots_ = [Shot(f"/scan/{name}.jpg", (600, 400)) for name, _, _ in views]
    relations = {}
    for i, (a, xa, ya) in enumerate(views):
        for j, (b, xb, yb) in enumerate(views[:i]):
            if abs(xa - xb) < 0.9 and abs(ya - yb) < 0.9 and a[0] == b[0]:
                gain = None if exposures is None else exposures[b] - exposures[a]
                onto = np.array([[1, 0, xa - xb], [0, 1, ya - yb], [0, 0, 1.0]])
                relations[shots_[i].path, shots_[j].path] = Relation(onto, gain)
    return shots_, relations


class ByContent(unittest.TestCase):
    def formed(self, *views, exposures=None):
        found = groups_by_content(*seen(*views, exposures=exposures))
        return [(str(g.form), [Path(s.path).stem for s in g.shots]) for g in found], found

    def test_what_connects_is_a_sweep_and_what_coincides_a_series_under_shuffled_names(self):
        words, _ = self.formed(("a7", 0, 0), ("b2", 0, 0), ("a1", 1.4, 0), ("b9", 0.04, 0.02), ("a3", 0.7, 0),
                               ("b4", -0.03, 0))
        self.assertEqual(words, [("sweep", ["a1", "a3", "a7"]), ("series", ["b2", "b4", "b9"])])

    def test_a_camera_turned_on_by_little_is_no_series(self):
        words, _ = self.formed(*((f"a{n}", 0.1 * n, 0) for n in range(7)))
        self.assertEqual(words[0][0], "sweep")

    def test_one_bump_leaves_a_series_a_series(self):
        for bump, aside in ((0.3, set()), (0.7, {"/scan/a4.jpg"})):
            words, (found,) = self.formed(*((f"a{n}", bump * (n == 4), 0) for n in range(8)))
            self.assertEqual([(f, len(s)) for f, s in words], [("series", 8)])
            self.assertEqual(found.aside, aside, "a camera that swung away shows something else")

    def test_brackets_by_their_light(self):
        steps = {"a1": 0.0, "a2": -2.0, "a3": 2.0}
        words, _ = self.formed(("a1", 0, 0), ("a2", 0, 0), ("a3", 0, 0), exposures=steps)
        self.assertEqual(words[0][0], "bracket")
        views = [(f"a{p}{n}", 0.7 * p, 0) for p in range(3) for n in range(3)]
        light = {name: (0.0, -2.0, 2.0)[(int(name[2]) + int(name[1])) % 3] for name, _, _ in views}
        words, (found,) = self.formed(*views, exposures=light)
        self.assertEqual(words[0][0], "bracket")
        self.assertEqual([len(p) for p in found.positions], [3, 3, 3])
        plain, _ = self.formed(*views, exposures=dict.fromkeys(light, 0.0))
        self.assertEqual(plain[0][0], "sweep")

    def test_a_series_beside_a_row_of_the_same_place_is_a_set_of_its_own(self):
        words, _ = self.formed(*((f"a{n}", 0, 0) for n in range(5)), ("a6", 0.6, 0), ("a7", 1.2, 0), ("a8", 1.8, 0))
        self.assertEqual([(f, len(s)) for f, s in words], [("series", 5), ("sweep", 3)])
        needed, _ = self.formed(*((f"a{n}", 0, 0) for n in range(5)), ("a6", -0.7, 0), ("a7", 0.7, 0))
        self.assertEqual([(f, len(s)) for f, s in needed], [("sweep", 7)])

    def test_where_features_leave_groups_apart_frames_are_looked_at_as_finely_as_by_align(self):
        world, told, acquainted = textured(400, 900, 6), [], proposals.acquainted
        with tempfile.TemporaryDirectory() as folder:
            paths = [write_picture(Path(folder) / f"{n}.png", world[:, 300 * n : 300 * n + 600]) for n in range(2)]
            host = Engine(None, 2**28)

            def watched(features, job, finer):
                told.extend([features[0], finer(0)])
                return acquainted(features, job, finer)

            with mock.patch.object(proposals, "acquainted", watched):
                propose(host, paths, Job())
            frame = frame_from_path(paths[0])
            wanted = host.features(host.opened(Project(), frame, Job()), frame, Job(), Detail.FINE)
        np.testing.assert_array_equal(told[1].points, wanted.points)
        self.assertNotEqual(len(told[0].points), len(wanted.points))


class Offered(unittest.TestCase):
    def test_align_says_which_of_many_it_joins(self):
        world = textured(400, 1100, 6)
        with tempfile.TemporaryDirectory() as folder:
            views = [world[:, :500], textured(400, 500, 9), world[:, 280:780]]
            paths = [write_picture(Path(folder) / f"{n}.png", v) for n, v in enumerate(views)]
            some = [proposals.shot_of(p)[0] for p in paths]
            known = Acquaintances(Engine(None, 2**28), some, Job())
            self.assertEqual(known.like.together(some), {paths[0], paths[2]})
            self.assertEqual(known.together(some[:2]), frozenset())

    def test_a_lone_shot_is_put_aside_in_the_set_whose_colours_it_has(self):
        shots_, relations = seen(("a1", 0, 0), ("a2", 0.7, 0), ("b1", 0, 0), ("b2", 0.7, 0), ("c3", 0, 0))
        like = Likeness(lambda a, b: 0.0, lambda a, b: None, lambda some: relations,
                        lambda a, b: float(Path(b.path).stem[0] == "b"))
        first, second = grouped(shots_, like)
        self.assertEqual((len(first.shots), first.aside), (2, frozenset()))
        self.assertEqual((len(second.shots), second.aside), (3, {"/scan/c3.jpg"}))

    def offered(self, loses: str = ""):
        """Sets of a row of two and of lone ones, where Align joins what begins with one letter, but for `loses`."""
        def together(some):
            names = [Path(s.path).stem for s in some]
            first = next((n[0] for n in names if sum(m[0] == n[0] for m in names) > 1), None)
            return frozenset(s.path for s, n in zip(some, names, strict=True) if n[0] == first and n != loses)

        shots_, relations = seen(("a1", 0, 0), ("a2", 0.7, 0), ("a10", 9, 0), ("b1", 9, 0), ("b2", 5, 0), ("c", 5, 0))
        found = grouped(shots_, Likeness(
            lambda a, b: 0.0, lambda a, b: None, lambda some: relations, together=together))
        return [([Path(s.path).stem for s in g.shots], {Path(p).stem for p in g.aside}) for g in found]

    def test_a_lone_shot_that_align_joins_is_in_use_with_its_set_or_with_others_like_it(self):
        self.assertEqual(self.offered(), [(["a1", "a2", "a10", "c"], {"c"}), (["b1", "b2"], set())])
        aside = self.offered(loses="a2")[0][1]
        self.assertIn("a10", aside, "the set would lose one that belongs to it")
        with mock.patch("windfell.frames.propose.MOST_LONE", 0):
            self.assertEqual([len(aside) for _, aside in self.offered()], [4])

    def test_by_time_where_there_are_times_and_together_where_all_are_alone(self):
        asked = mock.Mock(return_value=frozenset())
        like = Likeness(lambda a, b: 0.0, lambda a, b: None, lambda some: {}, together=asked)
        listed = [s for s, _ in shots(3, 0) + shots(1, 900) + shots(3, 5000)]
        found = grouped(listed, like)
        self.assertEqual([(len(g.shots), len(g.aside)) for g in found], [(4, 1), (3, 0)])
        asked.assert_not_called()
        alone = grouped([s for s, _ in shots(1, 0) + shots(1, 900)], like)
        self.assertEqual([(g.form, len(g.shots), len(g.aside)) for g in alone], [(Form.SWEEP, 2, 0)])

    def test_files_written_all_at_once_say_nothing_of_time(self):
        shots_, relations = seen(("a1", 0, 0), ("b1", 0, 0), ("a2", 0.7, 0), ("b2", 0.7, 0))
        at_once = [Shot(s.path, s.size, START) for s in shots_]
        like = Likeness(lambda a, b: 0.0, lambda a, b: None, lambda some: relations)
        self.assertEqual([len(g.shots) for g in grouped(at_once, like)], [2, 2])


class Movement(unittest.TestCase):
    def moved(self, transform: np.ndarray, count: int = 300) -> bool | None:
        rng = np.random.default_rng(1)
        p = rng.uniform(0, 1, (count, 2)) * [900, 600]
        q = planar.apply(transform, p) + rng.normal(0, 0.4, p.shape)
        q[: count // 8] += [30, 4]
        return has_moved([Link(0, 1, p, q, np.ones(count, bool), transform)], 900, 600, 900)

    def test_what_moves_by_itself_is_put_aside(self):
        c, s = np.cos(0.002), np.sin(0.002)
        self.assertIs(self.moved(np.eye(3)), False)
        shifted, turned = np.array([[1, 0, 2], [0, 1, -1], [0, 0, 1.0]]), np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        for transform in (shifted, turned, np.diag([1.003, 1.003, 1])):
            self.assertIs(self.moved(transform), True)
        self.assertIsNone(self.moved(np.eye(3), 5), "few points say nothing")

    def test_a_series_is_asked_as_a_whole(self):
        world, rng = textured(560, 800, 5), np.random.default_rng(2)
        turned = [cv2.getRotationMatrix2D((400, 280), angle, 1.0) for angle in (0.0, 1.5, -1.0, 2.0, -2.5)]
        views = [cv2.warpAffine(world, m, (800, 560))[100:420, 120:600] for m in turned]
        stranger = textured(320, 480, 77)
        far_apart = [np.clip(v * g + rng.normal(0, 1, v.shape), 0, 255).astype(np.uint8)
                     for v, g in zip(views, (1, 0.1, 0.01, 0.3, 0.03), strict=True)]
        smaller = cv2.resize(stranger, (360, 240), interpolation=cv2.INTER_AREA)
        soft = cv2.GaussianBlur(world, (0, 0), 9)
        soft = [np.clip(120 + 4 * (soft[y : y + 320, x : x + 480] - 120.0), 0, 255).astype(np.uint8)
                for y, x in ((100, 120), (104, 128), (96, 112))]
        with tempfile.TemporaryDirectory() as folder:
            for wanted, series in (
                ("perspective", [*views[:2], stranger, *views[2:4]]), ("perspective", far_apart),
                ("perspective", [*views[:3], smaller]), ("none", [views[0]] * 3), ("perspective", soft),
                ("none", [soft[0]] * 3),
            ):
                files = [write_picture(Path(folder) / f"{n}.png", v) for n, v in enumerate(series)]
                with self.subTest(wanted, frames=len(series)):
                    self.assertEqual(way_asked(Engine(None, 2**28), files, Job()), wanted)
                if series[0] is soft[0]:
                    with mock.patch("windfell.engine.proposals.has_moved", lambda *_: None):
                        self.assertEqual(way_asked(Engine(None, 2**28), files, Job()), wanted, "by its light alone")


class InPlace(unittest.TestCase):
    def test_a_soft_view_with_someone_in_it_is_told_from_another(self):
        grey = [cv2.GaussianBlur(textured(170, 256, seed)[..., 1], (0, 0), 12) for seed in (1, 2)]
        grey = [cv2.normalize(g, None, 60, 200, cv2.NORM_MINMAX) for g in grey]
        passed = grey[0].copy()
        cv2.ellipse(passed, (90, 100), (18, 50), 0, 0, 360, 20, -1)
        darker = np.clip(grey[0] * 0.6, 0, 255).astype(np.uint8)
        self.assertTrue(same_in_place(grey[0], passed))
        self.assertTrue(same_in_place(passed, darker))
        self.assertFalse(same_in_place(grey[0], grey[1]))
        misty = [cv2.normalize(g, None, 126, 134, cv2.NORM_MINMAX) for g in grey]
        self.assertFalse(same_in_place(*misty), "mist is like mist, but not the same")


class Brackets(unittest.TestCase):
    def test_one_of_which_a_frame_is_all_burnt_out_is_merged_by_exposures(self):
        soft = cv2.GaussianBlur(textured(400, 600, 8), (0, 0), 5)
        light = srgb_decoded((150 + 0.6 * (soft - 128.0)) / 255)
        shot = Taken(Lens(600, 400, 700.0), np.eye(3))
        rng = np.random.default_rng(2)
        with tempfile.TemporaryDirectory() as name:
            paths = []
            for n, ev in enumerate((0.0, -2.0, 2.0)):
                seen = srgb_encoded(np.clip(light * 2.0**ev, 0, 1)) + rng.normal(0, 0.006, light.shape)
                paths.append(str(Path(name) / f"b{n}.jpg"))
                pixels = np.clip(255 * (seen if ev < 2 else 1.0 + 0 * seen), 0, 255).astype(np.uint8)
                write_jpeg(Path(paths[-1]), pixels, exif_bytes(
                    shot, START + timedelta(seconds=3 * n), Camera(speed=200 / 2.0**ev)), 92)
            with mock.patch.object(Acquaintances, "movement", autospec=True,
                                   side_effect=Acquaintances.movement) as asked:
                (found,) = propose(Engine(None, 2**28), paths, Job()).sets
        self.assertTrue(asked.call_args.kwargs["finely"], "previews of other exposures say little of movement")
        self.assertEqual((found.kind, len(found.used)), (Kind.STACK, 3))
        self.assertIs(found.combining.rule, Rule.EXPOSURES)
        self.assertIs(found.registration.align, Align.NONE)

    def test_many_frames_whose_light_differs_are_no_bracket_of_one_view(self):
        known = mock.Mock(movement=mock.Mock(return_value=Align.NONE))
        for count, rule in ((15, Rule.EXPOSURES), (16, Rule.MEDIAN)):
            group = Group(Form.BRACKET, tuple(Shot(f"/card/{n}.jpg", (600, 400)) for n in range(count)))
            (found,) = proposals._sets_of(group, 1, known)
            self.assertIs(found.combining.rule, rule)


class WithoutTimes(unittest.TestCase):
    def test_shuffled_files_that_say_nothing(self):
        rng = np.random.default_rng(4)
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            world = textured(700, 2600, 8)
            views = {"row": [(100 + 360 * n, 40) for n in range(3)],
                     "hand": [(1500 + int(rng.integers(-12, 13)), 60 + int(rng.integers(-12, 13))) for _ in range(4)],
                     "stood": [(2050, 60)] * 3, "lone": [(1480, 360)]}
            numbers = iter(rng.permutation(90) + 10)
            files = {}
            for title, spots in views.items():
                high = 300 if title == "lone" else 320
                for n, (x, y) in enumerate(spots):
                    part = world[y : y + high, x : x + 480].copy()
                    if title in ("hand", "stood"):
                        part[40 + 60 * n : 100 + 60 * n, 60 + 90 * n : 130 + 90 * n] = (200, 40, 40)
                    path = write_picture(folder / f"p{next(numbers)}.png", part)
                    files.setdefault(title, set()).add(path)
            paths = [p for own in files.values() for p in own]
            rng.shuffle(paths)
            sets = propose(Engine(None, 2**28), paths, Job()).sets
        found = {frozenset(f.source.path for f in s.used): s for s in sets}
        self.assertEqual(len(sets), 3)
        self.assertIs(found[frozenset(files["row"])].kind, Kind.PANORAMA)
        hand, stood = found[frozenset(files["hand"])], found[frozenset(files["stood"])]
        self.assertEqual((hand.kind, stood.kind), (Kind.STACK, Kind.STACK))
        self.assertIsNot(hand.registration.align, Align.NONE)
        self.assertIs(stood.registration.align, Align.NONE)
        (lone,) = [f.source.path for s in sets for f in s.frames if not f.on]
        self.assertEqual({lone}, files["lone"])
