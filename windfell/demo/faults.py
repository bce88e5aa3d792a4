"""Sets with one planted fault, or none: what a hurried day brings home, with the truth known."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.canvas import noise
from windfell.demo.clip import write_video
from windfell.demo.dng import write_dng
from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.scenes import paint_green, paint_ridge
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.pixels.colour import srgb_decoded

F32 = NDArray[np.float32]

DAY = datetime(2026, 5, 17, 9, 0)
CANVAS = 5600
KNOWN_LENS = Camera("Canon", "Canon EOS 5D Mark III", "EF24-70mm f/2.8L II USM", 1.0, aperture=4.0)
IN_A_ROW = (
    "exposure drift", "white balance drift", "mixed focal length", "missing lens correction",
    "raw and JPEG double", "duplicate", "soft", "parallax", "thin overlap", "unconnected", "mixed size",
    "adds nothing", "clipped highlights",
)
IN_A_SERIES = (
    "exposure drift", "white balance drift", "missing lens correction", "raw and JPEG double", "duplicate",
    "soft", "bumped", "unconnected", "mixed size", "clipped highlights", "handheld", "motion blur",
)


@dataclass(frozen=True)
class Planted:
    """The files of a set in order, its kind, and the fault planted in it, or None.

    `instants` are times in the set's one file where that is a video.
    """

    kind: str
    files: tuple[str, ...]
    fault: str | None
    instants: tuple[float, ...] = ()


@lru_cache(maxsize=6)
def _photographer(scene: str, seed: int) -> Photographer:
    return Photographer((paint_ridge if scene == "ridge" else paint_green)(CANVAS, seed))


def write_planted(folder: Path, kind: str, fault: str | None, seed: int, start: datetime = DAY) -> Planted:
    """A row ("panorama") or a series ("stack") of small frames, with a fault or none."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(seed)
    taken = _Row(folder, fault, rng, start) if kind == "panorama" else _Series(folder, fault, rng, start)
    return taken.write()


class _Taker:
    """What rows and series share: frames developed, blurred, doubled and written."""

    kind = ""

    def __init__(self, folder: Path, fault: str | None, rng: np.random.Generator, start: datetime) -> None:
        self.folder, self.fault, self.rng, self.start = folder, fault, rng, start
        self.files: list[str] = []
        self.camera = KNOWN_LENS if fault == "missing lens correction" else Camera()
        portrait = rng.random() < 0.4
        width, height = (480, 640) if portrait else (640, 480)
        self.lens = Lens(width, height, float(rng.uniform(560, 860)), float(rng.uniform(-0.04, 0.02)))
        self.noise = float(rng.uniform(0.003, 0.008))
        self.odd = 1

    def gains(self, count: int) -> list[tuple[float, float, float]]:
        """A gain of each frame: a camera's own small unsteadiness, or the planted drift."""
        small = self.rng.uniform(-0.04, 0.04, count)
        warm = self.rng.uniform(-0.004, 0.004, count)
        if self.fault == "exposure drift":
            small = self.rng.permutation(np.linspace(-1, 1, count)) * self.rng.uniform(0.25, 0.45)
        if self.fault == "white balance drift":
            warm = self.rng.permutation(np.linspace(-1, 1, count)) * self.rng.uniform(0.05, 0.11)
        base = 0.94 if self.fault != "clipped highlights" else 6.0
        return [(base * 2.0**e * (1 + w), base * 2.0**e, base * 2.0**e * (1 - w))
                for e, w in zip(small, warm, strict=True)]

    def put(self, n: int, pixels: NDArray[np.uint8], shot: Shot, camera: Camera | None = None) -> None:
        name = f"{self.folder.name}-{n + 1:02d}.jpg"
        exif = exif_bytes(shot, self.start + timedelta(seconds=3 * n), camera or self.camera)
        write_jpeg(self.folder / name, pixels, exif, quality=93)
        self.files.append(str(self.folder / name))

    def take(self, photographer: Photographer, shot: Shot, n: int, scene: F32 | None = None) -> NDArray[np.uint8]:
        pixels = photographer.take(shot, scene)
        if n == self.odd and self.fault == "soft":
            pixels = self.blurred(pixels)
        return pixels

    def blurred(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """Out of focus, or shaken along a line."""
        if self.rng.random() < 0.5:
            return cv2.GaussianBlur(pixels, (0, 0), float(self.rng.uniform(1.6, 3.0)))
        length = int(self.rng.integers(7, 13))
        line = np.zeros((length, length), np.float32)
        angle = self.rng.uniform(0, np.pi)
        d = (length - 1) / 2
        ends = [(round(d + s * d * np.cos(angle)), round(d + s * d * np.sin(angle))) for s in (-1, 1)]
        cv2.line(line, ends[0], ends[1], 1.0)
        return cv2.filter2D(pixels, -1, line / line.sum())

    def doubled(self, photographer: Photographer, shot: Shot, n: int) -> None:
        light = srgb_decoded(photographer.clean(shot)).astype(np.float32)
        path = Path(self.files[n]).with_suffix(".dng")
        write_dng(path, light[: light.shape[0] // 2 * 2, : light.shape[1] // 2 * 2] * 0.9,
                  self.start + timedelta(seconds=3 * n))
        self.files.insert(n + 1, str(path))

    def done(self, **more) -> Planted:
        return Planted(self.kind, tuple(self.files), self.fault, **more)


class _Row(_Taker):
    """A handheld row."""

    kind = "panorama"

    def write(self) -> Planted:
        rng = self.rng
        photographer = _photographer("ridge", 3 + int(rng.integers(2)))
        count = int(rng.integers(4, 7))
        self.odd = int(rng.integers(1, count - 1))
        shots = self.shots(count)
        fence = _Fence(rng, self.lens, [s.rotation for s in shots]) if self.fault == "parallax" else None
        for n, shot in enumerate(shots):
            camera, at = None, photographer
            if n == self.odd and self.fault == "mixed focal length":
                shot = replace(shot, lens=replace(self.lens, focal_px=self.lens.focal_px * 1.3))
            if n == self.odd and self.fault == "mixed size":
                lens = replace(self.lens, width=self.lens.height, height=self.lens.width)
                shot = replace(shot, lens=lens)
            if n == self.odd and self.fault == "unconnected":
                at = _photographer("green", 99)
            scene = fence.seen(at.clean(shot), shot, n) if fence else None
            self.put(n, self.take(at, shot, n, scene), shot, camera)
        self.plant_copies(photographer, shots)
        return self.done()

    def shots(self, count: int) -> list[Shot]:
        rng, lens = self.rng, self.lens
        field = 2 * np.degrees(np.arctan(lens.width / 2 / lens.focal_px))
        share = np.full(count - 1, rng.uniform(0.3, 0.42)) + rng.uniform(-0.02, 0.02, count - 1)
        if self.fault == "thin overlap":
            share[self.odd - 1] = rng.uniform(0.11, 0.14)
        if self.fault == "adds nothing":
            share[:] = rng.uniform(0.68, 0.75)
        if self.fault in ("unconnected", "mixed size"):
            share[:] = rng.uniform(0.64, 0.68)
        yaw = np.concatenate([[0], np.cumsum(field * (1 - share))]) + rng.uniform(-60, 60)
        jitter = rng.normal(0, 0.8, (count, 3))
        out = []
        for n, gain in enumerate(self.gains(count)):
            turn = from_yaw_pitch_roll(*np.radians([yaw[n], -6 + jitter[n, 1], jitter[n, 2]]))
            out.append(Shot(lens, turn, gain, 0.12, self.noise, int(rng.integers(1 << 30))))
        return out

    def plant_copies(self, photographer: Photographer, shots: list[Shot]) -> None:
        if self.fault == "raw and JPEG double":
            self.doubled(photographer, shots[self.odd], self.odd)
        if self.fault == "duplicate":
            shot = replace(shots[self.odd], seed=int(self.rng.integers(1 << 30)))
            if self.rng.random() < 0.5:
                nudge = from_yaw_pitch_roll(*np.radians(self.rng.normal(0, 0.05, 3)))
                shot = replace(shot, rotation=shot.rotation @ nudge)
            self.put(len(shots), photographer.take(shot), shot)


class _Series(_Taker):
    """A tripod series of the green."""

    kind = "stack"

    def write(self) -> Planted:
        rng = self.rng
        photographer = _photographer("green", 11)
        count = int(rng.integers(5, 8))
        self.odd = int(rng.integers(1, count - 1))
        yaw = float(rng.uniform(-40, 40))
        turn = from_yaw_pitch_roll(np.radians(yaw), np.radians(1.0), 0)
        shots = [Shot(self.lens, turn, g, 0.1, self.noise, int(rng.integers(1 << 30))) for g in self.gains(count)]
        pixel = 1 / self.lens.focal_px
        if self.fault == "bumped":
            bump = from_yaw_pitch_roll(*(rng.choice([-1, 1], 3) * rng.uniform(3, 9, 3) * pixel * [1, 1, 0.2]))
            shots = [replace(s, rotation=s.rotation @ bump) if n >= self.odd else s for n, s in enumerate(shots)]
        if self.fault in ("handheld", "motion blur"):
            shots = [replace(s, rotation=s.rotation @ from_yaw_pitch_roll(*(rng.normal(0, 9, 3) * pixel)))
                     for s in shots]
        if self.fault == "motion blur":
            return self.video(photographer, shots)
        for n, shot in enumerate(shots):
            at = photographer
            if n == self.odd and self.fault == "unconnected":
                at, shot = _photographer("ridge", 4), replace(shot, rotation=from_yaw_pitch_roll(2.0, -0.1, 0))
            if n == self.odd and self.fault == "mixed size":
                shot = replace(shot, lens=self.lens.scaled(self.lens.width * 5 // 4, self.lens.height * 5 // 4))
            self.put(n, self.take(at, shot, n), shot)
        if self.fault == "raw and JPEG double":
            self.doubled(photographer, shots[self.odd], self.odd)
        if self.fault == "duplicate":
            copy = self.folder / f"copy of {Path(self.files[self.odd]).name}"
            copy.write_bytes(Path(self.files[self.odd]).read_bytes())
            self.files.append(str(copy))
        return self.done()

    def video(self, photographer: Photographer, shots: list[Shot]) -> Planted:
        frames = [photographer.take(s) for s in shots]
        frames[self.odd] = self.blurred(frames[self.odd])
        path = self.folder / f"{self.folder.name}.mp4"
        write_video(path, [f for f in frames for _ in range(3)], 25, self.start)
        self.files.append(str(path))
        return self.done(instants=tuple((3 * n + 1) / 25 for n in range(len(frames))))


class _Fence:
    """Near posts that shift against the land from frame to frame, as when the camera moves aside."""

    def __init__(self, rng: np.random.Generator, lens: Lens, rotations: list[NDArray]) -> None:
        first, last = (np.degrees(np.arctan2(r[0, 2], r[2, 2])) for r in (rotations[0], rotations[-1]))
        step = 2 * np.degrees(np.arctan(lens.width / 2 / lens.focal_px)) / 5
        self.shift = float(rng.uniform(6, 14)) * rng.choice([-1, 1])
        self.posts = []
        for lon in np.arange(first - 40, last + 40, step):
            wood = np.clip(0.42 + 0.16 * np.dstack([noise((300, 70), (9, 9), 3, rng)] * 3), 0, 1)
            self.posts.append((float(lon + rng.uniform(-1, 1)), (wood * [1, 0.85, 0.7]).astype(np.float32)))

    def seen(self, scene: F32, shot: Shot, n: int) -> F32:
        out = scene.copy()
        h, w = scene.shape[:2]
        for lon, wood in self.posts:
            ray = np.array([[np.sin(np.radians(lon)), 0.14, np.cos(np.radians(lon))]])
            place = shot.lens.project(ray @ shot.rotation)[0]
            if not np.all(np.isfinite(place)):
                continue
            x = place[0] + n * self.shift
            turn = np.array([[0.62, 0, x - 22], [0, 0.8, place[1] - 110]], np.float32)
            drawn = cv2.warpAffine(wood, turn, (w, h))
            mask = cv2.warpAffine(np.ones(wood.shape[:2], np.float32), turn, (w, h))
            out += mask[..., None] * (drawn - out)
        return out
