"""The outline pulled to its rectangle, lines obeyed, the net, the cost of it all."""

import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import cv2
import numpy as np
from numpy.testing import assert_allclose

from tests.support import engine, frames_in, project_of, ridge
from windfell.align.followed import followed
from windfell.align.upright import blue_over_red, find_edges
from windfell.cache import key_of
from windfell.engine.laid_out import _weight
from windfell.engine.shape_marks import suggested_pull
from windfell.engine.stage import long_edges
from windfell.geometry.camera import Lens
from windfell.geometry.directions import rays_of
from windfell.geometry.mesh import Bounds, Lattice, Mesh, slopes
from windfell.geometry.posed import Posed
from windfell.geometry.projections import PROJECTIONS
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.model import ProjectionChoice, View, frame_from_path
from windfell.recipe.outline import BentLine, Crop, Edges, LineKind, NetPoint, Outline, Ratio, Room, StiffPatch
from windfell.shape import rectangle
from windfell.shape.bounds import fitted_canvas
from windfell.shape.canvas import Canvas
from windfell.shape.edges import Edge, arc, world_edges
from windfell.shape.figures import _inside, cost_of
from windfell.shape.held import Held, bow, drawn_line, given_way, held_lines, horizon_parts
from windfell.shape.net import net_lattice
from windfell.shape.pull import Task
from windfell.shape.pull_solver import solved
from windfell.shape.sides import sides_of

WHOLE = Bounds(-1.5, -0.5, 1.5, 0.5)
SHAPE = (200, 600)


def ragged(seed: int = 3, depth: int = 22) -> np.ndarray:
    """A mask with steps at all four sides."""
    rng = np.random.default_rng(seed)
    mask = np.zeros(SHAPE, bool)
    for left in range(0, 600, 100):
        top, bottom = rng.integers(2, depth, 2)
        mask[top : 200 - bottom, max(4, left) : min(left + 110, 594)] = True
    mask[:90, :12] = False
    return mask


def to_plane(spots: np.ndarray) -> np.ndarray:
    return np.stack([WHOLE.left + (spots[:, 0] + 0.5) * 3 / 600, WHOLE.top + (spots[:, 1] + 0.5) / 200], -1)


def task_of(mask: np.ndarray, held=(), stiff=None, closed=False) -> Task:
    sides = sides_of(mask, closed)
    return Task(WHOLE, [to_plane(s) for s in sides.each], sides.within(SHAPE), held, stiff, closed)


def line(x0, y0, x1, y1, count=25) -> np.ndarray:
    return np.stack([np.linspace(x0, x1, count), np.linspace(y0, y1, count)], -1)


class Sides(unittest.TestCase):
    def test_they_lie_within_what_is_covered_and_keep_nearly_all_of_it(self):
        for seed in range(6):
            mask = ragged(seed)
            inside = sides_of(mask).within(SHAPE)
            self.assertLess((inside & ~mask).sum(), 0.002 * mask.sum())  # corners of steps fall between px
            self.assertGreater((inside & mask).sum(), 0.95 * mask.sum())

    def test_none_is_steeper_than_allowed(self):
        top = sides_of(ragged(), steepest=0.3).top
        self.assertLess(np.abs(np.diff(top[:, 1]) / np.diff(top[:, 0])).max(), 0.5)

    def test_a_ring_has_but_two(self):
        mask = np.zeros(SHAPE, bool)
        mask[20:150] = True
        mask[20:40, 100:200] = False
        found = sides_of(mask, closed=True)
        self.assertEqual((len(found.left), len(found.right)), (0, 0))
        self.assertGreaterEqual(found.top[150, 1], 40)

    def test_nothing_covered_has_none(self):
        self.assertIsNone(sides_of(np.zeros(SHAPE, bool)))


class Pulls(unittest.TestCase):
    def test_the_rectangle_is_filled_and_nothing_folds(self):
        for seed in range(4):
            mask = ragged(seed)
            pull = solved(task_of(mask))
            mesh, cut = pull.mesh((1, 1, 1, 1))
            y, x = np.mgrid[0:60, 0:180]
            spots = np.stack([cut.left + (x + 0.5) * cut.width / 180, cut.top + (y + 0.5) * cut.height / 60], -1)
            source = mesh.backward(spots)
            px = np.rint([(source[..., 0] + 1.5) * 200 - 0.5, (source[..., 1] + 0.5) * 200 - 0.5]).astype(int)
            self.assertTrue(mask[px[1].clip(0, 199), px[0].clip(0, 599)].all())
            self.assertGreater(np.linalg.det(slopes(mesh.forth, source)).min(), 0.1)
            self.assertGreater(cut.width * cut.height, 0.93 * mask.mean() * 3)

    def test_there_and_back(self):
        mesh, cut = solved(task_of(ragged())).mesh((1, 1, 1, 1))
        rng = np.random.default_rng(1)
        spots = np.stack([rng.uniform(cut.left, cut.right, 300), rng.uniform(cut.top, cut.bottom, 300)], -1)
        # half a px of 600: the way back is held at few spots
        assert_allclose(mesh.forward(mesh.backward(spots)), spots, atol=2e-3)

    def test_the_amount_is_continuous_and_nothing_at_nothing(self):
        pull = solved(task_of(ragged()))
        spots = line(-1.2, -0.3, 1.2, 0.3)
        none, cut = pull.mesh((0, 0, 0, 0))
        assert_allclose(none.forward(spots), spots, atol=1e-9)
        assert_allclose([cut.left, cut.top, cut.right, cut.bottom], [-1.5, -0.5, 1.5, 0.5], atol=1e-9)
        before = none.forward(spots)
        for amount in np.linspace(0.05, 1, 20):
            now = pull.mesh([amount] * 4)[0].forward(spots)
            self.assertLess(np.abs(now - before).max(), 0.02)
            before = now

    def test_each_side_has_its_own_amount(self):
        pull = solved(task_of(ragged()))
        top = pull.task.sides[0]
        for amounts, level in (((1, 0, 0, 0), True), ((0, 1, 1, 1), False)):
            bent = top + pull.forth(amounts).at(top)
            self.assertEqual(np.ptp(bent[:, 1]) < 0.25 * np.ptp(top[:, 1]), level)

    def test_straight_upright_and_level_things_stay_so(self):
        lines = [Held(line(-1.0, 0.2, -0.2, 0.38)), Held(line(0.3, -0.4, 1.1, -0.25))]
        posts = [Held(line(x, -0.35, x, -0.05), "upright", turn=60.0) for x in (-1.3, -0.5, 0.4, 1.35)]
        horizon = Held(line(-1.5, 0.0, 1.5, 0.0, 400), "horizon", rigid=3000.0)
        free, bound = (solved(task_of(ragged(), held)) for held in ((), (*lines, *posts, horizon)))
        y, x = np.nonzero(ragged())
        seen = to_plane(np.stack([x, y], -1)[::17].astype(float))

        def cost(pull):
            mesh, cut = pull.mesh((1, 1, 1, 1))
            return cost_of(mesh, cut, (*lines, *posts, horizon), seen)

        plain, kept = cost(free), cost(bound)
        self.assertLess(kept.line_bend, 0.2)
        self.assertLess(kept.horizon_deg, 0.1)
        self.assertLess(kept.vertical_deg, 0.5)
        self.assertGreater(plain.horizon_deg, 5 * kept.horizon_deg)
        self.assertGreater(plain.line_bend, kept.line_bend)
        self.assertTrue(kept.unnoticed, kept)

    def test_a_stiff_region_keeps_its_form(self):
        stiff = np.zeros(SHAPE, np.float32)
        stiff[30:100, 220:330] = 1
        spots = to_plane(np.stack(np.meshgrid(np.arange(230, 320, 5), np.arange(38, 92, 5)), -1).reshape(-1, 2))

        def worst(pull):
            sizes = np.linalg.svd(slopes(pull.forth((1, 1, 1, 1)), spots), compute_uv=False)
            return (sizes[:, 0] / sizes[:, 1]).max()

        held, free = (worst(solved(task_of(ragged(), stiff=s))) for s in (stiff, None))
        self.assertLess(held - 1, 0.4 * (free - 1))

    def test_lines_give_way_where_the_plane_would_fold(self):
        mask = np.zeros(SHAPE, bool)
        mask[4:-4, 4:-4] = True
        mask[140:, 260:340] = False  # under many lines that are to stay straight
        beams = [Held(line(-1.3, y, 1.3, y, 60)) for y in np.arange(-0.35, 0.17, 0.03)]
        drawn = Held(line(-0.2, -0.4, 0.2, -0.4), "drawn")
        folded = solved(task_of(mask, [*beams, drawn])).folded
        self.assertGreater(len(folded), 20)
        held = given_way([*beams, drawn], folded, 0.16)
        self.assertIs(held[-1], drawn)
        weak = [h.strength < 1 for h in held[:-1]]
        self.assertTrue(weak[-1] and not weak[0])
        mild = solved(task_of(mask, held))
        self.assertTrue(mild.whole)
        y, x = np.mgrid[0:90, 0:300]
        spots = np.stack([-1.4 + x * 2.8 / 299, -0.4 + y * 0.55 / 89], -1).reshape(-1, 2)
        self.assertGreater(np.linalg.det(slopes(mild.forth((1, 1, 1, 1)), spots)).min(), 0.1)

    def test_the_way_back_is_held_finer_where_much_is_squeezed(self):
        pixel = 3 / 600
        mild, hard = ragged(), np.zeros(SHAPE, bool)
        hard[4:-4, 4:-4] = True
        hard[:70, 250:350] = False
        cells = []
        for mask in (mild, hard):
            pull = solved(task_of(mask))
            mesh, _ = pull.mesh((1, 1, 1, 1))
            self.assertLess(mesh.astray(pull.seen), 0.25 * pixel)
            cells.append(mesh.back.cells[0] / mesh.forth.cells[0])
        self.assertGreater(cells[1], 1.5 * cells[0])

    def test_short_of_all_nothing_within_the_sides_is_cut_off(self):
        pull = solved(task_of(ragged()))
        y, x = np.nonzero(pull.task.covered)
        spots = to_plane(np.stack([x, y], -1)[::7].astype(float))
        meshes = [pull.mesh([amount] * 4, fine=False) for amount in (0.3, 0.6, 0.9, 1.0)]
        kept = [_inside(mesh.forward(spots), cut).mean() for mesh, cut in meshes]
        self.assertGreater(kept[1], 0.999)
        self.assertEqual(kept, sorted(kept, reverse=True))
        self.assertGreater(kept[-1], 0.98)

    def test_a_ring_stays_closed(self):
        mask = np.ones(SHAPE, bool)
        mask[:15, 100:260], mask[185:, 400:] = False, False
        pull = solved(task_of(mask, closed=True))
        mesh, cut = pull.mesh((1, 1, 1, 1))
        self.assertEqual((cut.left, cut.right), (-1.5, 1.5))
        y = np.linspace(cut.top + 0.01, cut.bottom - 0.01, 40)
        left, right = (mesh.backward(np.stack([np.full_like(y, x), y], -1)) for x in (-1.5, 1.5))
        assert_allclose(right - left, np.broadcast_to([3.0, 0.0], (40, 2)), atol=1e-6)


class Gentler(unittest.TestCase):
    def test_what_folds_is_asked_for_less_steeply_and_then_lines_there_give_way(self):
        project, set_id = project_of(frames_in(ridge()), outline=Outline(Edges.PULL, 100.0))
        stages, tasks = engine().stages(project, set_id), []

        def folding(task):
            tasks.append(task)
            b, whole = task.bounds, len(tasks) == 4
            middle = np.array([[(b.left + b.right) / 2, (b.top + b.bottom) / 2]])
            return mock.Mock(whole=whole, folded=middle[: 0 if whole else 1])

        beams = [Held(line(x, -0.2, x, 0.2)) for x in np.linspace(-0.5, 0.5, 41)]
        with mock.patch("windfell.engine.laid_out.solved", folding), mock.patch(
                "windfell.engine.laid_out.held_lines", lambda *_: beams):
            stages._solve(Job(), True, True)
        steep = [np.abs(np.diff(t.sides[0][:, 1]) / np.diff(t.sides[0][:, 0])).max() for t in tasks]
        weak = [sum(h.strength < 1 for h in t.held) for t in tasks]
        self.assertEqual(weak[:2], [0, 0])
        self.assertTrue(0 < weak[2] < weak[3] <= len(beams), weak)
        self.assertLessEqual(steep[1], steep[0])


class Lines(unittest.TestCase):
    def test_a_drawn_curve_becomes_straight_as_far_as_its_strength_says(self):
        canvas = Canvas("equirectangular", -1.5, -0.5, 1.5, 0.5, 600, 200)
        x = np.linspace(-0.8, 0.8, 60)
        curve = np.stack([x, 0.2 + 0.06 * np.cos(2 * x)], -1)
        rays = canvas.kind.backward(curve)
        for strength, left in ((1.0, 0.02), (0.5, 0.55)):
            held = drawn_line(canvas, rays, "straight", strength)
            pull = solved(Task(WHOLE, [np.zeros((0, 2))] * 4, np.ones(SHAPE, bool), [held]))
            bent = curve + pull.forth((0, 0, 0, 0)).at(curve)
            self.assertLess(bow(bent), left * bow(curve))

    def test_level_and_upright_lines_turn_until_they_are(self):
        canvas = Canvas("equirectangular", -1.5, -0.5, 1.5, 0.5, 600, 200)
        drawn = ("level", line(-0.4, 0.1, 0.4, 0.14), 1), ("upright", line(0.3, -0.3, 0.33, 0.3), 0)
        for kind, spots, axis in drawn:
            held = drawn_line(canvas, canvas.kind.backward(spots), kind, 1.0)
            pull = solved(Task(WHOLE, [np.zeros((0, 2))] * 4, np.ones(SHAPE, bool), [held]))
            bent = spots + pull.forth((0, 0, 0, 0)).at(spots)
            self.assertLess(np.ptp(bent[:, axis]), 0.1 * np.ptp(spots[:, axis]))

    def test_the_horizon_is_found_where_it_is_covered(self):
        canvas = Canvas("cylindrical", -1.5, -0.5, 1.5, 0.5, 600, 200)
        seen = np.ones(SHAPE, bool)
        seen[:, 280:320] = False
        parts = horizon_parts(canvas, seen)
        self.assertEqual(len(parts), 2)
        assert_allclose(np.concatenate(parts)[:, 1], 0, atol=1e-9)

    def test_an_edge_is_seen_by_its_colour_alone(self):
        seen = np.full((300, 400, 3), 128, np.uint8)
        seen[:150] = [110, 128, 146]  # as light as what is below it
        grey = cv2.cvtColor(seen, cv2.COLOR_RGB2GRAY)
        self.assertEqual(len(find_edges(grey, 400, 300)), 0)
        edge = max(find_edges(blue_over_red(seen), 400, 300), key=lambda e: abs(e[2] - e[0]))
        self.assertGreater(abs(edge[2] - edge[0]), 350)
        assert_allclose(edge[[1, 3]], 149.5, atol=0.8)

    def test_an_edge_is_followed_among_texture_until_it_is_no_more(self):
        rng = np.random.default_rng(0)
        grey = 120 + cv2.GaussianBlur(rng.normal(0, 24, (300, 400)), (0, 0), 1.2)
        grey[150:, 100:300] += 14
        edges = np.array([[180, 149.5, 240, 149.5], [180, 80, 240, 80]])
        for k in (1, 2):
            own = followed(grey.astype(np.uint8), (edges + 0.5) * k - 0.5, 400 * k, 300 * k)
            assert_allclose((own[0] + 0.5) / k - 0.5, [100, 149.5, 300, 149.5], atol=10)
            self.assertLessEqual(np.abs((own[1] + 0.5) / k - 0.5 - edges[1]).max(), 10, "there is none")
        plain = np.full((300, 400), 100, np.uint8)
        plain[150:] = 140
        short = np.array([[180, 149.5, 212, 149.5]])
        assert_allclose(followed(plain, short, 400, 300), [[132, 149.5, 260, 149.5]])
        specks = np.array([[190, 149.5, 216, 149.5]])
        assert_allclose(followed(plain, specks, 400, 300), specks)
        slope = np.repeat(np.linspace(60, 200, 300).astype(np.uint8)[:, None], 400, 1)
        assert_allclose(followed(slope, short, 400, 300), short, err_msg="it is as steep beside it")

    def test_an_edge_across_frames_is_one(self):
        lens = Lens(900, 700, 800.0)
        frames = [Posed(lens, from_yaw_pitch_roll(np.radians(y), 0.02, 0.03)) for y in (-20, 0, 20)]
        ends = np.array([[-0.7, 0.25, 1.0], [0.7, 0.22, 1.0]])
        spots = ends[0] + np.linspace(0, 1, 200)[:, None] * (ends[1] - ends[0])
        own = []
        for frame in frames:
            px = frame.project(spots / np.linalg.norm(spots, axis=1, keepdims=True))
            inside = np.flatnonzero((px > 0).all(axis=1) & (px < [899, 699]).all(axis=1))
            own.append(np.concatenate([px[inside[0]], px[inside[-1]]])[None])
        found = world_edges(frames, own)
        self.assertEqual(len(found), 1)
        self.assertFalse(found[0].upright)
        canvas = fitted_canvas("rectilinear", frames, np.eye(3), 400)
        held = held_lines(canvas, np.ones((100, 100), bool), found, False, weights=_usual())
        self.assertLess(bow(held[0].spots), 2e-3)
        # of an edge that leaves what is covered the part within it
        seen = np.ones((100, 100), bool)
        seen[:, :30] = False
        (cut,) = held_lines(canvas, seen, found, False, weights=_usual())
        across = (cut.spots[:, 0] - canvas.left) / (canvas.right - canvas.left)
        self.assertTrue((across > 0.29).all() and across.max() > 0.7, across)
        seen[:, :80] = False
        self.assertEqual(held_lines(canvas, seen, found, False, weights=_usual()), [], "too little of it")
        post = Edge(arc(np.array([0.0, -0.1, 0.995]), np.array([0.0, 0.2, 0.98])), 0.3, True)
        turns = [held_lines(canvas, seen | True, [post], False, replace(_usual(), upright=w))[0].turn
                 for w in (1, 10)]
        self.assertTrue(0 < 10 * turns[0] == turns[1], turns)
        # many short ones are held
        shorter = [Edge(arc(*(p / np.linalg.norm(p) for p in np.array([[x, y, 1], [x + 0.09, y, 1]]))), 0.09, False)
                   for x in np.linspace(-0.6, 0.5, 12) for y in np.linspace(-0.3, 0.3, 10)]
        self.assertEqual(len(held_lines(canvas, np.ones((100, 100), bool), shorter, False, weights=_usual())), 120)


def _usual():
    from windfell.shape.held import Weights

    return Weights()


class Meshes(unittest.TestCase):
    def test_canvases_bent_a_little_otherwise_have_keys_of_their_own(self):
        drift = np.zeros((40, 60, 2))
        other = drift.copy()
        other[20, 30] = 1e-3
        canvases = [Canvas("cylindrical", -1, -1, 1, 1, 100, 100, mesh=Mesh(*[Lattice(WHOLE, d)] * 2))
                    for d in (drift, other, drift.copy())]
        keys = [key_of(c) for c in canvases]
        self.assertEqual(keys[0], keys[2])
        self.assertNotEqual(keys[0], keys[1])

    def test_a_lattice_through_values_has_them(self):
        values = np.random.default_rng(2).normal(0, 1, (6, 9, 2))
        lattice = Lattice.through(values, WHOLE)
        y, x = np.meshgrid(np.linspace(-0.5, 0.5, 6), np.linspace(-1.5, 1.5, 9), indexing="ij")
        assert_allclose(lattice.at(np.stack([x, y], -1)), values, atol=1e-9)

    def test_the_way_back_goes_on_beyond_what_is_sure(self):
        y, x = np.mgrid[0:9, 0:25]
        drift = np.zeros((9, 25, 2))
        drift[..., 1] = np.where(y < 2, 0.9, 0.02 * np.cos(x))  # the uppermost rows fold
        forth = Lattice(WHOLE, drift)
        sure = Bounds(-1.4, -0.19, 1.4, 0.45)
        spots = np.stack(np.meshgrid(np.linspace(-1.3, 1.3, 70), np.linspace(-0.185, 0.42, 60)), -1).reshape(-1, 2)
        far, near = (Mesh.of(forth, Bounds(-1.5, -0.3, 1.5, 0.5), 100, 50, cut) for cut in (None, sure))
        self.assertLess(near.astray(near.backward(spots)), 1e-3)
        self.assertGreater(far.astray(far.backward(spots)), 10 * near.astray(near.backward(spots)))

    def test_what_is_nowhere_stays_nowhere(self):
        mesh = Mesh.of(Lattice(WHOLE, np.zeros((7, 9, 2))), WHOLE, 20, 10)
        self.assertTrue(np.isnan(mesh.forward(np.array([[np.inf, 0.0]]))[0, 0]) or
                        np.isinf(mesh.forward(np.array([[np.inf, 0.0]]))[0, 0]))

    def test_a_node_of_the_net_goes_where_it_is_dragged_and_the_rim_stays(self):
        drift = net_lattice([NetPoint(4, 2, 5.0, -10.0)], WHOLE, (60, 20))
        lattice = Lattice(WHOLE, drift)
        assert_allclose(lattice.at(np.array([[0.0, 0.0]])), [[0.15, -0.1]], atol=1e-3)
        self.assertLess(np.abs(lattice.at(np.array([[-1.5, -0.5], [1.5, 0.5]]))).max(), 0.01)
        self.assertIsNone(net_lattice([NetPoint(1, 1)], WHOLE, (60, 20)))


class Rectangles(unittest.TestCase):
    def test_the_largest_of_a_ratio_is_covered_and_no_larger_one_is(self):
        mask = ragged()
        for wanted in (1.0, 1.5, 16 / 9, 0.7):
            left, top, right, bottom = rectangle.largest_of_ratio(mask, wanted)
            self.assertTrue(mask[top:bottom, left:right].all())
            self.assertAlmostEqual((right - left) / (bottom - top), wanted, delta=0.02)
            self.assertGreater(bottom - top, 100)

    def test_around_and_inside(self):
        for make, test in ((rectangle.around, min), (rectangle.inside, max)):
            box = make(WHOLE, 2.0)
            self.assertAlmostEqual(box.width / box.height, 2.0)
            self.assertAlmostEqual(test(box.width / 3, box.height / 1), 1.0)


class Pictures(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.project, cls.id = project_of(frames_in(ridge()))

    def _with(self, outline=Outline(), view=View()):
        own = replace(self.project.set(self.id), outline=outline, view=view)
        return self.project.with_set(own)

    def _stages(self, *parts, **named):
        return self.engine.stages(self._with(*parts, **named), self.id)

    def test_a_pulled_picture_is_covered_to_the_last_pixel_and_keeps_more_than_a_trim(self):
        project = self._with(Outline(Edges.PULL))
        self.assertTrue(self.engine.picture(project, self.id, 1.0, Job()).covered.all())
        kept = {e: self._stages(Outline(e)).kept_area(Job()) for e in Edges}
        self.assertGreater(kept[Edges.PULL], 0.96)
        self.assertLess(kept[Edges.TRIM], kept[Edges.PULL] - 0.04)
        cost = self._stages(Outline(Edges.PULL)).cost(Job())
        self.assertLess(cost.stretch, 1.6)
        self.assertLess(cost.horizon_deg, 0.3)

    def test_the_suggested_amount_costs_and_loses_little(self):
        stages = self._stages(Outline(Edges.PULL))
        suggested = suggested_pull(stages, Job())
        self.assertGreater(suggested, 20)
        there = self._stages(Outline(Edges.PULL, suggested))
        self.assertTrue(there.cost(Job()).unnoticed)
        self.assertGreater(there.kept_area(Job()), 0.975)
        with mock.patch("windfell.engine.shape_marks.KEPT_AT_LEAST", 1.01):
            self.assertEqual(suggested_pull(stages, Job()), 0.0)

    def test_edges_that_frames_show_in_colour_alone_count(self):
        seen = np.full((300, 400, 3), 128, np.uint8)
        seen[:150] = [110, 128, 146]
        with TemporaryDirectory() as folder:
            path = str(Path(folder) / "a.png")
            cv2.imwrite(path, seen[..., ::-1])
            frame = frame_from_path(path)
            opened = self.engine.opened(self.project, frame, Job())
            found = long_edges(self.engine, opened, frame, Job())
            short = np.array([[180, 149.5, 230, 149.5]])
            with mock.patch("windfell.engine.stage.find_edges", return_value=short):
                farther = long_edges(engine(), opened, frame, Job())
        self.assertGreater(np.ptp(found[:, [0, 2]]), 350)
        assert_allclose(found[:, [1, 3]], 149.5, atol=0.8)
        self.assertGreater(farther[1, 2] - farther[1, 0], 150, "followed")
        edge = np.array([[100.0, 60.0, 180.0, 300.0]])
        with mock.patch("windfell.engine.laid_out.long_edges", return_value=edge):
            fresh = engine()
            self.assertGreater(len(fresh.stages(self.project, self.id).edges(Job())), 0)

    def test_regions_of_a_pulled_picture_fit_the_whole(self):
        project = self._with(Outline(Edges.PULL))
        whole = self.engine.picture(project, self.id, 1.0, Job())
        part = self.engine.picture(project, self.id, 1.0, Job(), Region(200, 60, 300, 150))
        off = np.abs(part.light - whole.light[60:210, 200:500])
        self.assertLess(np.percentile(off, 99), 0.02)

    def test_crop_room_ratio_and_field_of_view(self):
        plain = self._stages().size(Job())
        cut = self._stages(Outline(crop=Crop(10, 20, 50, 40))).size(Job())
        assert_allclose(cut, [0.5 * plain[0], 0.4 * plain[1]], atol=1)
        grown = self._stages(Outline(room=Room(50, 0, 0, 10))).size(Job())
        assert_allclose(grown, [1.1 * plain[0], 1.5 * plain[1]], atol=1)
        for edges in Edges:
            wide, high = self._stages(Outline(edges, ratio=Ratio(16, 9))).size(Job())
            self.assertAlmostEqual(wide / high, 16 / 9, delta=0.01)
        view = View(ProjectionChoice.EQUIRECTANGULAR, hfov_deg=30.0)
        canvas = self._stages(view=view).canvas(Job())
        self.assertAlmostEqual(np.degrees(canvas.right - canvas.left), 30.0, places=6)

    def test_every_projection_makes_a_picture(self):
        for name in PROJECTIONS:
            with self.subTest(name):
                project = self._with(view=View(ProjectionChoice(name), hfov_deg=40.0, yaw_deg=5.0))
                picture = self.engine.picture(project, self.id, 0.25, Job())
                self.assertGreater(picture.covered.mean(), 0.4)
                self.assertTrue(np.isfinite(picture.light).all())

    def test_a_round_picture_is_empty_beyond_its_rim(self):
        view = View(ProjectionChoice.EQUIDISTANT_FISHEYE, pitch_deg=-90.0)
        canvas = self._stages(view=view).canvas(Job())
        far = Canvas(canvas.projection, -3.0, -3.0, 3.0, 3.0, 60, 60)
        drawn = far.drawn(Region(0, 0, 60, 60))
        self.assertFalse(drawn[0, 0])
        self.assertTrue(drawn[30, 30])

    def test_room_is_empty(self):
        project = self._with(Outline(Edges.TRIM, room=Room(top_pct=100)))
        covered = self.engine.picture(project, self.id, 0.5, Job()).covered
        self.assertFalse(covered[: int(0.2 * len(covered))].all())
        self.assertTrue(covered[int(0.6 * len(covered)) :].all())

    def test_a_line_drawn_on_the_picture_bends_it(self):
        curve = tuple((float(x), float(4 + 1.5 * np.cos(np.radians(6 * x)))) for x in np.linspace(-12, 12, 15))
        outline = Outline(lines=(BentLine(curve, LineKind.STRAIGHT),))
        plain, bent = self._stages().canvas(Job()), self._stages(outline).canvas(Job())
        self.assertIsNone(plain.mesh)
        rays = rays_of(curve)
        self.assertLess(bow(bent.pixels(rays)), 0.1 * bow(plain.pixels(rays)))

    def test_the_draft_has_the_fine_picture_s_outline(self):
        net = (NetPoint(4, 0, 0, 8),)
        for outline in (Outline(Edges.PULL), Outline(Edges.PULL, 60.0), Outline(Edges.PULL, net=net)):
            stages = self._stages(outline)
            fine, coarse = stages.canvas(Job()), stages.canvas(Job(), fine=False)
            self.assertAlmostEqual(fine.width / coarse.width, 1.0, delta=0.03)
            self.assertAlmostEqual(fine.height / coarse.height, 1.0, delta=0.05)

    def test_weights_matter_by_tens_and_nothing_is_nothing(self):
        self.assertEqual([_weight(v) for v in (0, 25, 50, 75)], [0.0, 0.1, 1.0, 10.0])
        kinds = {h.kind for h in self._stages(Outline(Edges.PULL, horizon_pct=0.0)).pull(Job()).task.held}
        self.assertNotIn("horizon", kinds)

    def test_a_stiff_patch_reaches_the_pull(self):
        patch = StiffPatch(((-8.0, 10.0), (8.0, 10.0), (8.0, 2.0), (-8.0, 2.0)))
        plain, stiff = (self._stages(Outline(Edges.PULL, stiff=s)).pull(Job()) for s in ((), (patch,)))
        self.assertIsNone(plain.task.stiff)
        self.assertGreater(stiff.task.stiff.sum(), 100)


if __name__ == "__main__":
    unittest.main()
