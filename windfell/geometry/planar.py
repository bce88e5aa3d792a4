"""Homographies of pixel coordinates. Pixel centres at integers."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def apply(h: Array, points: Array) -> Array:
    """Points (..., 2) carried through the (3, 3) homography."""
    p = points @ h[:2, :2].T + h[:2, 2]
    return p / (points @ h[2, :2] + h[2, 2])[..., None]


def ahead(h: Array, points: Array) -> Array:
    """As `apply`, of a homography whose sign is that of what it was made of; NaN for points it has behind."""
    w = points @ h[2, :2] + h[2, 2]
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where((w > 0)[..., None], apply(h, points), np.nan)


def resized(from_size: tuple[int, int], to_size: tuple[int, int]) -> Array:
    """The (3, 3) map of pixels when a picture of from_size (w, h) is resized to to_size."""
    sx, sy = to_size[0] / from_size[0], to_size[1] / from_size[1]
    return np.array([[sx, 0, 0.5 * sx - 0.5], [0, sy, 0.5 * sy - 0.5], [0, 0, 1.0]])


def corner_shift(h: Array, width: int, height: int) -> float:
    """The farthest, in px, that the homography moves a corner of a width x height frame."""
    corners = np.array([[0, 0], [width - 1, 0], [0, height - 1], [width - 1, height - 1]], float)
    return float(np.max(np.linalg.norm(apply(h, corners) - corners, axis=-1)))
