"""Stack rules."""

import unittest

import numpy as np
from numpy.testing import assert_allclose, assert_array_equal

from windfell.combine.blocks import in_blocks
from windfell.combine.network import median_ranks, ranked
from windfell.combine.rules import RULES
from windfell.combine.strips import Layer, by_rank, combined
from windfell.pixels.profiles import linearizer
from windfell.pixels.sheet import Sheet
from windfell.pixels.tiles import Region

REFERENCE = {
    "median": np.median, "mean": np.mean, "maximum": np.max, "minimum": np.min, "sum": np.sum, "range": np.ptp}


def planes(count: int, dtype=np.float32) -> list[np.ndarray]:
    rng = np.random.default_rng(count)
    if dtype == np.float32:
        return [rng.random((23, 31, 3)).astype(np.float32) for _ in range(count)]
    return [rng.integers(0, np.iinfo(dtype).max, (23, 31, 3)).astype(dtype) for _ in range(count)]


class Networks(unittest.TestCase):
    def test_ranks_equal_a_full_sort(self):
        for dtype in (np.uint8, np.uint16, np.float32):
            for n in range(1, 18):
                given = planes(n, dtype)
                before = [p.copy() for p in given]
                ranks = tuple(sorted({0, n - 1, *median_ranks(n)}))
                whole = np.sort(np.stack(given), axis=0)
                for rank, plane in zip(ranks, ranked(given, ranks), strict=True):
                    assert_array_equal(plane, whole[rank])
                for p, b in zip(given, before, strict=True):
                    assert_array_equal(p, b)


class Rules(unittest.TestCase):
    def test_every_rule_is_what_it_says(self):
        for name, truth in REFERENCE.items():
            rule = RULES[name]
            for n in (1, 2, 5, 8):
                with self.subTest(name, n=n):
                    given = planes(n)
                    assert_allclose(rule.combined(given), truth(given, axis=0), atol=2e-6)

    def test_block_by_block_is_as_all_at_once(self):
        rng = np.random.default_rng(8)
        given = [rng.random((150, 700, 3)).astype(np.float32) for _ in range(5)]
        for name, rule in RULES.items():
            with self.subTest(name):
                assert_allclose(in_blocks(rule, given), rule.combined(given), atol=2e-6)

    def test_picking_encoded_values_equals_the_rule_on_light(self):
        way = linearizer(None)
        region = Region(3, 2, 20, 17)
        for name in ("median", "maximum", "minimum"):
            for n in (4, 7):
                for dtype in (np.uint8, np.uint16):
                    layers = [Layer(Sheet(p, way)) for p in planes(n, dtype)]
                    self.assertTrue(by_rank(layers, RULES[name]))
                    picked, _ = combined(layers, RULES[name], region)
                    light = [way.light(x.sheet.pixels[2:19, 3:23]) for x in layers]
                    assert_allclose(picked, way.working(REFERENCE[name](light, axis=0)), atol=1e-5)

    def test_a_moved_frame_counts_only_where_it_covers(self):
        flat = [np.full((20, 30, 3), v, np.float32) for v in (0.2, 0.9)]
        away = np.array([[1, 0, -15.0], [0, 1, 0], [0, 0, 1]])
        layers = [Layer(Sheet(flat[0])), Layer(Sheet(flat[1]), away)]
        light, _ = combined(layers, RULES["mean"], Region(0, 0, 30, 20))
        assert_allclose(light[:, :14], 0.2, atol=1e-6)
        assert_allclose(light[:, 17:], 0.55, atol=1e-6)

    def test_where_no_layer_covers_nothing_is_made_up(self):
        sheet = Sheet(np.full((20, 30, 3), 0.5, np.float16))
        aside = np.array([[1.0, 0, 12], [0, 1, 0], [0, 0, 1]])
        for name, rule in RULES.items():
            with self.subTest(name):
                light, covered = combined([Layer(sheet, aside)], rule, Region(0, 0, 30, 20))
                self.assertTrue(covered[:, :17].all())
                self.assertFalse(covered[:, 19:].any())
                assert_allclose(light[:, 19:], 0)
                alone = 0.0 if name == "range" else 0.5
                assert_allclose(light[:, :17], alone, atol=1e-3)
