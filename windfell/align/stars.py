"""Star frames: points of light found, recognised by their asterisms, and brought onto the reference.

Four neighbouring stars make a code that shift, turn and scale leave alone (Lang et al. 2010). Codes that agree
propose a transform; it counts if more stars fall on each other than chance would let (a contrario), and is
then grown over the whole frame as a homography, with one radial distortion that all frames share.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.series import NotOnto, Onto
from windfell.align.transforms import fitted_perspective, fitted_similarity
from windfell.align.verify import log_false_alarms
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.later import Later

optimize = Later("scipy.optimize")
spatial = Later("scipy.spatial")

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

FAINTEST = 6.0
MOST_STARS = 400
CODED, NEIGHBOURS = 70, 6
CODE_RADIUS = 0.012
TRIED = 400
LEAST_STARS = 8
LOG_CHANCE = -6.0
SIDE_STEP = 3
MOST_BEND = 0.25
WORTH = 0.85
# of four stars the pairs, and the two that each leaves
PAIRS = np.array(list(combinations(range(4), 2)))
OTHERS = PAIRS[::-1]


@dataclass(frozen=True)
class Stars:
    """Places (n, 2) in px of the frame's full size, the brightest first, and fluxes (n,)."""

    points: Array
    flux: Array
    width: int
    height: int
    problem: str = ""


def find_stars(grey: F32, width: int, height: int, ignore: NDArray[np.uint8] | None = None) -> Stars:
    """Point sources of a frame of width x height px seen as `grey` (h, w), to about a tenth of a px.

    What is longish (edges, branches) is none. Where `ignore`, stretched over the frame, is above 127 none is taken.
    """
    fine = cv2.GaussianBlur(grey, (0, 0), 1.2) - cv2.GaussianBlur(grey, (0, 0), 3.6)
    spread = 1.4826 * float(np.median(np.abs(fine[::3, ::3] - np.median(fine[::3, ::3])))) + 1e-6
    peak = (fine >= cv2.dilate(fine, np.ones((5, 5), np.uint8))) & (fine > FAINTEST * spread)
    rim = SIDE_STEP + 2
    peak[:rim], peak[-rim:], peak[:, :rim], peak[:, -rim:] = False, False, False, False
    if ignore is not None:
        peak &= cv2.resize(ignore, grey.shape[::-1], interpolation=cv2.INTER_NEAREST) <= 127
    y, x = np.nonzero(peak)
    strength = fine[y, x]
    order = np.argsort(-strength)[: 6 * MOST_STARS]
    x, y, strength = x[order], y[order], strength[order]
    keep = _round(fine, x, y)
    x, y, strength = x[keep][:MOST_STARS], y[keep][:MOST_STARS], strength[keep][:MOST_STARS]
    own = _centroids(grey, x, y)
    scale = np.array([width / grey.shape[1], height / grey.shape[0]])
    return Stars((own + 0.5) * scale - 0.5, strength.astype(float), width, height)


def _round(fine: F32, x: NDArray, y: NDArray) -> NDArray[np.bool_]:
    """Which peaks fall off alike to all sides: the ratio of principal curvatures (Lowe 2004, sec. 4.1)."""
    at = lambda dx, dy: fine[y + dy, x + dx]  # noqa: E731
    xx = at(1, 0) + at(-1, 0) - 2 * at(0, 0)
    yy = at(0, 1) + at(0, -1) - 2 * at(0, 0)
    xy = 0.25 * (at(1, 1) + at(-1, -1) - at(1, -1) - at(-1, 1))
    det, trace = xx * yy - xy * xy, xx + yy
    ratio = 4.0
    return (det > 0) & (trace * trace * ratio < (ratio + 1) ** 2 * det)


def _centroids(grey: F32, x: NDArray, y: NDArray) -> Array:
    """Places (n, 2) by a Gaussian-weighted centroid above the local ground, iterated."""
    steps = np.arange(-SIDE_STEP, SIDE_STEP + 1)
    dx, dy = np.meshgrid(steps, steps)
    part = grey[y[:, None, None] + dy, x[:, None, None] + dx].astype(float)
    rim = np.ones(dx.shape, bool)
    rim[1:-1, 1:-1] = False
    part = np.maximum(part - np.median(part[:, rim], axis=1)[:, None, None], 0)
    off = np.zeros((len(x), 2))
    for _ in range(8):
        weight = part * np.exp(-0.5 * ((dx - off[:, :1, None]) ** 2 + (dy - off[:, 1:, None]) ** 2) / 1.5**2)
        total = weight.sum(axis=(1, 2)) + 1e-9
        mean = np.stack([(weight * dx).sum(axis=(1, 2)), (weight * dy).sum(axis=(1, 2))], -1) / total[:, None]
        # the window draws the mean back by a share that equal widths of star and window make one half
        off = np.clip(off + 1.6 * (mean - off), -1.5, 1.5)
    return np.stack([x, y], -1) + off


def align_stars(stars: Sequence[Stars], reference: int, job: Job) -> list[Onto | NotOnto]:
    """Each frame's place on the reference; the reference's px lead to the frame's."""
    def one(n: int) -> tuple[Array, Array] | NotOnto:
        if n == reference:
            return np.zeros((0, 2)), np.zeros((0, 2))
        return common_stars(stars[reference], stars[n])

    found = job.map(one, list(range(len(stars))), "recognising stars")
    pairs = {n: f for n, f in enumerate(found) if not isinstance(f, NotOnto) and n != reference}
    lens = shared_bend(stars[reference], list(pairs.values()))
    out: list[Onto | NotOnto] = []
    for n, f in enumerate(found):
        if isinstance(f, NotOnto):
            out.append(f)
        elif n == reference:
            out.append(Onto(np.eye(3), 0.0, True))
        else:
            out.append(_placed(*f, lens))
    return out


def _placed(p: Array, q: Array, lens: Lens | None) -> Onto:
    a, b = (p, q) if lens is None else (unbent(lens, p), unbent(lens, q))
    h, off = _robust(a, b)
    kept = off < 3 * max(float(np.median(off)), 0.05)
    return Onto(h, float(np.sqrt(np.mean(off[kept] ** 2))), False, lens)


def _robust(p: Array, q: Array) -> tuple[Array, Array]:
    """A homography in iterated least squares, and what is left of every pair."""
    weight = np.ones(len(p))
    fit = fitted_perspective if len(p) >= 12 else fitted_similarity
    for _ in range(8):
        h = fit(p, q, weight)
        off = np.linalg.norm(planar.apply(h, p) - q, axis=1)
        weight = 1 / (1 + (off / max(2 * float(np.median(off)), 0.05)) ** 2) ** 2
    return h, off


def unbent(lens: Lens, points: Array) -> Array:
    """Px (n, 2) that the lens would show if it did not bend."""
    return lens.centre + lens.focal_px * lens.undistort(points)


def shared_bend(reference: Stars, pairs: Sequence[tuple[Array, Array]]) -> Lens | None:
    """The one radial distortion under which all pairs of star lists agree best, or None if none is called for."""
    enough = [(p, q) for p, q in pairs if len(p) >= 12]
    if not enough:
        return None
    half = 0.5 * float(np.hypot(reference.width, reference.height))

    def off_at(k1: float) -> Array:
        lens = Lens(reference.width, reference.height, half, k1)
        return np.concatenate([_robust(unbent(lens, p), unbent(lens, q))[1] for p, q in enough])

    scale2 = max(2 * float(np.median(off_at(0.0))), 0.05) ** 2

    def left(k1: float) -> float:
        off2 = off_at(k1) ** 2 / scale2
        return float(np.mean(off2 / (1 + off2)))

    found = optimize.minimize_scalar(left, bounds=(-MOST_BEND, MOST_BEND), method="bounded", options={"xatol": 1e-4})
    if found.fun > WORTH * left(0.0):
        return None
    return Lens(reference.width, reference.height, half, float(found.x))


def common_stars(a: Stars, b: Stars) -> tuple[Array, Array] | NotOnto:
    """Places (n, 2) in `a` and in `b` of the stars that both show, or why they cannot be told."""
    for one in (a, b):
        if one.problem:
            return NotOnto(one.problem)
        if len(one.points) < LEAST_STARS:
            return NotOnto(f"only {len(one.points)} stars are found")
    longest = max(b.width, b.height)
    tree = spatial.cKDTree(b.points)
    best: tuple[int, Array] | None = None
    for start, near in _proposals(a, b):
        grown = _grown(a, b, tree, start, near, longest)
        if grown is not None and (best is None or grown[0] > best[0]):
            best = grown
            if best[0] > 0.3 * min(len(a.points), len(b.points)):
                break
    if best is None:
        return NotOnto("no group of stars is recognised")
    p, q = _paired(a, b, tree, best[1], longest / 400)
    count, chance = len(p), np.pi * (longest / 400) ** 2 / (b.width * b.height)
    if count < LEAST_STARS or log_false_alarms(len(a.points), count, min(0.5, chance * len(b.points))) > LOG_CHANCE:
        return NotOnto(f"only {count} stars fall on each other")
    return p, q


def _proposals(a: Stars, b: Stars):
    """(similarity, the place in `a` it was seen at), the most alike codes first."""
    codes_a, quads_a = asterisms(a.points[:CODED])
    codes_b, quads_b = asterisms(b.points[:CODED])
    if not len(codes_a) or not len(codes_b):
        return
    distance, index = spatial.cKDTree(codes_b).query(codes_a, k=2, distance_upper_bound=CODE_RADIUS)
    near, which = np.nonzero(np.isfinite(distance))
    order = np.argsort(distance[near, which], kind="stable")[:TRIED]
    for n, m in zip(near[order], index[near, which][order], strict=True):
        p, q = a.points[quads_a[n]], b.points[quads_b[m]]
        h = fitted_similarity(p, q, np.ones(4))
        scale = float(np.hypot(h[0, 0], h[1, 0]))
        if 0.4 < scale < 2.5:
            yield h, p.mean(axis=0)


def asterisms(points: Array) -> tuple[Array, NDArray[np.intp]]:
    """Codes (m, 4) and the stars (m, 4) of groups of near neighbours, in an order the code fixes."""
    if len(points) < 4:
        return np.zeros((0, 4)), np.zeros((0, 4), np.intp)
    _, near = spatial.cKDTree(points).query(points, k=min(NEIGHBOURS + 1, len(points)))
    three = np.array(list(combinations(range(1, near.shape[1]), 3)))
    groups = np.column_stack([np.repeat(near[:, 0], len(three)), near[:, three].reshape(-1, 3)])
    return _codes(points, np.unique(np.sort(groups, axis=1), axis=0))


def _codes(points: Array, groups: NDArray[np.intp]) -> tuple[Array, NDArray[np.intp]]:
    """Of groups (m, 4) of stars the places (m, 4) of two on the axis between those farthest from each other, x and y
    in its length, the first ahead of the second and both nearer to its beginning; and the stars (m, 4): of the axis
    where it begins and ends, the first and the second.
    """
    every, at = np.arange(len(groups))[:, None], points[groups]
    apart = ((at[:, PAIRS[:, 0]] - at[:, PAIRS[:, 1]]) ** 2).sum(axis=2)
    longest = apart.argmax(axis=1)
    ends, inner = groups[every, PAIRS[longest]], groups[every, OTHERS[longest]]
    axis, off = points[ends[:, 1]] - points[ends[:, 0]], points[inner] - points[ends[:, :1]]
    length = np.maximum((axis * axis).sum(axis=1), 1e-9)[:, None]
    x = (off * axis[:, None]).sum(axis=2) / length
    y = (off[..., 1] * axis[:, :1] - off[..., 0] * axis[:, 1:]) / length
    turned = x.sum(axis=1) > 1
    ends[turned], x[turned], y[turned] = ends[turned, ::-1], 1 - x[turned], -y[turned]
    order = np.where(x[:, :1] > x[:, 1:], (1, 0), (0, 1))
    x, y, inner = x[every, order], y[every, order], inner[every, order]
    return np.column_stack([x[:, 0], y[:, 0], x[:, 1], y[:, 1]]), np.column_stack([ends, inner])


def _grown(
    a: Stars, b: Stars, tree: spatial.cKDTree, h: Array, near: Array, longest: int
) -> tuple[int, Array] | None:
    """(stars that agree, homography) grown outwards from where a similarity was seen."""
    away = np.linalg.norm(a.points - near, axis=1)
    for share, tolerance in ((0.25, 0.004), (0.5, 0.004), (0.8, 0.004), (1.5, 0.003), (1.5, 0.0025)):
        inside = away < share * longest
        p, q = _paired(replace(a, points=a.points[inside]), b, tree, h, tolerance * longest)
        if len(p) < 6:
            return None
        fit = fitted_perspective if len(p) >= 14 else fitted_similarity
        weight = np.ones(len(p))
        for _ in range(3):
            h = fit(p, q, weight)
            off = np.linalg.norm(planar.apply(h, p) - q, axis=1)
            weight = 1 / (1 + (off / max(2 * float(np.median(off)), 0.3)) ** 2) ** 2
    return len(p), h


def _paired(a: Stars, b: Stars, tree: spatial.cKDTree, h: Array, tolerance: float) -> tuple[Array, Array]:
    """Stars of `a` and `b` that are each other's nearest under the homography, within the tolerance."""
    there = planar.apply(h, a.points)
    fair = np.isfinite(there).all(axis=1)
    distance, index = tree.query(np.where(fair[:, None], there, 1e9), distance_upper_bound=tolerance)
    hit = np.flatnonzero(np.isfinite(distance))
    nearest = {}
    for n in hit:
        m = int(index[n])
        if m not in nearest or distance[n] < distance[nearest[m]]:
            nearest[m] = n
    if not nearest:
        return np.zeros((0, 2)), np.zeros((0, 2))
    own = np.array(list(nearest.values()))
    return a.points[own], b.points[np.array(list(nearest))]
