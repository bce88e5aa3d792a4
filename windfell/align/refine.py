"""Matches refined to a fraction of a pixel: the light around a point in one frame laid on the other's.

Patches are sampled along the geometry that is known already, so that only a small shift is left. It is
searched for by normalised correlation, then solved by least squares on the patches' gradients (Lucas &
Kanade 1981), with the mean of both patches' gradients, which takes away the error of first order.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras, carried
from windfell.align.features import ranks_within
from windfell.job import Job

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

HALF, SEARCH = 8, 5
ROUNDS = 4
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


@dataclass(frozen=True)
class Shifts:
    """What was found for m pairs of patches: shifts (m, 2) in patch px, likeness (m,) -1..1, and
    the expected error (m,) in patch px, inf where nothing was found.
    """

    shift: Array
    likeness: Array
    error: Array


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


def patch_offsets(half: int) -> Array:
    steps = np.arange(-half, half + 1, dtype=float)
    return np.stack(np.meshgrid(steps, steps), axis=-1)


def steps_seen(grids: Array, steps: Array) -> Array:
    """(m, h, w, 2): `steps` (h, w, 2) as each of `grids` (m, 2, 2) shows them."""
    return (steps.reshape(-1, 2) @ grids.transpose(0, 2, 1)).reshape(len(grids), *steps.shape)


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


def patch_shifts(one: F32, other: F32) -> Shifts:
    """How far the light of patches `one` (m, k, k) lies in `other` (m, k + 2 r, k + 2 r), in px."""
    m, k = len(one), one.shape[1]
    if m == 0:
        return Shifts(np.zeros((0, 2)), np.zeros(0), np.zeros(0))
    margin = (other.shape[1] - k) // 2
    window = _window(k).astype(np.float32)
    fair = np.isfinite(one).all((1, 2)) & np.isfinite(other).all((1, 2))
    one = np.where(fair[:, None, None], one, 0).astype(np.float32)
    other = np.where(fair[:, None, None], other, 0).astype(np.float32)
    normal_one = _normalised(one, window)
    start = _searched(one, other, min(SEARCH, margin - 2))
    shift = start.astype(float)
    error = np.full(m, np.inf)
    for _ in range(ROUNDS):
        there = _normalised(_shifted(other, shift, k), window)
        slope = 0.5 * (normal_one + there)
        gy, gx = np.gradient(slope, axis=(1, 2))
        off = normal_one - there
        xx, xy, yy, bx, by = (
            np.einsum("myx,myx,yx->m", p, q, window, dtype=np.float64)
            for p, q in ((gx, gx), (gx, gy), (gy, gy), (gx, off), (gy, off)))
        det = np.maximum(xx * yy - xy * xy, 1e-12)
        step = np.stack([(yy * bx - xy * by) / det, (xx * by - xy * bx) / det], axis=-1)
        shift = shift + np.clip(step, -0.7, 0.7)
        shift = np.clip(shift, start - 1.5, start + 1.5)
        left = np.einsum("myx,myx,yx->m", off, off, window, dtype=np.float64) / np.sum(window)
        # neighbouring pixels err alike: a quarter of them count
        error = np.sqrt(4 * left * (xx + yy) / det)
    there = _normalised(_shifted(other, shift, k), window)
    likeness = np.sum(window * normal_one * there, axis=(1, 2)) / np.sum(window)
    inner = np.abs(shift).max(axis=1) < SEARCH + 0.6
    return Shifts(shift, np.where(fair & inner, likeness, -1.0), np.where(fair & inner, error, np.inf))


def _window(k: int) -> Array:
    x = np.arange(k) - (k - 1) / 2
    g = np.exp(-0.5 * (x / (k / 3)) ** 2)
    return np.outer(g, g)


def _normalised(p: F32, window: F32) -> F32:
    """Patches with weighted mean and slope 0 and deviation 1: what darkens towards a corner moves nothing."""
    k = p.shape[1]
    x = np.arange(k, dtype=np.float32) - (k - 1) / 2
    planes = np.stack([np.ones((k, k), np.float32), np.broadcast_to(x, (k, k)), np.broadcast_to(x[:, None], (k, k))])
    planes /= np.sqrt(np.sum(planes * planes * window, axis=(1, 2), keepdims=True))
    flat, basis = p.reshape(len(p), -1), planes.reshape(3, -1)
    weight = window.reshape(-1)
    flat = flat - (flat @ (basis * weight).T) @ basis
    deviation = np.sqrt((flat * flat) @ weight / np.sum(weight) + 1e-9)
    return (flat / deviation[:, None]).reshape(p.shape)


def _searched(one: F32, other: F32, reach: int) -> NDArray[np.intp]:
    """The best whole shift (m, 2) within `reach` by normalised correlation."""
    margin = (other.shape[1] - one.shape[1]) // 2
    room = slice(margin - reach, other.shape[1] - margin + reach)
    at = np.zeros((len(one), 2), int)
    for n in range(len(one)):
        score = cv2.matchTemplate(other[n, room, room], one[n], cv2.TM_CCOEFF_NORMED)
        at[n] = cv2.minMaxLoc(score)[3]
    return at - reach


def _shifted(other: F32, shift: Array, k: int) -> F32:
    """The middle (m, k, k) of patches looked at `shift` px aside (cubic convolution, Keys 1981)."""
    margin = (other.shape[1] - k) // 2
    whole = np.floor(shift).astype(int)
    corner = np.clip(whole + margin - 1, 0, other.shape[1] - k - 3)
    near = np.empty((len(other), k + 3, k + 3), np.float32)
    for n, (x, y) in enumerate(corner):
        near[n] = other[n, y : y + k + 3, x : x + k + 3]
    wx, wy = (_cubic(shift[:, c] - whole[:, c]).astype(np.float32)[:, :, None, None] for c in (0, 1))
    across = sum(wx[:, i] * near[:, :, i : i + k] for i in range(4))
    return sum(wy[:, i] * across[:, i : i + k] for i in range(4))


def _cubic(t: Array) -> Array:
    """(m, 4) weights of the four neighbours at fractions `t`."""
    t2, t3 = t * t, t * t * t
    return np.stack([-0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1,
                     -1.5 * t3 + 2 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2], axis=-1)


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
