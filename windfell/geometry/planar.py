"""Homographies of pixel coordinates. Pixel centres at integers."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

OUTER = 3.0


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


def overlap(onto: Array) -> float:
    """The greater share of two frames that a homography (3, 3) of their fractions lays on each other."""
    square = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float)
    with np.errstate(divide="ignore", invalid="ignore"):
        corners = apply(onto, square)
    if not np.all(np.isfinite(corners)) or np.abs(corners).max() > 20:
        return 0.0
    area = cv2.contourArea(corners.astype(np.float32))
    if area < 1e-3:
        return 0.0
    shared, _ = cv2.intersectConvexConvex(corners.astype(np.float32), square.astype(np.float32))
    return float(min(1.0, shared / min(1.0, area)))


def without_lone(points: Array, outer: float = OUTER) -> Array:
    """Points (n, 2) without those that lie so many times as far from the middle as most."""
    away = np.linalg.norm(points - np.median(points, axis=0), axis=1)
    return points[away <= outer * np.median(away) + 1]


def hull(points: Array) -> NDArray[np.float32]:
    """The convex hull (m, 1, 2) of points (n, 2), lone ones far from all others left out."""
    return cv2.convexHull(without_lone(points).astype(np.float32))


def amid(hull: NDArray[np.float32], points: Array) -> NDArray[np.bool_]:
    """(n,): whether points (n, 2) lie in a hull or on its rim."""
    return np.array([cv2.pointPolygonTest(hull, (float(x), float(y)), False) >= 0 for x, y in points], bool)


def spread(points: Array) -> float:
    """The area, px², of the hull of points (n, 2)."""
    return float(cv2.contourArea(hull(points)))


def of_fractions(h: Array, size_a: tuple[int, int], size_b: tuple[int, int]) -> Array:
    """A homography of px of one frame to px of another, each (width, height), as one of their fractions 0..1."""
    return np.diag([1 / size_b[0], 1 / size_b[1], 1.0]) @ h @ np.diag([size_a[0], size_a[1], 1.0])
