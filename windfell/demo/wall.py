"""A drystone wall photographed by sliding along it: a plane, cameras before it, all known."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.canvas import noise
from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot, resampled
from windfell.demo.truth import START, truth_of, write_truth
from windfell.geometry.camera import Lens
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class WallPlan:
    """Frames slid along a wall at distance 1. Angles in degrees, lengths in that distance, focal length in px."""

    count: int = 10
    width: int = 1440
    height: int = 960
    focal_px: float = 1300.0
    overlap: float = 0.45
    tilt_deg: float = 2.0
    sway: float = 0.03
    k1: float = -0.025
    vignette: float = 0.15
    drift_ev: float = 0.1
    noise: float = 0.007
    seed: int = 71


def paint_stones(width: int, height: int, course: int, seed: int, even: bool = False) -> F32:
    """Courses of stones (h, w, 3), sRGB-encoded; `even`: bricks that hardly differ."""
    rng = np.random.default_rng(seed)
    out = np.full((height, width, 3), (0.15, 0.15, 0.14), np.float32)
    top, row = -course * 0.4, 0
    while top < height:
        tall = course * (1.0 if even else rng.uniform(0.7, 1.25))
        x = -course * (0.5 + (row % 2) * 1.0 if even else rng.uniform(0, 2))
        while x < width:
            wide = course * (2.1 if even else rng.uniform(0.9, 3.2))
            tone = 0.5 + rng.uniform(-1, 1) * (0.015 if even else 0.14)
            warm = rng.uniform(-0.03, 0.05) + (0.14 if even else 0)
            jitter = (0.0 if even else 0.06 * course) * rng.uniform(-1, 1, (4, 2))
            gap = 0.07 * course
            corners = np.array([[x + gap, top + gap], [x + wide - gap, top + gap],
                                [x + wide - gap, top + tall - gap], [x + gap, top + tall - gap]]) + jitter
            colour = (tone + warm, tone, tone - 1.3 * warm)
            cv2.fillPoly(out, [np.rint(corners * 16).astype(np.int32)], colour, cv2.LINE_AA, 4)
            x += wide
        top, row = top + tall, row + 1
    for cell, power in ((course * 0.8, 0.05), (course * 0.12, 0.05), (6.0, 0.03)):
        out += (power * noise((height, width), (cell, cell), 4, rng))[..., None]
    return np.clip(out, 0.02, 0.98)


def wall_shots(plan: WallPlan, scale: float = 1.0) -> list[tuple[Shot, NDArray[np.float64]]]:
    """Each shot and the place of its camera; the wall is the plane z = 1."""
    rng = np.random.default_rng(plan.seed)
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale, plan.k1)
    step = plan.width / plan.focal_px * (1 - plan.overlap)
    out = []
    for n in range(plan.count):
        place = np.array([n * step, 0, 0]) + rng.normal(0, plan.sway, 3) * [1, 1, 0.7]
        turn = from_yaw_pitch_roll(*np.radians(rng.normal(0, plan.tilt_deg, 3)))
        gain = (2.0 ** rng.uniform(-plan.drift_ev, plan.drift_ev),) * 3
        out.append((Shot(lens, turn, gain, plan.vignette, plan.noise, plan.seed * 1000 + n), place))
    return out


def seen_of_wall(wall: F32, px_per_unit: float, left: float, top: float, shot: Shot, place: NDArray) -> F32:
    """What a camera sees of the wall, whose picture begins at (left, top) of the plane, sRGB-encoded."""
    posed = Posed(shot.lens, shot.rotation, place)
    y, x = np.mgrid[0 : shot.lens.height, 0 : shot.lens.width].astype(float)
    rays = posed.rays(np.stack([x, y], -1))
    spots = rays[..., :2] / rays[..., 2:]
    at = ((spots - [left, top]) * px_per_unit - 0.5).astype(np.float32)
    return resampled(wall, at[..., 0], at[..., 1])


def write_wall(folder: Path, scale: float, job: Job, plan: WallPlan | None = None, even: bool = False) -> None:
    """Draw the wall, slide along it, write frames and truth.json with every camera's place."""
    plan = plan or WallPlan()
    shots = wall_shots(plan, scale)
    job.step("building the wall", 0.0)
    px = 1.1 * plan.focal_px * scale
    reach_x, reach_y = 0.5 * plan.width / plan.focal_px * 1.35, 0.5 * plan.height / plan.focal_px * 1.5
    left, top = -reach_x, -reach_y
    width = round((shots[-1][1][0] + 2 * reach_x) * px)
    wall = paint_stones(width, round(2 * reach_y * px), round(0.085 * px), plan.seed, even)
    rows = []
    for n, (shot, place) in enumerate(job.over(shots, "taking frames")):
        name = f"wall-{n + 1:02d}.jpg"
        scene = np.clip(seen_of_wall(wall, px, left, top, shot, place), 0, 1)
        taken = START + timedelta(hours=6, seconds=4 * n)
        write_jpeg(folder / name, Photographer.developed(shot, scene), exif_bytes(shot, taken))
        rows.append({**truth_of(name, shot), "place": place.tolist()})
    write_truth(folder, "panorama", rows, camera="slid")
