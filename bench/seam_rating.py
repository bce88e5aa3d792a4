"""Whether the seam walk finds what is wrong: rows with one planted fault on a seam each (a thing cut through, a
doubled patch, a step of light, softness, a stain of colour), and rows without any.

Seams lie amid the overlaps, so that they run through the faults. Counted: rows whose worst stretch is the planted
one, and rows without a fault in which a stretch is rated above the mark.
Usage: seam_rating.py [ROWS] [--tiny] [--pictures DIR]
"""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import numpy as np
from common import backdrops, limited, parser_of

from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Shot
from windfell.demo.truth import START
from windfell.engine.core import Engine
from windfell.engine.seam_walk import seam_walk
from windfell.errors import CannotJoin
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.recipe.model import FrameSet, Joining, Kind, Project, frame_from_path

WIDTH, HEIGHT, FOCAL, COUNT = 720, 960, 1000.0, 3
FAULTS = ("cut", "doubled", "step", "soft", "stain", "none")
MARK = 1.0


def shots_of(rng: np.random.Generator) -> list[Shot]:
    lens = Lens(WIDTH, HEIGHT, FOCAL)
    step = 2 * np.degrees(np.arctan(WIDTH / 2 / FOCAL)) * 0.66
    start = rng.uniform(-60, 60)
    return [Shot(lens, from_yaw_pitch_roll(*np.radians([start + k * step, rng.normal(-2, 1), rng.normal(0, 0.7)])),
                 seed=int(rng.integers(1 << 30))) for k in range(COUNT)]


def soft_box(shape: tuple[int, int], x: float, y: float, half: tuple[float, float], edge: float) -> np.ndarray:
    """1 within an ellipse, falling to 0 over about `edge` px, (h, w)."""
    yy, xx = np.mgrid[: shape[0], : shape[1]].astype(np.float32)
    far = (np.hypot((xx - x) / half[0], (yy - y) / half[1]) - 1) * min(half)
    return np.clip(0.5 - far / edge, 0, 1)


def planted(frame: np.ndarray, fault: str, x: float, y: float, rng: np.random.Generator) -> np.ndarray:
    """The frame with a fault about a spot of it."""
    out = frame.astype(np.float32)
    if fault == "cut":
        tone = rng.integers(10, 245, 3).astype(np.float32)
        mask = soft_box(out.shape[:2], x, y, (rng.uniform(18, 34), rng.uniform(50, 80)), 2)[..., None]
        stripes = tone + 40 * np.sin(np.arange(out.shape[0]) / 3)[:, None, None]
        return np.clip(out * (1 - mask) + stripes * mask, 0, 255).astype(np.uint8)
    mask = soft_box(out.shape[:2], x, y, (60, 90), 30)[..., None]
    if fault == "doubled":
        other = np.roll(out, (int(rng.integers(-4, 5)), int(rng.choice([-11, 11]))), axis=(0, 1))
    elif fault == "soft":
        other = cv2.GaussianBlur(out, (0, 0), 4)
    elif fault == "step":
        other = out * rng.choice([0.8, 1.25])
    else:
        other = out * np.array([1.22, 0.95, 0.82], np.float32)[rng.permutation(3)]
    return np.clip(out * (1 - mask) + other * mask, 0, 255).astype(np.uint8)


def one(n: int, photographer, folder: Path) -> tuple[str, float, float, bool]:
    """(fault, the worst rating, the rating at the fault, whether that is the worst)."""
    rng = np.random.default_rng(n)
    fault = FAULTS[n % len(FAULTS)]
    shots = shots_of(rng)
    frames = [photographer.take(s) for s in shots]
    # where frame 2's middle line of the overlap with frame 1 lies
    middle = shots[0].rotation[:, 2] + shots[1].rotation[:, 2]
    up = rng.uniform(-0.22, 0.22)
    spot = middle / np.linalg.norm(middle) + [0, up, 0]
    px = shots[1].lens.project((spot / np.linalg.norm(spot)) @ shots[1].rotation)
    if fault != "none":
        frames[1] = planted(frames[1], fault, *px, rng)
    paths = []
    for k, (shot, frame) in enumerate(zip(shots, frames, strict=True)):
        paths.append(str(folder / f"seam-{k}.jpg"))
        write_jpeg(Path(paths[-1]), frame, exif_bytes(shot, START))
    own = FrameSet("set", "Seams", Kind.PANORAMA, tuple(frame_from_path(p) for p in paths),
                   joining=Joining(cut_seams=False))
    stages = Engine(None, 500 * 2**20).stages(Project((own,)), "set")
    walk = seam_walk(stages, Job())
    posed = stages.posed(Job())
    if fault == "none":
        return fault, walk[0].rating, 0.0, True
    place = stages.canvas(Job()).pixels(posed[1].rays(px[None]))[0]
    near = [np.hypot((s.x - place[0]) / 95, (s.y - place[1]) / 125) < 1 for s in walk]
    here = max((s.rating for s, at in zip(walk, near, strict=True) if at), default=0.0)
    return fault, walk[0].rating, here, bool(near[0])


def main() -> None:
    parser = parser_of(__doc__, "rows", 60)
    options = parser.parse_args()
    limited(300 if options.tiny else 1800)
    lands = backdrops(options.pictures, 4000, options.tiny)
    found: dict[str, list[tuple[float, float, bool]]] = {f: [] for f in FAULTS}
    for n in range(1 if options.tiny else options.rows):
        name, photographer = lands[(n // len(FAULTS)) % len(lands)]
        try:
            with TemporaryDirectory() as folder:
                fault, worst, here, first = one(n, photographer, Path(folder))
        except CannotJoin as error:
            print(f"{n}, {name}: {error}", flush=True)
            continue
        found[fault].append((worst, here, first))
        print(f"{n:3d} {name:<14} {fault:<8} worst {worst:.2f}, at the fault {here:.2f}{'' if first else '  missed'}"
              f"{'  above the mark' if fault == 'none' and worst > MARK else ''}", flush=True)
    planted_rows = [r for f in FAULTS[:-1] for r in found[f]]
    clean = [r for r in found["none"] if r[0] > MARK]
    print(", ".join(f"{f} {sum(r[2] for r in found[f])} of {len(found[f])}" for f in FAULTS[:-1]))
    print(f"first: {sum(r[2] for r in planted_rows)} of {len(planted_rows)}, above the mark "
          f"{sum(r[1] > MARK for r in planted_rows)}; of {len(found['none'])} rows without a fault {len(clean)} have "
          "a stretch above it")
    sys.exit(0)


if __name__ == "__main__":
    main()
