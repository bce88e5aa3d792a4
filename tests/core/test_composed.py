"""One picture behind another: the sky of the front found, the back placed in it."""

import json
import tempfile
import unittest
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from tests.support import engine
from windfell import demo
from windfell.cli.main import main
from windfell.combine.sky_of_one import _straight, sky_of
from windfell.engine.composed import composed, moved_onto, placed_by_stars
from windfell.engine.stack import fitted
from windfell.errors import BadRequest
from windfell.geometry import planar
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded
from windfell.recipe.combining import Layer
from windfell.recipe.model import Project, frame_from_path

W, H = 480, 320


def light_of(picture: np.ndarray) -> np.ndarray:
    return cv2.transform(srgb_decoded(picture / 255.0).astype(np.float32), SRGB_TO_WORKING.astype(np.float32))


@lru_cache(maxsize=8)
def land(seed: int = 1, clouds: bool = False, night: bool = False) -> tuple[np.ndarray, np.ndarray]:
    """(sRGB (H, W, 3), where its sky is) of a drawn land with hills, a tower, textured ground."""
    rng = np.random.default_rng(seed)
    x = np.arange(W)
    ridge = 0.5 * H + sum(a * np.sin(x / p + rng.uniform(0, 6)) for a, p in ((18, 60), (8, 21), (4, 9)))
    ridge[300:318] -= 60
    y = np.arange(H)[:, None]
    sky = y < ridge
    head = np.stack([np.broadcast_to(c + d * y / H, (H, W)) for c, d in ((90, 90), (130, 80), (200, 30))], -1)
    if clouds:
        soft = cv2.GaussianBlur(rng.normal(0, 1, (H, W)).astype(np.float32), (0, 0), 14)
        share = np.clip(soft / soft.std() * 0.8, 0, 1)[..., None]
        head = head * (1 - share) + 240 * share
    rough = cv2.GaussianBlur(rng.normal(0, 1, (H, W)).astype(np.float32), (0, 0), 1.0)
    foot = np.array([86, 92, 52]) * (1 + 0.6 * rough / rough.std())[..., None] * 0.9
    picture = np.where(sky[..., None], head, foot)
    if night:
        picture = np.where(sky[..., None], np.array([22.0, 26, 44]), 0.12 * foot)
        for px, py in rng.uniform(0, 1, (60, 2)) * [W, 0.4 * H]:
            if sky[int(py), int(px)]:
                cv2.circle(picture, (int(px), int(py)), 1, (200, 200, 190), -1)
    picture = picture + rng.normal(0, 2, picture.shape)
    return np.clip(picture, 0, 255).astype(np.uint8), sky


def stars(shift: tuple[float, float] = (0, 0)) -> np.ndarray:
    rng = np.random.default_rng(5)
    out = np.full((H, W, 3), 12.0, np.float32)
    y, x = np.mgrid[0:H, 0:W]
    for px, py in rng.uniform(0.02, 0.98, (120, 2)) * [W, H]:
        spot = np.exp(-((x - px - shift[0]) ** 2 + (y - py - shift[1]) ** 2) / 2.4)
        out += (200 * rng.uniform(0.4, 1) * spot)[..., None]
    return np.clip(out + rng.normal(0, 1, out.shape), 0, 255).astype(np.uint8)


class Skies(unittest.TestCase):
    def test_plain_clouded_and_dark_skies_are_found(self):
        for seed in (1, 2, 3):
            for clouds, night in ((False, False), (True, False), (False, True)):
                with self.subTest(seed=seed, clouds=clouds, night=night):
                    picture, sky = land(seed, clouds, night)
                    share = sky_of(light_of(picture))
                    self.assertEqual(share.shape, (H, W))
                    wrong = (share > 0.5) != sky
                    self.assertLess(float(wrong.mean()), 0.02)
                    edge = cv2.dilate((cv2.Laplacian(sky.astype(np.uint8), cv2.CV_8U) > 0).astype(np.uint8),
                                      np.ones((13, 13), np.uint8)) > 0
                    self.assertLess(float(np.abs(share - sky)[~edge].mean()), 0.012)

    def test_clouds_before_a_textured_land_are_sky(self):
        shipped = Path(demo.__file__).parent / "frames" / "tarn-round"
        for name, low, high in (("round-08.jpg", 0.475, 0.515), ("round-09.jpg", 0.65, 0.8)):
            with self.subTest(name):
                picture = cv2.imread(str(shipped / name))[..., ::-1]
                small = cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
                share = float(sky_of(light_of(small)).mean())
                self.assertTrue(low < share < high, share)

    def test_water_under_a_straight_far_shore_is_no_sky_though_it_mirrors_it(self):
        rng = np.random.default_rng(4)
        shore, near = round(0.3 * H), round(0.6 * H)
        clouds = cv2.GaussianBlur(rng.standard_normal((H, W)).astype(np.float32), (0, 0), 12)
        picture = np.array([120, 140, 170], np.float32) + 60 * (clouds / np.abs(clouds).max())[..., None]
        picture[shore:near] = picture[2 * shore - near : shore][::-1]
        picture[shore : shore + round(0.05 * H)] = (40, 45, 35)
        picture[near:] = (90, 80, 50) + 40 * rng.standard_normal((H - near, W, 1))
        share = sky_of(light_of(np.clip(picture, 0, 255).astype(np.uint8)))
        self.assertGreater(float(share[: shore - 8].mean()), 0.95)
        self.assertLess(float(share[shore + 8 :].mean()), 0.03)

    def test_a_far_shore_is_straight_though_a_tree_stands_on_it(self):
        steps = np.ones(480, np.float32)
        rows = np.rint(90 + 0.02 * np.arange(480)).astype(int)
        tree, wood, wavy = rows.copy(), rows.copy(), rows + np.rint(3 * np.sin(np.arange(480) / 4)).astype(int)
        tree[430:] -= 25 + 10 * (np.arange(50) % 2)
        wood[300:] -= 60
        self.assertEqual([_straight(r, steps, 320) for r in (rows, tree, wood, wavy)], [True, True, False, False])
        self.assertFalse(_straight(rows, np.where(np.arange(480) < 90, 0.3, 1).astype(np.float32), 320))

    def test_a_mast_stands_before_the_sky(self):
        picture, sky = (v.copy() for v in land(2))
        top = int(np.flatnonzero(~sky[:, 121])[0])
        mast = np.s_[top - 70 : top, 118:124]
        picture[mast] = (40, 34, 30)
        share = sky_of(light_of(picture))
        self.assertLess(float(share[mast].mean()), 0.35)
        self.assertGreater(float(share[top - 60 : top - 10, 90:110].mean()), 0.97)

    def test_a_picture_of_one_thing_has_none(self):
        even = np.full((120, 160, 3), 0.2, np.float32)
        self.assertTrue(sky_of(even).mean() < 0.002 or sky_of(even).mean() > 0.99)


class Behind(unittest.TestCase):
    def setUp(self):
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.addCleanup(self._folder.cleanup)

    def saved(self, name: str, picture: np.ndarray) -> str:
        cv2.imwrite(str(self.folder / name), picture[..., ::-1])
        return str(self.folder / name)

    def test_the_back_is_seen_above_the_skyline_and_the_front_below(self):
        front, sky = land()
        back = np.random.default_rng(3).integers(0, 255, (20, 30, 3)).astype(np.uint8)
        back = cv2.resize(back, (W, H), interpolation=cv2.INTER_LINEAR)
        out, report = self.folder / "o.png", self.folder / "r.json"
        self.assertEqual(main(["compose", self.saved("b.png", back), self.saved("f.png", front), "--skyline", "auto",
                               "--out", str(out), "--depth", "8", "--report", str(report)]), 0)
        seen = cv2.imread(str(out))[..., ::-1].astype(int)
        inner = cv2.erode(sky.astype(np.uint8), np.ones((15, 15))) > 0
        outer = cv2.erode((~sky).astype(np.uint8), np.ones((15, 15))) > 0
        self.assertLess(float(np.quantile(np.abs(seen - back)[inner], 0.99)), 3)
        self.assertLess(float(np.quantile(np.abs(seen - front)[outer], 0.99)), 3)
        words = json.loads(report.read_text())
        self.assertAlmostEqual(words["sky"], float(sky.mean()), delta=0.02)
        self.assertEqual((words["width"], words["height"]), (W, H))

    def test_a_smaller_back_covers_the_front_and_goes_where_it_is_moved(self):
        front, sky = land()
        back = np.zeros((100, 200, 3), np.uint8)
        back[:, 100:] = 250
        words = ["compose", self.saved("b.png", back), self.saved("f.png", front), "--depth", "8", "--out"]
        for shift, edge in (("0,0", W / 2), ("60,0", W / 2 + 60)):
            out = self.folder / f"o{shift}.png"
            self.assertEqual(main([*words, str(out), "--shift", shift]), 0)
            row = cv2.imread(str(out))[40, :, 0].astype(float)
            self.assertAlmostEqual(float(np.argmax(row > 125)), edge, delta=3)
            self.assertTrue(sky[40].all())

    def test_room_is_made_above_for_the_back(self):
        front, sky = land()
        back = np.zeros((300, 450, 3), np.uint8)
        back[..., 0] = np.linspace(20, 240, 300).astype(np.uint8)[:, None]
        out = self.folder / "o.png"
        self.assertEqual(main(["compose", self.saved("b.png", back), self.saved("f.png", front), "--room", "50",
                               "--out", str(out), "--depth", "8"]), 0)
        seen = cv2.imread(str(out))[..., ::-1].astype(int)
        self.assertEqual(seen.shape[:2], (round(1.5 * H), W))
        rows = seen[:, W // 2, 0]
        self.assertTrue((np.diff(rows[: H // 2 + 60]) >= -1).all())
        self.assertLess(rows[0], 40)
        below = (~sky[-40:])[..., None]
        self.assertLess(float(np.abs(seen[-40:] - front[-40:])[below[..., 0]].mean()), 2)

    def test_a_mask_stands_in_for_the_skyline_and_layers_go_into_the_file(self):
        import tifffile

        front, _ = land()
        mask = np.zeros((H, W), np.uint8)
        mask[: H // 4] = 255
        cv2.imwrite(str(self.folder / "m.png"), mask)
        out = self.folder / "o.tif"
        self.assertEqual(main(["compose", self.saved("b.png", np.full((H, W, 3), 200, np.uint8)),
                               self.saved("f.png", front), "--skyline", str(self.folder / "m.png"), "--layers",
                               "--out", str(out)]), 0)
        with tifffile.TiffFile(out) as file:
            whole, below, behind = (p.asarray() for p in file.pages)
        self.assertEqual(int(np.median(whole[:60, :, 0]) / 257), 200)
        self.assertGreater(int(below[:60, :, 2].mean()), 60 * 257)
        self.assertEqual((int(behind[10, 10, 3]), int(behind[-10, 10, 3])), (65535, 0))

    def test_stars_place_the_back(self):
        own = engine()
        front = stars()
        front[H // 2 + 40 :] = land()[0][H // 2 + 40 :]
        paths = self.saved("b.png", stars((14.0, -9.0))), self.saved("f.png", front)
        back, before = (frame_from_path(p) for p in paths)
        found, masks = composed(own, Project(), back, before, "night", Job())
        own.masks = masks
        placed = placed_by_stars(own, Project((found,)), found, Job()).combining.layers[0]
        self.assertAlmostEqual(placed.right_px, -14.0, delta=1.0)
        self.assertAlmostEqual(placed.down_px, 9.0, delta=1.0)
        self.assertAlmostEqual(placed.size_pct, 100.0, delta=0.5)
        plain = self.saved("p.png", np.full((H, W, 3), 90, np.uint8))
        other, _ = composed(own, Project(), frame_from_path(plain), before, "x", Job())
        with self.assertRaisesRegex(BadRequest, "enough stars"):
            placed_by_stars(own, Project((other,)), other, Job())

    def test_a_place_becomes_moving_turning_and_sizing(self):
        from windfell.engine.stack_pile import placing

        wanted = Layer(right_px=31.0, down_px=-12.0, turn_deg=7.0, size_pct=130.0)
        size, own = (600, 400), (900, 700)
        fit = fitted(size, own).transform
        onto = fit @ np.linalg.inv(placing(wanted, size, 1.0))
        found = moved_onto(Layer(), onto, size, own)
        for name in ("right_px", "down_px", "turn_deg", "size_pct"):
            self.assertAlmostEqual(getattr(found, name), getattr(wanted, name), places=6)
        corner = planar.apply(fit, np.array([[0.0, 0.0], [599.0, 399.0]]))
        self.assertTrue((corner > -1).all() and (corner < own).all())

    def test_wrong_words_are_said(self):
        front = self.saved("f.png", land()[0])
        out = str(self.folder / "o.png")
        for words in (["no.png", front], [front, "no.png"], [front, front, "--skyline", "no.png"],
                      [front, front, "--shift", "far"]):
            with self.subTest(words):
                self.assertEqual(main(["compose", *words, "--out", out]), 2)
        self.assertFalse(Path(out).exists())


if __name__ == "__main__":
    unittest.main()
