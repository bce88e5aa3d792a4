"""Repairs laid over a stack's picture, on the px of its reference: cloned, healed, filled, textured, from a frame."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.combine.strips import shown_within
from windfell.engine.area_reach import extent_of
from windfell.engine.picture import Picture
from windfell.engine.repairs import read_from
from windfell.finish.healing import healed
from windfell.finish.patch_fill import patch_filled
from windfell.job import Job
from windfell.pixels.pull_push import smoothly_filled
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area
from windfell.recipe.repairs import Mend, Repair

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

LEAST, HALF = 1e-3, 0.5
PATCH_SIDE = 900
AROUND = 1.0
LEAST_AROUND = 24


def repaired_stack(stages: Any, picture: Picture, region: Region, scale: float, before: Callable | None, job: Job,
                   count: int | None = None) -> Picture:
    """The picture of a region, px of the reference at a scale (or, with `before`, px that it takes there), with the
    first `count` repairs of the set laid over it.
    """
    for n, repair in enumerate(stages.set.repairs[:count]):
        if repair.on and not repair.area.empty and repair.way in TAKES:
            picture = _laid(stages, picture, n, repair, region, scale, before, job)
    return picture


def _laid(stages: Any, below: Picture, n: int, repair: Repair, region: Region, scale: float, before: Callable | None,
          job: Job) -> Picture:
    part = region if before is not None else _reached(repair.area, region, scale)
    if part is None:
        return below
    share = stages.area_share(repair.area, part, scale, before, job)
    rows, columns = np.flatnonzero((share > LEAST).any(axis=1)), np.flatnonzero((share > LEAST).any(axis=0))
    if not len(rows):
        return below
    share = share[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1, None]
    placed = Region(part.left + int(columns[0]), part.top + int(rows[0]), share.shape[1], share.shape[0])
    at = placed.within(region)
    y, x = np.mgrid[placed.top : placed.top + placed.height, placed.left : placed.left + placed.width].astype(float)
    points = np.stack([x, y], -1)
    if before is not None:
        points = before(points)
    found = TAKES[repair.way](stages, n, repair, points, scale, job)
    if found is None:
        return below
    light, covered = below.light.copy(), below.covered.copy()
    light[at] += share * (found - light[at])
    covered[at] |= share[..., 0] > 0.5
    return Picture(light, covered)


def ground_below(stages: Any, n: int, side: int, job: Job
                 ) -> tuple[Picture, NDArray[np.bool_], Region, float] | None:
    """(the reference's ground below repair `n`, where that is, the region, its scale): the area and as much around
    it, at most `side` px. None for an area without a place.
    """
    area = stages.set.repairs[n].area
    box = extent_of(area)
    if box is None:
        return None
    size = float(np.max(box[1] - box[0]))
    scale = min(1.0, side / max(2 * size, 1.0))
    more = round(max(LEAST_AROUND, 0.5 * size) * scale)
    region = _reached(area, Region(0, 0, *stages.whole_at(scale, job)), scale)
    if region is None:
        return None
    region = region.grown(more).shared(Region(0, 0, *stages.whole_at(scale, job)))
    inside = stages.area_share(area, region, scale, None, job) > HALF
    return _plain(stages, n, region, scale, job), inside, region, scale


def _reached(area: Area, region: Region, scale: float) -> Region | None:
    """The part of a region that an area can reach, None for nothing of it."""
    box = extent_of(area)
    if box is None:
        return region
    (left, top), (right, bottom) = np.floor(box[0] * scale) - 2, np.ceil(box[1] * scale) + 3
    return Region(int(left), int(top), int(right - left), int(bottom - top)).shared(region)


def _read(light: F32, region: Region, points: Array) -> F32:
    """What a region shows at points (h, w, 2), bilinear, held at its border."""
    where = (points - (region.left, region.top)).astype(np.float32)
    return cv2.remap(light, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def _around(points: Array, whole: tuple[int, int]) -> Region:
    """The px around points, within the whole."""
    low = np.floor(points.reshape(-1, 2).min(axis=0)) - 1
    high = np.ceil(points.reshape(-1, 2).max(axis=0)) + 2
    left, top = np.clip(low, 0, np.array(whole) - 1).astype(int)
    right, bottom = np.clip(high, [left + 1, top + 1], whole).astype(int)
    return Region(int(left), int(top), int(right - left), int(bottom - top))


def _plain(stages: Any, n: int, region: Region, scale: float, job: Job) -> Picture:
    """The reference's ground as it is below repair `n`."""
    return repaired_stack(stages, stages.on_ground(region, scale, job), region, scale, None, job, n)


def _cloned(stages: Any, n: int, repair: Repair, points: Array, scale: float, job: Job) -> F32 | None:
    if repair.source is None or repair.to is None:
        return None
    source, to = ((np.array(p) + 0.5) * scale - 0.5 for p in (repair.source, repair.to))
    moved = source + (points - to) @ read_from(repair).T
    region = _around(moved, stages.whole_at(scale, job))
    return _read(_plain(stages, n, region, scale, job).light, region, moved)


def _framed(stages: Any, n: int, repair: Repair, points: Array, scale: float, job: Job) -> F32 | None:
    """What a frame shows there, in its place."""
    ids = [f.id for f in stages.set.used]
    frames, numbers = stages.frames_in_place(scale, job)
    if repair.frame not in ids or ids.index(repair.frame) not in numbers:
        return None
    size = stages.whole_at(scale, job)
    region = _around(points, size)
    own = shown_within(frames[numbers.index(ids.index(repair.frame))], region, Region(0, 0, *size))
    return _read(np.nan_to_num(own, nan=0.0), region, points)


def _patch(stages: Any, n: int, repair: Repair, points: Array, scale: float, job: Job, make: Callable) -> F32 | None:
    """A repair that is made once, around its area, at full size unless that is too large, and read at any scale."""
    box = extent_of(repair.area)
    if box is None:
        return None
    low, high = box
    wished = None if repair.sources is None or repair.sources.inverted else extent_of(repair.sources)
    if wished is not None:
        low, high = np.minimum(low, wished[0]), np.maximum(high, wished[1])
    more = max(LEAST_AROUND, AROUND * float((high - low).max()))
    width, height = stages.whole_size(job)
    low, high = np.clip(low - more, 0, (width, height)), np.clip(high + more, 0, (width, height))
    own = min(1.0, PATCH_SIDE / max(float((high - low).max()), 1.0))
    size = stages.whole_at(own, job)
    left, top = np.floor(low * own).astype(int)
    right, bottom = np.minimum(np.ceil(high * own), size).astype(int)
    region = Region(int(left), int(top), int(right - left), int(bottom - top))
    if region.width < 8 or region.height < 8:
        return None

    def build() -> F32:
        stages.prepare(own, job)
        inside = stages.area_share(repair.area, region, own, None, job) > LEAST
        return make(_plain(stages, n, region, own, job), inside, region, own)

    c = stages.set.combining
    key = key_of("repair", stages.rule_key(job), c.layers, c.region, stages.set.repairs[:n], repair, region, own)
    light = stages.cache.get(key, build)
    k = np.array(size) / stages.whole_at(scale, job)
    return _read(light, region, (points + 0.5) * k - 0.5)


def _filled(stages: Any, n: int, repair: Repair, points: Array, scale: float, job: Job) -> F32 | None:
    return _patch(stages, n, repair, points, scale, job,
                  lambda below, inside, *_: smoothly_filled(below.light, below.covered & ~inside))


def _textured(stages: Any, n: int, repair: Repair, points: Array, scale: float, job: Job) -> F32 | None:
    def make(below: Picture, inside: NDArray[np.bool_], region: Region, own: float) -> F32:
        barred = ~below.covered
        if repair.sources is not None and not repair.sources.empty:
            barred |= stages.area_share(repair.sources, region, own, None, job) < HALF
        made = patch_filled(below.light, inside, barred, repair.answer)
        return smoothly_filled(below.light, below.covered & ~inside) if made is None else made

    return _patch(stages, n, repair, points, scale, job, make)


def _healed(stages: Any, n: int, repair: Repair, points: Array, scale: float, job: Job) -> F32 | None:
    def make(below: Picture, inside: NDArray[np.bool_], region: Region, own: float) -> F32:
        y, x = np.mgrid[region.top : region.top + region.height, region.left : region.left + region.width]
        there = _cloned(stages, n, repair, np.stack([x, y], -1).astype(float), own, job)
        return below.light if there is None else healed(below.light, there, inside)

    return _patch(stages, n, repair, points, scale, job, make)


TAKES = {Mend.CLONE: _cloned, Mend.HEAL: _healed, Mend.FILL: _filled, Mend.TEXTURE: _textured, Mend.FRAME: _framed}
