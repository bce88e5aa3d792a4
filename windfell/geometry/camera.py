"""The lens: from rays in camera axes to pixels and back."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.optics import Optics

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Lens:
    """A central camera with radial distortion (Brown 1966).

    Pixel = centre + focal_px * u * (1 + k1 |u|^2 + k2 |u|^4 + k3 |u|^6) with u = (x/z, y/z).
    Pixel centres lie at integers; `dx`, `dy` shift the principal point off the middle. `optics`
    is a known lens's own bending, after that.
    """

    width: int
    height: int
    focal_px: float
    k1: float = 0.0
    dx: float = 0.0
    dy: float = 0.0
    optics: Optics | None = None
    k2: float = 0.0
    k3: float = 0.0

    @property
    def half_diagonal(self) -> float:
        return 0.5 * float(np.hypot(self.width, self.height))

    @property
    def centre(self) -> Array:
        """The principal point in px, (2,)."""
        return np.array([(self.width - 1) / 2 + self.dx, (self.height - 1) / 2 + self.dy])

    @property
    def fold_radius(self) -> float:
        """The |u| beyond which a barrel distortion folds back on itself, or inf."""
        return fold_radius(self.k1, self.k2, self.k3)

    def project(self, rays: Array) -> Array:
        """Pixels (..., 2) of rays (..., 3) in camera axes; NaN where the lens sees nothing.

        Nothing is seen behind the camera or beyond the fold of a barrel distortion.
        """
        z = rays[..., 2]
        with np.errstate(divide="ignore", invalid="ignore"):
            u = rays[..., :2] / np.where(z > 1e-9, z, np.nan)[..., None]
        r2 = np.sum(u * u, axis=-1)
        bend = 1.0 + r2 * (self.k1 + r2 * (self.k2 + r2 * self.k3))
        if np.isfinite(self.fold_radius):
            bend = np.where(r2 < self.fold_radius**2, bend, np.nan)
        return self.bent(self.centre + self.focal_px * u * bend[..., None])

    def bent(self, ideal: Array) -> Array:
        """Frame pixels (..., 2) of those that a lens without `optics` would show."""
        return ideal if self.optics is None else self.optics.seen(ideal, self.centre, self.half_diagonal)

    def ideal(self, points: Array) -> Array:
        """The pixels (..., 2) where a lens without `optics` would show what frame pixels (..., 2) do."""
        return points if self.optics is None else self.optics.ideal(points, self.centre, self.half_diagonal)

    def undistort(self, points: Array) -> Array:
        """The u = (x/z, y/z), (..., 2), that pixels (..., 2) look at."""
        points = self.ideal(np.asarray(points, float))
        d = (points - self.centre) / self.focal_px
        return d / self._bend_at(np.sqrt(np.sum(d * d, axis=-1)))[..., None]

    def _bend_at(self, rd: Array) -> Array:
        """The bend at the undistorted radius r whose distorted radius is `rd` (Newton)."""
        if self.k1 == self.k2 == self.k3 == 0.0:
            return np.ones_like(rd)
        r2 = undistorted_radius(rd, self.k1, self.k2, self.k3, 0.999 * self.fold_radius) ** 2
        return 1 + r2 * (self.k1 + r2 * (self.k2 + r2 * self.k3))

    def rays(self, points: Array) -> Array:
        """Unit rays (..., 3) in camera axes of pixels (..., 2)."""
        u = self.undistort(points)
        rays = np.concatenate([u, np.ones(u.shape[:-1] + (1,))], axis=-1)
        return rays / np.linalg.norm(rays, axis=-1, keepdims=True)

    def scaled(self, width: int, height: int) -> Lens:
        """The same lens for the frame resized to width x height px."""
        s = width / self.width
        return replace(
            self, width=width, height=height, focal_px=self.focal_px * s,
            dx=self.dx * s, dy=self.dy * s,
        )

    def border(self, per_side: int = 24) -> Array:
        """Pixels (4 n, 2) along the frame's outermost edge, in order around it."""
        t = np.linspace(0, 1, per_side, endpoint=False)
        w, h = self.width - 0.5, self.height - 0.5
        x0 = y0 = -0.5
        top = np.stack([x0 + (w - x0) * t, np.full_like(t, y0)], -1)
        right = np.stack([np.full_like(t, w), y0 + (h - y0) * t], -1)
        bottom = np.stack([w + (x0 - w) * t, np.full_like(t, h)], -1)
        left = np.stack([np.full_like(t, x0), h + (y0 - h) * t], -1)
        return np.concatenate([top, right, bottom, left])

    def grid(self, steps: int = 24) -> Array:
        """Pixels (steps^2, 2) spread evenly over the frame, edges included."""
        x = np.linspace(-0.5, self.width - 0.5, steps)
        y = np.linspace(-0.5, self.height - 0.5, steps)
        return np.stack(np.meshgrid(x, y), -1).reshape(-1, 2)


def undistorted_radius(
    rd: Array, k1: Array | float, k2: Array | float, k3: Array | float, top: Array | float
) -> Array:
    """The r up to `top` with r (1 + k1 r^2 + k2 r^4 + k3 r^6) = rd (Newton); coefficients for all or for each."""
    r = np.minimum(rd, top)
    if not (np.any(k1) or np.any(k2) or np.any(k3)):
        return r
    for _ in range(20):
        r2 = r * r
        bend = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
        slope = 1 + r2 * (3 * k1 + r2 * (5 * k2 + r2 * 7 * k3))
        step = (r * bend - rd) / slope
        r = np.minimum(np.maximum(r - step, 0.0), top)
        # what is left is about the square of a step
        if np.abs(step).max(initial=0.0) < 1e-8:
            break
    return r


@lru_cache(maxsize=4096)
def fold_radius(k1: float, k2: float, k3: float) -> float:
    """The least |u| > 0 at which the distorted radius stops growing, or inf."""
    roots = np.roots([7 * k3, 5 * k2, 3 * k1, 1.0]) if (k1 or k2 or k3) else np.zeros(0)
    real = [r.real for r in roots if abs(r.imag) < 1e-9 * abs(r) and r.real > 0]
    return float(np.sqrt(min(real))) if real else np.inf


def focal_px_from_35mm(focal35_mm: float, width: int, height: int) -> float:
    """Focal length in px from its 35 mm equivalent, by the frame's diagonal (CIPA DC-008)."""
    return focal35_mm / np.hypot(36.0, 24.0) * np.hypot(width, height)
