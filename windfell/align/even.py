"""Parallax evened out: frames bent a little, smoothly and bounded, so that what they share meets.

The camera did not turn about one spot, so near things are seen aside. What is left between the frames at their
shared points is spread over them as smooth drifts (as the local warps of Zaragoza et al. 2014 do for pairs, but
for all frames at once). Whether that is more than noise is asked of points that had no say in it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.registration import PanoramaRegistration
from windfell.geometry.bend import Bend, basis, typical_px
from windfell.geometry.posed import Posed
from windfell.job import Job
from windfell.later import Later

sparse = Later("scipy.sparse")
sparse_linalg = Later("scipy.sparse.linalg")

Array = NDArray[np.float64]

SPANS = 8
POINTS = 24_000
BEND_SHARE, DRIFT_SHARE, BOUND_SHARE = 1 / 500, 1 / 100, 1 / 60
NOISE_PX = 0.3
ROUNDS, TIGHTER = 8, 0.6
LEAST_POINTS = 40
ASKED = 5
LEAST_GAIN = 0.8
STEP = 2.0


@dataclass(frozen=True)
class Evened:
    """`bends` by frame number; none if they would not help. Errors (rms of the better 90 %, px, at points that had
    no say) before and after.
    """

    bends: dict[int, Bend]
    before_px: float
    after_px: float


@dataclass(frozen=True)
class _Shared:
    """Points that frames share: whose they are, their place in each, what is left between them, and how a step in
    `a` is seen in `b`; what each weighs.
    """

    a: NDArray[np.intp]
    b: NDArray[np.intp]
    points_a: Array
    points_b: Array
    left: Array
    onto: Array
    weight: Array

    def some(self, chosen: NDArray) -> _Shared:
        return _Shared(*(getattr(self, f.name)[chosen] for f in fields(self)))

    def __len__(self) -> int:
        return len(self.a)


def evened(found: PanoramaRegistration, observations: Sequence[Observations], job: Job) -> Evened:
    """The bends of the placed frames that let the observations (by frame number) meet.

    Takes also points that the registration left aside as too far off; what moved by itself is held back, since
    its neighbours do not agree.
    """
    posed = {n: found.frames[n].posed for n in found.placed}
    own = [o for o in observations if o.a in posed and o.b in posed and len(o.points_a)]
    if not own or sum(len(o.points_a) for o in own) < LEAST_POINTS:
        return Evened({}, 0.0, 0.0)
    most = POINTS // len(own)
    some = [o if len(o.points_a) <= most else o.chosen(np.linspace(0, len(o.points_a) - 1, most).astype(int))
            for o in own]
    points = _shared(posed, some)
    job.step("evening out parallax", 0.1)
    asked = np.arange(len(points)) % ASKED == 0
    trial = _fitted(posed, points.some(~asked), job)
    before = typical_px(points.left[asked])
    after = typical_px(_left(trial, points.some(asked)))
    if after > LEAST_GAIN * before:
        return Evened({}, before, before)
    return Evened(_fitted(posed, points, job), before, after)


def _shared(posed: dict[int, Posed], observations: Sequence[Observations]) -> _Shared:
    parts = []
    for o in observations:
        a, b = posed[o.a], posed[o.b]

        def carried(p: Array, a=a, b=b) -> Array:
            return b.project(a.rays(p))

        onto = np.stack([(carried(o.points_a + d) - carried(o.points_a - d)) / (2 * STEP)
                         for d in (np.array([STEP, 0]), np.array([0, STEP]))], axis=-1)
        n = len(o.points_a)
        part = _Shared(np.full(n, o.a), np.full(n, o.b), o.points_a, o.points_b,
                       carried(o.points_a) - o.points_b, onto, o.weights)
        parts.append(part.some(np.isfinite(part.left).all(1) & np.isfinite(part.onto).all((1, 2))))
    return _Shared(*(np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(_Shared)))


def _left(bends: dict[int, Bend], points: _Shared) -> Array:
    """(n, 2) px: what bends leave between the points."""
    drift_a, drift_b = np.zeros_like(points.left), np.zeros_like(points.left)
    for n, bend in bends.items():
        drift_a[points.a == n] = bend.at(points.points_a[points.a == n])
        drift_b[points.b == n] = bend.at(points.points_b[points.b == n])
    return points.left - np.einsum("nij,nj->ni", points.onto, drift_a) + drift_b


def _fitted(posed: dict[int, Posed], points: _Shared, job: Job) -> dict[int, Bend]:
    """Robust least squares: points meet, drifts are smooth and fade where no points are."""
    numbers = sorted(posed)
    bends = {n: _straight(posed[n]) for n in numbers}
    longest = max(max(b.width, b.height) for b in bends.values())
    design, stiff = _design(bends, points), _stiffness(bends, longest)
    goal = -points.left.reshape(-1)
    scale = max(3 * NOISE_PX, 3 * float(np.median(np.linalg.norm(points.left, axis=1))))
    solution = np.zeros(design.shape[1])
    for turn in range(ROUNDS):
        job.step("evening out parallax", 0.2 + 0.8 * turn / ROUNDS)
        off = np.linalg.norm((design @ solution - goal).reshape(-1, 2), axis=1)
        weight = np.repeat(points.weight / (1 + (off / scale) ** 2) ** 2 / NOISE_PX**2, 2)
        pulled = design.T @ sparse.diags(weight)
        solution = sparse_linalg.spsolve((pulled @ design + stiff).tocsc(), pulled @ goal)
        scale = max(3 * NOISE_PX, TIGHTER * scale)
    return _bounded(bends, solution, BOUND_SHARE * longest)


def _straight(frame: Posed) -> Bend:
    w, h = frame.lens.width, frame.lens.height
    spans = [max(2, round(SPANS * side / max(w, h))) for side in (h, w)]
    return Bend(w, h, np.zeros((spans[0] + 3, spans[1] + 3, 2)))


def _design(bends: dict[int, Bend], points: _Shared) -> sparse.csr_matrix:
    """Rows (2 n): by how much each coefficient moves what is left at each point."""
    starts = _starts(bends)
    rows, columns, values = [], [], []
    for n, bend in bends.items():
        for mine, at, factor in ((points.a == n, points.points_a, -points.onto),
                                 (points.b == n, points.points_b, np.broadcast_to(np.eye(2), points.onto.shape))):
            chosen = np.flatnonzero(mine)
            index, weight = basis(at[chosen], bend.width, bend.height, bend.coefficients.shape[:2])
            for i in (0, 1):
                for j in (0, 1):
                    rows.append(np.repeat(2 * chosen + i, 16))
                    columns.append((starts[n] + 2 * index + j).ravel())
                    values.append((weight * factor[chosen, i, j][:, None]).ravel())
    shape = (2 * len(points), starts[None])
    return sparse.csr_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape)


def _starts(bends: dict[int, Bend]) -> dict[int | None, int]:
    """Where each frame's coefficients begin among all; under None their number."""
    starts: dict[int | None, int] = {}
    total = 0
    for n, bend in bends.items():
        starts[n] = total
        total += bend.coefficients.size
    starts[None] = total
    return starts


def _stiffness(bends: dict[int, Bend], longest: float) -> sparse.csr_matrix:
    blocks = []
    for bend in bends.values():
        rows, columns = bend.coefficients.shape[:2]
        across = sparse.kron(sparse.identity(rows), _second(columns))
        down = sparse.kron(_second(rows), sparse.identity(columns))
        slanted = np.sqrt(2) * sparse.kron(_first(rows), _first(columns))
        curved = sparse.vstack([across, down, slanted]) / (BEND_SHARE * longest)
        flat = sparse.identity(rows * columns) / (DRIFT_SHARE * longest)
        both = sparse.vstack([curved, flat])
        blocks.append(sparse.kron(both.T @ both, sparse.identity(2)))
    return sparse.csr_matrix(sparse.block_diag(blocks))


def _first(n: int) -> sparse.csr_matrix:
    return sparse.diags([-np.ones(n - 1), np.ones(n - 1)], [0, 1], (n - 1, n))


def _second(n: int) -> sparse.csr_matrix:
    return sparse.diags([np.ones(n - 2), -2 * np.ones(n - 2), np.ones(n - 2)], [0, 1, 2], (n - 2, n))


def _bounded(bends: dict[int, Bend], solution: Array, most: float) -> dict[int, Bend]:
    starts = _starts(bends)
    out = {}
    for n, bend in bends.items():
        drift = solution[starts[n] : starts[n] + bend.coefficients.size].reshape(bend.coefficients.shape)
        size = np.linalg.norm(drift, axis=-1, keepdims=True)
        out[n] = replace(bend, coefficients=drift * np.minimum(1.0, most / np.maximum(size, 1e-9)))
    return out
