"""A canvas: the pixels of one projection of the sphere, from one direction of view."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.posed import Posed
from windfell.geometry.projections import PROJECTIONS

Array = NDArray[np.float64]
IDENTITY = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)


@dataclass(frozen=True)
class Canvas:
    """`left`, `top`, `right`, `bottom` bound the projection's plane; pixels divide it evenly.

    `view` is the row-major rotation from view axes to world axes.
    """

    projection: str
    left: float
    top: float
    right: float
    bottom: float
    width: int
    height: int
    view: tuple[float, ...] = IDENTITY

    @property
    def px_per_unit(self) -> float:
        return self.width / (self.right - self.left)

    @property
    def wraps(self) -> bool:
        """Whether the left and right edge show the same direction."""
        period = PROJECTIONS[self.projection].period
        return period is not None and self.right - self.left > period - 1e-6

    @property
    def rotation(self) -> Array:
        return np.array(self.view).reshape(3, 3)

    def resized(self, width: int, height: int) -> Canvas:
        return replace(self, width=max(1, width), height=max(1, height))

    def scaled(self, scale: float) -> Canvas:
        """The same view with about `scale` times as many pixels a side."""
        return self.resized(round(self.width * scale), round(self.height * scale))

    def rays(self, points: Array) -> Array:
        """World rays (..., 3) of pixels (..., 2); pixels beyond the edges go on likewise."""
        x = self.left + (points[..., 0] + 0.5) * (self.right - self.left) / self.width
        y = self.top + (points[..., 1] + 0.5) * (self.bottom - self.top) / self.height
        rays = PROJECTIONS[self.projection].backward(np.stack([x, y], -1))
        return rays @ self.rotation.T

    def pixels(self, rays: Array) -> Array:
        """Pixels (..., 2) of world rays (..., 3); inf where the projection has no place."""
        plane = PROJECTIONS[self.projection].forward(rays @ self.rotation)
        x, y = plane[..., 0], plane[..., 1]
        period = PROJECTIONS[self.projection].period
        if period is not None:
            middle = (self.left + self.right) / 2
            x = x - period * np.round((x - middle) / period)
        px = (x - self.left) / (self.right - self.left) * self.width - 0.5
        py = (y - self.top) / (self.bottom - self.top) * self.height - 0.5
        return np.stack([px, py], -1)

    def frame_pixels(self, frame: Posed):
        """The map from this canvas's pixels to a frame's."""
        return lambda points: frame.project(self.rays(points))
