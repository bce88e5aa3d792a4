"""A full sphere of 26 frames of 1.2 megapixels and the demo's clip (seven frames that overlap by 70 %): seconds of
matching light, of laying seams and what these cost by the seams' own measure, and of the whole command for the
sphere. Wanted: light and seams together under 3 s for the sphere, under 2 s for the clip.

Usage: joining.py [--tiny]
"""

from __future__ import annotations

import argparse
import time
from pathlib import Path

import numpy as np
from common import FOLDER, limited, windfell

from windfell.app.demo import demo_project
from windfell.demo.photograph import Photographer
from windfell.demo.scenes import paint_ridge
from windfell.demo.truth import START, canvas_width, write_shots
from windfell.demo.turned import TurnPlan, turned_shots
from windfell.engine.core import Engine
from windfell.engine.joined import LIGHT_PIXELS, SEAM_PIXELS
from windfell.engine.panorama import PanoramaStages
from windfell.job import Job
from windfell.join.seams import seam_cost
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

SPHERE = TurnPlan(
    pitches_deg=(0.0, 45.0, -45.0, 90.0, -90.0), counts=(8, 8, 8, 1, 1), span_deg=360.0, width=900, height=1350,
    focal_px=760.0, jitter_deg=0.8, k1=-0.02, drift_ev=0.2, seed=71)


def sphere_frames() -> list[str]:
    """Drawn once and kept."""
    folder = FOLDER / "sphere-26"
    if not (folder / "truth.json").exists():
        print(f"drawing a sphere of 26 frames in {folder} (once)", flush=True)
        folder.mkdir(parents=True, exist_ok=True)
        shots = turned_shots(SPHERE)
        photographer = Photographer(paint_ridge(canvas_width(SPHERE.focal_px), 3, -90, 90))
        write_shots(folder, photographer, shots, "sphere", START, Job())
    return sorted(str(p) for p in folder.glob("*.jpg"))


def timed(stages: PanoramaStages) -> tuple[float, float, float]:
    """Seconds of light and of seams, and the seams' cost; registered and read beforehand."""
    job = Job()
    stages.posed(job)
    for pixels in (LIGHT_PIXELS, SEAM_PIXELS):
        for n, frame in enumerate(stages.posed(job)):
            stages.small_sheet(n, stages._source_scale(frame, stages._surface(pixels, job)), job)
    begun = time.perf_counter()
    stages.lights(job)
    lit = time.perf_counter()
    own = stages.ownership(job)
    laid = time.perf_counter()
    claims = stages.claims(own.surface, job)
    return lit - begun, laid - lit, seam_cost(own.owner, claims)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tiny", action="store_true", help="the demo's clip alone")
    options = parser.parse_args()
    limited(300 if options.tiny else 600)
    projects = {"Kite clip": (demo_project(), "demo-kite-clip")}
    if not options.tiny:
        frames = tuple(frame_from_path(p) for p in sphere_frames())
        projects["sphere of 26"] = Project((FrameSet("s", "Sphere", Kind.PANORAMA, frames),)), "s"
    for name, (project, set_id) in projects.items():
        runs = [timed(Engine(None).stages(project, set_id)) for _ in range(1 if options.tiny else 3)]
        light, seams, cost = np.median(runs, axis=0)
        print(f"{name:<14} light {light:5.2f} s  seams {seams:5.2f} s  together {light + seams:5.2f} s  "
              f"seam cost {cost:.1f}", flush=True)
    if not options.tiny:
        out = str(FOLDER / "sphere-26.jpg")
        seconds, peak = windfell("panorama", *sphere_frames(), "--full-sphere", "--width", "4000", "--out", out)
        print(f"the whole command for the sphere: {seconds:.1f} s, {peak:.0f} MB", flush=True)
        Path(out).unlink(missing_ok=True)


if __name__ == "__main__":
    main()
