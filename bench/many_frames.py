"""100 frames of 6 megapixels registered from files, and the joint adjustment by itself.

python bench/many_frames.py

Also the adjustment of 100 cameras to 20,000 points, drawn with noise, from a start that is a degree off.
"""

from __future__ import annotations

import json
import time

import numpy as np
from common import FOLDER, asked, own_peak_mb

from windfell.align.adjust import Observations, adjust, errors_px
from windfell.align.cameras import cameras_of, carried
from windfell.demo.turned import TurnPlan, write_two_rows
from windfell.engine.core import Engine
from windfell.geometry.rotation import angle_between, from_rotvec, from_yaw_pitch_roll, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

ROWS = TurnPlan((20.0, 0.0, -20.0), (34, 33, 33), 360.0, 3000, 2000, 2300.0, jitter_deg=2.0, seed=91)


def adjustment() -> None:
    rng = np.random.default_rng(1)
    count = 100
    turns = np.array([from_yaw_pitch_roll(2 * np.pi * (n % 34) / 34, 0.35 * (n // 34 - 1), 0) for n in range(count)])
    true = cameras_of([(3000, 2000)] * count, [0] * count, np.array([2300.0])).turned(turns)
    found = []
    for a in range(count):
        for b in range(a + 1, count):
            if np.arccos(np.clip(turns[a][:, 2] @ turns[b][:, 2], -1, 1)) > np.radians(30):
                continue
            p = rng.uniform([0, 0], [3000, 2000], (60, 2))
            q = carried(true, np.full(60, a), np.full(60, b), p)
            inside = np.all((q > 0) & (q < [3000, 2000]), axis=1)
            found.append(Observations(a, b, p[inside], q[inside] + rng.normal(0, 0.4, (inside.sum(), 2))))
    points = sum(len(o.points_a) for o in found)
    keep = 20_000 / points
    found = [o.chosen(rng.random(len(o.points_a)) < keep) for o in found]
    points = sum(len(o.points_a) for o in found)
    start = true.with_focal(np.array([2350.0])).turned(
        np.array([from_rotvec(rng.normal(0, np.radians(0.6), 3)) @ r for r in turns]))
    begun = time.perf_counter()
    fitted = adjust(start, found, 2.0, Job())
    seconds = time.perf_counter() - begun
    rms = np.sqrt(np.mean(np.concatenate(errors_px(fitted, found)) ** 2))
    print(f"adjustment: {count} frames, {len(found)} links, {points} points: {seconds:.1f} s (wanted 10), "
          f"rms {rms:.2f} px, focal {100 * (fitted.focal_px[0] / 2300 - 1):+.4f} %", flush=True)


def from_files() -> None:
    folder = FOLDER / "many"
    if not (folder / "truth.json").exists():
        print("drawing 100 frames (once)", flush=True)
        folder.mkdir(parents=True, exist_ok=True)
        write_two_rows(folder, 1.0, Job(), ROWS)
    truth = json.loads((folder / "truth.json").read_text())["frames"]
    frames = tuple(frame_from_path(str(folder / t["file"])) for t in truth)
    project = Project((FrameSet("s", "S", Kind.PANORAMA, frames),))
    begun = time.perf_counter()
    found = Engine(None, 2**29).stages(project, "s").registration(Job())
    seconds = time.perf_counter() - begun
    turns = [found.frames[n].rotation for n in found.placed]
    true = [np.array(truth[n]["rotation"]) for n in found.placed]
    common = nearest_rotation(sum(t @ r.T for t, r in zip(true, turns, strict=True)))
    off = 2300 * np.array([angle_between(common @ r, t) for r, t in zip(turns, true, strict=True)])
    print(f"from files: {len(found.placed)} of {len(frames)} placed in {seconds:.0f} s (wanted 90), "
          f"peak {own_peak_mb():.0f} MB (wanted 2000), median {np.median(off):.3f} "
          f"worst {off.max():.3f} px", flush=True)


if __name__ == "__main__":
    tiny, _ = asked(300, 900)
    adjustment()
    if not tiny:
        from_files()
