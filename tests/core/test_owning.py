"""Who owns a spot by hand, how frames pass into each other, layers, and seams rated."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import tifffile

from tests.support import engine, frames_in, project_of, ridge
from windfell.engine.areas import ground_points
from windfell.engine.layers import write_layers
from windfell.engine.owning import candidates_at, given_spot, laid_elsewhere, next_owner
from windfell.engine.seam_walk import BLOCK, seam_walk, worst_near
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.join import rating
from windfell.join.owning import with_owning
from windfell.join.rating import rated
from windfell.join.seams import Claim, cut_near, cut_owner, seam_cost
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Stroke
from windfell.recipe.giving import forget_given
from windfell.recipe.model import Blend, Development, Given, Joining, Kind, Mask, SeamBlend
from windfell.recipe.project_file import mask_name


def claims() -> list[Claim]:
    """Two frames side by side that share the middle third."""
    out = []
    for left in (0, 32):
        box = Region(left, 0, 64, 48)
        colour = np.random.default_rng(left).uniform(0, 0.02, (48, 64, 3)).astype(np.float32)
        depth = np.minimum(np.arange(64), np.arange(64)[::-1])[None].repeat(48, 0).astype(np.float32) / 32
        out.append(Claim(box, colour, np.ones((48, 64), bool), depth))
    return out


class Owning(unittest.TestCase):
    def test_keep_and_never_are_obeyed_and_nothing_is_left_bare(self):
        plain = claims()
        spot = np.zeros((48, 64), bool)
        spot[10:30, 40:60] = True  # of the first frame: columns 40 to 59 of the surface
        kept = cut_owner((48, 96), with_owning(plain, {0: (plain[0].box, spot)}, {}), Job())
        self.assertTrue((kept[10:30, 40:60] == 0).all())
        shunned = cut_owner((48, 96), with_owning(plain, {}, {0: (plain[0].box, spot)}), Job())
        self.assertTrue((shunned[10:30, 40:60] == 1).all())
        everywhere = np.ones((48, 64), bool)
        lone = cut_owner((48, 96), with_owning(plain, {}, {0: (plain[0].box, everywhere)}), Job())
        self.assertTrue((lone[:, :32] == 0).all(), "what only one frame shows stays its own")
        both = with_owning(plain, {0: (plain[0].box, everywhere), 1: (plain[1].box, everywhere)}, {})
        self.assertTrue((cut_owner((48, 96), both, Job()) >= 0).all())

    def test_seams_are_laid_anew_only_around_what_is_given(self):
        rng = np.random.default_rng(4)
        boxes = Region(0, 0, 400, 300), Region(200, 0, 400, 300)
        scene = rng.uniform(0, 0.3, (300, 600, 3)).astype(np.float32)
        looks = [scene[:, b.left : b.left + 400].copy() for b in boxes]
        # both agree but around the spot
        looks[1][125:175, 75:125] += rng.uniform(0.2, 0.4, (50, 50, 3)).astype(np.float32)
        depth = np.full((300, 400), 0.5, np.float32)
        plain = [Claim(b, c, np.ones((300, 400), bool), depth) for b, c in zip(boxes, looks, strict=True)]
        before = np.zeros((300, 600), np.int16)
        before[:, 400:] = 1
        spot = np.zeros((300, 400), bool)
        spot[140:160, 90:110] = True
        claims = with_owning(plain, {1: (boxes[1], spot)}, {})
        after = cut_near(before, claims, Job())
        self.assertTrue((after[128:172, 278:322] == 1).all(), "the seam leaves what differs aside")
        moved = np.argwhere(after != before)
        self.assertGreater(moved.min(axis=0)[0], 140 - 40)
        self.assertLess(moved.max(axis=0)[0], 160 + 40)
        bare = np.where(np.pad(spot, ((0, 0), (200, 0))), 1, before).astype(np.int16)
        self.assertLess(seam_cost(after, claims), seam_cost(bare, claims))
        self.assertIs(cut_near(before, plain, Job()), before)

    def test_a_seam_of_its_own_way_is_blended_so_and_the_others_are_as_they_were(self):
        (project, set_id), host = project_of(frames_in(ridge())), engine()
        own = project.set(set_id)
        a, b = own.frames[1].id, own.frames[2].id
        # steps of light that wide bands even out
        frames = tuple(replace(f, development=Development(exposure_ev=0.5 * (n % 2)))
                       for n, f in enumerate(own.frames))

        def joined(**parts):
            joining = Joining(match_light=False, **parts)
            changed = project.with_set(replace(own, frames=frames, joining=joining))
            stages = host.stages(changed, set_id)
            width, height = stages.size(Job())
            return stages.unfinished(Region(0, 0, width, height), 1.0, Job()).light, stages

        wide, stages = joined()
        bare = joined(blend=Blend.NONE)[0]
        one = joined(seam_blends=(SeamBlend(b, a, Blend.NONE),))[0]
        same = joined(seam_blends=(SeamBlend(a, b, Blend.WIDE),))[0]
        np.testing.assert_array_equal(same, wide)
        owner = stages.owners(stages.canvas(Job()), Region(0, 0, *stages.size(Job())), Job())
        beside = {}
        for pair in ((0, 1), (1, 2), (2, 3)):
            seam = (owner[:, :-1] == pair[0]) & (owner[:, 1:] == pair[1])
            beside[pair] = cv2.dilate(seam.astype(np.uint8), np.ones((5, 5), np.uint8))[:, : owner.shape[1] - 1] > 0
            self.assertGreater(beside[pair].sum(), 100)
        at = lambda picture, pair: picture[:, :-1][beside[pair]]  # noqa: E731
        self.assertGreater(np.abs(at(wide, (1, 2)) - at(bare, (1, 2))).mean(), 0.01)
        np.testing.assert_allclose(at(one, (1, 2)), at(bare, (1, 2)), atol=4e-3)
        for pair in ((0, 1), (2, 3)):
            np.testing.assert_allclose(at(one, pair), at(wide, pair), atol=2e-3)

    def test_a_spot_given_to_a_frame_is_owned_by_it_and_another_can_take_it_back(self):
        own, project_engine = project_of(frames_in(ridge())), engine()
        project, set_id = own
        stages = project_engine.stages(project, set_id)
        walk = seam_walk(stages, Job())
        at = walk[len(walk) // 2]
        for n in (at.a, at.b, at.a):
            project = given_spot(stages, project, n, at.x, at.y, 22.0, Job()).project
            stages = project_engine.stages(project, set_id)
            region = Region(round(at.x) - 6, round(at.y) - 6, 12, 12)
            self.assertTrue((stages.owners(stages.canvas(Job()), region, Job()) == n).all())
        with self.assertRaises(BadRequest):
            given_spot(stages, project, 0, stages.canvas(Job()).width - 5.0, 200.0, 9.0, Job())
        owner, shows = candidates_at(stages, at.x, at.y, Job())
        self.assertEqual((owner, set(shows)), (at.a, {at.a, at.b}))
        self.assertEqual(next_owner(stages, at.x, at.y, Job()), at.b)
        with self.assertRaises(BadRequest):
            next_owner(stages, 12.0, stages.canvas(Job()).height / 2, Job())
        self.assertEqual(len(project.set(set_id).joining.given), 2)
        bare = forget_given(project, set_id, project.set(set_id).frames[0].id).project
        self.assertFalse([g for g in bare.set(set_id).joining.given if g.frame == project.set(set_id).frames[0].id])

    def test_a_seam_is_laid_elsewhere_on_the_side_where_it_is_noticed_less(self):
        host = engine()
        project, set_id = project_of(frames_in(ridge()))
        stages = host.stages(project, set_id)
        width = stages.size(Job())[0]
        stretch = seam_walk(stages, Job())[0]
        asked, ratings = [], {"now": 3.0, 0: 0.5, 1: 0.2}

        def noticed(of, x, y, reach, job):
            owner = candidates_at(of, x, y, job)[0]
            at = "now" if not asked else (stretch.a, stretch.b).index(owner)
            asked.append((x, y, reach))
            return ratings[at]

        with mock.patch("windfell.engine.owning.worst_near", noticed):
            edit = laid_elsewhere(host, project, set_id, stretch, 0.012 * width, Job())
            self.assertEqual((len(asked), edit.words), (3, "lay a seam elsewhere"))
            owner = candidates_at(host.stages(edit.project, set_id), stretch.x, stretch.y, Job())[0]
            self.assertEqual(owner, stretch.b)
            asked.clear()
            ratings["now"] = 0.21
            with self.assertRaisesRegex(BadRequest, "noticed less"):
                laid_elsewhere(host, project, set_id, stretch, 0.012 * width, Job())
            self.assertEqual(len(asked), 5, "wider ones too")
        walk = seam_walk(stages, Job())
        near = [s.rating for s in walk if np.hypot(s.x - stretch.x, s.y - stretch.y) < 0.1 * width]
        self.assertAlmostEqual(worst_near(stages, stretch.x, stretch.y, 0.1 * width, Job()), max(near), places=6)
        self.assertEqual(worst_near(stages, -width, 0.0, 9.0, Job()), 0.0)

    def test_areas_given_are_owned_and_what_was_given_later_wins(self):
        project_engine = engine()
        project, set_id = project_of(frames_in(ridge()))
        stages = project_engine.stages(project, set_id)
        walk = seam_walk(stages, Job())
        at = walk[len(walk) // 2]
        canvas = stages.canvas(Job())
        own = project.set(set_id)
        ids = [own.used[n].id for n in stages.registration(Job()).placed]
        spot = ground_points(stages.area_ground, canvas.rays(np.array([[at.x, at.y]])))
        size = float(np.degrees(50 / canvas.px_per_unit))
        area, given = Area((Stroke(spot, size, 0.0),)), ()
        region = Region(round(at.x) - 6, round(at.y) - 6, 12, 12)
        for frame, keep, owner in ((at.a, True, at.a), (at.b, True, at.b), (at.b, False, at.a), (at.b, True, at.b)):
            given = (*given, Given(ids[frame], area, keep))
            now = project.with_set(replace(own, joining=replace(own.joining, given=given)))
            found = project_engine.stages(now, set_id)
            self.assertTrue((found.owners(canvas, region, Job()) == owner).all(), given)
        again = replace(own.joining, given=(Given("gone", area), Given(ids[0], Area())))
        same = project_engine.stages(project.with_set(replace(own, joining=again)), set_id)
        self.assertEqual(same._owner_key(Job()), stages._owner_key(Job()))

    def test_masks_of_owning_do_not_move_the_frames(self):
        own = engine()
        project, set_id = project_of(frames_in(ridge()))
        before = own.stages(project, set_id)
        mask = np.full((20, 20), 255, np.uint8)
        own.masks[mask_name(mask)] = mask
        frames = project.set(set_id).frames
        frames = (replace(frames[0], masks=(Mask(mask_name(mask), "keep"),)), *frames[1:])
        after = own.stages(project.with_set(replace(project.set(set_id), frames=frames)), set_id)
        self.assertEqual(before._ground_key(Job()), after._ground_key(Job()))
        self.assertNotEqual(before._owner_key(Job()), after._owner_key(Job()))


class Blending(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = engine()
        cls.project, cls.id = project_of(frames_in(ridge()))

    def _picture(self, blend: Blend):
        own = self.project.set(self.id)
        return self.engine.picture(
            self.project.with_set(replace(own, joining=Joining(blend=blend))), self.id, 1.0, Job())

    def test_without_blending_every_px_is_of_one_frame_and_a_feather_passes_over_within_a_few_px(self):
        pictures = {b: self._picture(b) for b in Blend}
        own = self.project.set(self.id)
        stages = self.engine.stages(self.project.with_set(replace(own, joining=Joining(blend=Blend.NONE))), self.id)
        canvas = stages.canvas(Job())
        whole = Region(0, 0, canvas.width, canvas.height)
        owner = stages.owners(canvas, whole, Job())
        for n in range(len(stages.posed(Job()))):
            seen = stages.warped_frame(n, canvas, whole, Job())
            mine = (owner == n) & pictures[Blend.NONE].covered
            off = np.abs(seen.light - pictures[Blend.NONE].light).max(axis=2)[mine]
            self.assertLess(np.percentile(off, 99), 2e-3)
        edge = np.zeros(owner.shape, bool)
        edge[:, 1:] = owner[:, 1:] != owner[:, :-1]
        far = np.ones(owner.shape, bool)
        for y, x in zip(*np.nonzero(edge), strict=True):
            far[max(0, y - 24) : y + 25, max(0, x - 24) : x + 25] = False
        both = far & pictures[Blend.NONE].covered
        off = np.abs(pictures[Blend.FEATHER].light - pictures[Blend.NONE].light).max(axis=2)
        self.assertLess(np.percentile(off[both], 99.5), 2e-3)
        self.assertGreater(off[~far].max(), 0.01)
        wide = np.abs(pictures[Blend.WIDE].light - pictures[Blend.NONE].light).max(axis=2)
        self.assertGreater(wide[both].mean(), 2 * off[both].mean())

    def test_layers_above_each_other_are_the_picture_without_blending(self):
        own = self.project.set(self.id)
        project = self.project.with_set(replace(own, joining=Joining(blend=Blend.NONE)))
        with tempfile.TemporaryDirectory() as folder:
            paths = write_layers(self.engine, project, self.id, Path(folder) / "new" / "layers", Job())
            layers = [tifffile.imread(p) for p in paths]
        self.assertEqual([p.name for p in paths], ["layer-01.tif", "layer-02.tif", "layer-03.tif", "layer-04.tif"])
        alpha = np.stack([x[..., 3] for x in layers])
        self.assertEqual(alpha.dtype, np.uint16)
        self.assertTrue(((alpha > 0).sum(axis=0) <= 1).all())
        joined = sum(x[..., :3].astype(np.float64) * (x[..., 3:] > 0) for x in layers) / 65535
        picture = self._picture(Blend.NONE)
        self.assertEqual(joined.shape, picture.light.shape)
        truth = to_view(picture.light) / 255.0
        off = np.abs(joined - truth).max(axis=2)[picture.covered]
        self.assertLess(np.percentile(off, 99), 0.006)
        self.assertTrue((layers[0][..., :3].any(axis=2) & (alpha[0] == 0)).any(), "nothing of a frame is lost")

    def test_a_stack_has_no_layers(self):
        project, set_id = project_of(frames_in(ridge()), Kind.STACK)
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(BadRequest):
            write_layers(self.engine, project, set_id, Path(folder) / "layers", Job())


class Ratings(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(4)
        self.plain = cv2.GaussianBlur(rng.uniform(0.2, 0.8, (112, 112, 3)).astype(np.float32), (0, 0), 0.9)
        self.mine = np.zeros((112, 112), bool)
        self.mine[:, :56] = True
        self.seen = np.ones((112, 112), bool)

    def _rate(self, one, other):
        joined = np.where(self.mine[..., None], one, other)
        return rated(one, other, joined, self.mine, self.seen)

    def test_frames_that_agree_are_fine_and_every_fault_is_named(self):
        noisy = self.plain + np.random.default_rng(1).normal(0, 0.008, self.plain.shape).astype(np.float32)
        self.assertLess(self._rate(self.plain, noisy).rating, 0.6)
        moved = np.roll(self.plain, 7, axis=0)
        found = self._rate(self.plain, moved)
        self.assertGreater(found.structure, 1.0)
        self.assertIn("twice", found.why)
        stained = self.plain + np.array([0.08, 0, 0], np.float32)
        found = self._rate(self.plain, stained)
        self.assertGreater(found.step, 1.0)
        self.assertLess(found.structure, 0.5)
        found = self._rate(self.plain, cv2.GaussianBlur(self.plain, (0, 0), 4))
        self.assertGreater(found.softness, 1.0)

    def test_a_step_is_noticed_less_among_texture(self):
        flat = np.full_like(self.plain, 0.5)
        steps = [self._rate(p, p + np.float32([0.03, 0, 0])).step for p in (flat, self.plain)]
        self.assertGreater(steps[0], 1.0)
        self.assertLess(steps[1], 0.8 * steps[0])

    def test_what_is_judged_beside_the_seam_alone_is_as_on_the_whole_patch(self):
        one = self.plain + np.linspace(-0.2, 0.2, 112, dtype=np.float32)[None, :, None] ** 2
        other = np.roll(self.plain, 2, axis=0) + np.float32(0.03)
        found = self._rate(one, other)
        with mock.patch.object(rating, "REACH", 200):
            whole = self._rate(one, other)
        for name in ("structure", "step", "softness"):
            self.assertAlmostEqual(getattr(found, name), getattr(whole, name), places=4)

    def test_no_seam_is_no_rating(self):
        self.mine[:] = True
        self.assertIsNone(self._rate(self.plain, self.plain))

    def test_the_walk_lists_the_worst_first_with_their_frames(self):
        project, set_id = project_of(frames_in(ridge()))
        own = replace(project.set(set_id), joining=Joining(match_light=False, blend=Blend.NONE))
        stages = engine().stages(project.with_set(own), set_id)
        walk = seam_walk(stages, Job())
        self.assertEqual([s.rating for s in walk], sorted((s.rating for s in walk), reverse=True))
        self.assertTrue(all(s.a < s.b for s in walk))
        wide, high = stages.size(Job())
        self.assertTrue(all(0 <= s.x <= wide and 0 <= s.y <= high for s in walk))
        calm = seam_walk(engine().stages(project, set_id), Job())
        self.assertGreater(walk[0].rating, calm[0].rating)

    def test_stretches_made_in_one_go_are_rated_as_each_alone(self):
        project, set_id = project_of(frames_in(ridge()))
        stages = engine().stages(project, set_id)
        make = type(stages).unfinished
        with mock.patch.object(type(stages), "unfinished", autospec=True, side_effect=make) as made:
            together = {(s.a, s.b, s.x, s.y): s.rating for s in seam_walk(stages, Job())}
        self.assertLess(made.call_count, len(together) / 2)
        corners = [v for call in made.call_args_list for v in (call.args[1].left, call.args[1].top)]
        self.assertFalse(np.any(np.array(corners) % BLOCK), "as the owners' regions, so that both have one seam")
        alone = engine().stages(project, set_id)
        with mock.patch("windfell.engine.seam_walk.TOGETHER", 1), \
                mock.patch.object(type(alone), "unfinished", autospec=True, side_effect=make) as made:
            found = seam_walk(alone, Job())
            times = made.call_count
            self.assertEqual(seam_walk(alone, Job()), found)
            self.assertEqual(made.call_count, times, "what is known is not made again")
        self.assertEqual(len(found), len(together))
        for s in found:
            self.assertAlmostEqual(s.rating, together[s.a, s.b, s.x, s.y], delta=0.05 + 0.1 * s.rating)
