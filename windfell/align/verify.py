"""Whether matches that agree on a geometry prove that two frames show the same, with a criterion that can say no."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.later import Later

special = Later("scipy.special")

Array = NDArray[np.float64]

TOLERANCE = 1 / 260
LEAST_INLIERS = 10
LOG_CHANCE = -8.0


def objection(
    homography: Array, pa: Array, pb: Array, inlier: NDArray, tolerance: float,
    fa: Features, fb: Features,
) -> str | None:
    """Why matches `pa`, `pb` (n, 2) px, of which a homography explains the `inlier`, prove nothing, or None."""
    count = int(inlier.sum())
    if count < LEAST_INLIERS:
        return f"only {count} features agree on where they lie"
    chance = log_false_alarms(len(pa), count, np.pi * tolerance**2 / (fb.width * fb.height))
    if chance > LOG_CHANCE:
        return f"{count} of {len(pa)} features agree, which chance could do"
    if not plausible(homography, pa[inlier]):
        return "the frames would have to be mirrored or torn to fit"
    for points, frame in ((pa[inlier], fa), (pb[inlier], fb)):
        if _spread(points) < 0.012 * max(frame.width, frame.height):
            return "all that agrees lies on one spot or line"
    return None


def log_false_alarms(n: int, k: int, probability: float) -> float:
    """log10 of the expected number of homographies that k of n matches fit by chance.

    An a-contrario criterion (Moisan & Stival 2004, eq. 9) with samples of four.
    """
    def log_choose(top: int, bottom: int) -> float:
        log = special.gammaln
        return (log(top + 1) - log(bottom + 1) - log(top - bottom + 1)) / np.log(10)

    if k <= 4:
        return 0.0
    return float(
        np.log10(n - 4) + log_choose(n, k) + log_choose(k, 4) + (k - 4) * np.log10(probability)
    )


def plausible(h: Array, points: Array) -> bool:
    """Orientation kept, and scale between 1/4 and 4, at all but a few inliers far aside."""
    w = points @ h[2, :2] + h[2, 2]
    side = np.sign(np.median(w))
    w = w * side
    area = side * np.linalg.det(h) / np.maximum(w, 1e-9) ** 3
    return bool(np.mean((w > 1e-9) & (area > 1 / 16) & (area < 16)) > 0.97)


def _spread(points: Array) -> float:
    """The lesser standard deviation of points, px."""
    return float(np.sqrt(max(0.0, np.linalg.eigvalsh(np.cov(points.T))[0])))
