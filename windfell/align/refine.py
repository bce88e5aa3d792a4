"""Matches refined to a fraction of a pixel: the light around a point in one frame laid on the other's.

Patches are sampled along the geometry that is known already, so that only a small shift is left (`patches.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
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
STEP, SURER, AGREE = 4.0, 0.7, 4.0
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

    `view(n)` gives a camera's frame. Where there is a closer view, what it shows more surely stands: sharp light is
    found to a fraction of the finest px, soft light in a smaller picture. `weight` becomes the inverse of each
    point's expected error squared, 1 for 0.1 px at full size.
    """
    filled = [o for o in observations if len(o.points_a)]
    if not filled:
        return list(observations)
    counts = np.cumsum([len(o.points_a) for o in filled])[:-1]
    views = {n: view(n) for n in sorted({n for o in filled for n in (o.a, o.b)})}
    points, error = _looked(filled, cameras, views, job)
    while any(v.closer is not None for v in views.values()):
        views = {n: v.closer or v for n, v in views.items()}
        again = [replace(o, points_b=p) for o, p in zip(filled, np.split(points, counts), strict=True)]
        nearer, less = _looked(again, cameras, views, job)
        apart = np.linalg.norm(nearer - points, axis=1)
        better = (less < SURER * error) & ~(apart > AGREE * error)
        points, error = np.where(better[:, None], nearer, points), np.where(better, less, error)
    found = iter([
        replace(o, points_b=p, weight=(0.1 / np.minimum(e, 1e6)) ** 2).chosen(np.isfinite(e))
        for o, p, e in zip(filled, np.split(points, counts), np.split(error, counts), strict=True)])
    return [next(found) if len(o.points_a) else o for o in observations]


def _looked(
    filled: Sequence[Observations], cameras: Cameras, views: Mapping[int, View], job: Job
) -> tuple[Array, Array]:
    """Of all points, one behind the other, where `b` shows them (n, 2), and the error to be expected (n,), px at full
    size: inf where the light says nothing, and the place as it was.
    """
    counts = [len(o.points_a) for o in filled]
    ends = np.cumsum(counts)
    a, b, points_a, points_b = laid_out(filled)
    grids, bends = _seen_around(cameras, a, b, points_a)
    near, far = (patch_offsets(half).astype(np.float32) for half in (HALF, HALF + SEARCH + 2))
    one, other = (np.empty((len(a), *steps.shape[:2]), np.float32) for steps in (near, far))
    scales = np.ones(cameras.count)
    for n, seen in views.items():
        scales[n] = seen.scale

    def sample(n: int) -> None:
        own, theirs = a == n, b == n
        if own.any():
            one[own] = views[n].at(points_a[own].astype(np.float32)[:, None, None] + near / np.float32(scales[n]))
        if theirs.any():
            fine = scales[a[theirs], None, None]
            steps = steps_seen(
                (grids[theirs] / fine).astype(np.float32), far, (bends[theirs] / fine**2).astype(np.float32))
            other[theirs] = views[n].at(points_b[theirs].astype(np.float32)[:, None, None] + steps)

    job.map(sample, list(views), "looking closely")
    for r in (slice(end - count, end) for end, count in zip(ends, counts, strict=True)):
        pair = one[r], other[r]
        alike = burnt_alike(*pair)
        if alike[0] is not pair[0]:
            one[r], other[r] = alike
    edges = np.linspace(0, len(one), CORES * ceil(len(one) / (CORES * RUN)) + 1).astype(int)
    found = together(job.map(lambda r: patch_shifts(one[r[0] : r[1]], other[r[0] : r[1]]), list(pairwise(edges)),
                             "refining points"))
    sure = (found.likeness > LEAST_LIKENESS) & (found.error < MOST_ERROR)
    step = np.einsum("mij,mj->mi", grids, found.shift / scales[a, None])
    error = np.hypot(found.error, FLOOR) / scales[a]
    return points_b + np.where(sure[:, None], step, 0), np.where(sure, error, np.inf)


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
