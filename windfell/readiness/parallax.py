"""Parallax suspected: near things that shift together against far ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.geometry import planar

Array = NDArray[np.float64]

FARTHEST = 0.09
NEAREST = 1.6
LEAST_POINTS, LEAST_SHARE = 10, 0.06
LEAST_SPREAD = 0.08


def sideways_shift(
    points_a: Array, points_b: Array, onto: Array, tolerance: float, side: float
) -> float:
    """How far a second depth lies off what the homography `onto` explains, px; 0 if there is none.

    Of the matches it does not explain, those that are off by about the same vector, and spread
    over the frame as a thing that walked is not, speak for a camera that was moved sideways.
    """
    off = points_b - planar.apply(onto, points_a)
    size = np.linalg.norm(off, axis=1)
    near = (size > NEAREST * tolerance) & (size < FARTHEST * side)
    if near.sum() < LEAST_POINTS:
        return 0.0
    best = np.zeros(len(off), bool)
    for n in np.flatnonzero(near):
        alike = near & (np.linalg.norm(off - off[n], axis=1) < 0.3 * size[n] + 0.5 * tolerance)
        if alike.sum() > best.sum():
            best = alike
    count = int(best.sum())
    if count < max(LEAST_POINTS, LEAST_SHARE * len(off)):
        return 0.0
    spread = float(np.sqrt(np.linalg.eigvalsh(np.cov(points_a[best].T))[1]))
    return float(np.median(size[best])) if spread > LEAST_SPREAD * side else 0.0
