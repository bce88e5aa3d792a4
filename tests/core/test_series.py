"""Series taken by hand, where something large moves, a frame is shaken, or there is much noise."""

import tempfile
import unittest
from dataclasses import replace
from unittest.mock import patch

import cv2
import numpy as np

from tests.support import engine, project_of, textured
from windfell.align.by_look import best_shift
from windfell.align.features import Features, grey_features, quick_features
from windfell.align.same_light import better_explained
from windfell.align.series import (
    NotOnto,
    Onto,
    _Fitted,
    _most_alike,
    align_series,
    by_neighbours,
    by_others,
    onto,
    refined_onto,
)
from windfell.align.soft_land import ABOUT, denied_by_land, shift_of_land
from windfell.align.view import GreyView
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.recipe.model import Align, Kind, Registration

W, H, FOCAL = 600, 400, 700.0
THING = 190, 270


def series(count: int, soft: float, seed: int) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Frames uint8 (h, w, 3) of a land blurred by `soft` px; and what takes the first's px to each frame's."""
    rng = np.random.default_rng(seed)
    land = cv2.GaussianBlur(textured(H + 120, W + 120, seed), (0, 0), soft).astype(np.float32)
    land = 120 + (land - land.mean()) * (1 + soft)
    camera = np.array([[FOCAL, 0, (W - 1) / 2], [0, FOCAL, (H - 1) / 2], [0, 0, 1]])
    aside = np.array([[1, 0, 60], [0, 1, 60], [0, 0, 1.0]])
    frames, places = [], []
    for n in range(count):
        turn = from_yaw_pitch_roll(*np.radians(rng.normal(0, 1.0, 3) * (n > 0)))
        place = camera @ turn.T @ np.linalg.inv(camera)
        frames.append(cv2.warpPerspective(land, place @ np.linalg.inv(aside), (W, H), flags=cv2.INTER_CUBIC))
        places.append(place)
    return [np.clip(f + rng.normal(0, 2, f.shape), 0, 255).astype(np.uint8) for f in frames], places


def with_thing(frames: list[np.ndarray]) -> list[np.ndarray]:
    """Something patterned that goes to the right, by 55 px from frame to frame."""
    wide, high = THING
    thing, out = textured(high, wide, 77), []
    for n, frame in enumerate(frames):
        frame = frame.copy()
        frame[90 : 90 + high, 15 + 55 * n : 15 + 55 * n + wide] = thing
        out.append(frame)
    return out


def faint(frames: list[np.ndarray], contrast: float, noise: float) -> list[np.ndarray]:
    """The frames with so much less contrast, and noise."""
    rng = np.random.default_rng(0)
    return [np.clip(120 + (f - 120.0) * contrast + rng.normal(0, noise, f.shape), 0, 255).astype(np.uint8)
            for f in frames]


def looks_of(frames: list[np.ndarray]) -> list[Features]:
    return [quick_features(cv2.cvtColor(f, cv2.COLOR_BGR2GRAY), W, H) for f in frames]


def errors_of(frames: list[np.ndarray], places: list[np.ndarray]) -> list[float]:
    """How far each frame lies off at most of its px; inf where it was left out."""
    with tempfile.TemporaryDirectory() as folder:
        paths = [f"{folder}/f{n}.png" for n in range(len(frames))]
        for path, frame in zip(paths, frames, strict=True):
            cv2.imwrite(path, frame)
        project, set_id = project_of(paths, Kind.STACK, registration=Registration(Align.PERSPECTIVE))
        found = engine().stages(project, set_id).registration(Job())
    grid = Lens(W, H, 1.0).grid(10)
    return [float(np.percentile(np.linalg.norm(planar.apply(f.transform, grid) - planar.apply(p, grid), axis=1), 90))
            if isinstance(f, Onto) else np.inf for f, p in zip(found.frames, places, strict=True)]


class Series(unittest.TestCase):
    def test_the_land_is_brought_together_and_not_the_large_thing_that_moves_before_it(self):
        for soft in (2.5, 6.0, 8.0):
            with self.subTest(soft=soft):
                frames, places = series(4, soft, 5)
                self.assertLess(max(errors_of(with_thing(frames), places)), 0.3)

    def test_land_with_hardly_a_feature_is_found_by_its_light(self):
        frames, places = series(4, 8.0, 5)
        self.assertLess(max(errors_of(with_thing(faint(frames, 0.2, 4)), places)), 1.0)

    def test_where_features_lie_on_what_moved_the_light_places_the_land(self):
        frames, places = series(4, 8.0, 5)
        features = looks_of(with_thing(frames))
        moved = Onto(np.array([[1, 0, 110], [0, 1, 0], [0, 0, 1.0]]), 0.1)
        with patch("windfell.align.series._by_features", lambda *_: moved), \
                patch("windfell.align.series.matches_near", lambda *_: np.zeros((0, 2), int)):
            rough = onto(features[0], features[2], "perspective", False)
            self.assertIsInstance(onto(features[0], features[2], "perspective"), NotOnto)
        self.assertTrue(rough.rough)
        middle = np.array([[W / 2, H / 2]])
        off = planar.apply(rough.transform, middle) - planar.apply(places[2], middle)
        self.assertLess(np.linalg.norm(off), 12)
        blank = GreyView(np.full((H, W), 90, np.float32), (W, H))
        refined = refined_onto(rough, "perspective", features[0], features[2], blank, blank, Job())
        self.assertIsInstance(refined, NotOnto)

    def test_the_light_denies_what_moved_and_not_where_features_are_right(self):
        frames, places = series(4, 8.0, 5)
        a, b = (looks_of(with_thing(frames))[n] for n in (0, 2))
        land = shift_of_land(a, b)
        moved = np.array([[1, 0, 110], [0, 1, 0], [0, 0, 1.0]])
        self.assertTrue(denied_by_land(a, b, moved, land))
        self.assertFalse(denied_by_land(a, b, places[2], land))
        self.assertFalse(denied_by_land(a, b, places[2], moved))
        for finely, where in (([9, 3], moved), ([3, 9], places[2])):  # both, the soft and the fine, must say so
            with patch("windfell.align.soft_land.better_explained", lambda *_, said=finely: said):
                self.assertFalse(denied_by_land(a, b, where, land))

    def test_the_land_must_plainly_say_more(self):
        a, b = looks_of(series(2, 2.0, 5)[0])
        seen = np.ones((10, 20), bool)
        for for_land, denied in ((40, False), (80, True)):
            by_features, by_land = np.full((2, 10, 20), 0.5, np.float32)
            by_features.flat[:35], by_land.flat[-for_land:] = 0.95, 0.95
            for rim in (~seen, seen):  # what lies across the rim says nothing
                alike = (seen, by_features, ~seen), (seen, by_land, rim)
                with patch("windfell.align.soft_land._alike", side_effect=alike), \
                        patch("windfell.align.soft_land.better_explained", lambda *_: [3, 9]):
                    self.assertIs(denied_by_land(a, b, np.eye(3), np.eye(3)), denied and not rim.any())

    def test_what_a_fraction_of_a_px_brings_over_the_rim_speaks_for_no_place(self):
        land = textured(H + 40, W + 40, 8)
        a, b = looks_of([land[20 : 20 + H, 20 : 20 + W], land[19 : 19 + H, 19 : 19 + W]])
        place, untouched = np.array([[1, 0, 1], [0, 1, 1], [0, 0, 1.0]]), np.eye(3)
        self.assertEqual(better_explained(a, b, [place, untouched], 0), [0, 0])
        self.assertFalse(denied_by_land(a, b, place, untouched))

    def test_a_series_focused_ever_farther_away_is_brought_together_by_those_between(self):
        frames, places = series(7, 0.8, 11)
        far = np.linspace(0, 1, W)[None, :, None]
        for n, frame in enumerate(frames):
            soft = np.stack([cv2.GaussianBlur(frame, (0, 0), s) if s else frame for s in range(11)])
            off = np.round(np.abs(far - n / 6) * 10).astype(int)
            frames[n] = np.take_along_axis(soft, np.broadcast_to(off, soft.shape[1:])[None], 0)[0]
        self.assertLess(max(errors_of(frames, places)), 1.0)

    def test_a_frame_that_is_held_loosely_goes_by_its_neighbours_if_they_hold_it_far_better(self):
        frames, places = series(4, 8.0, 5)
        features = looks_of(frames)
        wrong = np.array([[1, 0, 5], [0, 1, 0], [0, 0, 1.0]])
        steps = {n: places[n + 1] @ np.linalg.inv(places[n]) for n in range(3)}

        def step(found, way, a, b, first, other, job):
            return Onto(steps[first], 0.1, share=0.5 if other < 3 else 0.28)

        def by(share: float, denied: bool = False) -> list[Onto | NotOnto]:
            found = [Onto(np.eye(3), 0.0, True), Onto(places[1], 0.1, share=0.4),
                     Onto(wrong, 0.1, share=share), Onto(wrong, 0.1, share=0.2)]
            with patch("windfell.align.series.onto", lambda *_: Onto(np.eye(3), 0.1)), \
                    patch("windfell.align.series.refined_onto", step), \
                    patch("windfell.align.series.denied_by_land", lambda *_: denied), \
                    patch("windfell.align.series._land", lambda *_: np.eye(3)):
                return by_neighbours(found, features, 0, "perspective", lambda n: n, Job())

        def by_the_next() -> Onto:
            found = [Onto(wrong, 0.1, share=0.1), Onto(np.eye(3), 0.0, True)]
            with patch("windfell.align.series.onto", lambda *_: Onto(np.eye(3), 0.1)), \
                    patch("windfell.align.series.refined_onto", step), \
                    patch("windfell.align.series._land", lambda *_: None):
                return by_neighbours(found, features[:2], 1, "perspective", lambda n: n, Job())[0]

        np.testing.assert_allclose(by_the_next().transform, np.linalg.inv(steps[0]))
        found = by(0.1)
        np.testing.assert_allclose(found[2].transform, places[2])
        self.assertEqual((found[1].transform is places[1], found[2].share), (True, 0.4))
        for held in (found[3], by(0.28)[2], by(0.35)[2], by(0.1, denied=True)[2]):  # less than half as much more
            self.assertIs(held.transform, wrong)

    def test_along_stripes_the_land_is_not_moved(self):
        rng = np.random.default_rng(3)
        y, x = np.mgrid[:170, :256].astype(np.float32)

        def stripes(aside: float) -> np.ndarray:
            soft = 40 * np.sin((y - 0.3 * x - aside) / 9) * np.exp(-((y - 80 - 0.3 * x - aside) / 60) ** 2)
            return (soft + rng.normal(0, 2, y.shape)).astype(np.float32)

        for aside in (0.0, 6.0):
            dx, dy = best_shift(stripes(0.0), stripes(aside), 0.7, about=ABOUT)
            self.assertLess(np.hypot(dx, dy), aside + 5)
            self.assertLess(abs(dy - 0.3 * dx - aside), 3)

    def test_a_rough_place_stands_if_much_of_the_light_agrees(self):
        frames, _ = series(2, 2.0, 5)
        a, b = looks_of(frames)
        view = GreyView(np.full((H, W), 90, np.float32), (W, H))
        for share, stands in ((0.25, False), (0.4, True)):
            fitted = _Fitted(np.array([[1, 0, 9], [0, 1, 0], [0, 0, 1.0]]), 0.1, np.full(40, 9.0), share, 0.1)
            with patch("windfell.align.series._fitted", side_effect=lambda *_, f=fitted: f) as looked:
                found = refined_onto(Onto(np.eye(3), 0.0, rough=True), "perspective", a, b, view, view, Job())
            self.assertEqual(isinstance(found, Onto), stands)
        again = [c for c in looked.call_args_list if c.args[0] is fitted.transform]
        self.assertGreaterEqual(len(again), 2, "looked at again from there")

    def test_other_land_has_no_place_by_its_light(self):
        for seed in (21, 22, 23):
            (first, *_), (other, *_) = series(1, 8.0, 5)[0], series(1, 8.0, seed)[0]
            self.assertIsNone(shift_of_land(*looks_of([first, other])))

    def test_a_shaken_frame_and_a_soft_one_lie_where_the_sharp_ones_do(self):
        frames, places = series(4, 0.8, 6)
        frames[1], frames[2] = cv2.blur(frames[1], (11, 1)), cv2.GaussianBlur(frames[2], (0, 0), 3.0)
        errors = errors_of(frames, places)
        self.assertLess(errors[3], 0.1)
        self.assertLess(max(errors), 0.21)

    def test_noise_is_looked_through_from_farther_away(self):
        frames, places = series(3, 1.5, 7)
        rng = np.random.default_rng(1)
        noisy = [np.clip(f + rng.normal(0, 40, f.shape), 0, 255).astype(np.uint8) for f in frames]
        self.assertLess(max(errors_of(noisy, places)), 0.4)

    def test_where_just_one_thing_is_alike_the_frame_is_left_out(self):
        first, second = (textured(H, W, seed) for seed in (11, 12))
        second = cv2.GaussianBlur(second, (0, 0), 1.0)
        frames = [f[:, :, ::-1].copy() for f in with_thing([first, second])]
        features = [quick_features(cv2.cvtColor(f, cv2.COLOR_BGR2GRAY), W, H) for f in frames]
        found = onto(*features, "perspective")
        self.assertIsInstance(found, NotOnto)
        self.assertIn("moved", found.reason)

    def test_the_land_found_twice_is_no_rival_of_itself(self):
        frames, places = series(4, 6.0, 5)
        a, b = (grey_features(cv2.cvtColor(with_thing(frames)[n], cv2.COLOR_BGR2GRAY), W, H) for n in (0, 2))
        found = onto(a, b, "perspective", False)
        self.assertIsInstance(found, Onto)
        grid = Lens(W, H, 1.0).grid(8)
        off = np.linalg.norm(planar.apply(found.transform, grid) - planar.apply(places[2], grid), axis=1)
        self.assertLess(np.median(off), 1.0)

    def test_blocks_speak_for_the_place_at_which_they_are_more_alike(self):
        frames, places = series(2, 1.5, 8)
        a, b = (quick_features(cv2.cvtColor(f, cv2.COLOR_BGR2GRAY), W, H) for f in with_thing(frames))
        moved = np.array([[1, 0, 55], [0, 1, 0], [0, 0, 1.0]])
        land, thing = better_explained(a, b, [places[1], moved], 1)
        self.assertGreater(land, 2 * thing)
        self.assertGreater(thing, 30)
        self.assertEqual(better_explained(a, b, [places[1], places[1]], 1), [0, 0], "neither is better")
        alone, = better_explained(a, b, [moved], 1)
        self.assertGreaterEqual(alone, thing)

    def test_what_few_points_say_of_the_slant_does_not_tear_the_frame(self):
        rng = np.random.default_rng(3)
        a = quick_features(textured(H, W, 3)[..., 0], W, H)
        near = np.flatnonzero(np.linalg.norm(a.points - (80, 80), axis=1) < 40)[:40]
        place = np.array([[1, 0.01, 5], [0, 1, 3], [1.2e-2, 0.8e-2, 1.0]])
        some = replace(a, points=a.points[near], descriptors=a.descriptors[near], look=None)
        there = replace(some, points=planar.apply(place, some.points) + rng.normal(0, 0.2, (len(near), 2)))
        found = onto(some, there, "perspective", False)
        self.assertLess(np.abs(found.transform[2, :2]).max(), 1e-9)

    def test_of_two_places_that_explain_as_much_the_one_that_keeps_the_view_is_taken(self):
        frames, _ = series(2, 0.8, 9)
        a, b = looks_of(frames)
        p, far, near = np.random.default_rng(0).uniform(0, 300, (60, 2)), np.eye(3), np.eye(3)
        far[0, 2], near[0, 2] = 240, 20
        half = np.arange(60) < 30
        fine = [replace(x, descriptors=x.descriptors.astype(np.float32)) for x in (a, b)]
        with patch("windfell.align.series.explanations", lambda *_: ([(far, half), (near, ~half)], None)), \
                patch("windfell.align.series.better_explained") as blocks:
            for blocks.return_value, kept in (([900, 90], half), ([900, 800], ~half)):
                self.assertTrue(np.array_equal(_most_alike(*fine, p, p)[0], p[kept]))
            self.assertIsInstance(_most_alike(a, b, p, p), NotOnto, "quick features leave it to finer ones")

    def test_what_quick_features_leave_open_finer_ones_say_before_the_light_does(self):
        frames, _ = series(2, 2.0, 5)
        a, b = looks_of(frames)
        with patch("windfell.align.series._by_features", lambda *_: NotOnto("open")):
            self.assertEqual(onto(a, b, "perspective", False, roughly=False), NotOnto("open"))
            self.assertIsInstance(onto(a, b, "perspective", False), Onto)

    def test_a_place_by_another_frame_is_none_if_the_light_of_the_reference_denies_it(self):
        frames, places = series(3, 8.0, 5)
        features = looks_of(with_thing(frames))
        moved = np.array([[1, 0, 55], [0, 1, 0], [0, 0, 1.0]])
        held = [Onto(np.eye(3), 0.0, True), Onto(places[1], 0.1, share=0.3), NotOnto("open")]
        for step, stands in ((places[2] @ np.linalg.inv(places[1]), True), (moved, False)):
            with patch("windfell.align.series.onto", lambda a, b, *_, at=step: (
                    Onto(at, 0.1) if a is features[1] else NotOnto("not this one"))):
                found = by_others(held, features, 0, "perspective", None, Job())
            self.assertEqual(isinstance(found[2], Onto), stands)
            self.assertEqual(getattr(found[2], "share", 0.3), 0.3, "no more than the way there has")

    def test_finer_features_are_asked_for_those_that_the_first_leave_open(self):
        frames, _ = series(3, 0.8, 9)
        fine = [quick_features(cv2.cvtColor(f, cv2.COLOR_BGR2GRAY), W, H) for f in frames]
        poor, asked = [*fine[:2], quick_features(np.full((H, W), 90, np.uint8), W, H)], []

        def finer(numbers):
            asked.append(list(numbers))
            return [fine[n] for n in numbers]

        with patch("windfell.align.series.onto", wraps=onto) as looked:
            found = align_series(poor, 0, "perspective", Job(), None, finer)
        self.assertTrue(all(isinstance(f, Onto) for f in found))
        self.assertEqual(asked, [[0, 2]])
        roughly = [c.args[4] for c in looked.call_args_list]
        self.assertEqual(roughly, [False, False, True], "only the last may be had roughly")
