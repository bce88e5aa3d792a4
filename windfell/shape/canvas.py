"""A canvas: the pixels of one projection of the sphere, from one direction of view."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.mesh import Mesh
from windfell.geometry.posed import Posed
from windfell.geometry.projection import Projection
from windfell.geometry.projections import projection_of
from windfell.pixels.tiles import Region

Array = NDArray[np.float64]
IDENTITY = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)


@dataclass(frozen=True)
class Canvas:
    """`left`, `top`, `right`, `bottom` bound the projection's plane; pixels divide it evenly.

    `view` is the row-major rotation from view axes to world axes. `parameters` are the projection's. `mesh` bends
    the plane before it is cut: the bounds are those of the bent one.
    """

    projection: str
    left: float
    top: float
    right: float
    bottom: float
    width: int
    height: int
    view: tuple[float, ...] = IDENTITY
    parameters: tuple[float, ...] = ()
    mesh: Mesh | None = None

    @property
    def kind(self) -> Projection:
        return projection_of(self.projection, self.parameters)

    @property
    def px_per_unit(self) -> float:
        return self.width / (self.right - self.left)

    @property
    def wraps(self) -> bool:
        """Whether the left and right edge show the same direction."""
        period = self.kind.period
        return period is not None and self.right - self.left > period - 1e-6

    @property
    def rotation(self) -> Array:
        return np.array(self.view).reshape(3, 3)

    def resized(self, width: int, height: int) -> Canvas:
        return replace(self, width=max(1, width), height=max(1, height))

    def scaled(self, scale: float) -> Canvas:
        """The same view with about `scale` times as many pixels a side."""
        return self.resized(round(self.width * scale), round(self.height * scale))

    def bounded(self, left: float, top: float, right: float, bottom: float) -> Canvas:
        """The same plane cut otherwise, with as many pixels per unit."""
        width = max(1, round((right - left) * self.width / (self.right - self.left)))
        height = max(1, round((bottom - top) * self.height / (self.bottom - self.top)))
        return replace(self, left=left, top=top, right=right, bottom=bottom, width=width, height=height)

    def plane(self, points: Array) -> Array:
        """Where pixels (..., 2) lie on the projection's plane, what bends it undone."""
        plane = self.cut(points)
        return plane if self.mesh is None else self.mesh.backward(plane)

    def cut(self, points: Array) -> Array:
        """Where pixels (..., 2) lie on the plane as it is cut, bent if it is."""
        x = self.left + (points[..., 0] + 0.5) * (self.right - self.left) / self.width
        y = self.top + (points[..., 1] + 0.5) * (self.bottom - self.top) / self.height
        return np.stack([x, y], -1)

    def rays(self, points: Array) -> Array:
        """World rays (..., 3) of pixels (..., 2); pixels beyond the edges go on likewise."""
        return self.kind.backward(self.plane(points)) @ self.rotation.T

    def pixels(self, rays: Array) -> Array:
        """Pixels (..., 2) of world rays (..., 3); inf where the projection has no place."""
        plane = self.kind.forward(rays @ self.rotation)
        period = self.kind.period
        if period is not None:
            middle = (self.left + self.right) / 2
            x = plane[..., 0]
            plane = np.stack([x - period * np.round((x - middle) / period), plane[..., 1]], -1)
        if self.mesh is not None:
            plane = self.mesh.forward(plane)
        px = (plane[..., 0] - self.left) / (self.right - self.left) * self.width - 0.5
        py = (plane[..., 1] - self.top) / (self.bottom - self.top) * self.height - 0.5
        return np.stack([px, py], -1)

    def drawn(self, region: Region) -> NDArray[np.bool_] | None:
        """Which pixels (h, w) of a region the projection draws; None for all."""
        if not np.isfinite(self.kind.half_radius):
            return None
        x, y = np.arange(region.width) + region.left, np.arange(region.height) + region.top
        return self.kind.drawn(self.plane(np.stack(np.meshgrid(x, y), -1).astype(np.float64)))

    def frame_pixels(self, frame: Posed):
        """The map from this canvas's pixels to a frame's."""
        return lambda points: frame.project(self.rays(points))
