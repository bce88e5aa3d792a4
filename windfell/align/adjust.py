"""The joint adjustment: rotations, focal lengths and distortion that best explain all points.

Bundle adjustment for a turning camera (Triggs et al. 2000; Brown & Lowe 2007, sec. 4)
with analytic derivatives over all points at once, a normal matrix built block by block, Levenberg-
Marquardt steps, a robust weight on every point, and the covariance of what was found.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve

from windfell.align.cameras import Cameras, carried, undistorted
from windfell.geometry.rotation import from_rotvec, nearest_rotation
from windfell.job import Job

Array = NDArray[np.float64]
Ints = NDArray[np.intp]

STEPS = 60
GAUGE = 1e-3
LOCK = 1e12


@dataclass(frozen=True)
class Observations:
    """Matched points of frames `a` and `b`: (n, 2) px each, at the frames' full size, and how much
    each counts, `weight` (n,); None: all alike.
    """

    a: int
    b: int
    points_a: Array
    points_b: Array
    weight: Array | None = None

    def chosen(self, which: NDArray) -> Observations:
        """Some of the points, by mask or index."""
        weight = None if self.weight is None else self.weight[which]
        return replace(self, points_a=self.points_a[which], points_b=self.points_b[which], weight=weight)


@dataclass(frozen=True)
class Guide:
    """Something beside points that the cameras are to obey.

    `rows(cameras)` gives residuals (m,) in px, their derivatives (m, 3 n + 6 g), and is called at every step.
    """

    rows: Callable[[Cameras], tuple[Array, Array]]


class Pile:
    """All observations in long arrays, each point in both directions: from frame `i` to frame `j`."""

    def __init__(self, observations: Sequence[Observations]) -> None:
        kept = [o for o in observations if len(o.points_a)]
        self.runs: list[tuple[int, int, int, int]] = []
        i, j, p, q, w, at = [], [], [], [], [], 0
        for o in kept:
            n = len(o.points_a)
            weight = np.ones(n) if o.weight is None else o.weight
            for a, b, pa, pb in ((o.a, o.b, o.points_a, o.points_b), (o.b, o.a, o.points_b, o.points_a)):
                self.runs.append((a, b, at, at + n))
                i.append(np.full(n, a))
                j.append(np.full(n, b))
                p.append(pa)
                q.append(pb)
                w.append(weight)
                at += n
        whole = lambda parts, empty: np.concatenate(parts) if parts else empty  # noqa: E731
        self.i = whole(i, np.zeros(0, np.intp)).astype(np.intp)
        self.j = whole(j, np.zeros(0, np.intp)).astype(np.intp)
        self.p, self.q = whole(p, np.zeros((0, 2))), whole(q, np.zeros((0, 2)))
        self.w = whole(w, np.zeros(0))


def residuals(cameras: Cameras, obs: Observations) -> Array:
    """(n, 4) px: how far each point of `a` lands from its partner in `b`, and the other way."""
    n = len(obs.points_a)
    a, b = np.full(n, obs.a), np.full(n, obs.b)
    ab = carried(cameras, a, b, obs.points_a) - obs.points_b
    ba = carried(cameras, b, a, obs.points_b) - obs.points_a
    return np.concatenate([ab, ba], axis=1)


def error_px(cameras: Cameras, obs: Observations) -> Array:
    """(n,) px: the distance of each match from agreement, averaged over both directions."""
    r = residuals(cameras, obs)
    return np.sqrt(0.5 * np.sum(r * r, axis=1))


def jacobian(cameras: Cameras, i: Ints, j: Ints, p: Array, q: Array) -> tuple[Array, Array]:
    """Residuals (n, 2) of points `p` of frames `i` seen in frames `j` against `q`, and derivatives (n, 2, 18).

    Columns: small left rotations of i's frame (3) and of j's (3), the six parts of i's lens, those
    of j's; before a flat subject also the places of i's and j's frames, 24 in all. A point's u
    follows from the distortion equation u B(|u|^2) = d by implicit differentiation.
    """
    n = len(p)
    seen = undistorted(cameras, i, p)
    u, to = seen.u, cameras.lenses[cameras.group[j]]
    ri, rj = cameras.rotations[i], cameras.rotations[j]
    world = ri[:, :, 0] * u[:, :1] + ri[:, :, 1] * u[:, 1:] + ri[:, :, 2]
    flat = cameras.places is not None
    target, fits = world, np.ones(n, bool)
    if flat:
        fits = world[:, 2] > 1e-6
        down = np.where(fits, world[:, 2], 1.0)
        reach = (1 - cameras.places[i, 2]) / down
        target = cameras.places[i] + world * reach[:, None] - cameras.places[j]
    x = np.einsum("nij,ni->nj", rj, target)
    ahead = (x[:, 2] > 1e-6) & fits
    z = np.where(ahead, x[:, 2], 1e-6)
    v = x[:, :2] / z[:, None]
    r2 = np.sum(v * v, axis=1)
    k1, k2, k3 = to[:, 1], to[:, 2], to[:, 3]
    bend = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    slope = k1 + r2 * (2 * k2 + r2 * 3 * k3)
    focal = np.exp(to[:, 0])
    centre = (cameras.sizes[j] - 1) / 2 + to[:, 4:6]
    off = focal[:, None] * v * bend[:, None]
    residual = np.where(ahead[:, None], centre + off - q, 1e4)

    by_x = np.empty((n, 2, 3))
    scale = focal / z
    cross = 2 * slope * v[:, 0] * v[:, 1]
    by_x[:, 0, 0] = scale * (bend + 2 * slope * v[:, 0] ** 2)
    by_x[:, 1, 1] = scale * (bend + 2 * slope * v[:, 1] ** 2)
    by_x[:, 0, 1] = by_x[:, 1, 0] = scale * cross
    by_x[:, :, 2] = -(by_x[:, :, 0] * v[:, :1] + by_x[:, :, 1] * v[:, 1:])
    by_target = np.einsum("nkj,nij->nki", by_x, rj)
    out = np.empty((n, 2, 24 if flat else 18))
    by_world = by_target
    if flat:
        # a spot moves with its camera but stays on the plane: I - w e_z^T / w_z
        on_plane = by_target.copy()
        on_plane[:, :, 2] -= np.einsum("nki,ni->nk", by_target, world) / down[:, None]
        by_world = on_plane * reach[:, None, None]
        out[:, :, 18:21], out[:, :, 21:24] = on_plane, -by_target
    for k in (0, 1):
        out[:, k, 0:3] = np.cross(world, by_world[:, k])
        out[:, k, 3:6] = -np.cross(target, by_target[:, k])
    by_u = np.einsum("nki,nic->nkc", by_world, ri[:, :, :2])
    radial = (by_u[:, :, 0] * u[:, :1] + by_u[:, :, 1] * u[:, 1:]) / seen.growth[:, None]
    powers = np.stack([seen.bend, seen.r2, seen.r2**2, seen.r2**3], axis=1)
    out[:, :, 6:10] = -radial[:, :, None] * powers[:, None, :]
    own = cameras.lenses[cameras.group[i]]
    shape = (own[:, 1] + seen.r2 * (2 * own[:, 2] + seen.r2 * 3 * own[:, 3])) * 2 / seen.growth
    plain = np.exp(-own[:, 0]) / seen.bend
    # by the principal point: -(1 / (f B)) (I - (2 B' / growth) u u^T)
    along = by_u[:, :, 0] * u[:, :1] + by_u[:, :, 1] * u[:, 1:]
    for c in (0, 1):
        out[:, :, 10 + c] = -plain[:, None] * (by_u[:, :, c] - along * (shape * u[:, c])[:, None])
    out[:, :, 12] = off
    for c, power in enumerate((r2, r2**2, r2**3)):
        out[:, :, 13 + c] = focal[:, None] * v * power[:, None]
    out[:, :, 16], out[:, :, 17] = [1.0, 0.0], [0.0, 1.0]
    return residual, out


def adjust(
    cameras: Cameras, observations: Sequence[Observations], scale_px: float, job: Job,
    widen: float = 16.0, guides: Sequence[Guide] = (),
) -> Cameras:
    """The cameras that minimise sum rho(|residual|) with rho of Geman and McClure.

    `scale_px` is the residual at which a point's pull is a quarter of full. The robust
    function starts `widen` times as wide and is tightened step by step (graduated
    non-convexity, Yang et al. 2020), so a bad start does not throw good points away.
    """
    pile = Pile(observations)
    while True:
        cameras = _minimised(cameras, pile, scale_px * widen, guides, job)
        if widen <= 1.0:
            return cameras
        widen = max(1.0, widen / 4)


def _minimised(state: Cameras, pile: Pile, scale: float, guides: Sequence[Guide], job: Job) -> Cameras:
    damping = 1e-3
    cost, normal, gradient = normal_equations(state, pile, scale, guides)
    for _ in range(STEPS):
        job.check()
        trial = _moved(state, _solved(normal, gradient, damping))
        new = normal_equations(trial, pile, scale, guides)
        if new[0] < cost:
            gain = (cost - new[0]) / max(cost, 1e-12)
            state, (cost, normal, gradient) = trial, new
            damping = max(damping / 8, 1e-9)
            if gain < 1e-6:
                break
        else:
            damping *= 10
            if damping > 1e6:
                break
    return state


def normal_equations(
    state: Cameras, pile: Pile, scale: float, guides: Sequence[Guide] = ()
) -> tuple[float, Array, Array]:
    """(cost, normal matrix, gradient) over the turns, the lenses' parts and, if there are, the places."""
    size = state.parameters
    normal, gradient = np.zeros((size, size)), np.zeros(size)
    residual, jac = jacobian(state, pile.i, pile.j, pile.p, pile.q)
    r2 = np.sum(residual * residual, axis=1) / scale**2
    cost = 0.5 * scale**2 * float(np.sum(pile.w * r2 / (1 + r2)))
    root = np.sqrt(pile.w) / (1 + r2)
    rows = (jac * root[:, None, None]).reshape(-1, jac.shape[2])
    flat = (residual * root[:, None]).reshape(-1)
    for a, b, start, end in pile.runs:
        part = rows[2 * start : 2 * end]
        where = _columns(state, a, b)
        np.add.at(normal, (where[:, None], where[None, :]), part.T @ part)
        np.add.at(gradient, where, part.T @ flat[2 * start : 2 * end])
    for guide in guides:
        off, by = guide.rows(state)
        normal += by.T @ by
        gradient += by.T @ off
        cost += 0.5 * float(off @ off)
    return cost + _add_beliefs(state, normal, gradient), normal, gradient


def _columns(state: Cameras, a: int, b: int) -> Ints:
    first, three, lens = 3 * state.count, np.arange(3), np.arange(6)
    parts = [3 * a + three, 3 * b + three, first + 6 * state.group[a] + lens, first + 6 * state.group[b] + lens]
    if state.places is not None:
        last = first + state.lenses.size
        parts += [last + 3 * a + three, last + 3 * b + three]
    return np.concatenate(parts)


def _add_beliefs(state: Cameras, normal: Array, gradient: Array) -> float:
    """Weak beliefs that decide only where the points cannot, as with two frames."""
    first = 3 * state.count
    off = (state.lenses - state.believed).reshape(-1)
    sigma = state.sigma.reshape(-1)
    at = first + np.arange(len(off))
    normal[at, at] += 1 / sigma**2
    gradient[at] += off / sigma**2
    turns = np.arange(first)
    normal[turns, turns] += GAUGE
    held = np.repeat(state.locked, 3)
    if state.places is None:
        normal[turns[held], turns[held]] += LOCK
    else:
        stands = first + len(off) + turns
        normal[stands, stands] += GAUGE
        normal[stands[held], stands[held]] += LOCK
    return 0.5 * float(np.sum((off / sigma) ** 2))


def _solved(normal: Array, gradient: Array, damping: float) -> Array:
    lifted = normal.copy()
    at = np.arange(len(normal))
    lifted[at, at] *= 1 + damping
    # unit diagonal: parameters of different kinds differ by many orders
    size = 1 / np.sqrt(lifted[at, at])
    factor = cho_factor(lifted * size[:, None] * size[None, :] + 1e-13 * np.eye(len(at)), check_finite=False)
    return -size * cho_solve(factor, size * gradient, check_finite=False)


def _moved(state: Cameras, step: Array) -> Cameras:
    first = 3 * state.count
    turns = np.array([
        nearest_rotation(from_rotvec(v) @ r)
        for v, r in zip(step[:first].reshape(-1, 3), state.rotations, strict=True)])
    last = first + state.lenses.size
    change = step[first:last].reshape(-1, 6)
    change[:, 0] = np.clip(change[:, 0], -0.3, 0.3)
    places = state.places
    if places is not None:
        places = places + step[last:].reshape(-1, 3)
        places[:, 2] = np.minimum(places[:, 2], 0.9)
    return replace(state, rotations=turns, lenses=state.lenses + change, places=places)


@dataclass(frozen=True)
class Uncertainty:
    """Standard errors: of each frame's direction against frame `anchor`, rad (n,), and of the lens parts (g, 6)."""

    anchor: int
    turns: Array
    lenses: Array


def uncertainty(
    cameras: Cameras, observations: Sequence[Observations], scale_px: float, guides: Sequence[Guide] = (),
    anchor: int = 0,
) -> Uncertainty:
    """Standard errors from the inverse of the normal matrix, the noise judged by what is left over.

    The points' spread counts as one noise (Triggs et al. 2000, sec. 2); the anchor's pose is taken as exact.
    """
    pile = Pile(observations)
    residual, _ = jacobian(cameras, pile.i, pile.j, pile.p, pile.q)
    r2 = np.sum(residual * residual, axis=1)
    weight = pile.w / (1 + r2 / scale_px**2) ** 2
    spread = np.sum(weight * r2) / max(np.sum(weight) * 2, 1e-9)
    _, normal, _ = normal_equations(cameras, pile, scale_px, guides)
    at = 3 * anchor + np.arange(3)
    normal[at, at] += LOCK
    # both directions of a point are one measurement
    data = max(spread, 1e-6) * 2
    size = 1 / np.sqrt(np.diag(normal))
    inverse = np.linalg.pinv(normal * size[:, None] * size[None, :], rcond=1e-12, hermitian=True)
    error = np.sqrt(np.maximum(np.diag(inverse), 0) * data) * size
    first = 3 * cameras.count
    turns = np.linalg.norm(error[:first].reshape(-1, 3), axis=1)
    turns[anchor] = 0.0
    return Uncertainty(anchor, turns, error[first : first + cameras.lenses.size].reshape(-1, 6))
