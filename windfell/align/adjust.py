"""The joint adjustment: rotations, focal length and distortion that best explain all points.

Bundle adjustment for a turning camera (Triggs et al. 2000; Brown & Lowe 2007, sec. 4)
with analytic derivatives, normal equations built link by link, Levenberg-Marquardt
steps, and a robust weight on every point.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_rotvec, nearest_rotation
from windfell.job import Job

Array = NDArray[np.float64]

FOCAL_SIGMA = 0.12
K1_SIGMA = 0.06
STEPS = 60


@dataclass
class Observations:
    """Matched points of frames `a` and `b`: (n, 2) px each, at the frames' full size."""

    a: int
    b: int
    points_a: Array
    points_b: Array


@dataclass
class Cameras:
    """The state that is adjusted: a rotation a frame, a focal length and k1 a lens group."""

    sizes: list[tuple[int, int]]
    group: list[int]
    rotations: list[Array]
    focal_px: Array
    k1: Array
    prior_focal_px: Array = field(default_factory=lambda: np.zeros(0))
    fixed_focal: bool = False

    def lens(self, n: int) -> Lens:
        g = self.group[n]
        return Lens(*self.sizes[n], float(self.focal_px[g]), float(self.k1[g]))

    def copy(self) -> Cameras:
        return Cameras(
            self.sizes, self.group, [r.copy() for r in self.rotations], self.focal_px.copy(),
            self.k1.copy(), self.prior_focal_px, self.fixed_focal,
        )


def residuals(cameras: Cameras, obs: Observations) -> Array:
    """(n, 4) px: how far each point of `a` lands from its partner in `b`, and the other way."""
    ab = _one_way(cameras, obs.a, obs.b, obs.points_a, obs.points_b)
    ba = _one_way(cameras, obs.b, obs.a, obs.points_b, obs.points_a)
    return np.concatenate([ab, ba], axis=1)


def error_px(cameras: Cameras, obs: Observations) -> Array:
    """(n,) px: the distance of each match from agreement, averaged over both directions."""
    r = residuals(cameras, obs)
    return np.sqrt(0.5 * np.sum(r * r, axis=1))


def _one_way(cameras: Cameras, a: int, b: int, from_a: Array, at_b: Array) -> Array:
    turn = cameras.rotations[b].T @ cameras.rotations[a]
    rays = cameras.lens(a).rays(from_a) @ turn.T
    seen = cameras.lens(b).project(rays)
    return np.nan_to_num(seen - at_b, nan=1e4)


def _jacobian(cameras: Cameras, a: int, b: int, from_a: Array, at_b: Array):
    """Residuals (n, 2) and derivatives (n, 2, 10).

    Columns: small left rotation of a (3), of b (3), log focal and k1 of a's lens,
    log focal and k1 of b's. A ray of `a` is u = undistort((p - c) / f); its derivative by
    f and k1 follows from the distortion equation d = u (1 + k1 |u|^2) by implicit
    differentiation.
    """
    la, lb = cameras.lens(a), cameras.lens(b)
    u = la.undistort(from_a)
    inverse = np.linalg.inv(_bend_jacobian(u, la.k1))
    d = (from_a - la.centre) / la.focal_px
    du_dlogf = -np.einsum("nij,nj->ni", inverse, d)
    du_dk = -np.einsum("nij,nj->ni", inverse, u * np.sum(u * u, 1)[:, None])

    ray = np.concatenate([u, np.ones((len(u), 1))], 1)
    world = ray @ cameras.rotations[a].T
    to_b = cameras.rotations[b].T
    q = world @ to_b.T
    z = np.where(q[:, 2] > 1e-6, q[:, 2], 1e-6)
    v = q[:, :2] / z[:, None]
    r2 = np.sum(v * v, 1)
    seen = lb.centre + lb.focal_px * v * (1 + lb.k1 * r2)[:, None]
    residual = np.where((q[:, 2] > 1e-6)[:, None], seen - at_b, 1e4)

    dv_dq = np.zeros((len(u), 2, 3))
    dv_dq[:, 0, 0] = dv_dq[:, 1, 1] = 1 / z
    dv_dq[:, :, 2] = -v / z[:, None]
    dp_dq = lb.focal_px * _bend_jacobian(v, lb.k1) @ dv_dq
    dq_dw = _minus_crosses(world)
    out = np.empty((len(u), 2, 10))
    turned = dp_dq @ to_b
    out[:, :, 0:3] = turned @ dq_dw
    out[:, :, 3:6] = -out[:, :, 0:3]
    dq_du = (to_b @ cameras.rotations[a])[:, :2]
    out[:, :, 6] = np.einsum("nij,jk,nk->ni", dp_dq, dq_du, du_dlogf)
    out[:, :, 7] = np.einsum("nij,jk,nk->ni", dp_dq, dq_du, du_dk)
    out[:, :, 8] = seen - lb.centre
    out[:, :, 9] = lb.focal_px * v * r2[:, None]
    return residual, out


def _bend_jacobian(u: Array, k1: float) -> Array:
    """(n, 2, 2) derivative of u (1 + k1 |u|^2) by u."""
    outer = 2 * k1 * u[:, :, None] * u[:, None, :]
    return outer + (1 + k1 * np.sum(u * u, 1))[:, None, None] * np.eye(2)


def _minus_crosses(w: Array) -> Array:
    """(n, 3, 3): the derivative of exp(e) w by e at zero, -[w]x."""
    out = np.zeros((len(w), 3, 3))
    out[:, 0, 1], out[:, 0, 2] = w[:, 2], -w[:, 1]
    out[:, 1, 0], out[:, 1, 2] = -w[:, 2], w[:, 0]
    out[:, 2, 0], out[:, 2, 1] = w[:, 1], -w[:, 0]
    return out


def adjust(
    cameras: Cameras, observations: list[Observations], scale_px: float, job: Job,
    widen: float = 16.0,
) -> Cameras:
    """The cameras that minimise sum rho(|residual|) with rho of Geman and McClure.

    `scale_px` is the residual at which a point's pull is a quarter of full. The robust
    function starts `widen` times as wide and is tightened step by step (graduated
    non-convexity, Yang et al. 2020), so a bad start does not throw good points away.
    """
    state = cameras.copy()
    while True:
        state = _minimised(state, observations, scale_px * widen, job)
        if widen <= 1.0:
            return state
        widen = max(1.0, widen / 4)


def _minimised(state: Cameras, observations: list[Observations], scale: float, job: Job) -> Cameras:
    damping = 1e-3
    cost, normal, gradient = _normal_equations(state, observations, scale)
    for _ in range(STEPS):
        job.check()
        step = _solved(normal, gradient, damping)
        trial = _moved(state, step)
        new = _normal_equations(trial, observations, scale)
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


def _normal_equations(state: Cameras, observations: list[Observations], scale: float):
    n, groups = len(state.rotations), len(state.focal_px)
    size = 3 * n + 2 * groups
    normal, gradient, cost = np.zeros((size, size)), np.zeros(size), 0.0
    for obs in observations:
        for a, b, pa, pb in (
            (obs.a, obs.b, obs.points_a, obs.points_b), (obs.b, obs.a, obs.points_b, obs.points_a)
        ):
            residual, jac = _jacobian(state, a, b, pa, pb)
            r2 = np.sum(residual * residual, 1) / scale**2
            cost += 0.5 * scale**2 * float(np.sum(r2 / (1 + r2)))
            weight = 1 / (1 + r2) ** 2
            rows = (jac * np.sqrt(weight)[:, None, None]).reshape(-1, 10)
            flat = (residual * np.sqrt(weight)[:, None]).reshape(-1)
            where = _columns(state, a, b, n)
            np.add.at(normal, (where[:, None], where[None, :]), rows.T @ rows)
            np.add.at(gradient, where, rows.T @ flat)
    cost += _add_priors(state, normal, gradient, n)
    return cost, normal, gradient


def _columns(state: Cameras, a: int, b: int, n: int) -> NDArray[np.intp]:
    ga, gb = state.group[a], state.group[b]
    lens = [3 * n + 2 * ga, 3 * n + 2 * ga + 1, 3 * n + 2 * gb, 3 * n + 2 * gb + 1]
    return np.array([*range(3 * a, 3 * a + 3), *range(3 * b, 3 * b + 3), *lens])


def _add_priors(state: Cameras, normal: Array, gradient: Array, n: int) -> float:
    """Weak beliefs that decide only where the points cannot, as with two frames."""
    cost = 0.0
    for g in range(len(state.focal_px)):
        f, k = 3 * n + 2 * g, 3 * n + 2 * g + 1
        sigma = 1e-7 if state.fixed_focal else FOCAL_SIGMA
        off = np.log(state.focal_px[g] / state.prior_focal_px[g])
        cost += _prior(normal, gradient, f, off, sigma)
        cost += _prior(normal, gradient, k, state.k1[g], K1_SIGMA)
    turn = np.eye(3) * 1e-3
    for i in range(n):
        normal[3 * i : 3 * i + 3, 3 * i : 3 * i + 3] += turn
    return cost


def _prior(normal: Array, gradient: Array, at: int, off: float, sigma: float) -> float:
    normal[at, at] += 1 / sigma**2
    gradient[at] += off / sigma**2
    return 0.5 * (off / sigma) ** 2


def _solved(normal: Array, gradient: Array, damping: float) -> Array:
    damped = normal + damping * np.diag(np.maximum(np.diag(normal), 1e-9))
    try:
        return -np.linalg.solve(damped, gradient)
    except np.linalg.LinAlgError:
        return -np.linalg.lstsq(damped, gradient, rcond=None)[0]


def _moved(state: Cameras, step: Array) -> Cameras:
    n = len(state.rotations)
    out = state.copy()
    for i in range(n):
        out.rotations[i] = nearest_rotation(from_rotvec(step[3 * i : 3 * i + 3]) @ out.rotations[i])
    lens = step[3 * n :].reshape(-1, 2)
    out.focal_px = out.focal_px * np.exp(np.clip(lens[:, 0], -0.5, 0.5))
    out.k1 = np.clip(out.k1 + np.clip(lens[:, 1], -0.2, 0.2), -0.6, 1.0)
    return out
