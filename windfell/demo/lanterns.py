"""Lantern boats: lights that cross the tarn at dusk, in frames whose black is never quite black."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_ridge
from windfell.demo.truth import START, canvas_width, truth_of, write_truth
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import srgb_decoded, srgb_encoded

F32 = NDArray[np.float32]

DUSK = np.array([0.055, 0.075, 0.14], np.float32)
WARM = np.array([1.0, 0.52, 0.16], np.float32)
BOATS = ((0.30, 0.470, 1.0), (0.22, 0.505, 1.35), (0.36, 0.545, 1.7))


@dataclass(frozen=True)
class LanternPlan:
    """A tripod series at dusk: each boat (left, height, size; shares of the frame) moves on from frame to frame."""

    count: int = 9
    width: int = 1280
    height: int = 853
    focal_px: float = 1050.0
    step: float = 0.052
    black: float = 0.004
    noise: float = 0.006
    seed: int = 61


def write_lanterns(folder: Path, plan: LanternPlan, scale: float, job: Job, stem: str = "boats",
                   start: datetime = START + timedelta(hours=5)) -> None:
    """Draw the tarn at dusk, take the series; the truth holds the dusk without lights and each frame's black."""
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale)
    shot = Shot(lens, from_yaw_pitch_roll(np.radians(2.0), np.radians(-3.0), 0), vignette=0.1, noise=plan.noise)
    job.step("painting the tarn", 0.0)
    photographer = Photographer(paint_ridge(canvas_width(lens.focal_px)))
    dusk = srgb_decoded(photographer.clean(shot)) * DUSK
    rng = np.random.default_rng(plan.seed)
    (folder / "truth").mkdir(parents=True, exist_ok=True)
    rows = []
    for n in job.over(range(plan.count), "taking frames"):
        black = (plan.black * (1 + rng.uniform(-1, 1, 3))).astype(np.float32)
        own, name = replace(shot, seed=plan.seed * 1000 + n), f"{stem}-{n + 1:02d}.jpg"
        scene = _seen(dusk + lights_of(plan, n, lens.width, lens.height) + black)
        taken = start + timedelta(seconds=20 * n)
        write_jpeg(folder / name, photographer.take(own, scene), exif_bytes(own, taken, Camera(speed=0.25)))
        rows.append({**truth_of(name, own), "black": black.tolist()})
    plate = photographer.take(replace(shot, noise=0.0), _seen(dusk))
    cv2.imwrite(str(folder / "truth" / "dusk.png"), plate[..., ::-1])
    write_truth(folder, "stack", rows, clean_plate="truth/dusk.png")


def _seen(light: F32) -> F32:
    """The light as a photographer takes it: encoded, burnt out where it is brighter than white."""
    return srgb_encoded(np.clip(light, 0, 1)).astype(np.float32)


def lights_of(plan: LanternPlan, n: int, width: int, height: int) -> F32:
    """The light (h, w, 3) of all lanterns in frame `n`, with its glow and its path on the water."""
    y, x = np.mgrid[:height, :width].astype(np.float32)
    out = np.zeros((height, width, 3), np.float32)
    for k, (left, down, size) in enumerate(BOATS):
        cx = width * (left + plan.step * n * (0.8 + 0.2 * k))
        cy = height * (down + 0.004 * np.sin(1.3 * n + k))
        r = 0.0042 * width * size
        far = np.hypot(x - cx, y - cy) / r
        lamp = 1.6 * np.exp(-far**4) + 0.10 / (1 + (far / 2.5) ** 3)
        below = np.maximum(y - cy, 0) / r
        ripple = 0.5 + 0.5 * np.sin(below * 2.2 + 2.0 * n + k)
        wide = 0.8 * r + 0.12 * np.maximum(y - cy, 0)
        path = 0.5 * ripple * np.exp(-(((x - cx) / wide) ** 2) - below / 5) * (y > cy + r)
        out += (lamp + path)[..., None] * WARM
    return out
