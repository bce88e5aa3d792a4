"""How one panorama lies on another by the skyline: that of the one in front is looked for in the light of the other.

Behind, it is often night: the land a silhouette, its border faint beside stars, clouds and the glow of towns, so that
a sky found by itself goes astray. The border that the front shows clearly is turned over the back instead, to where
the light differs most evenly across it, as a template is matched on edges (Borgefors 1988 does so with distances).
"""

from __future__ import annotations

from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.shape.canvas import Canvas

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

STEP_DEG, LEAST_SHARED_DEG = 0.5, 20.0
# (px a degree, degrees across the border, degrees between turns, degrees of tilts around), coarse and ever finer
LOOKS = ((1.5, 1.0, 1.0, 6.0), (4.0, 0.3, 0.3, 1.2), (10.0, 0.12, 0.08, 0.4))
FLOOR, STRONG = 1e-4, 2.5
ALIKE_DEG, LEAST_SURE, LEAST_EVEN, CLEARLY, ASIDE_DEG = 4.0, 4.0, 0.6, 0.8, 4.0
BESIDE_DEG, AT_ONCE = 12.0, 400


class Seen(Protocol):
    """A panorama unrolled: its light (h, w, 3), where it is covered (h, w), and how much is sky (h, w) 0..1."""

    canvas: Canvas
    light: F32
    covered: NDArray[np.bool_]
    sky: F32


def turned_by_skyline(front: Seen, back: Seen, job: Job) -> Array | None:
    """The rotation (3, 3) from the back's world to the front's at which the front's skyline lies on a border of the
    back's light; None where none is clearly best.
    """
    azimuth, height = skyline(front)
    if len(azimuth) * STEP_DEG < LEAST_SHARED_DEG:
        return None
    best = np.zeros(3)
    for n, (fine, across, step, tilt) in enumerate(LOOKS):
        job.check()
        small = _Light.of(back, fine, float(np.abs(height).max()) + BESIDE_DEG)
        tilts = np.arange(-tilt, tilt + step / 2, step)
        yaws = np.arange(-180, 180, step) if n == 0 else tilts
        turns = best + np.stack(np.meshgrid(yaws, tilts, tilts, indexing="ij"), -1).reshape(-1, 3)
        every = max(1, round(1 / STEP_DEG)) if n == 0 else 1
        even, shared = small.even_across(azimuth[::every], height[::every], across, turns)
        shared *= every * STEP_DEG
        # heights within ALIKE_DEG are no news (Fisher's z)
        sure = np.arctanh(np.minimum(even, 0.999)) * np.sqrt(shared / ALIKE_DEG) * (shared >= LEAST_SHARED_DEG)
        first = int(np.argmax(sure))
        best = turns[first]
        if n == 0:
            away = np.abs((turns[:, 0] - best[0] + 180) % 360 - 180)
            rival = sure[away > ASIDE_DEG].max(initial=0.0)
            if even[first] < LEAST_EVEN or sure[first] < LEAST_SURE or rival > CLEARLY * sure[first]:
                return None
    return from_yaw_pitch_roll(*np.radians(best))


def skyline(around: Seen) -> tuple[Array, Array]:
    """Azimuths and heights (n,), degrees, of the border between land and the sky above it, where it is seen."""
    azimuth = np.arange(-180, 180, STEP_DEG) + STEP_DEG / 2
    a = np.radians(azimuth)
    x = around.canvas.pixels(np.stack([np.sin(a), np.zeros(len(a)), np.cos(a)], -1))[:, 0]
    column = np.clip(np.nan_to_num(np.rint(x), nan=-1), -1, around.sky.shape[1]).astype(int)
    inside = (column >= 0) & (column < around.sky.shape[1])
    column = np.clip(column, 0, around.sky.shape[1] - 1)
    land, sky = ((around.sky[:, column] < 0.5) & around.covered[:, column],
                 (around.sky[:, column] >= 0.5) & around.covered[:, column])
    row = land.argmax(axis=0)
    known = inside & land.any(axis=0) & sky[np.maximum(row - 1, 0), np.arange(len(row))]
    c = around.canvas
    height = -np.degrees(c.top + row * (c.bottom - c.top) / c.height)
    return azimuth[known], height[known]


class _Light:
    """The logarithm of a panorama's light, small, on a grid of degrees; NaN where it is not covered."""

    def __init__(self, grid: F32, fine: float, half_deg: float, spread: float) -> None:
        self._grid, self._fine, self._half_deg, self._spread = grid, fine, half_deg, spread

    @classmethod
    def of(cls, around: Seen, fine: float, half_deg: float) -> _Light:
        """At so many px a degree, so far up and down from the level."""
        half_deg = min(90.0, half_deg)
        x, y = np.meshgrid(np.radians((np.arange(360 * fine) + 0.5) / fine - 180),
                           np.radians((np.arange(2 * half_deg * fine) + 0.5) / fine - half_deg))
        place = around.canvas.pixels(np.stack([np.cos(y) * np.sin(x), np.sin(y), np.cos(y) * np.cos(x)], -1))
        place = np.nan_to_num(place, nan=-9.0).clip(-9, 1e5).astype(np.float32)
        grey = around.light.mean(axis=2)
        light = np.log(np.maximum(grey, max(FLOOR, 0.02 * float(grey[around.covered].mean()))))
        blur = 0.4 * around.canvas.px_per_unit * np.radians(1 / fine)
        light = cv2.GaussianBlur(light, (0, 0), max(blur, 0.5))
        grid = cv2.remap(light, place, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=np.nan)
        whole = cv2.erode(around.covered.astype(np.uint8), np.ones((5, 5), np.uint8))
        grid[cv2.remap(whole, place, None, cv2.INTER_NEAREST, borderMode=cv2.BORDER_CONSTANT) == 0] = np.nan
        steps = np.abs(np.diff(grid, axis=0))
        spread = float(np.nanpercentile(steps, 90)) if np.isfinite(steps).any() else 1.0
        return cls(grid, fine, half_deg, max(spread, 1e-3))

    def even_across(self, azimuth: Array, height: Array, across: float, turns: Array) -> tuple[Array, Array]:
        """How evenly, 0..1, the light differs across a skyline at turns (m, 3) of this, yaw, pitch, roll in degrees;
        and how many of its spots (m,) are seen.
        """
        rays = [_rays(azimuth, height + side * across) for side in (1, -1)]
        out, seen_at = np.zeros(len(turns)), np.zeros(len(turns))
        for first in range(0, len(turns), AT_ONCE):
            back = from_yaw_pitch_roll(*np.radians(turns[first : first + AT_ONCE]).T)
            above, below = (self._at(r @ back) for r in rays)
            differ = np.tanh((above - below) / (STRONG * self._spread))
            seen = np.isfinite(differ)
            count = seen.sum(axis=1)
            run = slice(first, first + AT_ONCE)
            seen_at[run] = count
            out[run] = np.abs(np.nansum(differ, axis=1)) / np.maximum(count, 1)
        return out, seen_at

    def _at(self, rays: Array) -> F32:
        """Values (m, n) along rays (m, n, 3)."""
        x = (np.degrees(np.arctan2(rays[..., 0], rays[..., 2])) + 180) * self._fine - 0.5
        y = (np.degrees(np.arcsin(np.clip(rays[..., 1], -1, 1))) + self._half_deg) * self._fine - 0.5
        return cv2.remap(self._grid, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR,
                         borderMode=cv2.BORDER_CONSTANT, borderValue=np.nan)


def _rays(azimuth: Array, height: Array) -> Array:
    a, h = np.radians(azimuth), np.radians(height)
    return np.stack([np.cos(h) * np.sin(a), -np.sin(h), np.cos(h) * np.cos(a)], -1)
