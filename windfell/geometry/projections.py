"""Projections: unit rays to a plane and back. A new one is one class and one line below."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


class Projection:
    """Rays: float64 (..., 3), unit, x right, y down, z ahead. Plane: float64 (..., 2), y down.

    `half_width` and `half_height` bound the plane that may be drawn; `period` is the
    plane's width after which it repeats, or None.
    """

    name = ""
    title = ""
    suits = ""
    half_width = np.inf
    half_height = np.inf
    period: float | None = None

    def forward(self, rays: Array) -> Array:
        raise NotImplementedError

    def backward(self, plane: Array) -> Array:
        raise NotImplementedError


class Rectilinear(Projection):
    """The tangent plane (gnomonic; Snyder 1987, ch. 22). Straight lines stay straight."""

    name = "rectilinear"
    title = "Rectilinear"
    suits = "straight walls, views up to about 80° wide"
    half_width = half_height = float(np.tan(np.radians(66)))

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        with np.errstate(divide="ignore", invalid="ignore"):
            z = np.where(z > 1e-9, z, np.nan)
            return np.nan_to_num(np.stack([x / z, y / z], -1), nan=np.inf)

    def backward(self, plane: Array) -> Array:
        x, y = np.moveaxis(plane, -1, 0)
        return np.stack([x, y, np.ones_like(x)], -1) / np.sqrt(1 + x * x + y * y)[..., None]


class Cylindrical(Projection):
    """An upright cylinder seen from its axis. Verticals stay straight and upright."""

    name = "cylindrical"
    title = "Cylindrical"
    suits = "wide views of moderate height"
    half_width = float(np.pi)
    half_height = float(np.tan(np.radians(66)))
    period = float(2 * np.pi)

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        with np.errstate(divide="ignore"):
            return np.stack([np.arctan2(x, z), y / np.hypot(x, z)], -1)

    def backward(self, plane: Array) -> Array:
        lon, t = np.moveaxis(plane, -1, 0)
        return np.stack([np.sin(lon), t, np.cos(lon)], -1) / np.sqrt(1 + t * t)[..., None]


class Equirectangular(Projection):
    """Longitude and latitude as they are (plate carrée; Snyder 1987, ch. 12)."""

    name = "equirectangular"
    title = "Equirectangular"
    suits = "very wide and tall views, whole spheres"
    half_width = float(np.pi)
    half_height = float(np.pi / 2)
    period = float(2 * np.pi)

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        return np.stack([np.arctan2(x, z), np.arctan2(y, np.hypot(x, z))], -1)

    def backward(self, plane: Array) -> Array:
        lon, lat = np.moveaxis(plane, -1, 0)
        c = np.cos(lat)
        return np.stack([np.sin(lon) * c, np.sin(lat), np.cos(lon) * c], -1)


PROJECTIONS: dict[str, Projection] = {
    p.name: p for p in (Rectilinear(), Cylindrical(), Equirectangular())
}
