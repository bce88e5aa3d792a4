"""Panoramas of brackets against the true radiance, file to file through the command line.

Drawn rooms whose light spans many EV (a land's colours under lamps and windows; with --pictures the measured
environments in DIR/light too) are photographed at three exposures 2 EV apart at every position, with times in the
files and without, from a tripod and by hand. Said of each: whether all frames were placed, how far their directions
are off, the error of log2 radiance (median, and 95 % of the px; wanted 0.06 EV median), the largest step between
positions (median error of each against all), seconds and MB.

Usage: brackets.py [SETS] [--tiny] [--pictures DIR] [--megapixels MP]: 6 positions each; 12 MP in 30 s and 3 GB.
"""

from __future__ import annotations

import json
import os
from datetime import datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

os.environ.setdefault("OPENCV_IO_ENABLE_OPENEXR", "1")

import cv2
import numpy as np
import OpenEXR
from common import backdrops, limited, parser_of, windfell

from windfell.demo.files import Camera, exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot, resampled
from windfell.geometry.camera import Lens
from windfell.geometry.projections import PROJECTIONS
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.pixels.colour import srgb_decoded, srgb_encoded

STEPS_EV, POSITIONS, OVERLAP = (0.0, -2.0, 2.0), 6, 0.35
WIDE = 4000


class Room:
    """Radiance all around, linear (h, w, 3), and its photographs."""

    def __init__(self, radiance: np.ndarray) -> None:
        self.radiance = np.ascontiguousarray(radiance, np.float32)

    def seen(self, rays: np.ndarray) -> np.ndarray:
        """Radiance (h, w, 3) along rays (h, w, 3)."""
        h, w = self.radiance.shape[:2]
        lon_lat = PROJECTIONS["equirectangular"].forward(rays)
        x, y = (lon_lat[..., 0] / np.pi + 1) * w / 2 - 0.5, (lon_lat[..., 1] / np.pi + 0.5) * h - 0.5
        padded = np.concatenate([self.radiance[:, -8:], self.radiance, self.radiance[:, :8]], axis=1)
        return np.maximum(resampled(padded, x + 8, y), 0)

    def taken(self, lens: Lens, rotation: np.ndarray, gain: float, noise: float, seed: int) -> np.ndarray:
        rng = np.random.default_rng(seed)
        light = self.seen(_rays(lens, rotation)) * np.float32(gain)
        light += rng.standard_normal(light.shape, dtype=np.float32) * noise * np.sqrt(np.maximum(light, 0.02))
        code = srgb_encoded(np.clip(light, 0, 1)) * 255 + rng.random(light.shape, np.float32) - 0.5
        return np.clip(np.rint(code), 0, 255).astype(np.uint8)


def _rays(lens: Lens, rotation: np.ndarray) -> np.ndarray:
    y, x = np.mgrid[0 : lens.height, 0 : lens.width].astype(np.float64)
    return lens.rays(np.stack([x, y], -1)) @ rotation.T


def rooms(pictures: str | None, count: int, tiny: bool = False) -> list[tuple[str, Room]]:
    """Drawn rooms with lamps, and measured environments under a land's texture."""
    out = []
    lands = [(name, _land(photographer)) for name, photographer in backdrops(None, WIDE, tiny)[:count]]
    for n, (name, land) in enumerate(lands):
        out.append((name, Room(land * _lamps(n))))
    for path in sorted((Path(pictures) / "light").glob("*.exr"))[: max(0, count - 2)] if pictures else ():
        light = cv2.resize(OpenEXR.File(str(path)).channels()["RGB"].pixels.astype(np.float32), (WIDE, WIDE // 2),
                           interpolation=cv2.INTER_CUBIC)
        light = np.maximum(light, 1e-4) / max(float(np.median(light)) / 0.18, 1e-6)
        out.append((path.stem, Room(light * (0.4 + 1.2 * lands[0][1]))))
    return out[:count]


def _land(photographer: Photographer) -> np.ndarray:
    """A land's colours all around as light, (WIDE / 2, WIDE, 3): what it was not painted for mirrored."""
    canvas = photographer._canvas
    high = round(canvas.height * WIDE / canvas.width)
    light = srgb_decoded(cv2.resize(canvas.colour, (WIDE, high), interpolation=cv2.INTER_CUBIC)).astype(np.float32)
    rows = np.abs(np.arange(WIDE // 2) - round((90 - canvas.high) * WIDE / 360))
    period = 2 * (light.shape[0] - 1)
    rows = rows % period
    return light[np.where(rows >= light.shape[0], period - rows, rows)]


def _lamps(seed: int) -> np.ndarray:
    """How much light falls where, 1 / 8 to 8, with windows of up to 20."""
    rng = np.random.default_rng(seed)
    small = rng.normal(0, 1.0, (9, 18)).astype(np.float32)
    small[:, -1] = small[:, 0]
    out = 2 ** np.clip(cv2.resize(small, (WIDE, WIDE // 2), interpolation=cv2.INTER_CUBIC) * 1.4, -3, 3)
    for _ in range(14):
        x, y = rng.integers(0, WIDE - 160), rng.integers(WIDE // 6, WIDE // 3)
        out[y : y + 70, x : x + 90] = rng.uniform(8, 20)
    return cv2.GaussianBlur(out, (0, 0), 2)[..., None]


def photographed(room: Room, folder: Path, megapixels: float, by_hand: bool, told: bool, seed: int) -> tuple:
    """(files, their rotations) of brackets at every position."""
    rng = np.random.default_rng(seed)
    width = round((megapixels * 1.5e6) ** 0.5)
    lens = Lens(width, round(width / 1.5), 0.9 * width)
    step = 2 * np.degrees(np.arctan(0.5 / 0.9)) * (1 - OVERLAP)
    files, rotations = [], []
    for p in range(POSITIONS):
        at = np.array([(p - (POSITIONS - 1) / 2) * step, rng.normal(0, 1.0), rng.normal(0, 0.5)])
        for k, ev in enumerate(STEPS_EV):
            off = rng.normal(0, 0.15, 3) if by_hand else np.zeros(3)
            rotation = from_yaw_pitch_roll(*np.radians(at + off))
            path = folder / f"f{3 * p + k + 1:02d}.jpg"
            pixels = room.taken(lens, rotation, 2.0**ev, 0.006, seed * 100 + 3 * p + k)
            shot = Shot(lens, rotation)
            taken = datetime(2026, 5, 2, 6, 0, 0) + timedelta(seconds=9 * p + 2 * k)
            write_jpeg(path, pixels, exif_bytes(shot, taken, Camera(speed=100 / 2.0**ev)) if told else b"")
            files.append(str(path))
            rotations.append(rotation)
    return files, rotations


def judged(room: Room, files: list[str], rotations: list, folder: Path, wide: int) -> dict[str, float]:
    out, report = folder / "out.exr", folder / "out.json"
    seconds, mb = windfell("panorama", *files, "--brackets", "auto", "--full-sphere", "--width", str(wide), "--out",
                           str(out), "--report", str(report))
    found = json.loads(report.read_text())
    parts = OpenEXR.File(str(out)).channels()
    whole = parts["RGBA"].pixels if "RGBA" in parts else np.dstack([parts[c].pixels for c in "RGBA"])
    light, alpha = whole[..., :3], whole[..., 3] > 0.5
    rows = found["frames"]
    placed = [n for n, r in enumerate(rows) if r["placed"]]
    turn = _common([rotations[n] for n in placed], [np.array(rows[n]["rotation"]) for n in placed])
    off = [_angle(turn @ np.array(rows[n]["rotation"]), rotations[n]) for n in placed]
    h, w = light.shape[:2]
    y, x = np.mgrid[0:h, 0:w].astype(np.float64)
    rays = PROJECTIONS["equirectangular"].backward(
        np.stack([(x + 0.5) / w * 2 - 1, (y + 0.5) / h - 0.5], -1) * np.pi)
    rays = rays[0] if isinstance(rays, tuple) else rays
    truth = room.seen(rays @ turn.T)
    fair = alpha & (truth.min(axis=2) > 0.003) & (truth.max(axis=2) < 3.6)
    error = np.log2(np.maximum(light, 1e-6) / np.maximum(truth, 1e-6)).mean(axis=2)
    middle = float(np.median(error[fair]))
    error = error - middle
    nearest = np.argmax(np.stack([rays @ (turn.T @ rotations[3 * p])[:, 2] for p in range(POSITIONS)]), axis=0)
    steps = [abs(float(np.median(error[fair & (nearest == p)]))) for p in range(POSITIONS)
             if (fair & (nearest == p)).sum() > 100]
    return {"frames": len(rows), "placed": len(placed), "positions": len(found.get("positions", [])),
            "off_deg": max(off), "middle_ev": middle, "median_ev": float(np.median(np.abs(error[fair]))),
            "most_ev": float(np.quantile(np.abs(error[fair]), 0.95)), "step_ev": max(steps), "s": seconds, "mb": mb}


def _common(truth: list, found: list) -> np.ndarray:
    u, _, vt = np.linalg.svd(sum(t @ f.T for t, f in zip(truth, found, strict=True)))
    return u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt


def _angle(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.degrees(np.arccos(np.clip((np.trace(a @ b.T) - 1) / 2, -1, 1))))


def main() -> None:
    parser = parser_of(__doc__.splitlines()[0], "sets", 6)
    parser.add_argument("--megapixels", type=float, default=1.5)
    options = parser.parse_args()
    limited(120 if options.tiny else 3000)
    count, megapixels = (1, 0.2) if options.tiny else (options.sets, options.megapixels)
    for n, (name, room) in enumerate(rooms(options.pictures, count, options.tiny)):
        for by_hand, told in ((False, True),) if options.tiny else ((False, True), (True, True), (False, False)):
            with TemporaryDirectory() as place:
                folder = Path(place)
                files, rotations = photographed(room, folder, megapixels, by_hand, told, n + 1)
                r = judged(room, files, rotations, folder, 2048)
            if options.tiny:
                assert r["placed"] == 3 * POSITIONS and r["positions"] == POSITIONS, r
            print(f"{name:<12} {'by hand' if by_hand else 'tripod':<8} {'told' if told else 'not told':<9} "
                  f"positions {r['positions']} placed {r['placed']}/{r['frames']}  off {r['off_deg']:.3f} deg  "
                  f"EV median {r['median_ev']:.3f} 95 % {r['most_ev']:.3f} step {r['step_ev']:.3f} "
                  f"(all {r['middle_ev']:+.2f})  {r['s']:.1f} s {r['mb']:.0f} MB", flush=True)


if __name__ == "__main__":
    main()
