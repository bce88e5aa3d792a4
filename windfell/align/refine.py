"""Matches refined to a fraction of a pixel: the light around a point in one frame laid on the other's.

Patches are sampled along the geometry that is known already, so that only a small shift is left (`patches.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
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
    seen_around,
    steps_seen,
    together,
)
from windfell.align.view import View
from windfell.job import CORES, Job

Array = NDArray[np.float64]
Ints = NDArray[np.intp]

FLOOR = 0.08
SURER, AGREE = 0.7, 4.0
MOST_POINTS, LINK_MOST, LINK_LEAST = 3_500, 100, 40
SPOTS_ALONG, CROWD = 16, 2
LEAST_LIGHT, LEAST_PATCHES = 4.0, 6


def thinned(observations: Sequence[Observations], most: int = MOST_POINTS) -> list[Observations]:
    """Each link's share of `most` points in all, spread over what its frames share; they come strongest first."""
    share = share_of_each(len(observations), most)
    return [o if len(o.points_a) <= LINK_LEAST else o.chosen(_spread(o.points_a, share)) for o in observations]


def share_of_each(links: int, most: int = MOST_POINTS) -> int:
    """How many of `most` points in all are for each link."""
    return int(np.clip(most // max(1, links), LINK_LEAST, LINK_MOST))


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
    all_ = _All.of(filled, cameras)
    views = {n: view(n) for n in sorted({n for o in filled for n in (o.a, o.b)})}
    _, _, _, points = laid_out(filled)
    points, error = all_.looked_for(points, views, job)
    while any(v.closer is not None for v in views.values()):
        views = {n: v.closer or v for n, v in views.items()}
        nearer, less = all_.looked_for(points, views, job)
        apart = np.linalg.norm(nearer - points, axis=1)
        better = (less < SURER * error) & ~(apart > AGREE * error)
        points, error = np.where(better[:, None], nearer, points), np.where(better, less, error)
    found = iter([
        replace(o, points_b=points[r], weight=(0.1 / np.minimum(error[r], 1e6)) ** 2).chosen(np.isfinite(error[r]))
        for o, r in zip(filled, all_.links, strict=True)])
    return [next(found) if len(o.points_a) else o for o in observations]


def sharper_by(o: Observations, cameras: Cameras, view: Callable[[int], View]) -> float:
    """By how many halvings of the fine share of its light frame `b` shows what both share less sharply than `a`.

    The fine share is what a px's four neighbours do not foretell; the median over patches around the points that
    show anything; 0 for too few.
    """
    there = _All.of([o], cameras)
    views, offsets = (view(o.a), view(o.b)), patch_offsets(HALF).astype(np.float32)
    steps = offsets / np.float32(views[0].scale)
    one = views[0].at(o.points_a.astype(np.float32)[:, None, None] + steps)
    seen = steps_seen(there.grids.astype(np.float32), steps, there.bends.astype(np.float32))
    other = views[1].at(o.points_b.astype(np.float32)[:, None, None] + seen)
    (fine, all_), (fine_there, all_there) = _fine_and_all(one), _fine_and_all(other)
    fair = (np.fmin(all_, all_there) > LEAST_LIGHT) & (np.fmin(fine, fine_there) > 0)
    if fair.sum() < LEAST_PATCHES:
        return 0.0
    return float(np.median(np.log2(fine[fair] / all_[fair]) - np.log2(fine_there[fair] / all_there[fair])))


def _fine_and_all(patches: NDArray[np.float32]) -> tuple[Array, Array]:
    """The deviations (m,) of patches (m, k, k) from the means of each px's neighbours and from their own."""
    around = (patches[:, :-2, 1:-1] + patches[:, 2:, 1:-1] + patches[:, 1:-1, :-2] + patches[:, 1:-1, 2:]) / 4
    fine = np.sqrt(np.mean((patches[:, 1:-1, 1:-1] - around) ** 2, axis=(1, 2), dtype=float))
    return np.nan_to_num(fine), np.nan_to_num(np.std(patches, axis=(1, 2), dtype=float))


@dataclass(frozen=True)
class _All:
    """The points (n, 2) of all `links`, one behind the other, in their frames `a`, and how steps at each are seen in
    `b`: by `grids` (n, 2, 2) and `bends` (n, 2, 3).
    """

    links: tuple[slice, ...]
    a: Ints
    b: Ints
    points: Array
    grids: Array
    bends: Array

    @classmethod
    def of(cls, filled: Sequence[Observations], cameras: Cameras) -> _All:
        a, b, points, _ = laid_out(filled)
        ends = np.cumsum([0, *(len(o.points_a) for o in filled)]).tolist()
        seen = seen_around(lambda p: carried(cameras, a, b, p), points)
        return cls(tuple(slice(*ends_) for ends_ in pairwise(ends)), a, b, points, *seen)

    def looked_for(self, there: Array, views: Mapping[int, View], job: Job) -> tuple[Array, Array]:
        """Where `b` shows them (n, 2), who should be `there`, and the error to be expected (n,), px at full size: inf
        where the light says nothing, and the place as it was.
        """
        a, b = self.a, self.b
        near, far = (patch_offsets(half).astype(np.float32) for half in (HALF, HALF + SEARCH + 2))
        one, other = (np.empty((len(a), *steps.shape[:2]), np.float32) for steps in (near, far))
        scales = np.ones(max(views) + 1)
        for n, seen in views.items():
            scales[n] = seen.scale

        def sample(n: int) -> None:
            own, theirs = a == n, b == n
            if own.any():
                at = self.points[own].astype(np.float32)[:, None, None]
                one[own] = views[n].at(at + near / np.float32(scales[n]))
            if theirs.any():
                fine = scales[a[theirs], None, None]
                grids, bends = self.grids[theirs] / fine, self.bends[theirs] / fine**2
                steps = steps_seen(grids.astype(np.float32), far, bends.astype(np.float32))
                other[theirs] = views[n].at(there[theirs].astype(np.float32)[:, None, None] + steps)

        job.map(sample, list(views), "looking closely")
        for r in self.links:
            pair = one[r], other[r]
            alike = burnt_alike(*pair)
            if alike[0] is not pair[0]:
                one[r], other[r] = alike
        edges = np.linspace(0, len(one), CORES * ceil(len(one) / (CORES * RUN)) + 1).astype(int)
        found = together(job.map(lambda r: patch_shifts(one[r[0] : r[1]], other[r[0] : r[1]]), list(pairwise(edges)),
                                 "refining points"))
        step = np.einsum("mij,mj->mi", self.grids, found.shift / scales[a, None])
        error = np.hypot(found.error, FLOOR) / scales[a]
        return there + np.where(found.sure[:, None], step, 0), np.where(found.sure, error, np.inf)
