"""Transforms of the plane fitted to points: shift, turn, similarity, perspective; and which of them points support.

A perspective has what few points on one spot cannot say, and tears the frame elsewhere. Then a simpler transform is
nearer to the truth though it leaves more of the points: of those that fit, the one stands of which the least error is
expected all over the frame.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.one_spot import WIDELY
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import aligning_rotation

Array = NDArray[np.float64]
Fit = Callable[[Array, Array, Array], Array]

WELL_KNOWN_PX, LEAST_FREE, GRID, GROUPS = 0.1, 6, 6, 4
# how much more a simpler transform leaves, squared, where points on a part of the frame deny it
REFUTED, HALFWAY = 2.0, 0.5
# the focal length of a camera that nobody named, in its frame's longest sides
USUAL_FOCAL = 1.2


@dataclass(frozen=True)
class Supported:
    """A transform (3, 3), which of the points (n,) agree with it, what it leaves of those, px, and by how much, px,
    it is expected to be off all over the frame.
    """

    transform: Array
    agrees: NDArray[np.bool_]
    off: Array
    error_px: float


def supported(p: Array, q: Array, way: str, tolerance: float, floor: float, size: tuple[int, int]) -> Supported:
    """The transform of a way of points (n, 2) of a frame of that size (width, height) onto points, moving things
    aside; of a perspective, a simpler one where the points say too little of all its parameters.

    `tolerance`: px within which points agree; `floor`: px below which they are not known.
    """
    grid = Lens(*size, 1.0).grid(GRID)
    start = consensus(p, q, tolerance)

    def fitted(fit: Fit, name: str) -> Supported:
        _, agrees = settled_fit(start, p, q, fit, tolerance)
        if agrees.sum() < 4:
            return Supported(start, agrees, np.zeros(0), float("inf"))
        transform, off = reweighted(p[agrees], q[agrees], fit)
        variance = variance_at(grid, name, transform, p[agrees], q[agrees], floor)
        return Supported(transform, agrees, off, np.sqrt(variance))

    best = fitted(WAYS[way], way)
    if way != "perspective":
        return best
    widely = best.agrees.sum() >= 4 and planar.spread(p[best.agrees]) >= WIDELY * size[0] * size[1]
    if widely and best.error_px < WELL_KNOWN_PX:
        return best

    def left(f: Supported) -> float:
        return float(np.sum(np.minimum(_off(f.transform, p, q), tolerance) ** 2))

    plain = fitted(partial(fitted_turn, size), "rigid"), fitted(fitted_similarity, "similarity")
    simple = min(plain, key=left)
    if not widely:
        # the lens is not known: a usual one and an endless one are as far from each other as from many a true one
        lens_px = np.sqrt(np.mean(_off(plain[0].transform, grid, planar.apply(plain[1].transform, grid)) ** 2))
        simple = replace(simple, error_px=float(np.hypot(simple.error_px, HALFWAY * lens_px)))
    if not np.isfinite(best.error_px) or (not widely and left(simple) < REFUTED * left(best)):
        return simple
    # they differ as their variances let them; what is beyond it is bias (Mallows 1973)
    apart = float(np.mean(_off(simple.transform, grid, planar.apply(best.transform, grid)) ** 2))
    bias = max(0.0, apart - max(0.0, best.error_px**2 - simple.error_px**2))
    expected = float(np.sqrt(simple.error_px**2 + bias))
    return replace(simple, error_px=expected) if expected < best.error_px else best


def _off(transform: Array, p: Array, q: Array) -> Array:
    """How far, px, a transform puts points p from points q (n, 2)."""
    return np.linalg.norm(planar.apply(transform, p) - q, axis=1)


def reweighted(p: Array, q: Array, fit: Fit) -> tuple[Array, Array]:
    """A transform (3, 3) in iterated least squares, what moved aside; and what is left of every point."""
    weight = np.ones(len(p))
    for _ in range(10):
        transform = fit(p, q, weight)
        off = _off(transform, p, q)
        weight = _weight(off)
    return transform, off


def _weight(off: Array) -> Array:
    """How much points count of which so much is left, px."""
    return 1 / (1 + (off / max(2.5 * float(np.median(off)), 0.03)) ** 2) ** 2


def robust(
    p: Array, q: Array, fit: Fit, tolerance: float
) -> tuple[Array, NDArray[np.bool_]]:
    """The transform by consensus, then by weighted least squares on what agrees."""
    return settled_fit(consensus(p, q, tolerance), p, q, fit, tolerance)


def consensus(p: Array, q: Array, tolerance: float) -> Array:
    h, _ = cv2.findHomography(p, q, cv2.USAC_MAGSAC, tolerance, maxIters=3000, confidence=0.999)
    return np.eye(3) if h is None else h


def settled_fit(
    start: Array, p: Array, q: Array, fit: Fit, tolerance: float
) -> tuple[Array, NDArray[np.bool_]]:
    off = _off(start, p, q)
    weight = (off < 2 * tolerance).astype(float)
    if weight.sum() < 4:
        weight[:] = 1.0
    transform = start
    for scale in np.geomspace(tolerance, tolerance / 8, 8):
        transform = fit(p, q, weight)
        off = _off(transform, p, q)
        weight = 1 / (1 + (off / scale) ** 2) ** 2
    return transform, off < tolerance


def fitted_shift(p: Array, q: Array, weight: Array) -> Array:
    """(3, 3) translation from points p to q (n, 2) in weighted least squares."""
    out = np.eye(3)
    out[:2, 2] = np.average(q - p, axis=0, weights=weight)
    return out


def fitted_rigid(p: Array, q: Array, weight: Array) -> Array:
    """(3, 3) shift and turn in weighted least squares: the similarity's turn without its scale."""
    out = fitted_similarity(p, q, weight)
    out[:2, :2] /= np.hypot(out[0, 0], out[1, 0])
    out[:2, 2] = np.average(q, axis=0, weights=weight) - out[:2, :2] @ np.average(p, axis=0, weights=weight)
    return out


def fitted_similarity(p: Array, q: Array, weight: Array) -> Array:
    """(3, 3) shift, turn and scale in weighted least squares (Umeyama 1991, for the plane)."""
    mp, mq = np.average(p, axis=0, weights=weight), np.average(q, axis=0, weights=weight)
    a, b = p - mp, q - mq
    spread = np.sum(weight * np.sum(a * a, 1))
    c = np.sum(weight * np.sum(a * b, 1)) / spread
    s = np.sum(weight * (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])) / spread
    out = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]])
    out[:2, 2] = mq - out[:2, :2] @ mp
    return out


def fitted_perspective(p: Array, q: Array, weight: Array) -> Array:
    """(3, 3) homography by the normalised direct linear transform (Hartley 1997).

    Its rows are weighed again by the depth found, so that it is pixels that are minimised.
    """
    tp, tq = _normaliser(p), _normaliser(q)
    a, b = planar.apply(tp, p), planar.apply(tq, q)
    x, y, u, v = a[:, 0], a[:, 1], b[:, 0], b[:, 1]
    one, nil = np.ones_like(x), np.zeros_like(x)
    rows_u = np.stack([x, y, one, nil, nil, nil, -u * x, -u * y], 1)
    rows_v = np.stack([nil, nil, nil, x, y, one, -v * x, -v * y], 1)
    rows, goal = np.concatenate([rows_u, rows_v]), np.concatenate([u, v])
    depth = np.ones_like(x)
    for _ in range(4):
        # by the normal matrix of its few unknowns: with all rows it takes several times as long
        weighed = rows * np.tile(weight / depth**2, 2)[:, None]
        solved = np.linalg.lstsq(weighed.T @ rows, weighed.T @ goal, rcond=None)[0]
        depth = np.maximum(solved[6] * x + solved[7] * y + 1, 0.1)
    h = np.append(solved, 1.0).reshape(3, 3)
    h = np.linalg.solve(tq, h @ tp)
    return h / h[2, 2]


def _normaliser(p: Array) -> Array:
    middle, size = p.mean(axis=0), max(p.std(), 1e-9)
    return np.array([[1 / size, 0, -middle[0] / size], [0, 1 / size, -middle[1] / size], [0, 0, 1]])


def fitted_turn(size: tuple[int, int], p: Array, q: Array, weight: Array) -> Array:
    """(3, 3) homography of a camera with a usual lens that turned on its spot, by weighted least squares of rays
    (Wahba 1965).
    """
    focal = USUAL_FOCAL * max(size)
    k = np.array([[focal, 0, (size[0] - 1) / 2], [0, focal, (size[1] - 1) / 2], [0, 0, 1]])
    a, b = (np.column_stack([x, np.ones(len(x))]) @ np.linalg.inv(k).T for x in (p, q))
    a, b = (x / np.linalg.norm(x, axis=1, keepdims=True) for x in (a, b))
    h = k @ aligning_rotation(a, b, weight) @ np.linalg.inv(k)
    return h / h[2, 2]


def variance_at(grid: Array, way: str, transform: Array, p: Array, q: Array, floor: float) -> float:
    """How uncertain (px squared, mean over a grid (m, 2)) a transform is that points p (n, 2) onto q gave, which are
    not known better than `floor`, px.

    By the covariance of its parameters, or by what they would be without one group of neighbours after another if
    that is more: a few that err alike at a rim bend a perspective there and leave nothing that would tell
    (delete-group jackknife of the linearised fit: Wu 1986).
    """
    middle, size = p.mean(axis=0), max(float(p.std()), 1e-9)
    slopes, wanted = (_slopes(way, transform, x, middle, size) for x in (p, grid))
    left = q - planar.apply(transform, p)
    off = np.linalg.norm(left, axis=1)
    weight = _weight(off)
    count = slopes.shape[2]
    free = 2 * weight.sum() - count
    if free < LEAST_FREE:
        return float("inf")
    spread = max(float(np.sum(weight * off**2)) / free, floor**2)
    each = np.einsum("n,nik,nil->nkl", weight, slopes, slopes)
    normal = each.sum(axis=0)
    covariance = spread * np.linalg.pinv(normal, hermitian=True)
    known = float(np.mean(np.einsum("mik,kl,mil->m", wanted, covariance, wanted)))
    pull = np.einsum("n,nik,ni->nk", weight, slopes, left)
    moves = [np.linalg.lstsq(normal - each[g].sum(axis=0), pull[g].sum(axis=0))[0] for g in _neighbours(p)]
    moved = np.einsum("mik,gk->gmi", wanted, np.array(moves))
    return max(known, float((1 - 1 / len(moves)) * np.sum(moved**2) / len(grid)))


def _neighbours(points: Array) -> list[NDArray[np.intp]]:
    """Groups of about as many points (n, 2) each that lie together: columns, each cut across."""
    columns = np.array_split(np.argsort(points[:, 0]), GROUPS)
    groups = [part for c in columns for part in np.array_split(c[np.argsort(points[c, 1])], GROUPS)]
    return [g for g in groups if len(g)]


def _slopes(way: str, transform: Array, points: Array, middle: Array, size: float) -> Array:
    """(n, 2, k): how places of points (n, 2) move with each parameter of a way, in coordinates of that middle and
    size, the same for all points that are compared.
    """
    x, y = ((points - middle) / size).T
    one, nil = np.ones(len(x)), np.zeros(len(x))
    columns = [(one, nil), (nil, one), (-y, x), (x, y)][: {"shift": 2, "rigid": 3}.get(way, 4)]
    if way == "perspective":
        u, v = ((planar.apply(transform, points) - planar.apply(transform, middle[None])) / size).T
        columns = [(x, nil), (y, nil), (one, nil), (nil, x), (nil, y), (nil, one), (-u * x, -v * x), (-u * y, -v * y)]
    return np.stack([np.stack(c, axis=1) for c in columns], axis=2)


WAYS = {
    "shift": fitted_shift,
    "rigid": fitted_rigid,
    "similarity": fitted_similarity,
    "perspective": fitted_perspective,
}
