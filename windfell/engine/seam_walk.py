"""The seams of a panorama in stretches, the worst first."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.engine.panorama import PanoramaStages
from windfell.engine.picture import Picture
from windfell.job import Job
from windfell.join.rating import Rated, rated
from windfell.pixels.colour import perceptual
from windfell.pixels.tiles import Region, holding
from windfell.shape.canvas import Canvas

Array = NDArray[np.float64]
# placed frames a and b, x and y
Middle = tuple[int, int, float, float]

WALK_PIXELS = 7_000_000
MAP_PIXELS = 600_000
STRETCH, PATCH = 88, 124
AROUND, TOGETHER = 48, 400
# regions from whose corners maps have their nodes at the same px have the same seams
BLOCK = 64
MOST = 400


@dataclass(frozen=True)
class Stretch:
    """A piece of the seam between placed frames `a` and `b`: its middle in px of the picture at full size, its rating
    (1 is where an eye begins to notice).
    """

    a: int
    b: int
    x: float
    y: float
    rated: Rated

    @property
    def rating(self) -> float:
        return self.rated.rating


def seam_walk(stages: PanoramaStages, job: Job) -> list[Stretch]:
    """All stretches of all seams that the picture shows, the worst first."""
    return sorted(_walked(stages, job), key=lambda s: -s.rating)


def _walked(stages: PanoramaStages, job: Job, near: tuple[float, float, float] | None = None) -> list[Stretch]:
    full = stages.canvas(job)
    scale = min(1.0, float(np.sqrt(WALK_PIXELS / (full.width * full.height))))
    canvas = full.scaled(scale)
    stages.prepare(scale, job)
    middles = seam_middles(stages, canvas, job)
    kx, ky = full.width / canvas.width, full.height / canvas.height
    if near is not None:
        middles = [m for m in middles if np.hypot((m[2] + 0.5) * kx - near[0], (m[3] + 0.5) * ky - near[1]) < near[2]]
    if len(middles) > MOST:
        middles = [middles[int(k)] for k in np.linspace(0, len(middles) - 1, MOST)]
    near_each_other: dict[tuple[int, int], list[Middle]] = {}
    for m in middles:
        near_each_other.setdefault((int(m[3] // TOGETHER), int(m[2] // TOGETHER)), []).append(m)
    groups = list(near_each_other.values())
    found = job.map(lambda g: _rated(stages, canvas, scale, g, job), groups, "walking the seams")
    return [Stretch(a, b, (x + 0.5) * kx - 0.5, (y + 0.5) * ky - 0.5, r)
            for own, ratings in zip(groups, found, strict=True)
            for (a, b, x, y), r in zip(own, ratings, strict=True) if r is not None]


def worst_near(stages: PanoramaStages, x: float, y: float, reach: float, job: Job) -> float:
    """The rating of the worst stretch within `reach` of a spot (px of the picture at full size); 0 if no seam is
    there.
    """
    return max((s.rating for s in _walked(stages, job, (x, y, reach))), default=0.0)


def loupes(stages: PanoramaStages, stretch: Stretch, side: int, job: Job) -> tuple[Picture, Picture, Picture]:
    """One frame, the joined picture, the other frame around a stretch, side x side px at full size."""
    canvas = stages.canvas(job)
    region = Region(round(stretch.x) - side // 2, round(stretch.y) - side // 2, side, side)
    stages.prepare(1.0, job)

    def alone(n: int) -> Picture:
        seen = stages.warped_frame(n, canvas, region, job)
        if seen is None:
            return Picture(np.zeros((side, side, 3), np.float32), np.zeros((side, side), bool))
        return Picture(np.ascontiguousarray(seen.light), seen.mask())

    return alone(stretch.a), stages.unfinished(region, 1.0, job), alone(stretch.b)


def seam_middles(stages: PanoramaStages, canvas: Canvas, job: Job) -> list[Middle]:
    """(a, b, x, y): stretches of seams as pairs of placed frames and px of the canvas."""
    small = canvas.scaled(min(1.0, float(np.sqrt(MAP_PIXELS / (canvas.width * canvas.height)))))
    owner = stages.owners(small, Region(0, 0, small.width, small.height), job).astype(np.int32)
    k = canvas.width / small.width
    spots: dict[tuple[int, int], list[Array]] = {}
    for dy, dx in ((0, 1), (1, 0)):
        p, q = owner[: owner.shape[0] - dy, : owner.shape[1] - dx], owner[dy:, dx:]
        y, x = np.nonzero((p != q) & (p >= 0) & (q >= 0))
        pairs = np.stack([np.minimum(p[y, x], q[y, x]), np.maximum(p[y, x], q[y, x])], -1)
        for pair in {tuple(v) for v in pairs.tolist()}:
            here = (pairs == pair).all(axis=1)
            spots.setdefault(pair, []).append(np.stack([x[here] + dx / 2, y[here] + dy / 2], -1))
    found = []
    for (a, b), parts in sorted(spots.items()):
        points = (np.concatenate(parts) + 0.5) * k - 0.5
        cells = np.floor(points / STRETCH).astype(int)
        for cell in sorted({tuple(c) for c in cells.tolist()}):
            mine = points[(cells == cell).all(axis=1)]
            x, y = mine[np.argmin(np.linalg.norm(mine - mine.mean(axis=0), axis=1))]
            found.append((a, b, float(x), float(y)))
    return found


def _rated(stages: PanoramaStages, canvas: Canvas, scale: float, middles: list[Middle], job: Job
           ) -> list[Rated | None]:
    """Stretches near each other rated on the patches around them, which are made in one go; those are known already
    near which nothing changed hands.
    """
    job.check()
    patches = [Region(round(x) - PATCH // 2, round(y) - PATCH // 2, PATCH, PATCH) for _, _, x, y in middles]
    around = holding([p.grown(AROUND) for p in patches]).blocks(BLOCK)
    owner = stages.owners(canvas, around, job)
    wide = [np.ascontiguousarray(owner[p.grown(AROUND).within(around)]) for p in patches]
    look = stages.look_key(job)
    keys = [key_of("rated", look, canvas, m, hashlib.sha256(w.tobytes()).hexdigest())
            for m, w in zip(middles, wide, strict=True)]
    unknown = [p for p, key in zip(patches, keys, strict=True) if not stages.cache.holds(key)]
    together = _Shown(stages, canvas, scale, holding(unknown or patches).blocks(BLOCK), job)

    def rate(patch: Region, owner: NDArray[np.int16], pair: tuple[int, int]) -> Rated | None:
        # what was known may be forgotten meanwhile
        shown = together if patch in unknown else _Shown(stages, canvas, scale, patch.blocks(BLOCK), job)
        return _rate(shown, patch, owner[AROUND:-AROUND, AROUND:-AROUND], pair)

    return [stages.cache.get(key, lambda p=p, w=w, m=m: rate(p, w, m[:2]))
            for p, w, m, key in zip(patches, wide, middles, keys, strict=True)]


class _Shown:
    """Frames and the joined picture on a region, each made once if it is asked for."""

    def __init__(self, stages: PanoramaStages, canvas: Canvas, scale: float, region: Region, job: Job) -> None:
        self.region = region
        self.frame = cache(lambda n: stages.warped_frame(n, canvas, region, job))
        self.joined = cache(lambda: stages.unfinished(region, scale, job))


def _rate(shown: _Shown, patch: Region, owner: NDArray[np.int16], pair: tuple[int, int]) -> Rated | None:
    a, b = pair
    seen, at = [shown.frame(n) for n in pair], patch.within(shown.region)
    if seen[0] is None or seen[1] is None:
        return None
    both = seen[0].mask()[at] & seen[1].mask()[at]
    both &= (owner == a) | (owner == b)
    lights = seen[0].light, seen[1].light, shown.joined().light
    looks = [perceptual(np.ascontiguousarray(light[at])) for light in lights]
    inner = cv2.erode(both.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    return rated(*looks, owner == a, inner)
