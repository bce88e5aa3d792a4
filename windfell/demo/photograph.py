"""Photographing a canvas: the camera's geometry, light, drift and noise, all known."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.canvas import Canvas, noise
from windfell.geometry.camera import Lens
from windfell.geometry.projections import PROJECTIONS
from windfell.pixels.colour import srgb_decoded, srgb_encoded

F32 = NDArray[np.float32]
GRAIN_TILE = 1024
STRIP = 512


@dataclass(frozen=True)
class Shot:
    """One press of the shutter: lens, camera-to-world rotation (3, 3), and its light.

    `gain` is the linear gain of (red, green, blue); `vignette` the light lost in the
    far corner, 0..1; `noise` the deviation of the linear noise at white.
    """

    lens: Lens
    rotation: NDArray[np.float64]
    gain: tuple[float, float, float] = (1.0, 1.0, 1.0)
    vignette: float = 0.0
    noise: float = 0.004
    seed: int = 0


class Photographer:
    """Takes shots of one canvas; finer than the canvas it adds grain of its own."""

    def __init__(self, canvas: Canvas) -> None:
        self._canvas = canvas
        self._texture = np.dstack([canvas.colour, canvas.grain]).astype(np.float32)
        tile = noise((GRAIN_TILE, GRAIN_TILE), (12, 12), 4, np.random.default_rng(1))
        self._tile = (tile + tile[::-1]) / np.sqrt(np.float32(2))

    def clean(self, shot: Shot) -> F32:
        """sRGB-encoded float32 (h, w, 3): the scene as this camera would see it undisturbed."""
        lens = shot.lens
        rows = [
            self._rows(shot, top, min(STRIP, lens.height - top))
            for top in range(0, lens.height, STRIP)
        ]
        return np.concatenate(rows)

    def _rows(self, shot: Shot, top: int, height: int) -> F32:
        c, lens = self._canvas, shot.lens
        sphere = PROJECTIONS["equirectangular"]

        def rays(points: NDArray) -> NDArray:
            return lens.rays(points) @ shot.rotation.T

        direction = _directions(rays, top, lens.width, height)
        lon_lat = np.degrees(sphere.forward(direction))
        x = (lon_lat[..., 0] + 180) * c.per_deg - 0.5
        y = (c.high + lon_lat[..., 1]) * c.per_deg - 0.5
        box = _column_box(x, c.width)
        texture = np.take(self._texture, np.arange(*box) % c.width, axis=1)
        x = np.where(x < box[0], x + c.width, x) - box[0]
        seen = resampled(texture, x, y)
        return self._with_grain(seen, lon_lat, lens.focal_px * np.pi / 180 / c.per_deg)

    def _with_grain(self, seen: F32, lon_lat: NDArray, finer: float) -> F32:
        colour = np.ascontiguousarray(seen[..., :3])
        if finer < 1.3:
            return np.clip(colour, 0, 1)
        at = lon_lat * self._canvas.per_deg * max(1.0, finer / 2)
        grain = cv2.remap(
            self._tile, (at[..., 0] % GRAIN_TILE).astype(np.float32),
            (at[..., 1] % GRAIN_TILE).astype(np.float32), cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_WRAP,
        )
        strength = 0.05 * np.clip(seen[..., 3], 0, 1) + 0.004
        return np.clip(colour * (1 + (strength * grain)[..., None]), 0, 1)

    def take(self, shot: Shot, scene: F32 | None = None) -> NDArray[np.uint8]:
        """The developed frame, uint8 sRGB (h, w, 3), of `scene` or of the clean view."""
        return self.developed(shot, self.clean(shot) if scene is None else scene)

    @staticmethod
    def developed(shot: Shot, seen: F32) -> NDArray[np.uint8]:
        """What a shot makes of a scene, sRGB-encoded float32 (h, w, 3): its light, drift and noise."""
        rng = np.random.default_rng(shot.seed)
        light = srgb_decoded(seen).astype(np.float32) * np.array(shot.gain, np.float32)
        light *= _falloff(shot.lens, shot.vignette)[..., None]
        wobble = rng.standard_normal(light.shape, dtype=np.float32)
        light += wobble * shot.noise * np.sqrt(np.maximum(light, 0.02))
        code = srgb_encoded(np.clip(light, 0, 1)) * 255 + rng.random(light.shape, np.float32) - 0.5
        return np.clip(np.rint(code), 0, 255).astype(np.uint8)


def resampled(texture: F32, x: NDArray, y: NDArray) -> F32:
    """A texture at px x, y (h, w), with every slope of its light where it is.

    The library's cubic kernel (parameter -0.75) shows at n + t what is at n + t + t (t - 1/2) (t - 1), up to a
    twentieth of a px aside; so it is asked where it shows what is wanted: t = 1/2 + v, v^3 + 3/4 v = wanted - 1/2.
    """
    def asked(wanted: NDArray) -> F32:
        whole = np.floor(wanted)
        return (whole + 0.5 + np.sinh(np.arcsinh(4 * (wanted - whole - 0.5)) / 3)).astype(np.float32)

    return cv2.remap(texture, asked(x), asked(y), cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)


def _directions(rays, top: int, width: int, height: int) -> NDArray[np.float64]:
    """World rays (height, width, 3) of a strip's pixels, exact on every pixel."""
    y, x = np.mgrid[top : top + height, 0:width].astype(np.float64)
    return rays(np.stack([x, y], -1))


def _column_box(x: NDArray, width: int) -> tuple[int, int]:
    """The canvas columns a strip reads, as a run that may reach past the right edge."""
    used = np.zeros(64, bool)
    used[np.unique((x / width * 64).astype(int) % 64)] = True
    if used.all():
        return -4, width + 4
    gap_end = max(range(64), key=lambda s: next(k for k in range(64) if used[(s - k - 1) % 64]))
    first = gap_end
    count = 64 - next(k for k in range(64) if used[(gap_end - k - 1) % 64])
    step = width / 64
    return int(first * step) - 4, int((first + count) * step) + 5


def _falloff(lens: Lens, loss: float) -> F32:
    x = (np.arange(lens.width) - (lens.width - 1) / 2) ** 2
    y = (np.arange(lens.height) - (lens.height - 1) / 2) ** 2
    r2 = (x[None] + y[:, None]) / (x[0] + y[0])
    return (1 - loss * (0.7 * r2 + 0.3 * r2 * r2)).astype(np.float32)
