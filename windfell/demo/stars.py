"""Turning stars: the sky turns about its pole over the wind pump, frame by frame."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_green
from windfell.demo.truth import START, canvas_width, truth_of, write_truth
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import srgb_decoded, srgb_encoded

F32 = NDArray[np.float32]
SKY_RATE_DEG_PER_S = 15.041 / 3600


@dataclass(frozen=True)
class StarPlan:
    """Frames of one night from a tripod. Angles in degrees, times in s, focal length in px.

    `second_night`: that many of the frames, the last ones, are taken later and aimed anew.
    """

    count: int = 8
    width: int = 1440
    height: int = 960
    focal_px: float = 1050.0
    every_s: float = 240.0
    k1: float = -0.04
    noise: float = 0.012
    stars: int = 5200
    pole_deg: tuple[float, float] = (24.0, 47.0)
    pitch_deg: float = 19.0
    blur_px: float = 0.85
    second_night: int = 0
    seed: int = 81


def star_shots(plan: StarPlan, scale: float) -> list[tuple[Shot, NDArray[np.float64]]]:
    """Each shot and the turn (3, 3) of the sky at its time."""
    rng = np.random.default_rng(plan.seed)
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale, plan.k1)
    pole = from_yaw_pitch_roll(*np.radians([plan.pole_deg[0], plan.pole_deg[1], 0])) @ np.array([0, 0, 1.0])
    aim = from_yaw_pitch_roll(np.radians(16.0), np.radians(plan.pitch_deg), 0)
    again = aim @ from_yaw_pitch_roll(*np.radians(rng.uniform([-4, -3, -12], [4, 3, 12])))
    out = []
    for n in range(plan.count):
        later = n >= plan.count - plan.second_night
        hours = plan.every_s * n + (86_164 + 1500 if later else 0)
        sky = from_rotvec(pole * np.radians(SKY_RATE_DEG_PER_S * hours))
        shot = Shot(lens, again if later else aim, (0.9, 0.95, 1.0), 0.1, plan.noise, plan.seed * 1000 + n)
        out.append((shot, sky))
    return out


def sky_of(plan: StarPlan) -> tuple[NDArray[np.float64], F32]:
    """Directions (n, 3) and colours with their brightness (n, 3) of the stars, few of them bright."""
    rng = np.random.default_rng(plan.seed + 1)
    v = rng.normal(0, 1, (plan.stars, 3))
    flux = 0.10 * rng.pareto(1.15, plan.stars) + 0.05
    tint = np.clip(rng.normal(0, 0.12, plan.stars), -0.25, 0.25)
    colour = np.stack([1 + tint, np.ones_like(tint), 1 - tint], -1)
    return v / np.linalg.norm(v, axis=1, keepdims=True), (np.minimum(flux, 4.0)[:, None] * colour).astype(np.float32)


def night_scene(plan: StarPlan, shot: Shot, sky: NDArray, ground: F32, land: NDArray[np.bool_], scale: float) -> F32:
    """sRGB-encoded (h, w, 3): stars over the dark ground (its daylight picture, and where it hides the sky)."""
    lens = shot.lens
    light = np.empty((lens.height, lens.width, 3), np.float32)
    light[:] = np.linspace(0.010, 0.026, lens.height, dtype=np.float32)[:, None, None] * np.float32([0.8, 0.95, 1.3])
    stars, flux = sky_of(plan)
    points = lens.project((stars @ sky.T) @ shot.rotation)
    inside = np.all((points > 4) & (points < [lens.width - 5, lens.height - 5]), axis=1)
    sigma = plan.blur_px * max(1.0, scale)
    steps = np.arange(-int(np.ceil(4 * sigma)), int(np.ceil(4 * sigma)) + 1)
    for (x, y), f in zip(points[inside], flux[inside], strict=True):
        ix, iy = round(x), round(y)
        gx = np.exp(-0.5 * ((steps + ix - x) / sigma) ** 2)
        gy = np.exp(-0.5 * ((steps + iy - y) / sigma) ** 2)
        rows = slice(max(0, iy + steps[0]), iy + steps[-1] + 1)
        columns = slice(max(0, ix + steps[0]), ix + steps[-1] + 1)
        spot = np.outer(gy, gx)[rows.start - iy - steps[0] :, columns.start - ix - steps[0] :]
        target = light[rows, columns]
        target += spot[: target.shape[0], : target.shape[1], None].astype(np.float32) * f * np.float32(0.8)
    dark = srgb_decoded(ground).astype(np.float32) * np.float32([0.055, 0.065, 0.09])
    soft = cv2.GaussianBlur(land.astype(np.float32), (0, 0), 0.7)[..., None]
    return srgb_encoded(np.clip(light * (1 - soft) + dark * soft, 0, 1)).astype(np.float32)


def write_stars(
    folder: Path, scale: float, job: Job, plan: StarPlan | None = None, start: datetime = START + timedelta(hours=9)
) -> None:
    """Draw the sky over the green, take the series; truth.json holds how the sky had turned."""
    plan = plan or StarPlan()
    shots = star_shots(plan, scale)
    job.step("painting the land", 0.0)
    canvas = paint_green(canvas_width(shots[0][0].lens.focal_px))
    photographer = Photographer(canvas)
    rows = []
    seen: dict[bytes, tuple[F32, NDArray[np.bool_]]] = {}
    for n, (shot, sky) in enumerate(job.over(shots, "taking frames")):
        key = np.asarray(shot.rotation).tobytes()
        if key not in seen:
            day = photographer.clean(replace(shot, vignette=0.0))
            seen[key] = day, _land(day, shot)
        scene = night_scene(plan, shot, sky, *seen[key], scale)
        name = f"stars-{n + 1:02d}.jpg"
        camera = Camera(speed=1 / 15, aperture=2.8, iso=3200)
        exif = exif_bytes(shot, start + timedelta(seconds=plan.every_s * n), camera)
        write_jpeg(folder / name, Photographer.developed(shot, scene), exif)
        rows.append({**truth_of(name, shot), "sky": sky.tolist()})
    write_truth(folder, "stack", rows)


def _land(day: F32, shot: Shot) -> NDArray[np.bool_]:
    """Where the land hides the sky: what is not sky-blue or cloud-white, and all below the horizon."""
    y, x = np.mgrid[0 : shot.lens.height, 0 : shot.lens.width].astype(float)
    rays = shot.lens.rays(np.stack([x, y], -1)) @ np.asarray(shot.rotation).T
    latitude = -np.degrees(np.arcsin(rays[..., 1]))
    bluish = day[..., 2] > day[..., 0] - 0.02
    bright = day.min(axis=-1) > 0.42
    land = (latitude < 4.0) | ((latitude < 20.0) & ~(bluish & bright))
    land = cv2.morphologyEx(land.astype(np.uint8), cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    return land > 0
