"""A camera in the world: its lens, where it looks, and, before a flat subject, where it stands."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.bend import Bend
from windfell.geometry.camera import Lens

Array = NDArray[np.float64]

GRAZING = 0.1


@dataclass(frozen=True)
class Posed:
    """A frame's lens and camera-to-world rotation (3, 3).

    `place` (3,) None: the camera only turned, and the world is directions. Else it stood there before a
    flat subject at z = 1, whose spots (x, y) stand for the directions (x, y, 1). `bend`: how far its px, those
    of a lens without optics, drift from there; None for not at all.
    """

    lens: Lens
    rotation: Array
    place: Array | None = None
    bend: Bend | None = None

    def rays(self, points: Array) -> Array:
        """World rays (..., 3) of the frame's px (..., 2); NaN where a flat subject is not met, or just grazed."""
        if self.bend is not None:
            points = self.lens.bent(self.bend.undone(self.lens.ideal(points)))
        rays = self.lens.rays(points) @ self.rotation.T
        if self.place is None:
            return rays
        with np.errstate(divide="ignore", invalid="ignore"):
            reach = (1.0 - self.place[2]) / np.where(rays[..., 2] > GRAZING, rays[..., 2], np.nan)
        spots = self.place + rays * reach[..., None]
        return spots / np.linalg.norm(spots, axis=-1, keepdims=True)

    def project(self, rays: Array) -> Array:
        """The frame's px (..., 2) where world rays (..., 3) are seen; NaN where they are not."""
        points = self._straight(rays)
        if self.bend is None:
            return points
        ideal = self.lens.ideal(points)
        return self.lens.bent(ideal + self.bend.at(ideal))

    def _straight(self, rays: Array) -> Array:
        if self.place is None:
            return self.lens.project(rays @ self.rotation)
        with np.errstate(divide="ignore", invalid="ignore"):
            z = np.where(rays[..., 2] > 1e-9, rays[..., 2], np.nan)
        return self.lens.project((rays / z[..., None] - self.place) @ self.rotation)

    def scaled(self, width: int, height: int) -> Posed:
        """The same for the frame resized to width x height px."""
        bend = self.bend and self.bend.scaled(width, height)
        return replace(self, lens=self.lens.scaled(width, height), bend=bend)

    @property
    def px_per_unit(self) -> float:
        """px per rad, or per unit of a flat subject, in the frame's middle."""
        away = 1.0 if self.place is None else max(1e-3, 1.0 - float(self.place[2]))
        return self.lens.focal_px / away
