"""Random rows with frames mixed in that do not belong: none may be placed, and all that belong must be.

python bench/strangers.py [COUNT] [FIRST_SEED]

Strangers are frames of another land, of the same land far away from the row, and the village green. A frame counts
as wrongly placed if it is a stranger, or lies more than half a degree off the truth.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
from common import TINY_LAND, asked

from windfell.align.registration import Placed
from windfell.demo import faults as drawn
from windfell.demo.faults import _photographer
from windfell.demo.files import write_jpeg
from windfell.demo.photograph import Shot
from windfell.demo.sets import RowPlan, row_shots
from windfell.engine.core import Engine
from windfell.errors import CannotJoin
from windfell.geometry.rotation import angle_between, from_yaw_pitch_roll, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

WRONG_DEG = 0.5


def random_set(folder: Path, rng: np.random.Generator) -> tuple[list[str], list[np.ndarray | None]]:
    """(files in a shuffled order, the true rotation of each or None for a stranger)."""
    portrait = rng.random() < 0.5
    width, height = (600, 800) if portrait else (800, 600)
    plan = RowPlan(
        count=int(rng.integers(3, 7)), width=width, height=height, focal_px=float(rng.uniform(650, 1000)),
        overlap=float(rng.uniform(0.17, 0.45)), pitch_deg=float(rng.uniform(-10, -2)),
        jitter_deg=float(rng.uniform(0.3, 1.5)), k1=float(rng.uniform(-0.08, 0.02)), drift_ev=0.3,
        seed=int(rng.integers(1e6)), start_yaw_deg=float(rng.uniform(-180, 180)))
    shots = row_shots(plan)
    land = int(rng.integers(2))
    frames: list[tuple[np.ndarray, np.ndarray | None]] = [
        (_photographer("ridge", 3 + land).take(s), np.asarray(s.rotation)) for s in shots]
    for _ in range(int(rng.integers(1, 4))):
        frames.append((_stranger(shots, land, rng), None))
    order = rng.permutation(len(frames))
    files = []
    for n, at in enumerate(order):
        files.append(str(folder / f"f{n}.jpg"))
        write_jpeg(Path(files[-1]), frames[at][0], quality=93)
    return files, [frames[at][1] for at in order]


def _stranger(shots: list[Shot], land: int, rng: np.random.Generator) -> np.ndarray:
    lens, way = shots[0].lens, rng.random()
    turn = from_yaw_pitch_roll(*np.radians([rng.uniform(-180, 180), rng.uniform(-12, 6), rng.normal(0, 1)]))
    shot = Shot(lens, turn, noise=0.006, seed=int(rng.integers(1e6)))
    if way < 0.35:
        # mirrored: kites, walls and the wind pump stand in the same places in every land
        return np.ascontiguousarray(_photographer("ridge", 4 - land).take(shot)[:, ::-1])
    if way < 0.7:
        return _photographer("green", 11).take(shot)
    ends = [np.asarray(s.rotation)[:, 2] for s in shots]
    reach = 2.1 * np.arctan(0.5 * np.hypot(lens.width, lens.height) / lens.focal_px)
    for _ in range(60):
        yaw = rng.uniform(-180, 180)
        turn = from_yaw_pitch_roll(np.radians(yaw), np.radians(-5), 0)
        if all(np.arccos(np.clip(e @ turn[:, 2], -1, 1)) > reach for e in ends):
            return _photographer("ridge", 3 + land).take(Shot(lens, turn, noise=0.006, seed=1))
    return _photographer("green", 11).take(shot)


def main(count: int = 300, first: int = 1) -> None:
    strangers = wrong = belonging = placed = sets = 0
    begun = time.perf_counter()
    for seed in range(first, first + count):
        rng = np.random.default_rng(seed)
        with tempfile.TemporaryDirectory() as name:
            files, truth = random_set(Path(name), rng)
            project = Project((FrameSet("s", "S", Kind.PANORAMA, tuple(frame_from_path(f) for f in files)),))
            try:
                found = Engine(None, 2**28).stages(project, "s").registration(Job()).frames
            except CannotJoin:
                found = [None] * len(files)
        own = [n for n, t in enumerate(truth) if t is not None]
        good = [n for n in own if isinstance(found[n], Placed)]
        bad = [n for n, t in enumerate(truth) if t is None and isinstance(found[n], Placed)]
        if len(good) > 1:
            common_turn = nearest_rotation(sum(truth[n] @ found[n].rotation.T for n in good))
            bad += [n for n in good
                    if np.degrees(angle_between(common_turn @ found[n].rotation, truth[n])) > WRONG_DEG]
        sets += 1
        strangers += len(truth) - len(own)
        wrong += len(bad)
        belonging += len(own)
        placed += len(good)
        if bad or len(good) != len(own):
            print(f"seed {seed}: {len(good)} of {len(own)} placed, wrongly placed {bad}", flush=True)
        if sets % 25 == 0 and sets < count:
            print(f"{sets} sets so far: {wrong} of {strangers} strangers or frames wrongly placed, "
                  f"{placed} of {belonging} placed", flush=True)
    print(f"{sets} sets in {time.perf_counter() - begun:.0f} s: {strangers} strangers, {wrong} wrongly placed; "
          f"{placed} of {belonging} that belong placed ({100 * placed / belonging:.2f} %, wanted 99)")


if __name__ == "__main__":
    tiny, numbers = asked(300, 3600)
    if tiny:
        drawn.CANVAS = TINY_LAND
    main(*([1] if tiny else numbers))
