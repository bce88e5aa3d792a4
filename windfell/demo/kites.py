"""One kite, eight places; and a group before the chapel, in which somebody always looks away."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_green
from windfell.demo.truth import START, canvas_width, truth_of, write_truth
from windfell.demo.visitors import Visitor, draw_visitor
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job

F32 = NDArray[np.float32]

CLOTH = ((0.80, 0.16, 0.14), (0.16, 0.36, 0.62))
# shares of the frame; the fourth and the fifth overlap
PLACES = (
    (0.10, 0.50), (0.21, 0.36), (0.33, 0.27), (0.45, 0.23), (0.485, 0.26), (0.63, 0.20), (0.76, 0.30), (0.88, 0.43))
DIMMED, DIM = 6, 0.62
HAIR = (0.22, 0.15, 0.10)
COATS = ((0.70, 0.20, 0.18), (0.16, 0.40, 0.56), (0.86, 0.64, 0.12), (0.46, 0.28, 0.54), (0.22, 0.42, 0.26))


@dataclass(frozen=True)
class StillPlan:
    """A tripod series on the green."""

    width: int = 1280
    height: int = 853
    focal_px: float = 1200.0
    noise: float = 0.008
    seed: int = 71


def _before_the_green(plan: StillPlan, scale: float, yaw_deg: float, job: Job) -> tuple[Photographer, Shot]:
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale)
    turn = from_yaw_pitch_roll(np.radians(yaw_deg), np.radians(1.0), 0)
    job.step("painting the green", 0.0)
    return Photographer(paint_green(canvas_width(lens.focal_px))), Shot(lens, turn, vignette=0.1, noise=plan.noise)


def draw_kite(scene: F32, mask: NDArray[np.uint8], x: float, y: float, size: float, lean: float) -> None:
    """Draw a kite of two colours with its tail, and its shadow on the grass below; its own px in `mask` are 255."""
    h, w = scene.shape[:2]
    shade = np.zeros((h, w), np.float32)
    cv2.ellipse(shade, (round(x + 0.5 * size), round(0.90 * h)), (round(0.45 * size), round(0.10 * size)), 8, 0, 360,
                1.0, -1)
    scene *= (1 - 0.45 * cv2.GaussianBlur(shade, (0, 0), size / 18))[..., None]
    c, s = np.cos(lean), np.sin(lean)

    def at(*points: tuple[float, float]) -> NDArray[np.int32]:
        return np.rint(16 * np.array([(x + size * (c * px - s * py), y + size * (s * px + c * py))
                                      for px, py in points])).astype(np.int32)

    body = np.zeros((h, w), np.uint8)
    for colour, side in zip(CLOTH, (0.38, -0.38), strict=True):
        points = (0, -0.6), (side, -0.1), (0, 0.6)
        cv2.fillPoly(scene, [at(*points)], colour, cv2.LINE_AA, 4)
        cv2.fillPoly(body, [at(*points)], 255, cv2.LINE_8, 4)
    tail = at(*[(0.12 * np.sin(5 * t), 0.6 + 1.1 * t) for t in np.linspace(0, 1, 24)])
    for target, colour in ((scene, (0.30, 0.26, 0.24)), (body, 255)):
        line = cv2.LINE_AA if target is scene else cv2.LINE_8
        cv2.polylines(target, [tail], False, colour, max(2, round(size / 28)), line, 4)
    mask[body > 0] = 255


def write_kites(folder: Path, plan: StillPlan, scale: float, job: Job, stem: str = "kite",
                start: datetime = START + timedelta(hours=6)) -> None:
    """Draw the green, fly the kite at eight places; the truth holds the clean plate and each frame's mask."""
    photographer, shot = _before_the_green(plan, scale, 4.0, job)
    clean = photographer.clean(shot)
    h, w = clean.shape[:2]
    (folder / "truth").mkdir(parents=True, exist_ok=True)
    rows = []
    for n in job.over(range(len(PLACES)), "taking frames"):
        scene, mask = clean.copy(), np.zeros((h, w), np.uint8)
        draw_kite(scene, mask, PLACES[n][0] * w, PLACES[n][1] * h, 0.16 * h, 0.5 * np.sin(2.1 * n))
        own = replace(shot, seed=plan.seed * 1000 + n, gain=(DIM,) * 3 if n == DIMMED else shot.gain)
        name = f"{stem}-{n + 1:02d}.jpg"
        write_jpeg(folder / name, photographer.take(own, scene), exif_bytes(own, start + timedelta(seconds=5 * n)))
        cv2.imwrite(str(folder / "truth" / f"mask-{n + 1:02d}.png"), mask)
        rows.append({**truth_of(name, own), "mask": f"truth/mask-{n + 1:02d}.png"})
    plate = photographer.take(replace(shot, noise=0.0), clean)
    cv2.imwrite(str(folder / "truth" / "clean-plate.png"), plate[..., ::-1])
    write_truth(folder, "stack", rows, clean_plate="truth/clean-plate.png")


def write_group(folder: Path, plan: StillPlan, scale: float, job: Job, stem: str = "group",
                start: datetime = START + timedelta(hours=7)) -> None:
    """Five people before the chapel, six times; the truth says who looks away in each frame (from 0)."""
    photographer, shot = _before_the_green(plan, scale, -9.0, job)
    clean = photographer.clean(shot)
    h, w = clean.shape[:2]
    rng = np.random.default_rng(plan.seed)
    folder.mkdir(parents=True, exist_ok=True)
    rows = []
    for n in job.over(range(6), "taking frames"):
        scene, away = clean.copy(), sorted({n % 5, (2 * n + 1) % 5})
        for k, coat in enumerate(COATS):
            tall = h * (0.46 + 0.03 * ((k * 2) % 3))
            x, y = w * (0.22 + 0.14 * k) + rng.normal(0, 2.0 * scale), h * 0.93 + rng.normal(0, 1.0 * scale)
            draw_visitor(scene, np.zeros((h, w), np.uint8), Visitor(x, y, tall, 0.15, coat, (0.2, 0.2, 0.26)))
            if k in away:
                middle = round(16 * x), round(16 * (y - 0.915 * tall))
                cv2.ellipse(scene, middle, (round(16 * 0.06 * tall), round(16 * 0.075 * tall)), 0, 0, 360, HAIR, -1,
                            cv2.LINE_AA, 4)
        own, name = replace(shot, seed=plan.seed * 1000 + 50 + n), f"{stem}-{n + 1:02d}.jpg"
        write_jpeg(folder / name, photographer.take(own, scene), exif_bytes(own, start + timedelta(seconds=3 * n)))
        rows.append({**truth_of(name, own), "away": away})
    write_truth(folder, "stack", rows)
