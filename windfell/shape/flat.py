"""Flat canvases that look where they are needed: around rays, as the tangent plane shows them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.rotation import from_yaw_pitch_roll

Array = NDArray[np.float64]

WIDEST, AHEAD = 2.5, 0.15


def looking(ray: Array) -> Array:
    """(3, 3): a level view along a ray."""
    x, y, z = ray / max(np.linalg.norm(ray), 1e-12)
    return from_yaw_pitch_roll(float(np.arctan2(x, z)), float(np.arcsin(np.clip(-y, -1, 1))), 0.0)


def flat_extent(rays: Array, view: Array) -> tuple[Array, Array] | None:
    """The (low, high) corners (2,) of what rays (n, 3) span on the plane before a view, held within what a flat
    canvas can show; None if all lie behind it.
    """
    seen = rays @ view
    seen = seen[seen[:, 2] > AHEAD]
    if not len(seen):
        return None
    plane = np.clip(seen[:, :2] / seen[:, 2:], -WIDEST, WIDEST)
    return plane.min(axis=0), plane.max(axis=0)
