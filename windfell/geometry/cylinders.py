"""Projections onto cylinders: longitude along, a function of latitude across."""

from __future__ import annotations

import numpy as np

from windfell.geometry.projection import Array, Projection


class Cylindrical(Projection):
    """An upright cylinder seen from its axis (central cylindrical). Verticals stay straight and upright."""

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


class TransverseCylindrical(Projection):
    """A cylinder lying across the view, seen from its axis. What runs across stays straight in the tallest sweep."""

    name = "transverse-cylindrical"
    title = "Transverse cylindrical"
    suits = "tall sweeps of moderate width"
    half_width = float(np.tan(np.radians(66)))
    half_height = float(np.pi)

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        with np.errstate(divide="ignore"):
            return np.stack([x / np.hypot(y, z), np.arctan2(y, z)], -1)

    def backward(self, plane: Array) -> Array:
        t, lat = np.moveaxis(plane, -1, 0)
        return np.stack([t, np.sin(lat), np.cos(lat)], -1) / np.sqrt(1 + t * t)[..., None]


class Mercator(Projection):
    """Mercator's map of the sphere (Snyder 1987, ch. 7). Small shapes keep their form; the poles have no place."""

    name = "mercator"
    title = "Mercator"
    suits = "very wide views with small things high up or low down that must keep their form"
    half_width = float(np.pi)
    half_height = float(np.arcsinh(np.tan(np.radians(78))))
    period = float(2 * np.pi)

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        with np.errstate(divide="ignore"):
            return np.stack([np.arctan2(x, z), np.arcsinh(y / np.hypot(x, z))], -1)

    def backward(self, plane: Array) -> Array:
        lon, t = np.moveaxis(plane, -1, 0)
        return np.stack([np.sin(lon), np.sinh(t), np.cos(lon)], -1) / np.cosh(t)[..., None]


class Miller(Projection):
    """Miller's compressed cylinder (Snyder 1987, ch. 11): Mercator's at four fifths of the latitude, so that even
    the poles are drawn.
    """

    name = "miller"
    title = "Miller"
    suits = "wide and tall views: between a cylinder and evenly unrolled"
    half_width = float(np.pi)
    half_height = float(1.25 * np.arcsinh(np.tan(0.4 * np.pi)))
    period = float(2 * np.pi)

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        lat = np.arctan2(y, np.hypot(x, z))
        return np.stack([np.arctan2(x, z), 1.25 * np.arcsinh(np.tan(0.8 * lat))], -1)

    def backward(self, plane: Array) -> Array:
        lon, t = np.moveaxis(plane, -1, 0)
        lat = 1.25 * np.arctan(np.sinh(0.8 * t))
        c = np.cos(lat)
        return np.stack([np.sin(lon) * c, np.sin(lat), np.cos(lon) * c], -1)


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


class Pannini(Projection):
    """The general Pannini (Sharpless, Postle & German 2010): a cylinder seen from `distance` behind its axis,
    0 the tangent plane, 1 the classic one; `squeeze` draws level lines before the viewer straighter, 1 wholly.

    Verticals stay straight and upright, and so does what runs to the middle.
    """

    name = "pannini"
    title = "Pannini"
    suits = "streets and rooms, 80° to 150° wide: verticals and lines to the middle stay straight"
    parameters = ("pannini_distance", "pannini_squeeze")

    def __init__(self, distance: float = 1.0, squeeze: float = 0.0) -> None:
        self.distance, self.squeeze = float(distance), float(squeeze)
        widest = np.radians(66.0 + 54.0 * self.distance)
        if self.squeeze > 0:
            widest = min(widest, np.radians(78.0))
        self._widest = float(widest)
        self.half_width = float(self._reach(np.cos(widest)) * np.sin(widest))
        self.half_height = float(np.tan(np.radians(66)))

    def at(self, *values: float) -> Pannini:
        return Pannini(*values)

    def _reach(self, cosine: Array) -> Array:
        return (self.distance + 1) / (self.distance + cosine)

    def _height(self, cosine: Array) -> Array:
        """How much higher than its tangent a latitude is drawn."""
        reach = self._reach(cosine)
        return reach if self.squeeze == 0 else (1 - self.squeeze) * reach + self.squeeze / cosine

    def forward(self, rays: Array) -> Array:
        x, y, z = np.moveaxis(rays, -1, 0)
        flat = np.hypot(x, z)
        with np.errstate(divide="ignore", invalid="ignore"):
            cosine = z / flat
            seen = cosine > (max(-0.9 * self.distance, np.cos(self._widest) - 0.3) if self.squeeze == 0 else 0.02)
            cosine = np.where(seen, cosine, np.nan)
            plane = np.stack([self._reach(cosine) * x / flat, self._height(cosine) * y / flat], -1)
        return np.where(np.isfinite(plane).all(-1, keepdims=True), plane, np.inf)

    def backward(self, plane: Array) -> Array:
        px, py = np.moveaxis(plane, -1, 0)
        d = self.distance
        k = (px / (d + 1)) ** 2
        inner = np.sqrt(np.maximum(k * k * d * d - (k + 1) * (k * d * d - 1), 0.0))
        cosine = (inner - k * d) / (k + 1)
        sine = px / self._reach(cosine)
        with np.errstate(divide="ignore", invalid="ignore"):
            tangent = py / self._height(cosine)
        return np.stack([sine, tangent, cosine], -1) / np.sqrt(1 + tangent * tangent)[..., None]
