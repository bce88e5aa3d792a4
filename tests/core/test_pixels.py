"""Colour, profiles, resampling, pyramids."""

import unittest

import imagecodecs
import numpy as np
from numpy.testing import assert_allclose, assert_array_equal

from windfell.pixels.colour import DISPLAY_P3, SPACES, SRGB, Encoder, luminance
from windfell.pixels.profiles import icc_of, linearizer
from windfell.pixels.pyramid import collapsed, filled, laplacian
from windfell.pixels.resample import GridMap, remapped
from windfell.pixels.tiles import tiled


def ramp() -> np.ndarray:
    rng = np.random.default_rng(1)
    return rng.integers(0, 256, (64, 64, 3)).astype(np.uint8)


class Colour(unittest.TestCase):
    def test_decoded_undoes_encoded(self):
        v = np.linspace(0, 1, 999)
        for space in SPACES.values():
            with self.subTest(space.name):
                assert_allclose(space.decoded(space.encoded(v)), v, atol=2e-6)  # table constants

    def test_eight_bits_come_back_unchanged(self):
        pixels = ramp()
        assert_array_equal(Encoder(SRGB, 8)(linearizer(None)(pixels)), pixels)

    def test_sixteen_bits_come_back_within_two_steps(self):
        pixels = np.random.default_rng(2).integers(600, 65536, (40, 40, 3)).astype(np.uint16)
        again = Encoder(SRGB, 16)(linearizer(None)(pixels))
        self.assertLessEqual(np.abs(again.astype(int) - pixels).max(), 3)

    def test_an_embedded_profile_is_honoured(self):
        pixels = ramp()
        light = linearizer(icc_of(DISPLAY_P3))(pixels)
        again = Encoder(DISPLAY_P3, 8)(light)
        self.assertLessEqual(np.abs(again.astype(int) - pixels).max(), 1)
        self.assertGreater(np.abs(light - linearizer(None)(pixels)).max(), 0.02)

    def test_a_useless_profile_is_refused(self):
        with self.assertRaises(ValueError):
            linearizer(b"not a profile" * 20)

    def test_white_has_luminance_one_and_wide_colours_survive(self):
        white = linearizer(None)(np.full((1, 1, 3), 255, np.uint8))
        assert_allclose(luminance(white), 1.0, atol=1e-5)
        green = linearizer(icc_of(SPACES["rec2020"]))(np.array([[[0, 255, 0]]], np.uint8))
        assert_allclose(green[0, 0], [0, 1, 0], atol=3e-3)


class Resampling(unittest.TestCase):
    def test_a_grid_map_follows_a_smooth_map(self):
        f = 1500.0
        bend = lambda p: np.stack([f * np.tan(p[..., 0] / f), p[..., 1] / np.cos(p[..., 0] / f)], -1)  # noqa: E731
        grid = GridMap.of(bend, -300, -200, 601, 401, 16)
        y, x = np.mgrid[-200:201, -300:301].astype(float)
        exact = bend(np.stack([x, y], -1))
        self.assertLess(np.abs(grid.dense() - exact).max(), 0.03)  # step^2 / (8 f), twice

    def test_an_identity_map_gives_the_picture_back(self):
        picture = np.random.default_rng(0).random((50, 60, 3)).astype(np.float32)
        grid = GridMap.of(lambda p: p, 0, 0, 60, 50, 8)
        assert_allclose(remapped(picture, grid.dense(), True), picture, atol=1e-6)

    def test_a_map_that_leads_nowhere_has_no_box(self):
        grid = GridMap.of(lambda p: np.full(p.shape, np.nan), 0, 0, 30, 30, 8)
        self.assertIsNone(grid.box(100, 100))

    def test_tiles_cover_everything_once(self):
        seen = np.zeros((103, 257), int)
        for row in tiled(257, 103, 64, 50):
            for t in row:
                seen[t.top : t.top + t.height, t.left : t.left + t.width] += 1
        self.assertTrue((seen == 1).all())


class Pyramids(unittest.TestCase):
    def test_a_collapsed_pyramid_is_the_picture(self):
        picture = np.random.default_rng(3).random((67, 93, 3)).astype(np.float32)
        assert_allclose(collapsed(laplacian(picture, 4)), picture, atol=1e-5)

    def test_holes_are_filled_from_around_and_the_rest_is_kept(self):
        picture = np.full((64, 64, 3), 0.4, np.float32)
        weight = np.ones((64, 64), np.float32)
        weight[20:40, 20:40] = 0
        broken = picture * weight[..., None]
        whole = filled(broken, weight)
        assert_allclose(whole, picture, atol=0.01)
        assert_array_equal(whole[:10], picture[:10])


# as published: IEC 61966-2-1, SMPTE EG 432-1 with D65, ITU-R BT.2020, ISO 22028-2, IEC 61966-2-5
PUBLISHED = {
    "srgb": ((0.640, 0.330), (0.300, 0.600), (0.150, 0.060)),
    "display-p3": ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060)),
    "rec2020": ((0.708, 0.292), (0.170, 0.797), (0.131, 0.046)),
    "romm": ((0.7347, 0.2653), (0.1596, 0.8404), (0.0366, 0.0001)),
    "oprgb": ((0.640, 0.330), (0.210, 0.710), (0.150, 0.060)),
}
WHITES = {"romm": [0.3457, 0.3585, 1.0]}


def linear_of(name: str) -> bytes:
    """A profile of linear light by published primaries."""
    flat = [v for x, y in PUBLISHED[name] for v in (x, y, 1.0)]
    white = WHITES.get(name, [0.3127, 0.3290, 1.0])
    return imagecodecs.cms_profile("rgb", primaries=flat, whitepoint=white, gamma=1.0)


class Reading(unittest.TestCase):
    def test_nothing_turns_black_beside_a_light_beyond_white(self):
        picture = np.full((30, 40, 3), 0.1, np.float32)
        picture[:, 20:] = 6.0
        y, x = np.mgrid[0:30, 0:40].astype(np.float32)
        found = remapped(picture, np.dstack([x + 0.37, y + 0.21]), True)
        self.assertGreaterEqual(float(found.min()), 0.1 - 1e-6)
        self.assertLessEqual(float(found.max()), 6.0 + 1e-5)
        plain = remapped(picture / 6, np.dstack([x + 0.37, y + 0.21]), True)
        calm = remapped(picture / 6, np.dstack([x + 0.37, y + 0.21]), True, True)
        self.assertGreaterEqual(float(calm.min()), 0.1 / 6 - 1e-6)
        # within white the cubic stays as sharp as it is
        self.assertLess(float(plain.min()), 0.1 / 6 - 0.01)


class Spaces(unittest.TestCase):
    def test_every_output_space_is_what_the_colour_library_makes_of_it(self):
        some = [[0.5, 0.4, 0.3], [0.2, 0.5, 0.3], [0.1, 0.15, 0.4], [0.7, 0.7, 0.7], [0.05, 0.06, 0.04]]
        colours = np.array([some], np.float32)
        self.assertEqual(SPACES.keys(), PUBLISHED.keys())
        for name, space in SPACES.items():
            with self.subTest(name):
                theirs = imagecodecs.cms_transform(
                    colours, linear_of("rec2020"), linear_of(name), colorspace="rgb", outcolorspace="rgb",
                    outdtype="float32")
                ours = space.decoded(Encoder(space, 32)(colours))
                assert_allclose(ours, theirs, atol=1.5e-3)
