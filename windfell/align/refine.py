"""Matches refined to a fraction of a pixel: the light around a point in one frame laid on the other's.

Patches are sampled along the geometry that is known already, so that only a small shift is left (`patches.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras, carried
from windfell.align.features import ranks_within
from windfell.align.patches import HALF, SEARCH, Shifts, patch_offsets, patch_shifts, steps_seen
from windfell.job import Job

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

LEAST_LIKENESS = 0.75
MOST_ERROR = 0.35
FLOOR = 0.08
STEP = 4.0
MOST_POINTS, LINK_MOST, LINK_LEAST = 3_500, 150, 40
SPOTS_ALONG, CROWD = 16, 2


class View(Protocol):
    """A frame's light for matching; `scale` is its own px per px of the frame's full size."""

    scale: float

    def at(self, points: Array) -> F32:
        """Values (...) at ideal px (..., 2) of the full size."""
        ...


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
    grids = [_grids(cameras, o) for o in observations]
    patches_a: dict[int, F32] = {}
    patches_b: dict[int, F32] = {}
    scales = np.ones(cameras.count)

    def sample(n: int) -> None:
        seen = view(n)
        scales[n] = seen.scale
        for k, o in enumerate(observations):
            if o.a == n:
                patches_a[k] = seen.at(o.points_a[:, None, None] + patch_offsets(HALF) / seen.scale)

    def sample_other(n: int) -> None:
        seen = view(n)
        for k, o in enumerate(observations):
            if o.b == n:
                reach = patch_offsets(HALF + SEARCH + 2) / scales[o.a]
                patches_b[k] = seen.at(o.points_b[:, None, None] + steps_seen(grids[k], reach))

    first = sorted({o.a for o in observations})
    other = sorted({o.b for o in observations})
    job.map(sample, first, "looking closely")
    job.map(sample_other, other, "looking closely")
    found = job.map(lambda k: patch_shifts(patches_a[k], patches_b[k]), list(range(len(observations))),
                    "refining points")
    return [_moved(o, grids[k], scales[o.a], found[k]) for k, o in enumerate(observations)]


def _grids(cameras: Cameras, o: Observations) -> Array:
    """(m, 2, 2): how a small step in `a` is seen in `b`, by the cameras."""
    n = len(o.points_a)
    a, b = np.full(n, o.a), np.full(n, o.b)
    columns = [(carried(cameras, a, b, o.points_a + d) - carried(cameras, a, b, o.points_a - d)) / (2 * STEP)
               for d in (np.array([STEP, 0]), np.array([0, STEP]))]
    return np.stack(columns, axis=-1)


def _moved(o: Observations, grid: Array, scale: float, found: Shifts) -> Observations:
    sure = (found.likeness > LEAST_LIKENESS) & (found.error < MOST_ERROR)
    step = np.einsum("mij,mj->mi", grid, found.shift / scale)
    error = np.hypot(found.error, FLOOR) / scale
    weight = (0.1 / np.where(np.isfinite(error), error, 1e6)) ** 2
    return replace(o, points_b=o.points_b + step, weight=weight).chosen(sure)


class GreyView:
    """A view on a grey picture; `onto` takes ideal px of the full size to the frame's own."""

    def __init__(self, grey: F32, width: int, onto: Callable[[Array], Array] | None = None) -> None:
        self._grey, self._onto = grey, onto
        self.scale = grey.shape[1] / width

    @property
    def nbytes(self) -> int:
        return self._grey.nbytes

    def small(self, longest: int) -> tuple[F32, float]:
        """The frame's own picture of at most `longest` px, and its px per px of the full size."""
        k = min(1.0, longest / max(self._grey.shape))
        size = (max(1, round(self._grey.shape[1] * k)), max(1, round(self._grey.shape[0] * k)))
        return cv2.resize(self._grey, size, interpolation=cv2.INTER_AREA), self.scale * size[0] / self._grey.shape[1]

    def at(self, points: Array) -> F32:
        """NaN beyond the frame."""
        own = points if self._onto is None else self._onto(points)
        own = (own + 0.5) * self.scale - 0.5
        flat = np.nan_to_num(own.reshape(-1, own.shape[-2], 2), nan=-1e4).astype(np.float32)
        out = np.empty(flat.shape[:2], np.float32)
        for top in range(0, len(flat), 8192):
            part = flat[top : top + 8192]
            x, y = np.ascontiguousarray(part[..., 0]), np.ascontiguousarray(part[..., 1])
            seen = cv2.remap(self._grey, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101)
            inside = (x >= 0) & (x <= self._grey.shape[1] - 1) & (y >= 0) & (y <= self._grey.shape[0] - 1)
            out[top : top + 8192] = np.where(inside, seen, np.nan)
        return out.reshape(own.shape[:-1])
