"""Rows and series with frames that are hard: shaken, soft, noisy, dated, in rain, through a lens that bends much, or
with something large and patterned that moves.

Of each kind: how many frames lie right (to 2 px in rows, 1 px in series), were left out with a reason, or lie wrongly
(more than 10 px off); and the median of the errors of those that are held. Right places are wanted, and none wrong.
Usage: hard_frames.py [SETS OF EACH KIND] [--tiny] [--pictures DIR]
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import numpy as np
from common import backdrops, limited, parser_of

from windfell.align.registration import Placed
from windfell.align.series import Onto
from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.truth import START
from windfell.engine.core import Engine
from windfell.errors import CannotJoin
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import angle_between, from_yaw_pitch_roll, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import Align, FrameSet, Kind, Project, Registration, frame_from_path

W, H, FOCAL = 900, 600, 850.0
FAIR_ROW_PX, FAIR_PX, WRONG_PX = 2.0, 1.0, 10.0
TINY = "wide, bends by 18 %, no metadata", "something large moves"
F32 = np.ndarray
Spoil = Callable[[F32, int, np.random.Generator], F32]


def _shaken(p: F32, n: int, rng: np.random.Generator) -> F32:
    if n != 1:
        return p
    along, kernel = rng.uniform(0, np.pi), np.zeros((15, 15), np.float32)
    for t in np.linspace(-6, 6, 49):
        kernel[round(7 + t * np.sin(along)), round(7 + t * np.cos(along))] += 1
    return cv2.filter2D(p, -1, kernel / kernel.sum())


def _soft(p: F32, n: int, rng: np.random.Generator) -> F32:
    return cv2.GaussianBlur(p, (0, 0), rng.uniform(1.5, 3)) if n == 2 else p


def _noisy(p: F32, n: int, rng: np.random.Generator) -> F32:
    return p + rng.normal(0, 0.05, p.shape).astype(np.float32)


def _dated(p: F32, n: int, rng: np.random.Generator) -> F32:
    codes = np.rint(255 * p.clip(0, 1)).astype(np.uint8)
    cv2.putText(codes, "12.08.'26", (600, 570), cv2.FONT_HERSHEY_SIMPLEX, 1.1, (255, 150, 25), 2, cv2.LINE_AA)
    return codes / np.float32(255)


def _in_rain(p: F32, n: int, rng: np.random.Generator) -> F32:
    out = p.copy()
    for x, y in rng.integers(0, (W, H), (200, 2)).tolist():
        cv2.line(out, (x, y), (x + 4, y + 28), (0.7, 0.7, 0.7), 1)
    return out


def _large_thing(p: F32, n: int, rng: np.random.Generator) -> F32:
    pattern = cv2.resize(np.random.default_rng(7).random((30, 20, 3)).astype(np.float32), (240, 380),
                         interpolation=cv2.INTER_CUBIC)
    out = p.copy()
    out[180:560, 20 + 80 * n : 260 + 80 * n] = pattern.clip(0, 1)
    return out


ROWS: dict[str, tuple[Lens, Spoil | None, bool]] = {
    "plain": (Lens(W, H, FOCAL, -0.02), None, True),
    "one shaken": (Lens(W, H, FOCAL, -0.02), _shaken, True),
    "one soft": (Lens(W, H, FOCAL, -0.02), _soft, True),
    "noise": (Lens(W, H, FOCAL, -0.02), _noisy, True),
    "dated": (Lens(W, H, FOCAL, -0.02), _dated, True),
    "wide, bends by 18 %, no metadata": (Lens(W, H, 600.0, -0.15), None, False),
    "bends by 13 %, no metadata": (Lens(W, H, FOCAL, -0.25), None, False),
}
SERIES: dict[str, Spoil | None] = {
    "plain": None, "one shaken": _shaken, "one soft": _soft, "noise": _noisy, "dated": _dated, "rain": _in_rain,
    "something large moves": _large_thing,
}


def shots_of(lens: Lens, count: int, step: float, jitter: float, rng: np.random.Generator) -> list[Shot]:
    start = rng.uniform(-25, 25) - step * (count - 1) / 2
    return [Shot(lens, from_yaw_pitch_roll(*np.radians((start + n * step, 0, 0) + rng.normal(0, jitter, 3))), seed=n)
            for n in range(count)]


def written(folder: Path, photographer: Photographer, shots: list[Shot], spoil: Spoil | None, metadata: bool,
            rng: np.random.Generator) -> tuple:
    for n, shot in enumerate(shots):
        seen = photographer.clean(shot)
        shot = replace(shot, gain=(2.0 ** rng.uniform(-0.15, 0.15),) * 3)
        spoilt = seen if spoil is None else np.clip(spoil(seen, n, rng), 0, 1).astype(np.float32)
        told = exif_bytes(shot, START) if metadata else b""
        write_jpeg(folder / f"f{n}.jpg", photographer.take(shot, spoilt), told)
    return tuple(frame_from_path(str(folder / f"f{n}.jpg")) for n in range(len(shots)))


def row_errors(frames: tuple, shots: list[Shot]) -> list[float]:
    """px by which each frame is off; NaN for what was left out."""
    try:
        found = Engine().stages(Project((FrameSet("s", "S", Kind.PANORAMA, frames),)), "s").registration(Job())
    except CannotJoin:
        return [np.nan] * len(shots)
    held = [n for n, f in enumerate(found.frames) if isinstance(f, Placed)]
    common = nearest_rotation(sum(shots[n].rotation @ found.frames[n].rotation.T for n in held))
    off = {n: shots[n].lens.focal_px * angle_between(common @ found.frames[n].rotation, shots[n].rotation)
           for n in held}
    return [off.get(n, np.nan) for n in range(len(shots))]


def series_errors(frames: tuple, shots: list[Shot]) -> list[float]:
    own = FrameSet("s", "S", Kind.STACK, frames, registration=Registration(align=Align.PERSPECTIVE, reference=0))
    found = Engine().stages(Project((own,)), "s").registration(Job())
    lens = shots[0].lens
    grid = lens.grid(12)
    rays, out = lens.rays(grid) @ shots[0].rotation.T, []
    for place, shot in zip(found.frames[1:], shots[1:], strict=True):
        there = lens.project(rays @ shot.rotation)
        out.append(float(np.percentile(np.linalg.norm(planar.apply(place.transform, grid) - there, axis=1), 90))
                   if isinstance(place, Onto) else np.nan)
    return out


def said(title: str, errors: list[float], fair_px: float) -> int:
    off = np.array(errors)
    held, wrong = np.isfinite(off), int(np.sum(off > WRONG_PX))
    middle = f"{np.median(off[held]):.2f} px" if held.any() else "-"
    right, out = np.sum(off < fair_px), np.sum(~held)
    print(f"{title:<44} {right:4d} of {len(off)} right, {out} left out, {wrong} wrong; median {middle}", flush=True)
    return wrong


def main() -> None:
    options = parser_of(__doc__, "sets", 8).parse_args()
    limited(300 if options.tiny else 3000)
    tiny = options.tiny
    lands, count, wrong = backdrops(options.pictures, 5000, tiny), 1 if tiny else options.sets, 0
    for name, (lens, spoil, metadata) in ROWS.items():
        if tiny and name not in TINY:
            continue
        errors = []
        for n in range(count):
            rng = np.random.default_rng(n)
            step = 0.68 * 2 * np.degrees(np.arctan(lens.width / 2 / lens.focal_px))
            shots = shots_of(lens, 4, step, 1.2, rng)
            with TemporaryDirectory() as folder:
                frames = written(Path(folder), lands[n % len(lands)][1], shots, spoil, metadata, rng)
                errors += row_errors(frames, shots)
        wrong += said(f"row, {name}", errors, FAIR_ROW_PX)
    for name, spoil in SERIES.items():
        if tiny and name not in TINY:
            continue
        errors = []
        for n in range(count):
            rng = np.random.default_rng(n)
            shots = shots_of(Lens(W, H, FOCAL), 5, 0.0, 1.2, rng)
            with TemporaryDirectory() as folder:
                frames = written(Path(folder), lands[n % len(lands)][1], shots, spoil, True, rng)
                errors += series_errors(frames, shots)
        wrong += said(f"series, {name}", errors, FAIR_PX)
    print(f"{wrong} frames lie wrongly", flush=True)
    sys.exit(1 if tiny and wrong else 0)


if __name__ == "__main__":
    main()
