"""Matches refined to a fraction of a pixel: the light around a point in one frame laid on the other's.

Patches are sampled along the geometry that is known already, so that only a small shift is left (`patches.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import pairwise
from math import ceil

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations, laid_out
from windfell.align.cameras import Cameras, carried
from windfell.align.features import ranks_within
from windfell.align.patches import (
    HALF,
    RUN,
    SEARCH,
    Shifts,
    burnt_alike,
    patch_offsets,
    patch_shifts,
    steps_seen,
    together,
)
from windfell.align.view import View
from windfell.job import CORES, Job

Array = NDArray[np.float64]
Ints = NDArray[np.intp]

LEAST_LIKENESS = 0.75
MOST_ERROR = 0.35
FLOOR = 0.08
STEP = 4.0
MOST_POINTS, LINK_MOST, LINK_LEAST = 3_500, 100, 40
SPOTS_ALONG, CROWD = 16, 2


def thinned(observations: Sequence[Observations], most: int = MOST_POINTS) -> list[Observations]:
    """Each link's share of `most` points in all, spread over what its frames share; they come strongest first."""
    share = int(np.clip(most // max(1, len(observations)), LINK_LEAST, LINK_MOST))
    return [o if len(o.points_a) <= LINK_LEAST else o.chosen(_spread(o.points_a, share)) for o in observations]


def _spread(points: Array, most: int) -> NDArray[np.intp]:
    """Indices of at most so many of the points (n, 2): the first of every spot, then the second, and so on; where
    there are enough, no spot has more than CROWD.
    """
    low = points.min(axis=0)
    spot = np.floor((points - low) / (np.ptp(points, axis=0).max() / SPOTS_ALONG + 1e-9)).astype(int)
    rank = ranks_within(spot[:, 1] * (SPOTS_ALONG + 1) + spot[:, 0])
    most = max(min(most, LINK_LEAST), min(most, int(np.sum(rank < CROWD))))
    return np.sort(np.argsort(rank, kind="stable")[:most])


def refined(
    observations: Sequence[Observations], cameras: Cameras, view: Callable[[int], View], job: Job
) -> list[Observations]:
    """The observations with points of `b` moved to where the light agrees best, unsure ones left out.

    `view(n)` gives a camera's frame; each is asked for once. `weight` becomes the inverse of each point's
    expected error squared, 1 for 0.1 px at full size.
    """
    filled = [o for o in observations if len(o.points_a)]
    if not filled:
        return list(observations)
    counts = [len(o.points_a) for o in filled]
    ends = np.cumsum(counts)
    a, b, points_a, points_b = laid_out(filled)
    grids, bends = _seen_around(cameras, a, b, points_a)
    near, far = (patch_offsets(half).astype(np.float32) for half in (HALF, HALF + SEARCH + 2))
    one, other = (np.empty((len(a), *steps.shape[:2]), np.float32) for steps in (near, far))
    scales = np.ones(cameras.count)

    def sample(n: int) -> None:
        seen, own = view(n), a == n
        scales[n] = seen.scale
        one[own] = seen.at(points_a[own].astype(np.float32)[:, None, None] + near / np.float32(seen.scale))

    def sample_other(n: int) -> None:
        seen, own = view(n), b == n
        fine = scales[a[own], None, None]
        steps = steps_seen((grids[own] / fine).astype(np.float32), far, (bends[own] / fine**2).astype(np.float32))
        other[own] = seen.at(points_b[own].astype(np.float32)[:, None, None] + steps)

    job.map(sample, np.unique(a).tolist(), "looking closely")
    job.map(sample_other, np.unique(b).tolist(), "looking closely")
    runs = [slice(end - count, end) for end, count in zip(ends, counts, strict=True)]
    for r in runs:
        one[r], other[r] = burnt_alike(one[r], other[r])
    edges = np.linspace(0, len(one), CORES * ceil(len(one) / (CORES * RUN)) + 1).astype(int)
    found = together(job.map(lambda r: patch_shifts(one[r[0] : r[1]], other[r[0] : r[1]]), list(pairwise(edges)),
                             "refining points"))
    moved = iter([_moved(o, grids[r], scales[o.a], found.part(r)) for o, r in zip(filled, runs, strict=True)])
    return [next(moved) if len(o.points_a) else o for o in observations]


def _seen_around(cameras: Cameras, a: Ints, b: Ints, points: Array) -> tuple[Array, Array]:
    """How a small step at points (m, 2) of frames `a` (m,) is seen in frames `b` (m,), by the cameras: (m, 2, 2) its
    derivatives, and the second ones (m, 2, 3) by x twice, by x and y, by y twice.

    Without these, what lies at the side of a patch would pull its middle aside, by a hundredth of a px in rows.
    """
    x, y = np.array([STEP, 0]), np.array([0, STEP])
    at, right, left, below, above, corner = (carried(cameras, a, b, points + d) for d in (0 * x, x, -x, y, -y, x + y))
    first = np.stack([right - left, below - above], axis=-1) / (2 * STEP)
    second = np.stack([right + left - 2 * at, corner - right - below + at, below + above - 2 * at], axis=-1) / STEP**2
    return first, second


def _moved(o: Observations, grid: Array, scale: float, found: Shifts) -> Observations:
    sure = (found.likeness > LEAST_LIKENESS) & (found.error < MOST_ERROR)
    step = np.einsum("mij,mj->mi", grid, found.shift / scale)
    error = np.hypot(found.error, FLOOR) / scale
    weight = (0.1 / np.where(np.isfinite(error), error, 1e6)) ** 2
    return replace(o, points_b=o.points_b + step, weight=weight).chosen(sure)
