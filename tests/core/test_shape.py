"""Canvases, bounds, the automatic choice, the trim."""

import unittest
from dataclasses import replace

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import engine, frames_in, green, project_of, ridge
from windfell.geometry.camera import Lens
from windfell.geometry.posed import Posed
from windfell.geometry.projections import PROJECTIONS
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.join.warp import covered
from windfell.pixels.tiles import Region
from windfell.recipe.model import Kind, View
from windfell.recipe.outline import BentLine, Crop, Edges, LineKind, Outline, Ratio
from windfell.shape.bounds import covered_rays, field_of_view, fitted_canvas, sparser, sphere_canvas
from windfell.shape.choice import bend_pct, ranked, suitable_projection
from windfell.shape.coverage import Coverage
from windfell.shape.edges import Edge, arc
from windfell.shape.figures import projection_figures
from windfell.shape.held import bow
from windfell.shape.stack_cut import stack_cut
from windfell.shape.stretch import most_stretch
from windfell.shape.trim import largest_rectangle


def row(yaws_deg) -> list[Posed]:
    lens = Lens(900, 1200, 1000.0)
    return [Posed(lens, from_yaw_pitch_roll(np.radians(y), 0, 0)) for y in yaws_deg]


class Canvases(unittest.TestCase):
    def test_pixels_undo_rays_from_any_view(self):
        view = from_yaw_pitch_roll(0.7, -0.2, 0.1)
        for name in PROJECTIONS:
            canvas = fitted_canvas(name, row([20, 40, 60]), view, 300)
            points = np.random.default_rng(1).uniform(0, [canvas.width, canvas.height], (50, 2))
            assert_allclose(canvas.pixels(canvas.rays(points)), points, atol=1e-6)

    def test_a_view_turned_past_all_frames_keeps_an_edge(self):
        away = from_yaw_pitch_roll(np.pi, np.radians(80), 0.0)
        for name in PROJECTIONS:
            with self.subTest(name):
                canvas = fitted_canvas(name, row([0]), away, 300)
                self.assertGreater(canvas.right - canvas.left, 0)
                self.assertGreater(canvas.bottom - canvas.top, 0)
                self.assertTrue(np.isfinite(canvas.px_per_unit))

    def test_a_fitted_canvas_holds_all_frames(self):
        frames = row([-30, 0, 30])
        for name in PROJECTIONS:
            canvas = fitted_canvas(name, frames, np.eye(3), 400)
            for f in frames:
                at = canvas.pixels(f.lens.rays(f.lens.grid(9)) @ f.rotation.T)
                self.assertTrue((at > -1).all() and (at < [canvas.width, canvas.height]).all())

    def test_a_row_across_the_back_is_not_torn(self):
        canvas = fitted_canvas("equirectangular", row([150, 180, 210]), np.eye(3), 300)
        self.assertLess(canvas.right - canvas.left, 2.2)

    def test_a_ring_closes(self):
        canvas = fitted_canvas("cylindrical", row(range(0, 360, 30)), np.eye(3), 300)
        self.assertTrue(canvas.wraps)

    def test_the_sphere_has_its_zenith_on_top_and_longitude_grows_right(self):
        canvas = sphere_canvas(400)
        self.assertEqual((canvas.width, canvas.height), (400, 200))
        rays = canvas.rays(np.array([[199.5, 99.5], [299.5, 99.5], [0, -0.5]]))
        assert_allclose(rays, [[0, 0, 1], [1, 0, 0], [0, -1, 0]], atol=1e-9)

    def test_field_of_view_of_a_row(self):
        wide, tall = field_of_view(row([-30, 0, 30]))
        self.assertAlmostEqual(np.degrees(wide), 60 + 2 * np.degrees(np.arctan(0.45)), delta=0.2)
        self.assertAlmostEqual(np.degrees(tall), 2 * np.degrees(np.arctan(0.6)), delta=0.2)

    def test_stretch_is_known_for_the_rectilinear_corner(self):
        frames = row([0])
        canvas = fitted_canvas("rectilinear", frames, np.eye(3), 500)
        self.assertAlmostEqual(most_stretch(canvas, covered_rays(frames)), (1 + 0.45**2 + 0.6**2) ** 0.75, delta=0.02)


class Covered(unittest.TestCase):
    def seen(self, canvas, frames):
        whole = Region(0, 0, canvas.width, canvas.height)
        seen = np.any([covered(canvas, whole, f) for f in frames], axis=0)
        drawn = canvas.drawn(whole)
        return seen if drawn is None else seen & drawn

    def test_it_is_looked_up_as_the_frames_lie_from_any_view_of_any_projection(self):
        turned = from_yaw_pitch_roll(*np.radians([200, 12, 5]))
        for yaws in (range(-40, 41, 20), range(0, 360, 30)):
            frames = row(yaws)
            surface = fitted_canvas("equirectangular", frames, np.eye(3), 100)
            known = Coverage(surface, self.seen(surface, frames))
            for name in ("rectilinear", "cylindrical", "stereographic", "equal-area-fisheye"):
                for view in (np.eye(3), turned):
                    canvas = fitted_canvas(name, frames, view, 60)
                    canvas = canvas.scaled(min(1.0, 260 / max(canvas.width, canvas.height)))
                    with self.subTest(name, frames=len(frames)):
                        self.assertLess((known.on(canvas) != self.seen(canvas, frames)).mean(), 0.03)
        self.assertTrue(known.on(sphere_canvas(200))[50].all())  # no gap where the ring closes

    def test_it_is_known_for_each_set_by_itself(self):
        host, found = engine(), []
        for count in (2, 3):
            project, set_id = project_of(frames_in(ridge())[:count])
            for asked in (host, engine()):
                stages = asked.stages(project, set_id)
                c = stages.canvas(Job())
                half = c.bounded(c.left, c.top, (c.left + c.right) / 2, c.bottom)
                found.append((stages.kept_by(half, Job()), stages.coarse_coverage(c, Job()).mean()))
        assert_allclose(found[::2], found[1::2], atol=1e-9)
        self.assertNotAlmostEqual(found[0][0], found[2][0], places=3)

    def test_a_coarse_trim_is_nearly_the_fine_one(self):
        project, set_id = project_of(frames_in(ridge())[:3])
        trimmed = project.with_set(replace(project.set(set_id), outline=Outline(Edges.TRIM)))
        stages = engine().stages(trimmed, set_id)
        sides = [[c.left, c.top, c.right, c.bottom] for c in (stages.canvas(Job(), fine=f) for f in (True, False))]
        whole = stages.whole_canvas(Job())
        self.assertLess(sides[0][3] - sides[0][1], 0.97 * (whole.bottom - whole.top))
        assert_allclose(*sides, atol=0.03 * (whole.bottom - whole.top))

    def test_fewer_rays_keep_every_frame_s_corners(self):
        frames = row([0, 40, 80])
        rays = covered_rays(frames)
        few = sparser(rays)
        self.assertLess(len(few), 0.26 * len(rays))
        for frame in frames:
            w, h = frame.lens.width, frame.lens.height
            corners = frame.rays(np.array([[-0.5, -0.5], [w - 0.5, -0.5], [-0.5, h - 0.5], [w - 0.5, h - 0.5]]))
            for corner in corners:
                self.assertGreater((few @ corner).max(), 1 - 1e-12)


class LineFiguresOfACanvas(unittest.TestCase):
    def test_lean_is_the_greatest_to_either_side_and_bend_is_of_all_long_edges(self):
        canvas = fitted_canvas("rectilinear", row([0]), from_yaw_pitch_roll(0, np.radians(12), 0), 500)
        seen = np.ones((20, 20), bool)

        def post(yaw: float) -> Edge:
            ends = [np.array([np.sin(yaw) * np.cos(p), np.sin(p), np.cos(yaw) * np.cos(p)]) for p in (-0.1, 0.2)]
            return Edge(arc(*ends), 0.3, True)

        def leans(yaw: float) -> float:
            px = canvas.pixels(post(yaw).rays)
            return abs(float(np.degrees(np.arctan2(px[-1, 0] - px[0, 0], px[-1, 1] - px[0, 1]))))

        for yaws in ((-0.3, 0.1), (-0.1, 0.3)):
            found = projection_figures(canvas, [post(y) for y in yaws], seen)
            self.assertAlmostEqual(found.vertical_deg, leans(0.3), places=6)
        self.assertGreater(leans(0.3), 1.0)
        high = [np.array([np.sin(y), -0.3, np.cos(y)]) / np.hypot(1, 0.3) for y in (-0.3, 0.3)]
        beam, around = Edge(arc(*high), 0.6, False), fitted_canvas("cylindrical", row([0]), np.eye(3), 500)
        found = projection_figures(around, [beam, post(0.1)], seen)
        px = around.pixels(beam.rays)
        self.assertAlmostEqual(found.line_bend, 100 * bow(px) * 0.6 / 0.9, places=3)
        self.assertIsNone(projection_figures(around, [beam], seen).vertical_deg)
        self.assertIsNone(projection_figures(around, [], seen).line_bend)


class Choices(unittest.TestCase):
    def test_the_choice_follows_the_view_and_says_why(self):
        for wide, tall, name in ((60, 50, "rectilinear"), (200, 60, "cylindrical"), (300, 140, "equirectangular")):
            choice = suitable_projection(np.radians(wide), np.radians(tall))
            self.assertEqual(choice.projection, name)
            self.assertIn(f"{wide}°", choice.reason)


    def test_long_straight_edges_ask_for_a_projection_that_keeps_them_straight(self):
        def beam(lon: float, high: float) -> Edge:
            ends = [[np.sin(lon + d), high, np.cos(lon + d)] for d in (-0.35, 0.35)]
            one, other = (np.array(e) / np.linalg.norm(e) for e in ends)
            return Edge(arc(one, other), float(np.arccos(one @ other)), False)

        wide, tall = np.radians([110, 50])
        beams = [beam(lon, high) for lon in (-0.4, 0, 0.4) for high in (-0.35, 0.4)]
        self.assertEqual(suitable_projection(wide, tall).projection, "cylindrical")
        choice = suitable_projection(wide, tall, beams)
        self.assertEqual(choice.projection, "pannini")
        self.assertIn("edges bend by", choice.reason)
        self.assertGreater(bend_pct("cylindrical", beams), bend_pct("pannini", beams))
        self.assertEqual(suitable_projection(np.radians(40), np.radians(150)).projection, "transverse-cylindrical")

    def test_the_most_suitable_comes_first_and_what_cuts_much_away_last(self):
        order = ranked(row(range(-80, 81, 20)), [])
        self.assertEqual(order[0], "cylindrical")
        self.assertEqual(set(order), set(PROJECTIONS))
        self.assertGreater(order.index("rectilinear"), order.index("equirectangular"))


class Trim(unittest.TestCase):
    def test_the_largest_rectangle_equals_brute_force(self):
        rng = np.random.default_rng(3)
        for _ in range(30):
            mask = rng.random((9, 11)) < 0.75
            left, top, right, bottom = largest_rectangle(mask)
            self.assertTrue(mask[top:bottom, left:right].all())
            best = max(
                ((y1 - y0) * (x1 - x0) for y0 in range(9) for y1 in range(y0, 10)
                 for x0 in range(11) for x1 in range(x0, 12) if mask[y0:y1, x0:x1].all()), default=0)
            self.assertEqual((right - left) * (bottom - top), best)

    def test_nothing_covered_gives_nothing(self):
        self.assertEqual(largest_rectangle(np.zeros((4, 4), bool)), (0, 0, 0, 0))


class StackCuts(unittest.TestCase):
    def test_a_crop_is_whole_px_and_a_turn_finds_the_largest_rectangle(self):
        cut = stack_cut((400, 300), 0.0, Outline(crop=Crop(10, 10, 50.1, 50)))
        self.assertEqual(cut.box, (40.0, 30.0, 240.0, 180.0))
        self.assertFalse(cut.plain)
        self.assertTrue(stack_cut((400, 300), 0.0, Outline()).plain)
        turned = stack_cut((400, 300), 8.0, Outline())
        corners = np.array([[0, 0], [turned.size[0] - 1, 0], [0, turned.size[1] - 1]], float)
        there = turned.onto_reference(1.0)(corners)
        self.assertTrue((there > -1).all() and (there < [400, 300]).all())
        self.assertGreater(turned.size[0] * turned.size[1], 0.55 * 400 * 300)
        wide, high = stack_cut((400, 300), 3.0, Outline(ratio=Ratio(16, 9))).size
        self.assertAlmostEqual(wide / high, 16 / 9, delta=0.02)

    def test_a_curve_drawn_on_a_stack_becomes_straight(self):
        x = np.linspace(20, 80, 30)
        curve = tuple((float(a), float(40 + 6 * np.cos((a - 50) / 20))) for a in x)
        line = BentLine(curve, LineKind.STRAIGHT)
        cut = stack_cut((400, 300), 0.0, Outline(lines=(line,)))
        for one in (cut, stack_cut((400, 300), 8.0, Outline(lines=(line,), crop=Crop(10, 10, 60, 50)))):
            there = one.onto_reference(1.0)(np.array([[40.0, 30.0], [150.0, 90.0]]))
            np.testing.assert_allclose(one.from_reference(there), [[40.0, 30.0], [150.0, 90.0]], atol=0.01)
        self.assertTrue(cut.moves)
        there = cut.mesh.forward(np.array(curve) / 100 * [400, 300] - 0.5)
        self.assertLess(bow(there), 0.05 * bow(np.array(curve) * [4.0, 3.0]))
        own = engine()
        project, set_id = project_of(frames_in(green())[:2], Kind.STACK, outline=Outline(lines=(line,)))
        plain, _ = project_of(frames_in(green())[:2], Kind.STACK)
        bent, whole = (own.picture(p, set_id, 1.0, Job()).light for p in (project, plain))
        self.assertEqual(bent.shape, whole.shape)
        self.assertGreater(np.abs(bent - whole).mean(), 0.002)

    def test_a_stack_is_cropped_and_straightened_without_moving_anything(self):
        own, project_id = engine(), "set"
        plain, _ = project_of(frames_in(green())[:3], Kind.STACK)
        whole = own.picture(plain, project_id, 1.0, Job())

        def with_parts(**parts):
            return plain.with_set(replace(plain.set(project_id), **parts))

        crop = own.picture(with_parts(outline=Outline(crop=Crop(25, 20, 50, 50))), project_id, 1.0, Job())
        h, w = whole.light.shape[:2]
        left, top = round(0.25 * w), round(0.2 * h)
        part = whole.light[top : top + crop.light.shape[0], left : left + crop.light.shape[1]]
        assert_allclose(crop.light, part, atol=1e-6)
        turned = own.picture(with_parts(view=View(roll_deg=4.0)), project_id, 1.0, Job())
        self.assertTrue(turned.covered.all())
        middle = cv2.getRotationMatrix2D(((w - 1) / 2, (h - 1) / 2), 4.0, 1.0)
        truth = cv2.warpAffine(whole.light, middle, (w, h), flags=cv2.INTER_CUBIC)
        th, tw = turned.light.shape[:2]
        part = truth[(h - th) // 2 :, (w - tw) // 2 :][:th, :tw]
        off = np.abs(cv2.GaussianBlur(turned.light, (0, 0), 2) - cv2.GaussianBlur(part, (0, 0), 2))[9:-9, 9:-9]
        self.assertLess(np.median(off), 0.004)
