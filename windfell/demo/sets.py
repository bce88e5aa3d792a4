"""The demo sets: frames on disk with EXIF, and truth.json beside them."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from windfell.demo.chapel import paint_chapel_inside
from windfell.demo.clip import write_video
from windfell.demo.dng import write_dng
from windfell.demo.faults import write_planted
from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.kites import StillPlan, write_group, write_kites
from windfell.demo.lanterns import LanternPlan, write_lanterns
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_green, paint_ridge
from windfell.demo.stars import write_stars
from windfell.demo.truth import START, canvas_width, truth_of, write_shots, write_truth
from windfell.demo.turned import write_round, write_two_rows
from windfell.demo.visitors import draw_visitor, passers_by
from windfell.demo.wall import write_wall
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import srgb_decoded


@dataclass(frozen=True)
class DemoSet:
    """A set that can be drawn: its title, kind, and the function that writes it.

    `slid`: along a flat subject; `align`: how a stack is brought together, `rule`: combined; `sphere`: all around.
    `of`: the set whose frames it shows otherwise.
    """

    key: str
    title: str
    kind: str
    write: Callable[[Path, float, Job], None]
    slid: bool = False
    align: str = "none"
    sphere: bool = False
    rule: str = "median"
    of: str = ""

    @property
    def folder(self) -> str:
        """Where its frames lie among the shipped ones."""
        return self.of or self.key


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
    width = canvas_width(shots[0].lens.focal_px)
    photographer = Photographer(paint_ridge(width, canvas_seed))
    write_shots(folder, photographer, shots, stem, START, job)


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


def write_green(folder: Path, plan: GreenPlan, scale: float, job: Job, stem: str = "green",
                start: datetime = START + timedelta(hours=1)) -> None:
    """Draw the green, take the series; truth holds the clean plate and each frame's mask."""
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale)
    shot = Shot(lens, from_yaw_pitch_roll(0, np.radians(1.0), 0), vignette=0.12, noise=plan.noise)
    job.step("painting the green", 0.0)
    photographer = Photographer(paint_green(canvas_width(lens.focal_px)))
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
        exif = exif_bytes(own, start + timedelta(seconds=4 * n))
        write_jpeg(folder / name, photographer.take(own, scene), exif)
        cv2.imwrite(str(folder / "truth" / f"mask-{n + 1:02d}.png"), mask)
        rows.append({**truth_of(name, own), "mask": f"truth/mask-{n + 1:02d}.png"})
    plate = photographer.take(replace(shot, noise=0.0), clean)
    cv2.imwrite(str(folder / "truth" / "clean-plate.png"), plate[..., ::-1])
    write_truth(folder, "stack", rows, clean_plate="truth/clean-plate.png")


@dataclass(frozen=True)
class BracketPlan:
    """Three positions in the chapel, each at three exposures."""

    positions: int = 3
    steps_ev: tuple[float, ...] = (0.0, -2.0, 2.0)
    width: int = 1200
    height: int = 800
    focal_px: float = 1000.0
    overlap: float = 0.36
    noise: float = 0.006
    seed: int = 31


def write_brackets(folder: Path, plan: BracketPlan, scale: float, job: Job, stem: str = "chapel",
                   start: datetime = START + timedelta(hours=2)) -> None:
    """Draw the chapel's inside, take it from a tripod at every exposure; EXIF tells the times."""
    lens = Lens(round(plan.width * scale), round(plan.height * scale), plan.focal_px * scale)
    job.step("painting the chapel", 0.0)
    photographer = Photographer(paint_chapel_inside(canvas_width(lens.focal_px)))
    step = 2 * np.degrees(np.arctan(plan.width / 2 / plan.focal_px)) * (1 - plan.overlap)
    shots = [
        (from_yaw_pitch_roll(np.radians((p - (plan.positions - 1) / 2) * step), np.radians(2.0), 0.0), ev)
        for p in range(plan.positions) for ev in plan.steps_ev
    ]
    rows = []
    for n, (turn, ev) in enumerate(job.over(shots, "taking frames")):
        gain = (2.0**ev,) * 3
        shot = Shot(lens, turn, gain, 0.0, plan.noise, plan.seed * 1000 + n)
        name = f"{stem}-{n + 1:02d}.jpg"
        taken = start + timedelta(seconds=2 * n + 6 * (n // len(plan.steps_ev)))
        exif = exif_bytes(shot, taken, Camera(speed=60.0 / 2.0**ev))
        write_jpeg(folder / name, photographer.take(shot), exif)
        rows.append(truth_of(name, shot))
    write_truth(folder, "panorama", rows)


@dataclass(frozen=True)
class ClipPlan:
    """A short pan over the tarn that ends in a swing of the camera."""

    count: int = 90
    rate: int = 25
    width: int = 960
    height: int = 540
    focal_px: float = 800.0
    from_deg: float = -42.0
    to_deg: float = 8.0
    swing: int = 12
    seed: int = 41


def write_clip(folder: Path, plan: ClipPlan, scale: float, job: Job, stem: str = "kite-clip",
               start: datetime = START + timedelta(hours=3)) -> None:
    """Draw the ridge and film it; the truth holds each frame's camera."""
    folder.mkdir(parents=True, exist_ok=True)
    even = lambda v: round(v * scale / 2) * 2  # noqa: E731
    lens = Lens(even(plan.width), even(plan.height), plan.focal_px * scale)
    job.step("painting the land", 0.0)
    photographer = Photographer(paint_ridge(canvas_width(lens.focal_px)))
    rng = np.random.default_rng(plan.seed)
    shots = []
    for n in range(plan.count):
        t = n / (plan.count - plan.swing - 1)
        swing = max(0, n - (plan.count - plan.swing))
        yaw = plan.from_deg + (plan.to_deg - plan.from_deg) * min(t, 1.0)
        turn = from_yaw_pitch_roll(*np.radians([yaw, 2.0 + 0.4 * swing**1.6, rng.normal(0, 0.05)]))
        shots.append(Shot(lens, turn, noise=0.006, seed=plan.seed * 1000 + n))
    pictures = (photographer.take(s) for s in job.over(shots, "filming"))
    write_video(folder / f"{stem}.mp4", pictures, plan.rate, start)
    write_truth(folder, "video", [truth_of(f"{n / plan.rate:.3f} s", s) for n, s in enumerate(shots)])


def write_card(folder: Path, scale: float, job: Job, gap_s: float = 420.0) -> None:
    """All sets as they lie on a card: shuffled names, doubles and faults planted; card.json knows."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(17)
    parts = [folder / "parts" / k for k in ("ridge", "green", "chapel", "clip", "drift", "bumped")]
    for part in parts:
        part.mkdir(parents=True, exist_ok=True)
    after = lambda n: START + timedelta(seconds=gap_s * n)  # noqa: E731
    write_row(parts[0], RowPlan(), scale, job)
    write_green(parts[1], GreenPlan(), scale, job, start=after(1))
    write_brackets(parts[2], BracketPlan(), scale, job, start=after(2))
    write_clip(parts[3], ClipPlan(count=50), min(scale, 0.6), job, start=after(3))
    drift = write_planted(parts[4], "panorama", "white balance drift", 5, after(4))
    bumped = write_planted(parts[5], "stack", "bumped", 7, after(5))
    sets = {"Ridge sweep": ("panorama", _jpegs(parts[0])), "Village green": ("stack", _jpegs(parts[1])),
            "Chapel brackets": ("bracket", _jpegs(parts[2])), "Kite clip": ("video", [parts[3] / "kite-clip.mp4"]),
            "Drifting row": ("panorama", [Path(p) for p in drift.files]),
            "Bumped series": ("stack", [Path(p) for p in bumped.files])}
    number = iter(rng.permutation(400) + 1)
    truth = {}
    for name, (kind, files) in job.over(list(sets.items()), "shuffling the card"):
        names = []
        for file in files:
            own = f"fell{next(number):04d}"
            names.append(own + file.suffix)
            if name == "Ridge sweep" and len(names) in (2, 5):
                _write_double(file, folder / f"{own}.dng")
                names.append(f"{own}.dng")
            file.rename(folder / (own + file.suffix))
        truth[name] = {"kind": kind, "files": names}
    shutil.rmtree(folder / "parts")
    (folder / "card.json").write_text(json.dumps(truth, indent=1))


def _jpegs(folder: Path) -> list[Path]:
    return sorted(folder.glob("*.jpg"))


def _write_double(jpeg: Path, raw: Path) -> None:
    with Image.open(jpeg) as image:
        pixels = np.asarray(image)
        taken = datetime.strptime(image.getexif()[306], "%Y:%m:%d %H:%M:%S")
    light = srgb_decoded(pixels[: pixels.shape[0] // 2 * 2, : pixels.shape[1] // 2 * 2] / 255.0)
    write_dng(raw, light.astype(np.float32), taken)


SETS = {
    s.key: s
    for s in (
        DemoSet("ridge-sweep", "Ridge sweep", "panorama",
                lambda folder, scale, job: write_row(folder, RowPlan(), scale, job)),
        DemoSet("village-green", "Village green", "stack",
                lambda folder, scale, job: write_green(folder, GreenPlan(), scale, job)),
        DemoSet("chapel-brackets", "Chapel brackets", "bracket",
                lambda folder, scale, job: write_brackets(folder, BracketPlan(), scale, job)),
        DemoSet("kite-clip", "Kite clip", "video",
                lambda folder, scale, job: write_clip(folder, ClipPlan(), scale, job)),
        DemoSet("two-row-sweep", "Two-row sweep", "panorama", write_two_rows),
        DemoSet("tarn-round", "Tarn round", "panorama", write_round, sphere=True),
        DemoSet("drystone-wall", "Drystone wall", "panorama", write_wall, slid=True),
        DemoSet("turning-stars", "Turning stars", "stack", write_stars, align="stars"),
        DemoSet("star-trails", "Turning stars as trails", "stack", write_stars, rule="maximum", of="turning-stars"),
        DemoSet("lantern-boats", "Lantern boats", "stack",
                lambda folder, scale, job: write_lanterns(folder, LanternPlan(), scale, job), rule="maximum"),
        DemoSet("one-kite", "One kite, eight places", "stack",
                lambda folder, scale, job: write_kites(folder, StillPlan(), scale, job)),
        DemoSet("group", "Group before the chapel", "stack",
                lambda folder, scale, job: write_group(folder, StillPlan(), scale, job)),
        DemoSet("chapel-stack", "Chapel brackets as a stack", "stack",
                lambda folder, scale, job: write_brackets(folder, BracketPlan(
                    1, (0.0, -4.0, -2.0, 2.0, 4.0)), scale, job), rule="exposures"),
        DemoSet("card", "The whole card", "card", write_card),
    )
}
