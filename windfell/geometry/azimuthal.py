"""Projections around one direction: the angle from it is drawn as a distance from the middle."""

from __future__ import annotations

import numpy as np

from windfell.geometry.projection import Array, Projection


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


class _Around(Projection):
    """`radius` of the angle from the middle, and back."""

    def radius(self, angle: Array) -> Array:
        raise NotImplementedError

    def angle(self, radius: Array) -> Array:
        raise NotImplementedError

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        off = np.hypot(x, y)
        angle = np.arctan2(off, z)
        with np.errstate(divide="ignore", invalid="ignore"):
            factor = np.where(off > 1e-12, self.radius(angle) / off, 1.0)
        plane = np.stack([x * factor, y * factor], -1)
        # straight behind is everywhere on the rim
        return np.where((angle > np.pi - 1e-9)[..., None], np.inf, plane)

    def backward(self, plane: Array) -> Array:
        x, y = np.moveaxis(plane, -1, 0)
        off = np.hypot(x, y)
        angle = self.angle(off)
        with np.errstate(divide="ignore", invalid="ignore"):
            factor = np.where(off > 1e-12, np.sin(angle) / off, 1.0)
        return np.stack([x * factor, y * factor, np.cos(angle)], -1)


class Stereographic(_Around):
    """The sphere seen from its far side (Snyder 1987, ch. 21). Small shapes keep their form; looking straight down or
    up, the whole sphere becomes a little planet.
    """

    name = "stereographic"
    title = "Stereographic"
    suits = "very wide views whose shapes must keep their form, little planets"
    half_width = half_height = half_radius = float(2 * np.tan(np.radians(140) / 2))

    def radius(self, angle: Array) -> Array:
        with np.errstate(over="ignore"):
            return 2 * np.tan(angle / 2)

    def angle(self, radius: Array) -> Array:
        return 2 * np.arctan(radius / 2)


class EquidistantFisheye(_Around):
    """Angles from the middle drawn true (azimuthal equidistant; Snyder 1987, ch. 25)."""

    name = "equidistant-fisheye"
    title = "Equidistant fisheye"
    suits = "round pictures of half the sphere and more, for domes"
    half_width = half_height = half_radius = float(np.radians(170))

    def radius(self, angle: Array) -> Array:
        return angle

    def angle(self, radius: Array) -> Array:
        return radius


class EqualAreaFisheye(_Around):
    """Areas drawn true (azimuthal equal-area; Snyder 1987, ch. 24)."""

    name = "equal-area-fisheye"
    title = "Equal-area fisheye"
    suits = "round pictures in which nothing counts more than it covers, such as canopies"
    half_width = half_height = half_radius = float(2 * np.sin(np.radians(170) / 2))

    def radius(self, angle: Array) -> Array:
        return 2 * np.sin(angle / 2)

    def angle(self, radius: Array) -> Array:
        return 2 * np.arcsin(np.clip(radius / 2, -1, 1))
