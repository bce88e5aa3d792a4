"""Distances to paths on the ground, worked out in blocks, only where they matter."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.areas.spots import BLOCK, DEGREE, Blocks, Ground, Sphere

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

ARC = 2 * DEGREE
AT_ONCE = 8
SMALLEST = np.float32(1e-30)


@dataclass(frozen=True, eq=False)
class Path:
    """Segments from `a` to `b` (n, k) on the ground, as float32, `wide` (n, 2) at each end."""

    a: F32
    b: F32
    wide: F32

    @classmethod
    def through(cls, ground: Ground, points: Array, wide: Array, closed: bool = False) -> Path:
        """The path through points (n, k), half so wide (n,) at each; on the sphere along great circles."""
        if closed:
            points, wide = np.concatenate([points, points[:1]]), np.concatenate([wide, wide[:1]])
        if len(points) == 1:
            points, wide = np.repeat(points, 2, axis=0), np.repeat(wide, 2)
        if isinstance(ground, Sphere):
            points, wide = _densely(points, wide)
        f = lambda v: np.ascontiguousarray(v, np.float32)  # noqa: E731
        return cls(f(points[:-1]), f(points[1:]), f(np.stack([wide[:-1], wide[1:]], -1)))

    def thinned(self, by: float) -> Path:
        """The path less points that lie within `by` of it (Douglas & Peucker 1973)."""
        points = np.concatenate([self.a, self.b[-1:]])
        wide = np.concatenate([self.wide[:, 0], self.wide[-1:, 1]])
        kept = np.array(sorted(_needed(points, wide, by)))
        points, wide = points[kept], wide[kept]
        return Path(points[:-1], points[1:], np.stack([wide[:-1], wide[1:]], -1))


def _densely(points: Array, wide: Array) -> tuple[Array, Array]:
    """Points put between those that lie farther apart than chords may."""
    found, widths = [points[:1]], [wide[:1]]
    for a, b, wa, wb in zip(points[:-1], points[1:], wide[:-1], wide[1:], strict=True):
        n = max(1, int(np.ceil(np.linalg.norm(b - a) / ARC)))
        t = (np.arange(1, n + 1) / n)[:, None]
        between = (1 - t) * a + t * b
        found.append(between / np.maximum(np.linalg.norm(between, axis=1, keepdims=True), 1e-12))
        widths.append((wa + t * (wb - wa))[:, 0])
    return np.concatenate(found), np.concatenate(widths)


def _needed(points: F32, wide: F32, by: float) -> set[int]:
    both = np.concatenate([points, wide[:, None]], axis=1).astype(float)
    kept, waiting = {0, len(points) - 1}, [(0, len(points) - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        way = both[last] - both[first]
        t = np.clip((both[first + 1 : last] - both[first]) @ way / max(way @ way, 1e-30), 0, 1)
        off = np.linalg.norm(both[first + 1 : last] - both[first] - t[:, None] * way, axis=1)
        far = int(np.argmax(off))
        if off[far] > by:
            middle = first + 1 + far
            kept.add(middle)
            waiting += [(first, middle), (middle, last)]
    return kept


def along_path(
    blocks: Blocks, path: Path, reach: float, share_of: Callable[[F32, F32, F32], F32], start: float = 0.0,
) -> F32:
    """The most (n, BLOCK²) that `share_of` gives of any segment near, `start` elsewhere.

    `reach`: how far beyond its width a segment matters. `share_of` is told distances (n, m), the width there, and the
    length of a px (n, 1).
    """
    out = np.full((len(blocks.points), BLOCK * BLOCK), start, np.float32)
    for n in range(0, len(path.a), AT_ONCE):
        a, b, wide = (v[n : n + AT_ONCE] for v in (path.a, path.b, path.wide))
        ends = np.concatenate([a, b])
        middle = ends.mean(axis=0)
        around = np.linalg.norm(ends - middle, axis=1).max() + wide.max() + reach
        near = np.linalg.norm(blocks.middle - middle, axis=1) <= around + blocks.reach + 2 * blocks.px
        hit = np.flatnonzero(near)
        if not len(hit):
            continue
        apart = [np.flatnonzero(_distance(blocks.middle[hit], a[k], b[k])[0] <= (
            wide[k].max() + reach + blocks.reach[hit] + 2 * blocks.px[hit])) for k in range(len(a))]
        for k, mine in enumerate(apart):
            if not len(mine):
                continue
            at = hit[mine]
            spots = blocks.points[at]
            far, t = _distance(spots, a[k], b[k])
            width = wide[k, 0] + t * (wide[k, 1] - wide[k, 0]) if wide[k, 0] != wide[k, 1] else wide[k, 0]
            out[at] = np.maximum(out[at], share_of(far, width, blocks.px[at][:, None]))
    return out


def _distance(spots: F32, a: F32, b: F32) -> tuple[F32, F32]:
    """Distances (...) of spots (..., k) from a segment, and how far along it (0..1) they are nearest."""
    way = b - a
    length2 = float(way @ way)
    rest = spots - a
    if length2 < 1e-24:
        return np.sqrt(np.einsum("...k,...k->...", rest, rest)), np.zeros(spots.shape[:-1], np.float32)
    t = np.clip((rest @ way) * np.float32(1 / length2), 0, 1)
    rest -= t[..., None] * way
    return np.sqrt(np.einsum("...k,...k->...", rest, rest)), t


def inside(spots: F32, corners: F32) -> NDArray[np.bool_]:
    """Whether flat spots (n, 2) lie within a closed polygon (m, 2), by even and odd crossings."""
    found = np.zeros(len(spots), bool)
    x, y = spots[:, 0], spots[:, 1]
    for (xa, ya), (xb, yb) in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        if ya == yb:
            continue
        crosses = (ya > y) != (yb > y)
        found ^= crosses & (x < (xb - xa) * (y - ya) / (yb - ya) + xa)
    return found


def flat_at(ground: Ground, middle: Array, spots: NDArray) -> F32:
    """Flat coordinates (..., 2), right and down of a middle (k,); on the sphere true to distance and direction from
    it (azimuthal equidistant; Snyder 1987, ch. 25).
    """
    if not isinstance(ground, Sphere):
        return (spots - middle.astype(spots.dtype)).astype(np.float32)
    east = np.array([middle[2], 0.0, -middle[0]])
    size = np.linalg.norm(east)
    east = east / size if size > 1e-9 else np.array([1.0, 0.0, 0.0])
    down = np.cross(middle, east)
    kind = spots.dtype
    x, y = spots @ east.astype(kind), spots @ down.astype(kind)
    along = np.hypot(x, y)
    far = np.arctan2(along, spots @ middle.astype(kind))
    k = np.where(along > SMALLEST, far / np.maximum(along, SMALLEST), 1.0)
    return np.stack([x * k, y * k], -1).astype(np.float32)
