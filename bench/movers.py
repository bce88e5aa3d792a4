"""Rows over soft or weak texture, or land so smooth that it has no feature, with a patterned thing in every overlap
that moved between the two frames that show it: how many frames are placed, how many wrongly (more than 3 px from
truth at the frames' scale).

Wanted: none wrongly, at least 98 % placed. A frame that cannot be placed is an answer, a wrong one is not.
Usage: movers.py [ROWS] [--first SEED] [--tiny] [--pictures DIR]
"""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import numpy as np
from common import backdrops, limited, parser_of

from windfell.align.registration import Placed
from windfell.demo.canvas import Canvas
from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer
from windfell.demo.sets import RowPlan, row_shots
from windfell.demo.truth import START
from windfell.engine.core import Engine
from windfell.errors import CannotJoin
from windfell.geometry.rotation import angle_between, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

SCALE, WRONG_PX = 0.6, 3.0


def smooth_land(width: int, seed: int) -> Photographer:
    """A land of smooth blobs, a few degrees wide and more."""
    canvas, rng = Canvas(width, -45, 45, 1), np.random.default_rng(seed)
    degree = width / 360
    shape = canvas.colour.shape[:2]
    blobs = sum(k * cv2.GaussianBlur(rng.standard_normal((*shape, 1), np.float32), (0, 0), float(k * degree))
                for k in (0.9, 2.0, 4.5))
    canvas.colour[:] = np.clip(0.45 + rng.uniform(0.05, 0.15) * blobs / blobs.std(), 0, 1)[..., None]
    return Photographer(canvas)


def patterned(rng: np.random.Generator, side: int) -> np.ndarray:
    """A square of checks, dots and stripes, as an umbrella or a shirt has, sRGB (side, side, 3)."""
    cells = int(rng.integers(5, 12))
    coarse = rng.uniform(0, 1, (cells, cells, 3)).astype(np.float32)
    out = cv2.resize(coarse, (side, side), interpolation=cv2.INTER_NEAREST)
    for _ in range(40):
        at = tuple(int(v) for v in rng.integers(0, side, 2))
        colour = tuple(float(v) for v in rng.uniform(0, 1, 3))
        cv2.circle(out, at, int(rng.integers(2, max(3, side // 14))), colour, -1)
    return out


def with_thing(scene: np.ndarray, pattern: np.ndarray, x: float, y: float) -> np.ndarray:
    """The scene with the round thing in it."""
    side = len(pattern)
    mask = np.zeros((side, side), np.float32)
    cv2.circle(mask, (side // 2, side // 2), side // 2 - 1, 1.0, -1, cv2.LINE_AA)
    out = scene.copy()
    x0, y0 = round(x - side / 2), round(y - side / 2)
    xa, ya, xb, yb = max(0, x0), max(0, y0), min(scene.shape[1], x0 + side), min(scene.shape[0], y0 + side)
    if xa < xb and ya < yb:
        part, own = np.s_[ya:yb, xa:xb], np.s_[ya - y0 : yb - y0, xa - x0 : xb - x0]
        out[part] += mask[own][..., None] * (pattern[own] - out[part])
    return out


def row_of(rng: np.random.Generator, photographer: Photographer, folder: Path) -> tuple[int, int, int, str]:
    """(frames, placed, wrongly placed, how large the worst error is)."""
    overlap, count = float(rng.uniform(0.25, 0.4)), int(rng.integers(3, 6))
    # low along the land, where grass, water and mist are
    plan = RowPlan(count=count, overlap=overlap, seed=int(rng.integers(1e6)), jitter_deg=1.0,
                   pitch_deg=float(rng.uniform(-14, 4)), start_yaw_deg=float(rng.uniform(-120, -40)))
    shots = row_shots(plan, SCALE)
    soft = float(rng.uniform(1.0, 3.5))
    scenes = [cv2.GaussianBlur(photographer.clean(s), (0, 0), soft) for s in shots]
    h, w = scenes[0].shape[:2]
    for n in range(count - 1):
        pattern = patterned(rng, int(rng.uniform(0.16, 0.30) * w))
        y = rng.uniform(0.3, 0.7) * h
        inner = overlap * w
        left, right = w - inner * rng.uniform(0.3, 0.7), inner * rng.uniform(0.3, 0.7)
        scenes[n] = with_thing(scenes[n], pattern, left, y)
        scenes[n + 1] = with_thing(scenes[n + 1], pattern, right, y + rng.uniform(-0.12, 0.12) * h)
    for n, (shot, scene) in enumerate(zip(shots, scenes, strict=True)):
        write_jpeg(folder / f"f{n + 1}.jpg", photographer.take(shot, scene), exif_bytes(shot, START))
    frames = tuple(frame_from_path(str(folder / f"f{n + 1}.jpg")) for n in range(count))
    project = Project((FrameSet("s", "S", Kind.PANORAMA, frames),))
    try:
        found = Engine(None, 512 * 2**20).stages(project, "s").registration(Job())
    except CannotJoin as error:
        return count, 0, 0, str(error)
    placed = [n for n, f in enumerate(found.frames) if isinstance(f, Placed)]
    turns = [found.frames[n].rotation for n in placed]
    common = nearest_rotation(sum(shots[n].rotation @ t.T for n, t in zip(placed, turns, strict=True)))
    focal = shots[0].lens.focal_px
    off = np.array([focal * angle_between(common @ t, shots[n].rotation) for n, t in zip(placed, turns, strict=True)])
    return count, len(placed), int(np.sum(off > WRONG_PX)), f"worst {off.max():.2f} px"


def main() -> None:
    parser = parser_of(__doc__, "rows", 200)
    parser.add_argument("--first", type=int, default=1)
    options = parser.parse_args()
    limited(300 if options.tiny else 1800)
    lands = backdrops(options.pictures, 4000, options.tiny)
    lands[1:1] = [("smooth", smooth_land(1000 if options.tiny else 4000, 5))]
    frames = placed = wrong = 0
    for n in range(options.first, options.first + (3 if options.tiny else options.rows)):
        name, photographer = lands[n % len(lands)]
        with TemporaryDirectory() as folder:
            count, held, bad, words = row_of(np.random.default_rng(n), photographer, Path(folder))
        frames, placed, wrong = frames + count, placed + held, wrong + bad
        if bad or held < count:
            print(f"row {n}, {name}: {held} of {count} placed, {bad} wrongly; {words}", flush=True)
    print(f"{frames} frames: {placed} placed ({100 * placed / frames:.1f} %), {wrong} wrongly", flush=True)
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
