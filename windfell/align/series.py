"""A series brought onto its reference frame: shift, similarity or perspective."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.align.matching import matches
from windfell.align.patches import HALF, SEARCH, burnt_alike, patch_offsets, patch_shifts, seen_around, steps_seen
from windfell.align.verify import LEAST_INLIERS, log_false_alarms
from windfell.align.view import View
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.job import Job

Array = NDArray[np.float64]

TOLERANCE = 1 / 500
LOG_CHANCE = -6.0
STILL_PX = 0.3
LOOKED_AT = 600
TRIED = 6


@dataclass(frozen=True)
class Onto:
    """`transform` (3, 3) takes the reference's pixel to this frame's; `still` if none was needed.

    `lens`: both frames' bending, between which the transform acts; None for none.
    """

    transform: Array
    rms_px: float
    still: bool = False
    lens: Lens | None = None


@dataclass(frozen=True)
class NotOnto:
    """The frame cannot be brought onto the reference, and why."""

    reason: str


def align_series(
    features: Sequence[Features], reference: int, way: str, job: Job, view: Callable[[int], View] | None = None
) -> list[Onto | NotOnto]:
    """Each frame's place on the reference; `way` is a key of WAYS.

    `view(n)` gives frame n's light, on which places are refined; without it the features' stand.
    """
    first = None if view is None else view(reference)

    def one(n: int) -> Onto | NotOnto:
        if n == reference:
            return Onto(np.eye(3), 0.0, True)
        found = onto(features[reference], features[n], way, first is None)
        if first is None or isinstance(found, NotOnto):
            return found
        return refined_onto(found, way, features[reference], features[n], first, view(n))

    return by_others(job.map(one, list(range(len(features))), "aligning frames"), features, way, view, job)


def by_others(
    found: list[Onto | NotOnto], features: Sequence[Features], way: str, view: Callable[[int], View] | None, job: Job
) -> list[Onto | NotOnto]:
    """The places, and those of frames that show too little of the reference but something of a frame that has one: of
    much longer or shorter exposures, by those between. The nearest few in the series are tried.
    """
    found = list(found)
    fresh = [n for n, p in enumerate(found) if isinstance(p, Onto)]
    while fresh and any(isinstance(p, NotOnto) for p in found):
        tried, fresh = fresh, []
        for n, place in enumerate(found):
            if isinstance(place, Onto):
                continue
            for m in sorted(tried, key=lambda k, own=n: abs(k - own))[:TRIED]:
                job.check()
                link = onto(features[m], features[n], way, False)
                if isinstance(link, NotOnto):
                    continue
                if view is not None:
                    link = refined_onto(link, way, features[m], features[n], view(m), view(n))
                found[n] = Onto(link.transform @ found[m].transform, float(np.hypot(link.rms_px, found[m].rms_px)))
                fresh.append(n)
                break
    return found


def refined_onto(
    found: Onto, way: str, reference: Features, frame: Features, first: View, other: View
) -> Onto:
    """The place with its points moved to where the light agrees best; still if the light says so."""
    points = reference.points[: LOOKED_AT]
    there = planar.apply(found.transform, points)
    rim = 2 * HALF / other.scale
    inside = np.all((there > rim) & (there < [frame.width - rim, frame.height - rim]), axis=1)
    points, there = points[inside], there[inside]
    if len(points) < LEAST_INLIERS:
        return found
    grid, _ = seen_around(lambda p: planar.apply(found.transform, p), points)
    one = first.at(points[:, None, None] + patch_offsets(HALF) / first.scale)
    reach = patch_offsets(HALF + SEARCH + 2) / first.scale
    moved = patch_shifts(*burnt_alike(one, other.at(there[:, None, None] + steps_seen(grid, reach))))
    sure = moved.sure
    if sure.sum() < LEAST_INLIERS:
        return found
    p = points[sure]
    q = there[sure] + np.einsum("mij,mj->mi", grid[sure], moved.shift[sure] / first.scale)
    transform, off = reweighted(p, q, WAYS[way])
    rms = float(np.sqrt(np.mean(off[off < 3 * np.median(off) + 1e-6] ** 2)))
    same_size = (reference.width, reference.height) == (frame.width, frame.height)
    if same_size and planar.corner_shift(transform, frame.width, frame.height) < STILL_PX:
        return Onto(np.eye(3), float(np.sqrt(np.mean(np.minimum(np.linalg.norm(p - q, axis=1), 2.0) ** 2))), True)
    return Onto(transform, rms)


def reweighted(p: Array, q: Array, fit: Callable[[Array, Array, Array], Array]) -> tuple[Array, Array]:
    """A transform (3, 3) in iterated least squares, what moved aside; and what is left of every point."""
    weight = np.ones(len(p))
    for _ in range(10):
        transform = fit(p, q, weight)
        off = np.linalg.norm(planar.apply(transform, p) - q, axis=1)
        weight = 1 / (1 + (off / max(2.5 * float(np.median(off)), 0.03)) ** 2) ** 2
    return transform, off


def onto(reference: Features, frame: Features, way: str, judge_still: bool = True) -> Onto | NotOnto:
    """The transform from the reference's pixels to the frame's, moving things aside.

    If `judge_still` and leaving the frame where it is explains the points as well, it is left untouched.
    """
    pairs = matches(reference, frame)
    if len(pairs) < LEAST_INLIERS:
        return NotOnto(f"only {len(pairs)} features look like the reference's")
    p, q = reference.points[pairs[:, 0]], frame.points[pairs[:, 1]]
    tolerance = TOLERANCE * max(reference.width, reference.height)
    transform, inlier = _robust(p, q, WAYS[way], tolerance)
    probability = np.pi * tolerance**2 / (frame.width * frame.height)
    if log_false_alarms(len(p), int(inlier.sum()), probability) > LOG_CHANCE:
        return NotOnto(f"only {int(inlier.sum())} of {len(p)} features agree on where it lies")
    error = np.linalg.norm(planar.apply(transform, p[inlier]) - q[inlier], axis=1)
    rms = float(np.sqrt(np.mean(error**2)))
    same_size = (reference.width, reference.height) == (frame.width, frame.height)
    pixel = max(1.0, max(reference.width, reference.height) / 1600)
    if judge_still and same_size and planar.corner_shift(transform, frame.width, frame.height) < STILL_PX * pixel:
        off = np.linalg.norm(p[inlier] - q[inlier], axis=1)
        return Onto(np.eye(3), float(np.sqrt(np.mean(off**2))), True)
    return Onto(transform, rms)


def _robust(
    p: Array, q: Array, fit: Callable[[Array, Array, Array], Array], tolerance: float
) -> tuple[Array, NDArray[np.bool_]]:
    """The transform by consensus, then by weighted least squares on what agrees."""
    h, _ = cv2.findHomography(p, q, cv2.USAC_MAGSAC, tolerance, maxIters=3000, confidence=0.999)
    start = np.eye(3) if h is None else h
    off = np.linalg.norm(planar.apply(start, p) - q, axis=1)
    weight = (off < 2 * tolerance).astype(float)
    if weight.sum() < 4:
        weight[:] = 1.0
    transform = start
    for scale in np.geomspace(tolerance, tolerance / 8, 8):
        transform = fit(p, q, weight)
        off = np.linalg.norm(planar.apply(transform, p) - q, axis=1)
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
    w = np.sqrt(np.concatenate([weight, weight]))
    rows, goal = np.concatenate([rows_u, rows_v]), np.concatenate([u, v])
    depth = np.ones_like(x)
    for _ in range(4):
        k = w / np.concatenate([depth, depth])
        solved = np.linalg.lstsq(rows * k[:, None], goal * k, rcond=None)[0]
        depth = np.maximum(solved[6] * x + solved[7] * y + 1, 0.1)
    h = np.append(solved, 1.0).reshape(3, 3)
    h = np.linalg.solve(tq, h @ tp)
    return h / h[2, 2]


def _normaliser(p: Array) -> Array:
    middle, size = p.mean(axis=0), max(p.std(), 1e-9)
    return np.array([[1 / size, 0, -middle[0] / size], [0, 1 / size, -middle[1] / size], [0, 0, 1]])


WAYS = {
    "shift": fitted_shift,
    "rigid": fitted_rigid,
    "similarity": fitted_similarity,
    "perspective": fitted_perspective,
}
