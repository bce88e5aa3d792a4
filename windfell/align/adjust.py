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

from windfell.align.cameras import Cameras, carried, lenses_of, middles_of, turns_of, undistorted
from windfell.geometry.rotation import from_rotvec, nearest_rotation
from windfell.job import Job
from windfell.later import Later

linalg = Later("scipy.linalg")

Array = NDArray[np.float64]
Ints = NDArray[np.intp]

STEPS = 60
PIECE = 16
GAIN, ROUGH_GAIN, FORETOLD = 1e-6, 1e-4, 0.5
WIDER = (1.0, 4.0, 16.0)
GAUGE = 1e-3
LOCK = 1e12
FACING = 0.35
# degrees of freedom of how far a recorded focal length lies from the truth
TAIL = 3


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

    @property
    def weights(self) -> Array:
        return np.ones(len(self.points_a)) if self.weight is None else self.weight

    def chosen(self, which: NDArray) -> Observations:
        """Some of the points, by mask or index."""
        weight = None if self.weight is None else self.weight[which]
        return replace(self, points_a=self.points_a[which], points_b=self.points_b[which], weight=weight)


def laid_out(observations: Sequence[Observations]) -> tuple[Ints, Ints, Array, Array]:
    """One behind the other, for each point: the frames `a` and `b` (n,), and where it lies in them (n, 2)."""
    counts = [len(o.points_a) for o in observations]
    a, b = (np.repeat(np.array([getattr(o, end) for o in observations], np.intp), counts) for end in "ab")
    pa, pb = (np.concatenate([np.zeros((0, 2)), *p])
              for p in ([o.points_a for o in observations], [o.points_b for o in observations]))
    return a, b, pa, pb


@dataclass(frozen=True)
class Guide:
    """Something beside points that the cameras are to obey.

    `rows(cameras)` gives its cost, and weighted residuals (m,) and their derivatives (m, parameters), at every step.
    """

    rows: Callable[[Cameras], tuple[float, Array, Array]]


class Pile:
    """All observations in long arrays: from frame `i` at `p` to frame `j` at `q`, each point in both directions.

    `roughly`: every other point in one direction, the rest in the other, and each counts twice; what the way back
    tells is nearly what the way there does. They lie in pieces of PIECE points of one link and direction; a link's
    last piece is filled up with points that do not count. `first` and `second` (pieces,) are the frames of each.
    """

    def __init__(self, observations: Sequence[Observations], roughly: bool = False) -> None:
        ways = [_halves(o) if roughly else (o, _back(o)) for o in observations]
        kept = [o for way in zip(*ways, strict=True) for o in way if len(o.points_a)]
        counts = np.array([len(o.points_a) for o in kept], np.intp)
        pieces = -(-counts // PIECE)
        self.first, self.second = (
            np.repeat(np.array([getattr(o, end) for o in kept], np.intp), pieces) for end in "ab")
        self.i, self.j = np.repeat(self.first, PIECE), np.repeat(self.second, PIECE)
        starts = np.concatenate([[0], np.cumsum(PIECE * pieces)[:-1]]).astype(np.intp)
        at = np.arange(counts.sum()) + np.repeat(starts - np.cumsum(counts) + counts, counts)
        # who fills up stands where the first point does
        from_ = np.repeat(np.cumsum(counts) - counts, PIECE * pieces)
        from_[at] = np.arange(counts.sum())
        self.p, self.q = (points[from_] for points in laid_out(kept)[2:])
        self.w = np.zeros(len(from_))
        self.w[at] = (2 if roughly else 1) * np.concatenate([np.zeros(0), *(o.weights for o in kept)])
        self._places: tuple[Ints, Ints] | None = None

    def places(self, state: Cameras) -> tuple[Ints, Ints]:
        """Where each piece's derivatives belong in the gradient, and its block in the normal matrix laid out flat."""
        if self._places is None:
            where = _columns(state, self.first, self.second)
            self._places = where.ravel(), (where[:, :, None] * state.parameters + where[:, None, :]).ravel()
        return self._places


def _back(o: Observations) -> Observations:
    return Observations(o.b, o.a, o.points_b, o.points_a, o.weight)


def _halves(o: Observations) -> tuple[Observations, Observations]:
    return o.chosen(np.s_[::2]), _back(o.chosen(np.s_[1::2]))


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


def errors_px(cameras: Cameras, observations: Sequence[Observations]) -> list[Array]:
    """`error_px` of many links at once."""
    a, b, pa, pb = laid_out(observations)
    off = carried(cameras, np.concatenate([a, b]), np.concatenate([b, a]), np.concatenate([pa, pb]))
    square = np.sum((off - np.concatenate([pb, pa])) ** 2, axis=1)
    both = np.sqrt(0.5 * (square[: len(pa)] + square[len(pa) :]))
    return np.split(both, np.cumsum([len(o.points_a) for o in observations])[:-1]) if observations else []


def jacobian(cameras: Cameras, i: Ints, j: Ints, p: Array, q: Array) -> tuple[Array, Array]:
    """Residuals (n, 2) of points `p` of frames `i` seen in frames `j` against `q`, and derivatives (n, 2, 18).

    Columns: small left rotations of i's frame (3) and of j's (3), the six parts of i's lens, those
    of j's; before a flat subject also the places of i's and j's frames, 24 in all. A point's u
    follows from the distortion equation u B(|u|^2) = d by implicit differentiation.
    """
    residual, out = _derivatives(cameras, i, j, p, q)
    return residual.T, out.transpose(2, 1, 0)


def _derivatives(cameras: Cameras, i: Ints, j: Ints, p: Array, q: Array) -> tuple[Array, Array]:
    """`jacobian` with the points last: (2, n) and (columns, 2, n), a number of all points beside each other."""
    n, flat = len(p), cameras.places is not None
    seen = undistorted(cameras, i, p)
    u = seen.u
    ri, rj = turns_of(cameras, i), turns_of(cameras, j)
    own, to = lenses_of(cameras, i), lenses_of(cameras, j)
    w = ri[:, 0] * u[0] + ri[:, 1] * u[1] + ri[:, 2]
    spot, fits = w, True
    if flat:
        fits = w[2] > 1e-6
        down = np.where(fits, w[2], 1.0)
        stands = np.ascontiguousarray(cameras.places.T)
        ci = stands[:, i]
        reach = (1 - ci[2]) / down
        spot = ci + w * reach - stands[:, j]
    x, y, depth = rj[0] * spot[0] + rj[1] * spot[1] + rj[2] * spot[2]
    ahead = (depth > 1e-6) & fits
    z = np.where(ahead, depth, 1e-6)
    v = np.stack([x, y]) / z
    r2 = v[0] * v[0] + v[1] * v[1]
    bend = 1 + r2 * (to[1] + r2 * (to[2] + r2 * to[3]))
    slope = 2 * (to[1] + r2 * (2 * to[2] + r2 * 3 * to[3]))
    focal = np.exp(to[0])
    off = focal * bend * v
    centre = middles_of(cameras, j) + to[4:6]
    residual = np.where(ahead, centre + off - q.T, 1e4)

    out = np.empty((24 if flat else 18, 2, n))
    # by the ray in the second camera's axes; by the spot seen, in world axes; then by the ray that looks at it
    scale = focal / z
    d = np.empty((3, 2, n))
    d[:2] = scale * slope * v[:, None] * v
    d[0, 0] += scale * bend
    d[1, 1] += scale * bend
    d[2] = -(d[0] * v[0] + d[1] * v[1])
    b = rj[:, 0, None] * d[0] + rj[:, 1, None] * d[1] + rj[:, 2, None] * d[2]
    g = b
    if flat:
        # a spot moves with its camera but stays on the plane: I - w e_z^T / w_z
        on_plane = b[2] - (b[0] * w[0] + b[1] * w[1] + b[2] * w[2]) / down
        g = np.stack([b[0], b[1], on_plane]) * reach
        out[18:20], out[20], out[21:24] = b[:2], on_plane, -b
        _crossed(b, spot, out[3:6])
    _crossed(w, g, out[:3])
    if not flat:
        np.negative(out[:3], out=out[3:6])
    h = ri[0, :2, None] * g[0] + ri[1, :2, None] * g[1] + ri[2, :2, None] * g[2]
    along = h[0] * u[0] + h[1] * u[1]
    grow = 1 / seen.growth
    powers = np.stack([seen.bend, seen.r2, seen.r2 * seen.r2, seen.r2 * seen.r2 * seen.r2])
    out[6:10] = powers[:, None] * (along * -grow)
    # by the principal point: -(1 / (f B)) (I - (2 B' / growth) u u^T)
    shape = (own[1] + seen.r2 * (2 * own[2] + seen.r2 * 3 * own[3])) * 2 * grow
    out[10:12] = (along * shape * u[:, None] - h) * (np.exp(-own[0]) / seen.bend)
    out[12] = off
    out[13] = focal * r2 * v
    out[14] = out[13] * r2
    out[15] = out[14] * r2
    out[16:18] = np.eye(2)[:, :, None]
    return residual, out


def _crossed(a: Array, b: Array, out: Array) -> None:
    """The cross products of vectors (3, ..., n)."""
    for k in range(3):
        m, n = (k + 1) % 3, (k + 2) % 3
        out[k] = a[m] * b[n] - a[n] * b[m]


def adjust(
    cameras: Cameras, observations: Sequence[Observations], scale_px: float, job: Job,
    widen: float = WIDER[-1], guides: Sequence[Guide] = (), gain: float = GAIN,
) -> Cameras:
    """The cameras that minimise sum rho(|residual|) with rho of Geman and McClure.

    `scale_px` is the residual at which a point's pull is a quarter of full. The robust
    function starts `widen` times as wide, 16 at most, and is tightened step by step (graduated
    non-convexity, Yang et al. 2020), so a bad start does not throw good points away. Steps end where one lessens
    the sum by no more than a share `gain`; if that is more than GAIN, points are looked at roughly.
    """
    pile, widen = Pile(observations, roughly=gain > GAIN), next(w for w in WIDER if w >= min(widen, WIDER[-1]))
    while True:
        enough = gain if widen <= 1.0 else max(gain, ROUGH_GAIN)
        cameras = _minimised(cameras, pile, scale_px * widen, guides, enough, job)
        if widen <= 1.0:
            return cameras
        widen = max(1.0, widen / 4)


def _minimised(state: Cameras, pile: Pile, scale: float, guides: Sequence[Guide], enough: float, job: Job) -> Cameras:
    """Levenberg and Marquardt's steps, damped as Nielsen (1999) does: by how much of what is foretold comes true."""
    damping, more = 1e-3, 4.0
    cost, normal, gradient = normal_equations(state, pile, scale, guides)
    for _ in range(STEPS):
        job.check()
        step = _solved(normal, gradient, damping)
        trial = _moved(state, step)
        foretold = 0.5 * float(damping * step**2 @ np.diag(normal) - step @ gradient)
        if damping < 1 and foretold < FORETOLD * enough * cost:
            # so small a step need not be looked at
            return trial
        new = normal_equations(trial, pile, scale, guides)
        true = (cost - new[0]) / max(foretold, 1e-300)
        if true > 0:
            gain = (cost - new[0]) / max(cost, 1e-12)
            state, (cost, normal, gradient) = trial, new
            damping, more = max(damping * max(1 / 8, 1 - (2 * true - 1) ** 3), 1e-9), 4.0
            if gain < enough:
                break
        else:
            damping, more = damping * more, 2 * more
            if damping > 1e6:
                break
    return state


def normal_equations(
    state: Cameras, pile: Pile, scale: float, guides: Sequence[Guide] = ()
) -> tuple[float, Array, Array]:
    """(cost, normal matrix, gradient) over the turns, the lenses' parts and, if there are, the places."""
    size = state.parameters
    residual, jac = _derivatives(state, pile.i, pile.j, pile.p, pile.q)
    r2 = np.sum(residual * residual, axis=0) / scale**2
    cost = 0.5 * scale**2 * float(np.sum(pile.w * r2 / (1 + r2)))
    root = np.sqrt(pile.w) / (1 + r2)
    jac *= root
    residual *= root
    pieces, columns = len(pile.first), len(jac)
    rows = jac.reshape(columns, 2, pieces, PIECE).transpose(2, 0, 1, 3).reshape(pieces, columns, 2 * PIECE)
    off = residual.reshape(2, pieces, PIECE).transpose(1, 0, 2).reshape(pieces, 2 * PIECE, 1)
    # what two frames share, a lens, is met twice in a piece, and so added up
    where, square = pile.places(state)
    summed = np.bincount(square, (rows @ rows.transpose(0, 2, 1)).ravel(), size * size)
    # of no pieces whole numbers are summed up
    normal = summed.reshape(size, size).astype(float)
    gradient = np.bincount(where, (rows @ off).ravel(), size).astype(float)
    for guide in guides:
        rho, off, by = guide.rows(state)
        normal += by.T @ by
        gradient += by.T @ off
        cost += rho
    return cost + _add_beliefs(state, normal, gradient), normal, gradient


def _columns(state: Cameras, a: Ints, b: Ints) -> Ints:
    """(m, 18), or before a flat subject (m, 24): the parameters that pairs of frames (m,) each depend on."""
    first, three, lens = 3 * state.count, np.arange(3), np.arange(6)
    parts = [3 * a[:, None] + three, 3 * b[:, None] + three]
    parts += [first + 6 * state.group[n][:, None] + lens for n in (a, b)]
    if state.places is not None:
        parts += [first + state.lenses.size + 3 * n[:, None] + three for n in (a, b)]
    return np.concatenate(parts, axis=1)


def _add_beliefs(state: Cameras, normal: Array, gradient: Array) -> float:
    """Weak beliefs that decide only where the points cannot, as with two frames."""
    first = 3 * state.count
    off = state.lenses - state.believed
    aside = (off / state.sigma) ** 2
    weight = (state.noise_px / state.sigma) ** 2
    # a focal length far from what is on record was cropped or zoomed: Student's t lets go (Lange et al. 1989)
    weight[:, 0] *= (TAIL + 1) / (TAIL + aside[:, 0])
    aside[:, 0] = (TAIL + 1) * np.log1p(aside[:, 0] / TAIL)
    at = first + np.arange(off.size)
    normal[at, at] += weight.reshape(-1)
    gradient[at] += (off * weight).reshape(-1)
    turns = np.arange(first)
    normal[turns, turns] += GAUGE
    held = np.repeat(state.locked, 3)
    if state.places is None:
        normal[turns[held], turns[held]] += LOCK
    else:
        stands = first + off.size + turns
        normal[stands, stands] += GAUGE
        normal[stands[held], stands[held]] += LOCK
    return 0.5 * state.noise_px**2 * float(aside.sum()) + _add_facing(state, normal, gradient)


def _add_facing(state: Cameras, normal: Array, gradient: Array) -> float:
    """People stand more or less before a flat subject: of several poses that explain it, the least slanted."""
    if state.places is None:
        return 0.0
    axis = state.rotations[:, :, 2] * (state.noise_px / FACING)
    for n, (x, y, z) in enumerate(axis):
        # a small turn w takes the axis a to a + w x a
        by = np.array([[0.0, z, -y], [-z, 0.0, x]])
        at = slice(3 * n, 3 * n + 3)
        normal[at, at] += by.T @ by
        gradient[at] += by.T @ [x, y]
    return 0.5 * float(np.sum(axis[:, :2] ** 2))


def _solved(normal: Array, gradient: Array, damping: float) -> Array:
    lifted = normal.copy()
    at = np.arange(len(normal))
    lifted[at, at] *= 1 + damping
    # unit diagonal: parameters of different kinds differ by many orders
    size = 1 / np.sqrt(lifted[at, at])
    factor = linalg.cho_factor(lifted * size[:, None] * size[None, :] + 1e-13 * np.eye(len(at)), check_finite=False)
    return -size * linalg.cho_solve(factor, size * gradient, check_finite=False)


def _moved(state: Cameras, step: Array) -> Cameras:
    first = 3 * state.count
    turns = nearest_rotation(from_rotvec(step[:first].reshape(-1, 3)) @ state.rotations)
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
    spread = np.sum(weight * r2) / max(np.sum(weight / np.maximum(pile.w, 1e-12)) * 2, 1e-9)
    # both directions of a point are one measurement
    data = max(spread, 1e-6) * 2
    _, normal, _ = normal_equations(replace(cameras, noise_px=float(np.sqrt(data))), pile, scale_px, guides)
    at = 3 * anchor + np.arange(3)
    normal[at, at] += LOCK
    size = 1 / np.sqrt(np.diag(normal))
    inverse = np.linalg.pinv(normal * size[:, None] * size[None, :], rcond=1e-12, hermitian=True)
    error = np.sqrt(np.maximum(np.diag(inverse), 0) * data) * size
    first = 3 * cameras.count
    turns = np.linalg.norm(error[:first].reshape(-1, 3), axis=1)
    turns[anchor] = 0.0
    return Uncertainty(anchor, turns, error[first : first + cameras.lenses.size].reshape(-1, 6))
