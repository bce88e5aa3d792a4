"""Registration against the scene generator's truth, over the demo row and random handheld rows.

Prints rotation errors after removing the common turn, focal length and k1 errors, and whether the
vision library's high-level stitching class joins the same frames at all.
"""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

import cv2
import numpy as np
from common import ROOT

from windfell.align.registration import Placed
from windfell.demo.sets import RowPlan, write_row
from windfell.engine.core import Engine
from windfell.errors import CannotJoin
from windfell.geometry.rotation import angle_between, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path


def random_plan(seed: int) -> RowPlan:
    """A row as people take them: 2 to 8 frames, 18 to 45 % overlap, any usual lens."""
    rng = np.random.default_rng(seed)
    portrait = rng.random() < 0.6
    return RowPlan(
        count=int(rng.integers(2, 9)), width=1067 if portrait else 1600, height=1600 if portrait else 1067,
        focal_px=float(rng.uniform(1150, 2400)), overlap=float(rng.uniform(0.18, 0.45)),
        pitch_deg=float(rng.uniform(-8, 5)), jitter_deg=float(rng.uniform(0.3, 3)),
        k1=float(rng.uniform(-0.10, 0.03)), drift_ev=0.3, seed=seed, start_yaw_deg=float(rng.uniform(-150, 0)),
    )


def measured(folder: Path, metadata: bool) -> str:
    truth = json.loads((folder / "truth.json").read_text())["frames"]
    paths = [str(folder / f["file"]) for f in truth]
    if not metadata:
        for path in paths:
            pixels = cv2.imread(path, cv2.IMREAD_COLOR | cv2.IMREAD_IGNORE_ORIENTATION)
            cv2.imwrite(path, pixels, [cv2.IMWRITE_JPEG_QUALITY, 95])
    frames = tuple(frame_from_path(p) for p in paths)
    project = Project((FrameSet("s", "S", Kind.PANORAMA, frames),))
    try:
        found = Engine().stages(project, "s").registration(Job())
    except CannotJoin as error:
        return f"not joined: {error}"
    placed = [n for n, f in enumerate(found.frames) if isinstance(f, Placed)]
    turns = [found.frames[n].rotation for n in placed]
    true = [np.array(truth[n]["rotation"]) for n in placed]
    common = nearest_rotation(sum(t @ r.T for t, r in zip(true, turns, strict=True)))
    off = np.degrees([angle_between(common @ r, t) for r, t in zip(turns, true, strict=True)])
    lens = found.frames[placed[0]].lens
    focal = 100 * (lens.focal_px / truth[0]["focal_px"] - 1)
    k1 = lens.k1 - truth[0]["distortion"]["k1"]
    status, _ = cv2.Stitcher.create(cv2.Stitcher_PANORAMA).stitch([cv2.imread(p) for p in paths])
    return (f"{len(placed)}/{len(truth)} placed  median {np.median(off):.4f}  worst {off.max():.4f} deg  "
            f"focal {focal:+.2f} %  k1 {k1:+.4f}  rms {found.rms_px:.2f} px  class {'joins' if not status else 'no'}")


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 12
    print("demo row      ", measured(ROOT / "windfell/demo/frames/ridge-sweep", True), flush=True)
    for seed in range(count):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            plan = random_plan(seed)
            write_row(folder, plan, 0.7, Job(), canvas_seed=3 + seed % 3)
            words = measured(folder, metadata=seed % 2 == 0)
        print(f"row {seed:2d} {plan.count} frames {100 * plan.overlap:.0f} % "
              f"{'exif' if seed % 2 == 0 else 'none'}", words, flush=True)


if __name__ == "__main__":
    main()
