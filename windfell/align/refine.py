"""Matches refined to a fraction of a pixel: the light around a point in one frame laid on the other's.

Patches are sampled along the geometry that is known already, so that only a small shift is left (`patches.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras, carried
from windfell.align.features import ranks_within
from windfell.align.patches import HALF, RUN, SEARCH, Shifts, patch_offsets, patch_shifts, steps_seen, together
from windfell.align.view import View
from windfell.job import Job

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

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
    ends = np.cumsum([len(o.points_a) for o in filled])
    grids = np.split(_grids(cameras, filled), ends[:-1])
    patches_a: dict[int, F32] = {}
    patches_b: dict[int, F32] = {}
    scales = np.ones(cameras.count)

    def sample(n: int) -> None:
        seen = view(n)
        scales[n] = seen.scale
        for k, o in enumerate(filled):
            if o.a == n:
                patches_a[k] = seen.at(o.points_a[:, None, None] + patch_offsets(HALF) / seen.scale)

    def sample_other(n: int) -> None:
        seen = view(n)
        for k, o in enumerate(filled):
            if o.b == n:
                reach = patch_offsets(HALF + SEARCH + 2) / scales[o.a]
                patches_b[k] = seen.at(o.points_b[:, None, None] + steps_seen(grids[k], reach))

    job.map(sample, sorted({o.a for o in filled}), "looking closely")
    job.map(sample_other, sorted({o.b for o in filled}), "looking closely")
    one, other = (np.concatenate([p.pop(k) for k in range(len(filled))]) for p in (patches_a, patches_b))
    runs = job.map(lambda n: patch_shifts(one[n : n + RUN], other[n : n + RUN]), range(0, len(one), RUN),
                   "refining points")
    found = together(runs)
    parts = [found.part(slice(end - len(o.points_a), end)) for o, end in zip(filled, ends, strict=True)]
    moved = iter([_moved(o, grids[k], scales[o.a], parts[k]) for k, o in enumerate(filled)])
    return [next(moved) if len(o.points_a) else o for o in observations]


def _grids(cameras: Cameras, observations: Sequence[Observations]) -> Array:
    """(m, 2, 2): how a small step in `a` is seen in `b`, by the cameras, of all points in order."""
    counts = [len(o.points_a) for o in observations]
    a, b = (np.repeat(frames, counts) for frames in zip(*((o.a, o.b) for o in observations), strict=True))
    points = np.concatenate([o.points_a for o in observations])
    columns = [(carried(cameras, a, b, points + d) - carried(cameras, a, b, points - d)) / (2 * STEP)
               for d in (np.array([STEP, 0]), np.array([0, STEP]))]
    return np.stack(columns, axis=-1)


def _moved(o: Observations, grid: Array, scale: float, found: Shifts) -> Observations:
    sure = (found.likeness > LEAST_LIKENESS) & (found.error < MOST_ERROR)
    step = np.einsum("mij,mj->mi", grid, found.shift / scale)
    error = np.hypot(found.error, FLOOR) / scale
    weight = (0.1 / np.where(np.isfinite(error), error, 1e6)) ** 2
    return replace(o, points_b=o.points_b + step, weight=weight).chosen(sure)
