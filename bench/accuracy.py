"""Registration against the scene generator's truth, set by set, beside the vision library's own stitching class.

python bench/accuracy.py [COUNT]     COUNT random sets of each kind (default 3)
Errors are those of rotations after the common turn is removed, in px at the frame's own scale.
"""

from __future__ import annotations

import json
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from common import ROOT, asked

from windfell.align.registration import Placed
from windfell.align.series import Onto
from windfell.align.transforms import fitted_similarity
from windfell.combine.strips import Layer, _carried
from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_ridge
from windfell.demo.sets import RowPlan, row_shots
from windfell.demo.stars import StarPlan, write_stars
from windfell.demo.truth import START, truth_of, write_truth
from windfell.demo.turned import ROUND, TurnPlan, turned_shots
from windfell.demo.visitors import draw_visitor, passers_by
from windfell.demo.wall import WallPlan, write_wall
from windfell.engine.core import Engine
from windfell.errors import CannotJoin
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import angle_between, from_yaw_pitch_roll, nearest_rotation
from windfell.job import CORES, Job
from windfell.recipe.model import Align, Camera, FrameSet, Kind, Project, Registration, frame_from_path

CANVAS = 9000
RUNS = 3


@lru_cache(maxsize=2)
def land(seed: int, whole: bool) -> Photographer:
    return Photographer(paint_ridge(CANVAS, seed, *((-90, 90) if whole else (-60, 60))))


def taken(
    folder: Path, shots: list[Shot], seed: int, metadata: bool, moving: bool = False, whole: bool = False
) -> None:
    """The shots' frames, with or without metadata, with people and clouds of birds in every overlap if `moving`."""
    photographer, rows = land(3 + seed % 2, whole), []
    rng = np.random.default_rng(seed)
    people = passers_by(len(shots), shots[0].lens.width, shots[0].lens.height, 0.6 * shots[0].lens.height, rng)
    for n, shot in enumerate(shots):
        scene = photographer.clean(shot)
        if moving:
            for who in people[n]:
                elsewhere = replace(who, x=rng.uniform(0, scene.shape[1]))
                draw_visitor(scene, np.zeros(scene.shape[:2], np.uint8), elsewhere)
        name = f"f{n + 1:02d}.jpg"
        write_jpeg(folder / name, photographer.take(shot, scene), exif_bytes(shot, START) if metadata else b"")
        rows.append(truth_of(name, shot))
    write_truth(folder, "panorama", rows)


def row_plan(rng: np.random.Generator, **more) -> RowPlan:
    """A row as people take it: any usual lens, handheld."""
    portrait = rng.random() < 0.5
    width, height = (1067, 1600) if portrait else (1600, 1067)
    focal = float(rng.uniform(1200, 1900))
    values = {
        "count": int(rng.integers(4, 8)), "width": width, "height": height, "focal_px": focal,
        "overlap": float(rng.uniform(0.2, 0.4)), "pitch_deg": float(rng.uniform(-8, 5)),
        "jitter_deg": float(rng.uniform(0.5, 5)), "k1": float(rng.uniform(-0.06, 0.03)), "drift_ev": 0.3,
        "seed": int(rng.integers(1e6)), "start_yaw_deg": float(rng.uniform(-150, -40)),
    }
    return RowPlan(**{**values, **more})


def looking(lens: Lens, n: int, yaw: float, pitch: float, roll: float, ev: float = 0.0) -> Shot:
    turn = from_yaw_pitch_roll(*np.radians([yaw, pitch, roll]))
    return Shot(lens, turn, tuple(np.full(3, 2.0**ev)), noise=0.006, seed=n)


LENS, WIDE, NARROW = Lens(1500, 1000, 1400.0, -0.02), Lens(1500, 1000, 900.0, -0.03), Lens(1500, 1000, 1900.0)
OTHERS: dict[str, Callable[[np.random.Generator], list[Shot]]] = {
    "vertical": lambda rng: [looking(LENS, n, 20 + rng.normal(0, 0.5), p, rng.normal(0, 1.5))
                             for n, p in enumerate((-45, -22, 0, 20))],
    "mixed focal lengths": lambda rng: [looking(lens, n, yaw, rng.normal(-3, 1), rng.normal(0, 1)) for n, (lens, yaw)
                                        in enumerate(((WIDE, 0), (WIDE, 35), (NARROW, 5), (NARROW, 28)))],
    "3.5 EV apart": lambda rng: [looking(LENS, n, 26 * n, rng.normal(-4, 1), rng.normal(0, 2), ev)
                                 for n, ev in enumerate((-2, 1.5, -1.5, 2, -2))],
    "mostly sky": lambda rng: [looking(LENS, n, 24 * n, 14 + rng.normal(0, 1), rng.normal(0, 2)) for n in range(5)],
}


def shots_of(kind: str, rng: np.random.Generator) -> tuple[list[Shot], bool, bool, bool]:
    """(shots, metadata, moving, whole sphere) of a random set of a kind."""
    seed = int(rng.integers(1e6))
    if kind == "row":
        return row_shots(row_plan(rng)), True, False, False
    if kind == "row, no metadata":
        return row_shots(row_plan(rng, focal_px=float(rng.uniform(1200, 1500)))), False, False, False
    if kind == "barrel -0.15, no metadata":
        return row_shots(row_plan(rng, k1=-0.15, focal_px=1400.0, overlap=0.35)), False, False, False
    if kind == "moving things":
        return row_shots(row_plan(rng)), True, True, False
    if kind == "15 % overlap":
        return row_shots(row_plan(rng, overlap=0.17, jitter_deg=0.8)), True, False, False
    if kind == "ring":
        plan = TurnPlan((0.0,), (12,), 360.0, 1067, 1600, 1500.0, seed=seed)
        return turned_shots(plan), bool(rng.random() < 0.5), False, False
    if kind in OTHERS:
        return OTHERS[kind](rng), bool(rng.random() < 0.5), False, False
    if kind == "two rows":
        return turned_shots(TurnPlan(counts=(4, 4), span_deg=95, seed=seed)), True, False, False
    return turned_shots(replace(ROUND, seed=seed)), True, False, True


def registered(folder: Path, **registration):
    """(truth, what is found, seconds from files on)."""
    truth = json.loads((folder / "truth.json").read_text())["frames"]
    frames = tuple(frame_from_path(str(folder / t["file"])) for t in truth)
    kind = Kind.STACK if "align" in registration else Kind.PANORAMA
    project = Project((FrameSet("s", "S", kind, frames, registration=Registration(**registration)),))
    begun = time.perf_counter()
    found = Engine().stages(project, "s").registration(Job())
    return truth, found, time.perf_counter() - begun


def off_px(turns: list[np.ndarray], true: list[np.ndarray], focal: float) -> np.ndarray:
    common = nearest_rotation(sum(t @ r.T for t, r in zip(true, turns, strict=True)))
    return focal * np.array([angle_between(common @ r, t) for r, t in zip(turns, true, strict=True)])


def corner_error(found: Lens, true: Lens) -> float:
    """px between the two lenses' corners, seen from the same ray, the focal length's part left out."""
    corner = np.array([[0.5 * true.width / true.focal_px, 0.5 * true.height / true.focal_px, 1.0]])
    same = replace(found, focal_px=true.focal_px, dx=0.0, dy=0.0)
    return float(np.linalg.norm(same.project(corner) - true.project(corner)))


def ours(folder: Path) -> tuple[str, np.ndarray]:
    try:
        truth, found, _ = registered(folder)
    except CannotJoin as error:
        return f"not joined: {error}", np.array([np.inf])
    placed = [n for n, f in enumerate(found.frames) if isinstance(f, Placed)]
    focal = truth[0]["focal_px"]
    off = off_px([found.frames[n].rotation for n in placed], [np.array(truth[n]["rotation"]) for n in placed], focal)
    lens = found.frames[placed[0]].lens
    true = Lens(truth[0]["width"], truth[0]["height"], focal, truth[0]["distortion"]["k1"])
    return (f"{len(placed):2d}/{len(truth):2d} median {np.median(off):.3f} worst {off.max():.3f} px  "
            f"focal {100 * (lens.focal_px / focal - 1):+.3f} %  corner {corner_error(lens, true):.2f} px  "
            f"rms {found.rms_px:.3f} px"), off


def class_does(folder: Path) -> tuple[str, float]:
    """What the library's class makes of the same frames, and the seconds it takes, on all cores."""
    truth = json.loads((folder / "truth.json").read_text())["frames"]
    cv2.setNumThreads(CORES)
    begun = time.perf_counter()
    stitcher = cv2.Stitcher.create(cv2.Stitcher_PANORAMA)
    try:
        status = stitcher.estimateTransform([cv2.imread(str(folder / t["file"])) for t in truth])
    except cv2.error:
        return "ended by an error", time.perf_counter() - begun
    seconds = time.perf_counter() - begun
    if status:
        return "nothing placed", seconds
    at = [int(n) for n in stitcher.component()]
    turns = [np.asarray(c.R, float) for c in stitcher.cameras()]
    off = off_px(turns, [np.array(truth[n]["rotation"]) for n in at], truth[0]["focal_px"])
    return f"{len(at):2d}/{len(truth):2d} median {np.median(off):.2f} worst {off.max():.2f} px", seconds


def times(folder: Path) -> str:
    """Ours (placed; placed and levelled) and the class by turns, the least of a few runs of each: this machine is
    never quiet.
    """
    every = []
    for _ in range(RUNS):
        words, by_class = class_does(folder)
        every.append((registered(folder, level=False)[2], registered(folder)[2], by_class))
    placed, levelled, by_class = (min(s) for s in zip(*every, strict=True))
    return f"placed {placed:.2f} s, levelled {levelled:.2f} s; class {by_class:.2f} s: {words}"


def flat(folder: Path) -> str:
    truth, found, seconds = registered(folder, camera=Camera.SLID)
    own, true = [], []
    for frame, t in zip(found.frames, truth, strict=True):
        if not isinstance(frame, Placed):
            continue
        lens = Lens(t["width"], t["height"], t["focal_px"], t["distortion"]["k1"])
        for posed, out in ((frame.posed, own), (Posed(lens, np.array(t["rotation"]), np.array(t["place"])), true)):
            rays = posed.rays(lens.grid(10))
            out.append(rays[:, :2] / rays[:, 2:])
    own, true = np.concatenate(own), np.concatenate(true)
    fit = fitted_similarity(own, true, np.ones(len(own)))
    off = np.linalg.norm(planar.apply(fit, own) - true, axis=1) * t["focal_px"]
    return (f"{len(found.placed):2d}/{len(truth):2d} end to end: rms {np.sqrt(np.mean(off**2)):.3f} "
            f"worst {off.max():.3f} px  {seconds:4.1f} s")


def stars(folder: Path) -> str:
    truth, found, seconds = registered(folder, align=Align.STARS)
    first = truth[0]
    lens = Lens(first["width"], first["height"], first["focal_px"], first["distortion"]["k1"])
    grid = lens.grid(20)
    grid = grid[grid[:, 1] < 0.6 * lens.height]
    sky = lens.rays(grid) @ np.array(first["rotation"]).T @ np.array(first["sky"])
    worst = []
    for place, t in zip(found.frames[1:], truth[1:], strict=True):
        if not isinstance(place, Onto):
            continue
        there = lens.project(sky @ np.array(t["sky"]).T @ np.array(t["rotation"]))
        seen = np.all((there > 0) & (there < [lens.width, lens.height]), axis=1)
        own = _carried(Layer(None, place.transform, None, place.lens and (place.lens, place.lens)), grid)
        worst.append(np.linalg.norm(own - there, axis=1)[seen].max())
    return f"{1 + len(worst):2d}/{len(truth):2d} worst over the sky {max(worst):.3f} px  {seconds:4.1f} s"


def series(folder: Path, seed: int) -> str:
    """A still scene moved by known transforms, with noise and somebody walking through."""
    rng = np.random.default_rng(seed)
    shot = row_shots(row_plan(rng, count=1, k1=0.0))[0]
    base = land(3, False).take(shot)[..., ::-1]
    h, w = base.shape[:2]
    words = []
    for way in (Align.SHIFT, Align.RIGID, Align.SIMILARITY, Align.PERSPECTIVE):
        angle, size = (rng.normal(0, 0.01), 1 + rng.normal(0, 0.006))
        if way is Align.SHIFT:
            angle, size = 0.0, 1.0
        if way is Align.RIGID:
            size = 1.0
        c, s = size * np.cos(angle), size * np.sin(angle)
        move = np.array([[c, -s, rng.uniform(-9, 9)], [s, c, rng.uniform(-9, 9)], [0, 0, 1.0]])
        if way is Align.PERSPECTIVE:
            move[2, :2] = rng.normal(0, 4e-6, 2)
        moved = cv2.warpPerspective(base, move, (w, h), flags=cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT)
        moved = np.clip(moved + rng.normal(0, 2, moved.shape), 0, 255).astype(np.uint8)
        cv2.ellipse(moved, (w // 2, 2 * h // 3), (60, 160), 0, 0, 360, (30, 40, 160), -1)
        for name, pixels in (("a", base), ("b", moved)):
            cv2.imwrite(str(folder / f"{name}.png"), pixels)
        (folder / "truth.json").write_text(json.dumps({"frames": [{"file": "a.png"}, {"file": "b.png"}]}))
        _, found, _ = registered(folder, align=way)
        grid = Lens(w, h, 1.0).grid(12)
        off = np.linalg.norm(planar.apply(found.frames[1].transform, grid) - planar.apply(move, grid), axis=1)
        words.append(f"{way} {off.max():.3f}")
    return "worst over the frame, px: " + "  ".join(words)


KINDS = ("row", "row, no metadata", "barrel -0.15, no metadata", "moving things", "15 % overlap", "ring", "two rows",
         *OTHERS, "sphere")


def each(count: int, write: Callable[[Path, int], None], measure: Callable[[Path], str], title: str) -> None:
    for seed in range(count):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            write(folder, seed)
            print(f"{title:<26} {measure(folder)}", flush=True)


def main(count: int = 3) -> None:
    words, _ = ours(ROOT / "windfell/demo/frames/ridge-sweep")
    print(f"{'demo row':<26} {words}", flush=True)
    every = []
    for kind in KINDS:
        for seed in range(count):
            rng = np.random.default_rng(1000 + seed)
            with tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                shots, metadata, moving, whole = shots_of(kind, rng)
                taken(folder, shots, seed, metadata, moving, whole)
                words, off = ours(folder)
                every += list(off)
                print(f"{kind:<26} {words}  {times(folder)}", flush=True)
    every = np.array(every)
    print(f"{'all turned sets':<26} median {np.median(every):.3f} worst {every.max():.3f} px "
          "(wanted 0.25 and 0.8)", flush=True)
    each(count, lambda f, s: write_wall(f, 1.0, Job(), WallPlan(seed=71 + s)), flat, "flat, 10 frames")
    each(count, lambda f, s: write_stars(f, 1.0, Job(), StarPlan(seed=81 + s, second_night=2)), stars,
         "stars, two nights")
    for seed in range(count):
        with tempfile.TemporaryDirectory() as name:
            print(f"{'series':<26} {series(Path(name), seed)}", flush=True)


if __name__ == "__main__":
    tiny, numbers = asked(300, 5400)
    if tiny:
        print("demo row", ours(ROOT / "windfell/demo/frames/ridge-sweep")[0])
    else:
        main(*numbers)
