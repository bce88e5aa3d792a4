"""Cameras turned in more ways than one row: two rows, a full ring, the whole sphere."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from windfell.demo.canvas import Canvas
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_ridge
from windfell.demo.truth import START, canvas_width, write_shots
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job

FEET_REACH = -66.0


@dataclass(frozen=True)
class TurnPlan:
    """Frames in rows at pitches; `counts` frames a row, spread over `span_deg` (360 closes the ring).

    Angles in degrees, focal length in px; a pitch of +90 or -90 is the zenith or nadir.
    """

    pitches_deg: tuple[float, ...] = (9.0, -15.0)
    counts: tuple[int, ...] = (5, 5)
    span_deg: float = 118.0
    width: int = 1440
    height: int = 960
    focal_px: float = 1380.0
    jitter_deg: float = 1.2
    k1: float = -0.03
    vignette: float = 0.18
    drift_ev: float = 0.15
    drift_warm: float = 0.02
    noise: float = 0.007
    middle_deg: float = -20.0
    seed: int = 51


ROUND = TurnPlan(
    pitches_deg=(4.0, 90.0, -90.0), counts=(8, 1, 1), span_deg=360.0, width=960, height=1440, focal_px=560.0,
    jitter_deg=0.8, k1=-0.02, drift_ev=0.2, seed=61)


def turned_shots(plan: TurnPlan, scale: float = 1.0) -> list[Shot]:
    """The shots of a plan, the same directions at every scale."""
    rng = np.random.default_rng(plan.seed)
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale, plan.k1)
    shots: list[Shot] = []
    for pitch, count in zip(plan.pitches_deg, plan.counts, strict=True):
        steps = np.arange(count) / (count if plan.span_deg >= 360 else max(1, count - 1))
        for step in steps:
            yaw = plan.middle_deg + (step - 0.5) * plan.span_deg
            off = rng.normal(0, plan.jitter_deg, 3)
            turn = from_yaw_pitch_roll(*np.radians([yaw + off[0], np.clip(pitch + off[1], -90, 90), off[2]]))
            exposure = 2.0 ** rng.uniform(-plan.drift_ev, plan.drift_ev)
            warm = rng.uniform(-plan.drift_warm, plan.drift_warm)
            gain = (exposure * (1 + warm), exposure, exposure * (1 - warm))
            shots.append(Shot(lens, turn, gain, plan.vignette, plan.noise, plan.seed * 1000 + len(shots)))
    return shots


def write_two_rows(folder: Path, scale: float, job: Job, plan: TurnPlan | None = None) -> None:
    """The ridge in two rows, one above the other."""
    shots = turned_shots(plan or TurnPlan(), scale)
    job.step("painting the land", 0.0)
    photographer = Photographer(paint_ridge(canvas_width(shots[0].lens.focal_px)))
    write_shots(folder, photographer, shots, "rows", START + timedelta(hours=4), job)


def write_round(
    folder: Path, scale: float, job: Job, plan: TurnPlan = ROUND, start: datetime = START + timedelta(hours=5)
) -> None:
    """The whole sphere from a tripod on the shore, its feet at the nadir."""
    shots = turned_shots(plan, scale)
    job.step("painting the land", 0.0)
    canvas = paint_ridge(canvas_width(shots[0].lens.focal_px), low=-90, high=90)
    paint_feet(canvas)
    write_shots(folder, Photographer(canvas), shots, "round", start, job)


def paint_feet(canvas: Canvas) -> None:
    """Three tripod legs that meet below the camera."""
    for lon in (-150.0, -30.0, 90.0):
        half = 5.0
        canvas.polygon([(lon - half, FEET_REACH), (lon + half, FEET_REACH), (lon + 58, -90), (lon - 58, -90)],
                       (0.16, 0.16, 0.17), 0.3)
        canvas.polygon([(lon - half * 1.6, FEET_REACH - 1), (lon + half * 1.6, FEET_REACH - 1),
                        (lon + half, FEET_REACH + 1.2), (lon - half, FEET_REACH + 1.2)], (0.70, 0.25, 0.15), 0.2)
