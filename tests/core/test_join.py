"""Light, seams, blending."""

import unittest
from dataclasses import replace

import cv2
import numpy as np
from numpy.testing import assert_allclose

from windfell.job import Job
from windfell.join.agree import difference, owned_picture, reaching, taken
from windfell.join.blend import Piece, blended, hard_weights, heard_only, wide_correction
from windfell.join.light import FrameSeen, LightSamples, fair_light, fitted_light, shared_samples
from windfell.join.seams import Claim, _cut, cut_near, cut_owner, nearest_owner, seam_cost, spread
from windfell.join.warp import Warped
from windfell.pixels.channels import burnt_share
from windfell.pixels.colour import SRGB_TO_WORKING
from windfell.pixels.tiles import Region


class Light(unittest.TestCase):
    def test_planted_gains_and_dark_corners_come_back(self):
        rng = np.random.default_rng(1)
        gains = np.array([[1.3, 1.2, 1.1], [0.8, 0.85, 0.9], [1.0, 1.0, 1.05], [0.9, 0.95, 1.0]])
        lost = lambda r2: np.exp(-0.30 * r2 - 0.10 * r2**2)[:, None]  # noqa: E731
        samples = []
        for a in range(3):
            scene = rng.uniform(0.02, 0.6, (2500, 3))
            ra, rb = rng.uniform(0, 1, (2, 2500))
            la, lb = scene * gains[a] * lost(ra), scene * gains[a + 1] * lost(rb)
            lb[:300] *= rng.uniform(0.3, 3, (300, 1))  # a passer-by
            samples.append(LightSamples(a, a + 1, la, lb, ra, rb))
        found = fitted_light(4, samples, Job())
        level = np.array([f.gain for f in found]) * gains
        assert_allclose(level / level.mean(axis=0), 1, atol=0.01)
        r2 = np.linspace(0, 1, 9)
        v = found[0].falloff
        assert_allclose(v[0] * r2 + v[1] * r2**2 + v[2] * r2**3, -0.30 * r2 - 0.10 * r2**2, atol=0.02)

    def test_samples_are_of_the_same_spots(self):
        rng = np.random.default_rng(3)
        scene = rng.uniform(0.05, 0.3, (80, 120, 3)).astype(np.float32)
        boxes = [Region(0, 5, 70, 60), Region(40, 0, 80, 70), Region(0, 70, 30, 10)]
        views = []
        for n, box in enumerate(boxes):
            light = scene[box.within(Region(0, 0, 120, 80))] * np.float32(1 + 0.5 * n)
            views.append(FrameSeen(box, light, fair_light(light, np.ones(light.shape[:2], bool)), light[..., 0]))
        found = shared_samples([*views, None], np.random.default_rng(1))
        self.assertEqual([(s.a, s.b) for s in found], [(0, 1)])
        assert_allclose(found[0].light_b, 1.5 * found[0].light_a, rtol=1e-5)
        self.assertEqual(len(found[0].light_a), 30 * 60)

    def test_nearly_black_and_burnt_out_light_is_not_compared(self):
        light = np.array([[[0.5, 0.5, 0.5], [0.5, 0.001, 0.5], [0.95, 0.5, 0.5], [0.5, 0.5, 0.5]]], np.float32)
        valid = np.array([[True, True, True, False]])
        self.assertEqual(fair_light(light, valid).tolist(), [[True, False, False, False]])
        # an orange of which red is full in the file and in no channel here
        orange = cv2.transform(np.array([[[1.0, 0.4, 0.1], [0.8, 0.32, 0.08]]], np.float32), SRGB_TO_WORKING)
        self.assertLess(orange.max(), 0.8)
        self.assertEqual(fair_light(orange, np.ones((1, 2), bool)).tolist(), [[False, True]])

    def test_without_samples_nothing_changes(self):
        self.assertEqual(fitted_light(2, [], Job())[1].gain, (1.0, 1.0, 1.0))


def two_claims(height: int = 60) -> list[Claim]:
    """Frames that overlap in columns 40..100 of 140 and differ in a blob within."""
    rng = np.random.default_rng(2)
    scene = rng.uniform(0.4, 0.5, (height, 140, 3)).astype(np.float32)
    claims = []
    for left, right in ((0, 100), (40, 140)):
        colour = scene[:, left:right].copy()
        if left == 0:
            colour[20:45, 60:75] = 0.95
        x = np.arange(right - left)
        depth = np.minimum(x, right - left - 1 - x) / ((right - left) / 2)
        claims.append(Claim(Region(left, 0, right - left, height), colour,
                            np.ones(colour.shape[:2], bool),
                            np.tile(depth, (height, 1)).astype(np.float32)))
    return claims


def claims_at_an_edge(sliver: int, whose: int, tone: tuple) -> tuple[list[Claim], np.ndarray]:
    """Frames that overlap in columns 240..328 of 640, and where a thing stands that only one of them has: so many px
    of it lie beyond the other's left edge, or its own.
    """
    rng = np.random.default_rng(2)
    scene = cv2.GaussianBlur(rng.uniform(0.1, 0.9, (480, 640, 3)).astype(np.float32), (0, 0), 3)
    scene = 0.5 + (scene - scene.mean()) / scene.std() * 0.06
    thing = np.zeros((480, 640), np.uint8)
    cv2.ellipse(thing, (240 - sliver + 36, 240), (36, 85), 0, 0, 360, 1, -1)
    claims = []
    for n, (left, right) in enumerate(((0, 328), (240, 640))):
        colour = scene[:, left:right] + rng.normal(0, 0.02, (480, right - left, 3)).astype(np.float32)
        if n == whose:
            colour[thing[:, left:right] > 0] = tone
        x, y = np.arange(right - left), np.arange(480)
        depth = np.minimum(np.minimum(x, x[::-1])[None] / ((right - left) / 2), np.minimum(y, y[::-1])[:, None] / 240)
        claims.append(Claim(Region(left, 0, right - left, 480), colour.astype(np.float32),
                            np.ones(colour.shape[:2], bool), depth.astype(np.float32)))
    return claims, thing > 0


class Seams(unittest.TestCase):
    def test_what_stands_across_a_frames_edge_is_whole_or_left_out(self):
        for sliver in (3, 8):
            for whose in (0, 1):
                for tone in ((0.6, 0.8, 0.85), (0.9, 0.2, 0.2)):
                    claims, thing = claims_at_an_edge(sliver, whose, tone)
                    owner = cut_owner(thing.shape, claims, Job())
                    with self.subTest(sliver=sliver, whose=whose, tone=tone):
                        # the first frame sees all of it, or of the land behind it
                        self.assertGreater(np.mean(owner[thing] == 0), 0.995)

    def test_the_seam_leaves_a_moving_thing_whole(self):
        claims = two_claims()
        owner = cut_owner((60, 140), claims, Job())
        blob = owner[20:45, 60:75]
        self.assertEqual(len(np.unique(blob)), 1)
        self.assertTrue((owner[:, :40] == 0).all() and (owner[:, 100:] == 1).all())

    def test_what_is_burnt_out_in_one_frame_is_owned_by_the_other(self):
        one, other = two_claims()
        one = replace(one, colour=np.where(one.colour > 0.9, 0.45, one.colour).astype(np.float32))
        burnt = np.zeros(one.valid.shape, np.float32)
        burnt[10:50, 45:95] = 1

        def share(*claims: Claim) -> float:  # of what is burnt out, owned by the first
            return float((cut_owner((60, 140), claims, Job())[10:50, 45:95] == 0).mean())

        both = np.zeros(other.valid.shape, np.float32)
        both[10:50, 5:55] = 1
        plain = share(one, other)
        self.assertGreater(plain, 0.3)
        self.assertLess(share(replace(one, burnt=burnt), other), 0.02)
        self.assertGreater(share(one, replace(other, burnt=both)), 0.98)
        self.assertAlmostEqual(share(replace(one, burnt=burnt), replace(other, burnt=both)), plain, delta=0.05)

    def test_seams_laid_anew_nearby_know_what_is_burnt_out(self):
        one, other = two_claims()
        one = replace(one, colour=np.where(one.colour > 0.9, 0.45, one.colour).astype(np.float32))
        burnt = np.zeros(one.valid.shape, np.float32)
        burnt[:, 50:95] = 1
        before = cut_owner((60, 140), [one, other], Job())
        without = replace(other, valid=other.valid & (np.arange(100) >= 30))  # taken from where it was
        owners = [cut_near(np.where(np.arange(140) < 45, before, 1), [replace(one, burnt=b), without], Job())
                  for b in (None, burnt)]
        self.assertLess((owners[1][:, 70:95] == 0).mean(), 0.5 * (owners[0][:, 70:95] == 0).mean())

    def test_burnt_out_is_what_is_full_in_any_channel_of_the_file(self):
        colours = np.array([[[1.0, 0.4, 0.1], [0.9, 0.36, 0.09], [0.3, 0.3, 0.3]]], np.float32)
        burnt = burnt_share(cv2.transform(colours, SRGB_TO_WORKING), 0.92, 0.995)
        self.assertEqual(burnt.round(3).tolist(), [[1.0, 0.0, 0.0]])
        self.assertIsNone(burnt_share(np.full((2, 2, 3), 0.4, np.float32), 0.92, 0.995))

    def test_the_cut_costs_no_more_than_the_middle(self):
        claims = two_claims()
        shape = (60, 140)
        full = np.zeros((2, *shape, 3), np.float32)
        for n, c in enumerate(claims):
            full[n][c.slices] = c.colour

        def cost(owner):
            changes = owner[:, 1:] != owner[:, :-1]
            difference = np.abs(full[0] - full[1]).sum(axis=2)
            return (changes * (difference[:, 1:] + difference[:, :-1])).sum()

        self.assertLess(cost(cut_owner(shape, claims, Job())), cost(nearest_owner(shape, claims)))

    def test_from_coarse_to_fine_costs_hardly_more_than_all_at_once(self):
        """On a surface that can be halved as often as it is."""
        rng = np.random.default_rng(9)
        shape = (128, 256)
        scene = cv2.GaussianBlur(rng.uniform(0, 1, (*shape, 3)).astype(np.float32), (0, 0), 3)
        y, x = np.mgrid[0:128, 0:256]
        # the frames look alike only along a winding path
        differ = np.clip(np.abs(x - 112 - 9 * np.sin(y / 14)) / 8 - 1, 0, 1)[..., None].astype(np.float32)
        claims = []
        for left, right, seed in ((0, 160, 1), (96, 256, 2)):
            own = np.random.default_rng(seed).uniform(0, 1, (*shape, 3)).astype(np.float32)
            colour = (scene + differ * cv2.GaussianBlur(own, (0, 0), 2))[:, left:right].copy()
            depth = np.minimum(np.arange(right - left), np.arange(right - left)[::-1]) / 80
            valid = np.ones(colour.shape[:2], bool)
            valid[32:64, 8:] = left == 0  # the second frame sees nothing there but its rim
            claims.append(Claim(Region(left, 0, right - left, 128), colour, valid,
                                np.tile(depth, (128, 1)).astype(np.float32)))
        owner = cut_owner(shape, claims, Job())
        self.assertTrue((owner[33:63, 110:160] == 0).all())
        whole = nearest_owner(shape, claims)
        _cut(whole, claims, np.ones(shape, bool), Job(), 3)
        self.assertLess(seam_cost(owner, claims), 1.02 * seam_cost(whole, claims))
        seam = owner[:, 1:] != owner[:, :-1]
        seam[24:72] = False
        self.assertLess(np.mean(differ[:, 1:, 0][seam] > 0.3), 0.3)  # all of a straight one
        self.assertTrue((owner[:, :96] == 0).all() and (owner[:24, 160:] == 1).all())

    def test_light_beyond_all_measure_costs_a_number(self):
        wild = np.ones((20, 30, 3), np.float32)
        wild[3:6, 4:9] = np.nan
        wild[9:12, 4:9] = np.inf
        claims = [Claim(Region(left, 0, 30, 20), wild, np.ones((20, 30), bool), np.ones((20, 30), np.float32))
                  for left in (0, 12)]
        owner = cut_owner((20, 42), claims, Job())
        self.assertTrue(np.isfinite(seam_cost(owner, claims)))
        self.assertEqual(set(np.unique(owner)), {0, 1})

    def test_spots_nobody_owns_take_the_nearest_owner(self):
        owner = np.full((10, 20), -1, np.int16)
        owner[:, 3], owner[:, 16] = 0, 1
        whole = spread(owner)
        self.assertTrue((whole[:, :9] == 0).all() and (whole[:, 11:] == 1).all())


def differences(lights: list[np.ndarray], owner: np.ndarray, wraps: bool = False) -> list:
    """Of frames that all see the whole surface."""
    whole = Region(0, 0, owner.shape[1], owner.shape[0])
    frames = [(whole, Warped(light, None)) for light in lights]
    picture = owned_picture(frames, owner)
    return [difference(n, f, picture, owner, reaching(owner, n, 48, wraps), wraps, np.random.default_rng(n))
            for n, f in enumerate(frames)]


def pieces_of(lights: list[np.ndarray], claims=None, valid=None) -> list[Piece]:
    """Frames on the whole of a region."""
    whole = Region(0, 0, lights[0].shape[1], lights[0].shape[0])
    claims = claims or [np.ones(v.shape[:2], np.float32) for v in lights]
    return [Piece(whole, Warped(v, None if valid is None else valid[n]), claims[n]) for n, v in enumerate(lights)]


class Agreement(unittest.TestCase):
    """A red thing that one of two frames shows, beside the seam at column 100; the other is 0.4 EV brighter."""

    def setUp(self):
        rng = np.random.default_rng(6)
        scene = rng.uniform(0.2, 0.3, (120, 200, 3)).astype(np.float32)
        self.lights = [scene.copy(), scene * np.float32(1.3)]
        self.owner = np.zeros((120, 200), np.int16)
        self.owner[:, 100:] = 1

    def with_thing(self, left: int) -> list[np.ndarray]:
        lights = [v.copy() for v in self.lights]
        lights[0][30:90, left : left + 30] = (0.6, 0.02, 0.02)
        return lights

    def stain(self, lights, mask_left: int) -> float:
        """The greatest change outside the thing that the thing makes, averaged over 16 px."""
        clean = wide_correction(enumerate(differences(self.lights, self.owner)), self.owner, 5)
        dirty = wide_correction(enumerate(differences(lights, self.owner)), self.owner, 5)
        off = cv2.blur(dirty - clean, (16, 16))
        off[20:100, mask_left - 10 : mask_left + 40] = 0
        return float(np.abs(off).max())

    def test_a_thing_that_was_left_out_leaves_no_stain(self):
        for left in (101, 110):
            with self.subTest(left):
                self.assertLess(self.stain(self.with_thing(left), left), 0.004)

    def test_a_thing_that_stays_casts_no_halo(self):
        for left in (60, 68):
            with self.subTest(left):
                # 0.4 EV more of its own light is let out at the seam, none of its colour
                self.assertLess(self.stain(self.with_thing(left), left), 0.02)

    def test_what_is_not_heard_follows_the_owner_in_its_own_tone(self):
        part = differences(self.with_thing(110), self.owner)[0]
        self.assertEqual(part.heard[60, 125 - part.box.left], 0)
        self.assertEqual(part.heard[10, 125 - part.box.left], 1)
        told = part.light[60, 125 - part.box.left].astype(float)
        assert_allclose(told, self.lights[1][60, 125] * (1 / 1.3 - 1), rtol=0.06)

    def test_fine_bands_hear_no_more(self):
        lights = self.with_thing(104)
        weights = [(self.owner == n).astype(np.float32) for n in (0, 1)]
        parts = differences(lights, self.owner)
        self.assertEqual(parts[0].box, Region(0, 0, 148, 120))
        ears, tone = np.ones((120, 200), np.float32), np.zeros((120, 200, 3), np.float32)
        ears[:, :148], tone[:, :148] = parts[0].heard, parts[0].tone
        shape = (120, 200)
        pieces = heard_only(shape, pieces_of(lights), weights, [(ears, tone), None])
        clean = blended(shape, pieces_of(self.lights), weights, 4)
        off = cv2.blur(blended(shape, pieces, weights, 4) - clean, (16, 16))
        self.assertLess(np.abs(off[:, :140]).max(), 0.006)
        self.assertEqual(heard_only(shape, pieces, weights, [None, None]), pieces)

    def test_frames_on_a_closed_surface_meet_around_it(self):
        owner = np.zeros((40, 100), np.int16)
        owner[:, 30:70] = 1
        flat = [np.full((40, 100, 3), v, np.float32) for v in (0.2, 0.3)]
        box = reaching(owner, 0, 8, True)
        self.assertEqual((box.left, box.width), (62, 76))
        assert_allclose(taken(owner, box, True)[0, 8:68], 0)
        total = wide_correction(enumerate(differences(flat, owner, True)), owner, 3, True)
        plain = np.where(owner == 1, 0.3, 0.2) + total[..., 0]
        self.assertAlmostEqual(float(plain[20, 0] - plain[20, -1]), 0.0, delta=1e-4)
        self.assertLess(np.abs(np.diff(plain[20])).max(), 0.08)


class Blending(unittest.TestCase):
    def test_equal_frames_stay_as_they_are(self):
        picture = np.random.default_rng(4).random((80, 96, 3)).astype(np.float32)
        weights = [np.zeros((80, 96), np.float32), np.ones((80, 96), np.float32)]
        weights[0][:, :40] = 1
        weights[1][:, :40] = 0
        pieces = pieces_of([picture, picture.copy()])
        for levels in (0, 1, 4):
            assert_allclose(blended((80, 96), pieces, weights, levels), picture, atol=4e-5)

    def test_pieces_give_what_whole_frames_would(self):
        rng = np.random.default_rng(7)
        lights = [rng.random((200, 260, 3)).astype(np.float32) for _ in range(2)]
        weights = [np.zeros((200, 260), np.float32), np.ones((200, 260), np.float32)]
        weights[0][:, :90], weights[1][:, :90] = 1, 0
        whole = blended((200, 260), pieces_of(lights), weights, 2)
        boxes = [Region(0, 0, 112, 200), Region(64, 0, 196, 200)]
        pieces, parts = [], []
        for light, weight, box in zip(lights, weights, boxes, strict=True):
            at = np.s_[:, box.left : box.left + box.width]
            pieces.append(Piece(box, Warped(np.ascontiguousarray(light[at]), None), weight[at]))
            parts.append(np.ascontiguousarray(weight[at]))
        assert_allclose(blended((200, 260), pieces, parts, 2), whole, atol=1e-5)

    def test_a_step_of_light_becomes_a_slope(self):
        flat = [np.full((64, 128, 3), v, np.float32) for v in (0.2, 0.4)]
        owner = np.zeros((64, 128), np.int16)
        owner[:, 64:] = 1
        softened = wide_correction(enumerate(differences(flat, owner)), owner, 4)
        plain = np.where(owner == 1, 0.4, 0.2)
        row = (plain + softened[..., 0])[32]
        self.assertLess(np.abs(np.diff(row[:60])).max(), 0.02)
        self.assertAlmostEqual(row[2], 0.2, delta=0.02)
        self.assertAlmostEqual(row[-3], 0.4, delta=0.02)

    def test_every_pixel_has_one_owner_and_an_unseen_one_goes_to_who_sees_it(self):
        rng = np.random.default_rng(5)
        softs = [rng.random((30, 30)).astype(np.float32) for _ in range(3)]
        valid = [np.ones((30, 30), bool), rng.random((30, 30)) < 0.5, None]
        valid[0][:, :10] = False
        weights = hard_weights((30, 30), pieces_of([np.zeros((30, 30, 3), np.float32)] * 3, softs, valid))
        assert_allclose(sum(weights), 1)
        self.assertFalse((weights[0][:, :10] > 0).any())
        self.assertFalse((weights[1][~valid[1]] > 0).any())
