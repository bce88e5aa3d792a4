"""One panorama behind another: placed by what both show, seen in the sky alone, turning with the view."""

import tempfile
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import cv2
import numpy as np

from tests.support import engine, frames_in, ridge
from windfell.cli.main import main
from windfell.engine.areas import on_unrolled
from windfell.engine.behind import Backdrop, with_behind
from windfell.engine.behind_light import picked_light
from windfell.engine.by_skyline import turned_by_skyline
from windfell.engine.laying_behind import (
    Around,
    _beside,
    _by_land,
    _upward,
    behind_found,
    seen_around,
    sky_on_sphere,
    turned_by_hand,
    turned_onto,
)
from windfell.engine.picture import Picture
from windfell.errors import BadRequest
from windfell.geometry.rotation import angle_between, from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import luminance, to_view
from windfell.pixels.tiles import Region
from windfell.recipe import edits
from windfell.recipe.areas import Area, Found
from windfell.recipe.behind import Behind
from windfell.recipe.laying_behind import lay_behind, light_behind, take_from_behind
from windfell.recipe.model import (
    Development,
    FrameSet,
    Kind,
    Project,
    frame_from_path,
    nested_in,
    picture_parts,
)
from windfell.recipe.nesting import as_tree
from windfell.recipe.project_file import load_project, mask_name, save_project
from windfell.shape.canvas import Canvas

EVERYWHERE = np.full((16, 32), 255, np.uint8)


@lru_cache(maxsize=1)
def two() -> Project:
    """The left three frames of a row in front, the right three, darker, behind."""
    paths = frames_in(ridge())
    front = tuple(frame_from_path(p) for p in paths[:3])
    back = tuple(replace(frame_from_path(p), development=Development(exposure_ev=-1.0)) for p in paths[1:])
    return Project((FrameSet("front", "Dusk", Kind.PANORAMA, front), FrameSet("back", "Night", Kind.PANORAMA, back)))


@lru_cache(maxsize=1)
def laid() -> tuple[object, Project, Behind, np.ndarray]:
    """(engine, project with the one behind the other, how, the mask of the sky)."""
    e, project = engine(), two()
    behind, mask, turned = behind_found(e, project, "front", "back", Job())
    assert turned.by == "what both show", turned
    e.masks = {mask_name(mask): mask, mask_name(EVERYWHERE): EVERYWHERE}
    return e, lay_behind(project, "front", behind).project, behind, mask


def angles_between(e, project: Project) -> list[np.ndarray]:
    """From the back's world to the front's, by the frames that are in both."""
    front, back = (e.stages(project, i).posed(Job()) for i in ("front", "back"))
    return [front[k].rotation @ back[k - 1].rotation.T for k in (1, 2)]


class PlacedTest(unittest.TestCase):
    def test_what_both_show_tells_how_the_back_is_turned(self):
        e, project, behind, _ = laid()
        turn = from_yaw_pitch_roll(*np.radians([behind.yaw_deg, behind.pitch_deg, behind.roll_deg]))
        for true in angles_between(e, project):
            self.assertLess(np.degrees(np.linalg.norm(turn - true)), 0.1)

    def test_where_nothing_else_is_shared_the_skyline_tells_in_the_light_of_the_back(self):
        """At night, with clouds brighter than the glow above the land, and a back that leans."""
        rng = np.random.default_rng(3)
        heights = np.convolve(rng.normal(0, 1, 3600), np.hanning(90), "same")
        heights = 4 * heights / heights.std()
        front = around(heights, -80, 40)
        for yaw, pitch, roll in ((33.0, 0.0, 0.0), (-21.0, 2.2, -1.4)):
            with self.subTest(yaw=yaw):
                true = from_yaw_pitch_roll(*np.radians([yaw, pitch, roll]))
                found = turned_by_skyline(front, by_night(around(heights, -180, 180), true, rng), Job())
                self.assertIsNotNone(found)
                self.assertLess(np.degrees(angle_between(found, true)), 0.15)
        same = np.eye(3)
        self.assertIsNone(turned_by_skyline(front, by_night(around(np.zeros(3600), -180, 180), same, rng), Job()))
        other = 4 * np.convolve(rng.normal(0, 1, 3600), np.hanning(90), "same")
        self.assertIsNone(turned_by_skyline(front, by_night(around(other, -180, 180), same, rng), Job()))

    def test_beside_the_front_its_sky_goes_on(self):
        front = around(np.zeros(3600), -60, 60)
        front.covered[:, -15:] = False
        front.sky[:, -15:] = 0
        mask = sky_on_sphere(front)
        h, w = mask.shape
        column = round((59.0 + 180) / 360 * w)
        self.assertEqual(mask[round((90 - 5) / 180 * h), column], 255)
        self.assertEqual(mask[round((90 + 5) / 180 * h), column], 0)

    def test_two_that_share_nothing_are_left_as_they_lie_and_it_is_said(self):
        flat = around(np.zeros(3600), -60, 60)
        found = turned_onto(flat, flat, Job())
        self.assertEqual((found.yaw_deg, found.pitch_deg, found.roll_deg, found.by), (0.0, 0.0, 0.0, ""))

    def test_what_is_drawn_by_hand_goes_with_the_hand(self):
        start, end = (v / np.linalg.norm(v) for v in (np.array([0.2, -0.3, 1.0]), np.array([0.7, -0.1, 0.8])))
        before = 12.0, -3.0, 2.0
        after = turned_by_hand(*before, start, end)
        one, other = (from_yaw_pitch_roll(*np.radians(v)) for v in (before, after))
        np.testing.assert_allclose(other @ one.T @ start, end, atol=1e-9)


def around(heights: np.ndarray, left: float, right: float) -> Around:
    """A panorama from left to right (degrees) whose skyline is so many degrees high all around."""
    w, h = round((right - left) * 6), 240
    canvas = Canvas("equirectangular", np.radians(left), np.radians(-20), np.radians(right), np.radians(20), w, h)
    longitude = left + (np.arange(w) + 0.5) / w * (right - left)
    own = np.interp(longitude, (np.arange(3600) + 0.5) / 10 - 180, heights)
    latitude = 20 - (np.arange(h) + 0.5) / h * 40
    sky = (latitude[:, None] > own).astype(np.float32)
    light = np.repeat(sky[..., None], 3, axis=2) * np.float32(0.5)
    return Around(canvas, light, np.ones((h, w), bool), sky)


def by_night(around_: Around, turn: np.ndarray, rng: np.random.Generator) -> Around:
    """A panorama of the place turned back by `turn`: the land nearly black, the sky dark with stars and a band of
    clouds; no sky of its own is known.
    """
    canvas = Canvas("equirectangular", np.radians(-75), np.radians(-18), np.radians(60), np.radians(18), 810, 216)
    y, x = np.mgrid[:216, :810].astype(float)
    rays = canvas.rays(np.stack([x, y], -1)) @ turn.T
    where = around_.canvas.pixels(rays).astype(np.float32)
    land = cv2.remap(1 - around_.sky, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    band = np.exp(-(((y - 60 - 0.15 * x) / 30) ** 2))
    light = 0.02 + 0.06 * band + 0.2 * (rng.random(y.shape) > 0.995)
    light = (light * (1 - land) + 0.004 * land + rng.normal(0, 0.0015, y.shape)).astype(np.float32)
    return Around(canvas, np.repeat(light[..., None], 3, axis=2), np.ones(y.shape, bool), None)


class PartsTest(unittest.TestCase):
    def test_a_few_pairs_that_agree_place_nothing(self):
        rng = np.random.default_rng(0)
        canvas = Canvas("equirectangular", -np.pi, -1.0, np.pi, 1.0, 628, 200)
        around = Around(canvas, np.zeros((200, 628, 3), np.float32), np.ones((200, 628), bool), np.zeros((200, 628)))
        spots = [SimpleNamespace(points=rng.uniform((0, 0), (628, 200), (200, 2))) for _ in range(2)]
        spots[1].points[:12] = spots[0].points[:12]  # a few agree
        pairs = np.stack([np.arange(200)] * 2, axis=1)
        with (mock.patch("windfell.engine.laying_behind._features", side_effect=spots),
              mock.patch("windfell.engine.laying_behind.matches", return_value=pairs)):
            self.assertIsNone(_by_land(around, around))
        with (mock.patch("windfell.engine.laying_behind._features", side_effect=[spots[0]] * 2),
              mock.patch("windfell.engine.laying_behind.matches", return_value=pairs)):
            np.testing.assert_allclose(_by_land(around, around), np.eye(3), atol=1e-6)

    def test_above_what_is_covered_the_sky_is_what_it_is_below_the_rim(self):
        sky = np.zeros((10, 3), np.float32)
        sky[5:8] = (0.9, 0.1, 0.8)
        covered = np.zeros((10, 3), bool)
        covered[4:, :2] = covered[3:, 2:] = True
        found = _upward(Around(None, None, covered, sky))
        np.testing.assert_array_equal(found[:4], [[1, 0, 1]] * 4)
        np.testing.assert_array_equal(found[6:], sky[6:])

    def test_beside_what_is_covered_the_sky_is_as_it_is_there(self):
        covered = np.zeros((40, 60), bool)
        covered[10:35, 12:48] = True
        sky = np.where(np.arange(40)[:, None] < 22, 1, 0) * covered.astype(np.float32)
        # the rim is mixed with nothing
        sky[10:22, 12] = 0.4
        found = _beside(Around(None, None, covered, sky), sky)
        np.testing.assert_array_equal(found[12:20], np.ones((8, 60)))
        np.testing.assert_array_equal(found[26:], np.zeros((14, 60)))
        self.assertTrue((_beside(Around(None, None, np.zeros_like(covered), sky), sky) == sky).all())

    def test_where_the_front_shows_nothing_the_back_is_not_darkened(self):
        canvas = Canvas("equirectangular", -1.0, -1.0, 1.0, 1.0, 4, 2)
        light = np.full((2, 4, 3), 0.4, np.float32)
        covered = np.array([[False, False, True, True]] * 2)
        share = np.array([[0.6, 0.4, 0.6, 0.0]] * 2, np.float32)
        back = SimpleNamespace(joined_on=lambda *_: Picture(np.ones((2, 4, 3), np.float32), np.ones((2, 4), bool)),
                               set=SimpleNamespace(repairs=()))
        backdrop = Backdrop(back, Behind("b", Area()))
        stages = SimpleNamespace(backdrop=lambda job: backdrop, behind_share=lambda *_: share)
        front = Picture(light * covered[..., None], covered)
        made = with_behind(stages, front, canvas, Region(0, 0, 4, 2), Job())
        np.testing.assert_allclose(made.light[0, :, 0], (1.0, 0.0, 0.4 + 0.6 * 0.6, 0.4), atol=1e-6)
        np.testing.assert_array_equal(made.covered[0], (True, False, True, True))


class SeenTest(unittest.TestCase):
    def picture(self, project: Project, scale: float = 0.4):
        return laid()[0].picture(project, "front", scale, Job())

    def test_behind_is_seen_in_the_sky_and_nowhere_else(self):
        e, project, _, mask = laid()
        without = self.picture(two())
        both = self.picture(project)
        canvas = e.stages(project, "front").canvas(Job())
        h, w = both.light.shape[:2]
        rays = canvas.resized(w, h).rays(np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1).astype(float))
        sky = cv2.remap(mask, on_unrolled(rays, mask.shape), None, cv2.INTER_LINEAR)
        covered = without.covered & both.covered
        land = covered & (sky < 2)
        np.testing.assert_allclose(both.light[land], without.light[land], atol=2e-3)
        # one EV less where the back reaches, as it was elsewhere
        ratio = (both.light.sum(2) / np.maximum(without.light.sum(2), 1e-4))[covered & (sky > 253)]
        dark = np.abs(ratio - 0.5) < 0.15
        self.assertGreater(dark.mean(), 0.5)
        self.assertGreater((dark | (np.abs(ratio - 1) < 1e-3)).mean(), 0.97)

    def test_it_lies_where_the_frames_that_both_have_say(self):
        e, project, behind, _ = laid()
        whole = replace(behind, area=Area((Found(mask_name(EVERYWHERE)),)), exposure_ev=1.0)
        project = lay_behind(project, "front", whole).project
        without, both = self.picture(two()), self.picture(project)
        canvas = e.stages(project, "front").canvas(Job())
        h, w = both.light.shape[:2]
        x = np.rint(canvas.resized(w, h).pixels(e.stages(project, "front").posed(Job())[1].rotation[:, 2]))[0]
        part = np.s_[h // 3 : 2 * h // 3, int(x) - w // 12 : int(x) + w // 12]
        a, b = (cv2.GaussianBlur(p.light[part], (0, 0), 1.0) for p in (without, both))
        self.assertLess(float(np.median(np.abs(a - b)) / np.median(a)), 0.05)

    def test_both_turn_with_the_view(self):
        e, project, _, _ = laid()
        seen = []
        for yaw in (0.0, 9.0):
            own = project.set("front")
            turned = project.with_set(replace(own, view=replace(own.view, yaw_deg=yaw)))
            canvas = e.stages(turned, "front").canvas(Job()).scaled(0.4)
            picture = e.picture(turned, "front", 0.4, Job())
            rays = from_yaw_pitch_roll(0.1, 0.08, 0.0)[:, 2]
            x, y = np.rint(canvas.pixels(rays)).astype(int)
            seen.append(picture.light[y - 3 : y + 4, x - 3 : x + 4].mean(axis=(0, 1)))
        np.testing.assert_allclose(seen[0], seen[1], rtol=0.05)

    def test_two_spots_picked_match_its_light_and_colour(self):
        e, project, behind, _ = laid()
        lit = lay_behind(project, "front", replace(behind, exposure_ev=-2.0, warmth=50.0)).project
        width, height = e.size(lit, "front", Job())
        seen, plain = (cv2.blur(self.picture(p, 1.0).light, (25, 25)) for p in (lit, two()))
        apart = np.abs(seen - plain).sum(axis=2)
        h, w = apart.shape
        y, x = np.unravel_index(np.argmax(apart), apart.shape)
        # a spot of the land that a change of warmth can reach
        lean = np.log2(np.maximum(seen[..., 0], 1e-3) / np.maximum(seen[..., 2], 1e-3))
        reached = np.abs(lean - lean[y, x] + 0.2)
        reached[(apart > 0.01 * apart.max()) | (plain.min(axis=2) < 0.02)] = 9.0
        v, u = np.unravel_index(np.argmin(reached), apart.shape)
        back, front = (x / w, y / h), (u / w, v / h)
        ev, warmth = picked_light(e, lit, "front", back, front, Job())
        made = light_behind(lit, "front", ev, warmth).project
        one, other = (e.picture(made, "front", 1.0, Job(), Region(
            round(a * width) - 5, round(b * height) - 5, 11, 11)).light for a, b in (back, front))
        one, other = (np.median(v.reshape(-1, 3), axis=0) for v in (one, other))
        bright = [float(luminance(v[None, None].astype(np.float32))[0, 0]) for v in (one, other)]
        self.assertAlmostEqual(np.log2(bright[0] / bright[1]), 0.0, delta=0.15)
        self.assertAlmostEqual(float(np.log2(one[0] / one[2])), float(np.log2(other[0] / other[2])), delta=0.2)
        for spots, words in (((front, back), "nothing is seen of what lies behind"),
                             ((back, (0.0005, 0.0005)), "Nothing is seen at this spot")):
            with self.assertRaisesRegex(BadRequest, words):
                picked_light(e, lit, "front", *spots, Job())

    def test_the_draft_shows_what_the_picture_shows(self):
        e, project, behind, _ = laid()
        project = lay_behind(project, "front", replace(behind, exposure_ev=-1.0, warmth=40.0)).project
        draft = e.draft(project, "front", 500, Job())
        h, w = draft.pixels.shape[:2]
        picture = e.picture(project, "front", w / draft.width, Job())
        seen = to_view(picture.light)[:h, :w]
        both = picture.covered[:h, :w] & (draft.pixels[: seen.shape[0], : seen.shape[1], 3] > 0)
        off = np.abs(seen.astype(float) - draft.pixels[: seen.shape[0], : seen.shape[1], :3])[both]
        self.assertLess(off.mean(), 6.0)

    def test_switched_off_it_changes_nothing_and_what_changes_it_is_told(self):
        e, project, behind, _ = laid()
        off = lay_behind(project, "front", replace(behind, on=False)).project
        np.testing.assert_array_equal(self.picture(off).light, self.picture(two()).light)
        parts = {picture_parts(p, "front") for p in (
            two(), project, off, lay_behind(project, "front", replace(behind, yaw_deg=1.0)).project,
            project.with_set(replace(project.set("back"), frames=project.set("back").frames[1:])))}
        self.assertEqual(len(parts), 5)
        keys = {e.stages(p, "front").base_key(Job()) for p in (
            two(), project, lay_behind(project, "front", replace(behind, exposure_ev=0.5)).project)}
        self.assertEqual(len(keys), 3)

    def test_above_the_front_the_sky_goes_on(self):
        _, project, _, mask = laid()
        own = project.set("front")
        room = replace(own.outline.room, top_pct=5)
        roomy = project.with_set(replace(own, outline=replace(own.outline, room=room)))
        without = two().with_set(replace(roomy.set("front"), behind=None))
        more = self.picture(roomy).covered & ~self.picture(without).covered
        self.assertGreater(more.mean(), 0.001)
        # of a column with sky at its foot all above it is sky
        columns = mask[mask.shape[0] // 4 : mask.shape[0] // 2 - 60].max(axis=0) == 255
        self.assertTrue((mask[0, columns] == 255).mean() > 0.9)


class EditsTest(unittest.TestCase):
    def test_it_is_part_of_the_set_and_written_with_it(self):
        e, project, behind, mask = laid()
        self.assertEqual(nested_in(project, "front"), {"back"})
        self.assertEqual([(s.id, depth) for s, depth in as_tree(project)], [("front", 0), ("back", 1)])
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "two.windfell"
            save_project(path, project, e.masks)
            again, masks = load_project(path)
        self.assertEqual(again.set("front").behind, behind)
        np.testing.assert_array_equal(masks[mask_name(mask)], mask)
        self.assertIsNone(take_from_behind(project, "front").project.set("front").behind)

    def test_a_circle_a_stack_and_a_missing_set_are_refused(self):
        _, project, behind, _ = laid()
        with self.assertRaisesRegex(BadRequest, "cannot lie behind itself"):
            lay_behind(project, "back", replace(behind, set="front"))
        with self.assertRaisesRegex(BadRequest, "cannot lie behind itself"):
            lay_behind(project, "front", replace(behind, set="front"))
        still = project.with_set(replace(project.set("back"), kind=Kind.STACK))
        with self.assertRaisesRegex(BadRequest, "Night is no panorama"):
            lay_behind(still, "front", behind)
        with self.assertRaisesRegex(BadRequest, "Dusk uses this set"):
            edits.remove_set(project, "back")

    def test_a_front_without_sky_is_refused(self):
        full = np.zeros((60, 120, 3), np.float32)
        canvas = Canvas("equirectangular", -1.0, -0.5, 1.0, 0.5, 120, 60)
        with self.assertRaisesRegex(BadRequest, "No sky"):
            sky_on_sphere(Around(canvas, full, np.ones((60, 120), bool), full[..., 0]))

    def test_seen_around_is_level_and_whole(self):
        e, project = engine(), two()
        seen = seen_around(e.stages(project, "front"), Job())
        self.assertEqual(seen.light.shape[:2], seen.sky.shape)
        top, bottom = seen.sky[: seen.sky.shape[0] // 4], seen.sky[-seen.sky.shape[0] // 4 :]
        self.assertGreater(top.mean(), 0.8)
        self.assertLess(bottom.mean(), 0.1)


class CommandTest(unittest.TestCase):
    def test_what_cannot_be_is_said(self):
        with tempfile.TemporaryDirectory() as folder:
            empty = Path(folder) / "empty"
            empty.mkdir()
            out = str(Path(folder) / "out.jpg")
            row, one = str(ridge()), frames_in(ridge())[0]
            for words in ([row, one], [row, str(empty)], [row, row, "--place", "stars"], [row, row, "--grow", "90"],
                          [one, one, "--place", "land"]):
                self.assertEqual(main(["compose", *words, "--out", out]), 2, words)
            self.assertEqual(list(Path(folder).glob("out*")), [])


if __name__ == "__main__":
    unittest.main()
