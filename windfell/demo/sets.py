"""The demo sets: frames on disk with EXIF, and truth.json beside them."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np

from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_green, paint_ridge
from windfell.demo.visitors import draw_visitor, passers_by
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job

MOST_CANVAS = 11_000
START = datetime(2026, 5, 16, 14, 5, 0)


@dataclass(frozen=True)
class DemoSet:
    """A set that can be drawn: its title, kind, and the function that writes it."""

    key: str
    title: str
    kind: str
    write: Callable[[Path, float, Job], None]


@dataclass(frozen=True)
class RowPlan:
    """A row of frames and how badly it was taken. Angles in degrees, focal length in px."""

    count: int = 8
    width: int = 1067
    height: int = 1600
    focal_px: float = 1620.0
    overlap: float = 0.30
    pitch_deg: float = -2.0
    jitter_deg: float = 1.5
    k1: float = -0.035
    vignette: float = 0.22
    drift_ev: float = 0.18
    drift_warm: float = 0.03
    noise: float = 0.008
    start_yaw_deg: float | None = None
    seed: int = 8


def row_shots(plan: RowPlan, scale: float = 1.0) -> list[Shot]:
    """The shots of a handheld row, the same directions at every scale."""
    rng = np.random.default_rng(plan.seed)
    lens = Lens(
        round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale, plan.k1
    )
    field = 2 * np.degrees(np.arctan(plan.width / 2 / plan.focal_px))
    step = field * (1 - plan.overlap)
    start = -step * (plan.count - 1) / 2 if plan.start_yaw_deg is None else plan.start_yaw_deg
    shots = []
    for n in range(plan.count):
        yaw, pitch, roll = np.radians(
            [start + n * step, plan.pitch_deg, 0] + rng.normal(0, plan.jitter_deg, 3) * [0.6, 1, 1]
        )
        exposure = 2.0 ** rng.uniform(-plan.drift_ev, plan.drift_ev)
        warm = rng.uniform(-plan.drift_warm, plan.drift_warm)
        gain = (exposure * (1 + warm), exposure, exposure * (1 - warm))
        turn = from_yaw_pitch_roll(yaw, pitch, roll)
        shots.append(Shot(lens, turn, gain, plan.vignette, plan.noise, plan.seed * 1000 + n))
    return shots


def write_row(folder: Path, plan: RowPlan, scale: float, job: Job, stem: str = "ridge",
              canvas_seed: int = 3) -> None:
    """Draw the ridge, take the row, write frames and truth.json."""
    shots = row_shots(plan, scale)
    job.step("painting the land", 0.0)
    width = _canvas_width(shots[0].lens.focal_px)
    photographer = Photographer(paint_ridge(width, canvas_seed))
    names = []
    for n, shot in enumerate(job.over(shots, "taking frames")):
        names.append(f"{stem}-{n + 1:02d}.jpg")
        exif = exif_bytes(shot, START + timedelta(seconds=3 * n))
        write_jpeg(folder / names[-1], photographer.take(shot), exif)
    _write_truth(folder, "panorama", [_truth_of(n, s) for n, s in zip(names, shots, strict=True)])


@dataclass(frozen=True)
class GreenPlan:
    """A tripod series with passers-by."""

    count: int = 9
    width: int = 1600
    height: int = 1067
    focal_px: float = 1500.0
    noise: float = 0.010
    drift_ev: float = 0.0
    seed: int = 21


def write_green(folder: Path, plan: GreenPlan, scale: float, job: Job, stem: str = "green") -> None:
    """Draw the green, take the series; truth holds the clean plate and each frame's mask."""
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale)
    shot = Shot(lens, from_yaw_pitch_roll(0, np.radians(1.0), 0), vignette=0.12, noise=plan.noise)
    job.step("painting the green", 0.0)
    photographer = Photographer(paint_green(_canvas_width(lens.focal_px)))
    clean = photographer.clean(shot)
    rng = np.random.default_rng(plan.seed)
    horizon = lens.height * 0.56
    people = passers_by(plan.count, lens.width, lens.height, horizon, rng)
    (folder / "truth").mkdir(parents=True, exist_ok=True)
    rows = []
    for n in job.over(range(plan.count), "taking frames"):
        scene, mask = clean.copy(), np.zeros(clean.shape[:2], np.uint8)
        for who in sorted(people[n], key=lambda v: v.y):
            draw_visitor(scene, mask, who)
        own = replace(shot, seed=plan.seed * 1000 + n)
        name = f"{stem}-{n + 1:02d}.jpg"
        exif = exif_bytes(own, START + timedelta(hours=1, seconds=4 * n))
        write_jpeg(folder / name, photographer.take(own, scene), exif)
        cv2.imwrite(str(folder / "truth" / f"mask-{n + 1:02d}.png"), mask)
        rows.append({**_truth_of(name, own), "mask": f"truth/mask-{n + 1:02d}.png"})
    plate = photographer.take(replace(shot, noise=0.0), clean)
    cv2.imwrite(str(folder / "truth" / "clean-plate.png"), plate[..., ::-1])
    _write_truth(folder, "stack", rows, clean_plate="truth/clean-plate.png")


def _canvas_width(focal_px: float) -> int:
    return int(min(MOST_CANVAS, 2 * np.pi * focal_px * 1.05)) // 2 * 2


def _truth_of(name: str, shot: Shot) -> dict:
    return {
        "file": name,
        "width": shot.lens.width,
        "height": shot.lens.height,
        "rotation": np.asarray(shot.rotation).tolist(),
        "focal_px": shot.lens.focal_px,
        "distortion": {"k1": shot.lens.k1},
        "gain": list(shot.gain),
        "vignette": shot.vignette,
    }


def _write_truth(folder: Path, kind: str, frames: list[dict], **more: str) -> None:
    words = {"kind": kind, "frames": frames, **more}
    (folder / "truth.json").write_text(json.dumps(words, indent=1))


SETS = {
    s.key: s
    for s in (
        DemoSet("ridge-sweep", "Ridge sweep", "panorama",
                lambda folder, scale, job: write_row(folder, RowPlan(), scale, job)),
        DemoSet("village-green", "Village green", "stack",
                lambda folder, scale, job: write_green(folder, GreenPlan(), scale, job)),
    )
}
