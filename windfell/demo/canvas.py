"""A canvas in degrees: the whole sphere unrolled, painted with shapes and noise."""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from functools import wraps
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
SUBPIXEL = 4
# a folder in which whole scenes are kept once they are painted: tests and benches paint the same few many times
KEPT_IN = "WINDFELL_PAINTED"


def noise(
    shape: tuple[int, int], cell: tuple[float, float], octaves: int, rng: np.random.Generator
) -> F32:
    """Fractal noise (h, w) of mean 0 and deviation about 1, wrapping at left and right.

    `cell` is the coarsest cell's (width, height) in px; each octave halves it.
    """
    h, w = shape
    out = np.zeros(shape, np.float32)
    power = 0.0
    for octave in range(octaves):
        cw, ch = cell[0] / 2**octave, cell[1] / 2**octave
        if min(cw, ch) < 0.7:
            break
        nx, ny = max(2, round(w / cw)), max(2, round(h / ch) + 1)
        grid = rng.standard_normal((ny, nx)).astype(np.float32)
        grid = np.concatenate([grid[:, -2:], grid, grid[:, :2]], axis=1)
        pad = round(2 * w / nx)
        wide = cv2.resize(grid, (w + 2 * pad, h), interpolation=cv2.INTER_CUBIC)
        weight = 0.62**octave
        out += np.float32(weight) * wide[:, pad : pad + w]
        power += weight**2
    return out / np.float32(np.sqrt(max(power, 1e-6)) * 0.75)


class Canvas:
    """sRGB-encoded float32 colour over all longitudes and a band of latitudes.

    Longitude runs -180..180 left to right, latitude from `high` down to `low`, degrees.
    `grain` says how much fine texture each spot may carry when seen from nearer.
    """

    def __init__(self, width: int, low: float, high: float, seed: int) -> None:
        self.per_deg = width / 360.0
        self.low, self.high = low, high
        self.width, self.height = width, max(8, round((high - low) * self.per_deg))
        self.rng = np.random.default_rng(seed)
        self.colour = np.zeros((self.height, self.width, 3), np.float32)
        self.grain = np.zeros((self.height, self.width), np.float32)
        self.lon = (np.arange(self.width, dtype=np.float32) + 0.5) / self.per_deg - 180
        self.lat = high - (np.arange(self.height, dtype=np.float32) + 0.5) / self.per_deg

    def noise(self, cell_deg: tuple[float, float], octaves: int = 6) -> F32:
        """Noise whose coarsest cell is (width, height) degrees."""
        cell = (cell_deg[0] * self.per_deg, cell_deg[1] * self.per_deg)
        return noise((self.height, self.width), cell, octaves, self.rng)

    def line_noise(self, cell_deg: float, octaves: int = 6) -> F32:
        """Noise along longitude, (w,)."""
        cell = cell_deg * self.per_deg
        return noise((4, self.width), (cell, 8.0 * 2**octaves), octaves, self.rng)[1]

    def rows(self, high: float, low: float) -> slice:
        """The rows between two latitudes."""
        top = int(np.clip((self.high - high) * self.per_deg, 0, self.height))
        return slice(top, int(np.clip((self.high - low) * self.per_deg, top, self.height)))

    def point(self, lon: float, lat: float) -> tuple[float, float]:
        """Pixel of a direction."""
        return (lon + 180) * self.per_deg - 0.5, (self.high - lat) * self.per_deg - 0.5

    def lay(self, mask: F32, colour: F32 | tuple, grain: float, rows: slice = slice(None)) -> None:
        """Paint `colour` where `mask` (0..1, of those rows) says."""
        m = mask[..., None]
        target = self.colour[rows]
        target += m * (np.asarray(colour, np.float32) - target)
        self.grain[rows] += mask * (np.float32(grain) - self.grain[rows])

    def polygon(self, points: list[tuple[float, float]], colour: tuple, grain: float = 0.5) -> None:
        """A filled polygon of (lon, lat) corners with smooth edges."""
        px = np.array([self.point(*p) for p in points])
        k = 1 << SUBPIXEL
        corners = np.rint(px * k).astype(np.int32)
        cv2.fillPoly(self.colour, [corners], _scalar(colour), cv2.LINE_8, SUBPIXEL)
        cv2.polylines(self.colour, [corners], True, _scalar(colour), 1, cv2.LINE_8, SUBPIXEL)
        cv2.fillPoly(self.grain, [corners], grain, cv2.LINE_8, SUBPIXEL)

    def box(self, lon: float, lat: float, width: float, height: float, colour: tuple) -> None:
        """An upright rectangle with its lower left corner at (lon, lat)."""
        self.polygon(
            [(lon, lat), (lon + width, lat), (lon + width, lat + height), (lon, lat + height)], colour
        )

    def stroke(self, points: list[tuple[float, float]], width_deg: float, colour: tuple) -> None:
        """An open line of (lon, lat) points."""
        px = np.array([self.point(*p) for p in points])
        corners = np.rint(px * (1 << SUBPIXEL)).astype(np.int32)
        thick = max(1, round(width_deg * self.per_deg))
        cv2.polylines(self.colour, [corners], False, _scalar(colour), thick, cv2.LINE_8, SUBPIXEL)


def _scalar(colour: tuple) -> tuple[float, float, float]:
    return float(colour[0]), float(colour[1]), float(colour[2])


def kept(paint: Callable[..., Canvas]) -> Callable[..., Canvas]:
    """Let a scene that was painted before be read from the folder that WINDFELL_PAINTED names, if it names one."""

    @wraps(paint)
    def read_or_painted(*args: float, **more: float) -> Canvas:
        folder = os.environ.get(KEPT_IN)
        if not folder:
            return paint(*args, **more)
        words = [paint.__name__, *args, *(f"{k}={v}" for k, v in sorted(more.items()))]
        path = Path(folder) / " ".join(str(w) for w in words)
        if path.exists():
            return pickle.loads(path.read_bytes())
        canvas = paint(*args, **more)
        part = path.with_suffix(f".{os.getpid()}.part")
        part.write_bytes(pickle.dumps(canvas, protocol=pickle.HIGHEST_PROTOCOL))
        part.replace(path)
        return canvas

    return read_or_painted
