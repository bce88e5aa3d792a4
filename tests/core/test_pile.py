"""A stack's pile: layers over the rule, each within its area, met, moved and lit as it says."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from tests.support import engine, project_of, write_picture
from windfell.combine.meeting import MEETINGS, laid_over, own_gain
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Ellipse, Range, Read, Stroke
from windfell.recipe.combining import Combining, Floor, Layer, Over, Rule
from windfell.recipe.model import Kind, View
from windfell.recipe.outline import Crop, Outline

SIZE = (240, 160)
LAMPS = ((60, 40), (120, 80), (190, 110))


def disc(x: float, y: float, radius: float) -> np.ndarray:
    across, down = np.meshgrid(np.arange(SIZE[0]), np.arange(SIZE[1]))
    return np.hypot(across - x, down - y) < radius


class Pile(unittest.TestCase):
    """Three dark frames, each with one bright lamp; even light, so that figures are plain."""

    @classmethod
    def setUpClass(cls):
        cls.home = tempfile.TemporaryDirectory()
        cls.paths, cls.engine = [], engine()
        for n, lamp in enumerate(LAMPS):
            pixels = np.full((SIZE[1], SIZE[0], 3), 60 + 10 * n, np.uint8)
            pixels[disc(*lamp, 12)] = 200
            cls.paths.append(write_picture(Path(cls.home.name) / f"frame-{n}.png", pixels))

    @classmethod
    def tearDownClass(cls):
        cls.home.cleanup()

    def picture(self, *layers: Layer, scale: float = 1.0, region: Region | None = None, **parts) -> np.ndarray:
        rule = parts.pop("rule", Rule.MEDIAN)
        combining = Combining(rule, layers=layers, **parts.pop("combining", {}))
        project, set_id = project_of(self.paths, Kind.STACK, combining=combining, **parts)
        ids = [f.id for f in project.set(set_id).frames]
        swapped = tuple(replace(x, frames=tuple(ids[int(i)] for i in x.frames)) for x in layers)
        combining = replace(combining, layers=swapped, base=combining.base and ids[int(combining.base)])
        project = project.with_set(replace(project.set(set_id), combining=combining))
        return self.engine.picture(project, set_id, scale, Job(), region).light[..., 1]

    def test_no_layer_no_strength_or_nothing_painted_leaves_the_rule(self):
        plain = self.picture()
        none = Layer(on=False), Layer(strength_pct=0.0), Layer(area=Area()), Layer(frames=("0",), area=Area())
        for layer in none:
            np.testing.assert_array_equal(self.picture(layer), plain)

    def test_a_rule_over_some_frames_holds_within_its_area(self):
        area = Area((Ellipse(LAMPS[0], 60.0, 60.0, softness_pct=0),))
        plain, found = self.picture(), self.picture(Layer(Rule.MAXIMUM, ("0", "2"), area=area))
        self.assertGreater(found[LAMPS[0][1], LAMPS[0][0]], 2 * plain[LAMPS[0][1], LAMPS[0][0]])
        np.testing.assert_array_equal(found[disc(*LAMPS[2], 30)], plain[disc(*LAMPS[2], 30)])
        everywhere = self.picture(Layer(Rule.MAXIMUM, ("0", "2")))
        self.assertGreater(everywhere[LAMPS[2][1], LAMPS[2][0]], 2 * plain[LAMPS[2][1], LAMPS[2][0]])
        self.assertAlmostEqual(everywhere[LAMPS[1][1], LAMPS[1][0]], plain[5, 5] * 1.0, delta=0.03)

    def test_every_way_to_meet_does_what_it_says(self):
        self.assertEqual(set(MEETINGS), {str(o) for o in Over})
        below, one = self.picture(), self.picture(Layer(frames=("2",)))
        truth = {
            "replace": one, "add": below + one, "screen": below + one * (1 - below),
            "lighter": np.maximum(below, one), "darker": np.minimum(below, one)}
        for way in Over:
            found = self.picture(Layer(frames=("2",), over=way))
            np.testing.assert_allclose(found, truth[str(way)], atol=2e-6, err_msg=str(way))
            half = self.picture(Layer(frames=("2",), over=way, strength_pct=50.0))
            np.testing.assert_allclose(half, (below + truth[str(way)]) / 2, atol=2e-6)

    def test_the_lighter_keeps_its_colour_whole(self):
        red, green = np.full((4, 4, 3), (0.5, 0.0, 0.0), np.float32), np.full((4, 4, 3), (0.0, 0.4, 0.0), np.float32)
        np.testing.assert_array_equal(laid_over(red, green, np.ones((4, 4), np.float32), "lighter"), green)

    def test_layers_lie_in_their_order(self):
        over = [Layer(frames=("1",)), Layer(frames=("2",))]
        np.testing.assert_allclose(self.picture(*over), self.picture(over[1]), atol=1e-7)
        np.testing.assert_allclose(self.picture(*over[::-1]), self.picture(over[0]), atol=1e-7)

    def test_exposure_warmth_and_black_floor(self):
        red, green, blue = own_gain(1.0, 100.0)
        self.assertTrue(red > green > blue)
        self.assertAlmostEqual(float(green), 2.0)
        one = self.picture(Layer(frames=("2",)))
        np.testing.assert_allclose(self.picture(Layer(frames=("2",), exposure_ev=-1.0)), one / 2, atol=1e-6)
        # the lamp's frame is 80 of 255 around it: 8.0 % of white
        level = 100 * float(one[5, 5])
        floored = self.picture(Layer(frames=("2",), floor=Floor.LEVEL, floor_pct=level))
        self.assertLess(floored[disc(60, 40, 20)].max(), 1e-4)
        found = self.picture(Layer(frames=("2",), floor=Floor.AUTO, over=Over.ADD)) - self.picture()
        self.assertLess(np.abs(found[~disc(*LAMPS[2], 16)]).max(), 2e-3)
        self.assertGreater(found[LAMPS[2][1], LAMPS[2][0]], 0.4)

    def test_a_layer_takes_every_frame_whatever_the_rule_below_leaves_out(self):
        plain = self.picture(Layer(frames=("1",)))
        sparse = self.picture(Layer(frames=("1",)), rule=Rule.MAXIMUM, combining={"every": 2, "fade_in_pct": 80.0})
        np.testing.assert_allclose(sparse, plain, atol=1e-6)

    def test_a_layer_is_moved_turned_and_sized(self):
        def lamp_at(**place) -> np.ndarray:
            found = self.picture(Layer(frames=("0",), over=Over.LIGHTER, **place))
            return np.argwhere(found > 0.3).mean(axis=0)[::-1]

        middle = (np.array(SIZE) - 1) / 2
        away = np.array(LAMPS[0]) - middle
        np.testing.assert_allclose(lamp_at(right_px=30.0, down_px=-10.0), LAMPS[0] + np.array([30, -10]), atol=0.4)
        np.testing.assert_allclose(lamp_at(turn_deg=90.0), middle + [-away[1], away[0]], atol=0.6)
        np.testing.assert_allclose(lamp_at(size_pct=150.0), middle + 1.5 * away, atol=0.6)

    def test_a_moved_frame_shows_what_is_below_beyond_its_edge_softly_if_asked(self):
        plain, one = self.picture(), self.picture(Layer(frames=("2",)))
        moved = self.picture(Layer(frames=("2",), right_px=40.0))
        np.testing.assert_array_equal(moved[:, :39], plain[:, :39])
        self.assertAlmostEqual(float(moved[3, 45]), float(one[3, 3]), delta=1e-3)
        soft = self.picture(Layer(frames=("2",), right_px=40.0, edge_pct=20.0))
        self.assertTrue(plain[80, 0] < soft[80, 50] < one[80, 0])

    def test_the_base_shows_around_a_painted_region(self):
        region = Area((Stroke((LAMPS[0], LAMPS[1]), 50.0, 0.0),))
        found = self.picture(combining={"base": "2", "region": region})
        base, rule = self.picture(Layer(frames=("2",))), self.picture()
        np.testing.assert_allclose(found[disc(*LAMPS[2], 14)], base[disc(*LAMPS[2], 14)], atol=1e-6)
        np.testing.assert_allclose(found[disc(*LAMPS[1], 14)], rule[disc(*LAMPS[1], 14)], atol=1e-6)
        none = self.picture(combining={"base": "2", "region": Area()})
        np.testing.assert_allclose(none, base, atol=1e-6)

    def test_a_layer_changed_in_a_preview_is_as_if_all_were_made_anew(self):
        area = Area((Stroke(((40.0, 30.0), (150.0, 100.0)), 40.0),))
        fresh = engine()
        changed = ({}, {"exposure_ev": 1.0}, {"right_px": 9.0}, {"right_px": -20.0}, {"strength_pct": 40.0},
                   {"frames": ("1",), "floor": Floor.LEVEL, "floor_pct": 2.0}, {"rule": Rule.MINIMUM})
        for parts in changed:
            layer = Layer(area=area, **parts)
            one, other = self.picture(layer, scale=0.5), None
            self.engine, known = fresh, self.engine
            try:
                other = self.picture(layer, scale=0.5)
            finally:
                self.engine, fresh = known, engine()
            np.testing.assert_allclose(one, other, atol=1e-6)

    def test_an_area_reads_the_reference(self):
        area = Area((Range(Read.BRIGHTNESS, 60.0, 100.0, 2.0),))
        found = self.picture(Layer(frames=("0",), area=area))
        plain, one = self.picture(), self.picture(Layer(frames=("0",)))
        np.testing.assert_allclose(found[disc(*LAMPS[0], 9)], one[disc(*LAMPS[0], 9)], atol=1e-5)
        np.testing.assert_allclose(found[~disc(*LAMPS[0], 15)], plain[~disc(*LAMPS[0], 15)], atol=1e-5)

    def test_regions_scales_crops_and_turns_show_the_same_pile(self):
        area = Area((Stroke(((40.0, 30.0), (150.0, 100.0)), 40.0),))
        layer = Layer(frames=("0",), area=area, right_px=7.0, over=Over.ADD)
        whole = self.picture(layer)
        part = self.picture(layer, region=Region(50, 30, 60, 40))
        np.testing.assert_allclose(part, whole[30:70, 50:110], atol=2e-5)
        half = self.picture(layer, scale=0.5)
        self.assertLess(np.abs(half - whole.reshape(80, 2, 120, 2).mean(axis=(1, 3))).mean(), 4e-3)
        crop = self.picture(layer, outline=Outline(crop=Crop(25.0, 12.5, 50.0, 50.0)))
        np.testing.assert_allclose(crop, whole[20:100, 60:180], atol=2e-5)
        turned = self.picture(layer, view=View(roll_deg=180.0))
        # a turned picture leaves its outermost px
        self.assertLess(np.abs(turned - whole[::-1, ::-1][:-1, :-1]).mean(), 5e-3)
