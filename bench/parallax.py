"""Parallax evened out, against truth: near ground of the demo row moved aside, frame by frame, by known amounts.

python bench/parallax.py
Errors are those of spots that two neighbours share on the ground, in px at the frames' own scale.
"""

from __future__ import annotations

import json
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from common import ROOT, asked

from windfell.engine.core import Engine
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe.model import FrameSet, Joining, Kind, Project, frame_from_path

FROM = ROOT / "windfell/demo/frames/ridge-sweep"
COUNT = 5


def drift(n: int, points: np.ndarray, width: int, height: int, amount_px: float) -> np.ndarray:
    """How far px (n, 2) of the moved frame n lie from the original's."""
    depth = np.clip((points[:, 1] / height - 0.45) / 0.55, 0, 1) ** 1.5
    aside = (-1) ** n * 0.5 * amount_px * depth
    return np.stack([aside, 0.4 * aside * np.sin(3 * points[:, 0] / width)], axis=-1)


def moved(folder: Path, amount_px: float) -> list[str]:
    paths = []
    for n, path in enumerate(sorted(FROM.glob("*.jpg"))[:COUNT]):
        picture = cv2.imread(str(path))
        h, w = picture.shape[:2]
        grid = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1).reshape(-1, 2).astype(float)
        there = (grid + drift(n, grid, w, h, amount_px)).reshape(h, w, 2).astype(np.float32)
        paths.append(str(folder / f"near-{n}.png"))
        cv2.imwrite(paths[-1], cv2.remap(picture, there, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT))
    return paths


def off(posed, amount_px: float) -> np.ndarray:
    truth = json.loads((FROM / "truth.json").read_text())["frames"]
    out = []
    for a in range(COUNT - 1):
        b, lens = a + 1, posed[a].lens
        w, h = lens.width, lens.height
        true = Lens(w, h, truth[a]["focal_px"], truth[a]["distortion"]["k1"])
        grid = lens.grid(40)
        world = true.rays(grid + drift(a, grid, w, h, amount_px)) @ np.array(truth[a]["rotation"]).T
        original = true.project(world @ np.array(truth[b]["rotation"]))
        there = original
        for _ in range(12):
            there = original - drift(b, there, w, h, amount_px)
        with np.errstate(invalid="ignore"):
            shared = np.all((there > 20) & (there < [w - 20, h - 20]), axis=1) & (grid[:, 1] > 0.45 * h)
        out.append(np.linalg.norm(posed[b].project(posed[a].rays(grid[shared])) - there[shared], axis=1))
    return np.concatenate(out)


def main() -> None:
    tiny, _ = asked(300, 900)
    for amount in (5.0,) if tiny else (0.0, 2.0, 5.0, 10.0, 20.0):
        with tempfile.TemporaryDirectory() as name:
            frames = tuple(frame_from_path(p) for p in moved(Path(name), amount))
            one = FrameSet("s", "S", Kind.PANORAMA, frames, joining=Joining(even_parallax=True))
            stages = Engine().stages(Project((one,)), "s")
            stages.registration(Job())
            begun = time.perf_counter()
            evened = stages.evened(Job())
            seconds = time.perf_counter() - begun
            bent = stages.posed(Job())
        before, after = (off(p, amount) for p in ([replace(x, bend=None) for x in bent], bent))
        print(f"ground moved {amount:4.1f} px: "
              f"before rms {np.sqrt(np.mean(before**2)):.2f} worst {before.max():.2f}, "
              f"after rms {np.sqrt(np.mean(after**2)):.2f} worst {after.max():.2f}; "
              f"{len(evened.bends)} frames bent in {seconds:.1f} s", flush=True)


if __name__ == "__main__":
    main()
