"""The gaps of a ragged outline filled with texture: where nothing is, and nowhere else.

What each px of a gap is taken from is found once on a small picture; at any size the picture's own px are then read
from there, so that what is made up is as sharp as the rest.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.engine.picture import Picture
from windfell.finish.patch_fill import patch_taken
from windfell.job import Job
from windfell.pixels.pull_push import smoothly_filled
from windfell.pixels.tiles import Region
from windfell.recipe.repairs import Mend, Repair
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]
Below = Callable[[Any, int, Canvas, Job], Picture]

SIDE, SOURCE_SIDE, PASSING = 900, 6000, np.float32(3.0)
NEAR = np.ones((3, 3), np.uint8)


@dataclass(frozen=True)
class Growth:
    """On a small canvas: from how far away (h, w, 2) px, x and y, each px of the gaps is taken, and what is added to
    the root of the light there (h, w, 3). `share`: how much of the picture is made up.
    """

    away: F32
    added: F32
    share: float


def gap_share(stages: Any, job: Job) -> float:
    """The share of a panorama's picture that no frame covers."""
    canvas = _small(stages.canvas(job))
    whole = Region(0, 0, canvas.width, canvas.height)
    covered = stages.joined_on(canvas, whole, job).covered
    drawn = canvas.drawn(whole)
    open_to = ~covered if drawn is None else ~covered & drawn
    return float(open_to.mean())


def left_out(stages: Any, job: Job) -> float | None:
    """The share that a growth of the set would make up and does not, since it is more than it may; else None."""
    grows = [r for r in stages.set.repairs if r.way is Mend.GROW and r.on]
    share = gap_share(stages, job) if grows else 0.0
    return share if grows and all(100 * share > r.most_pct for r in grows) else None


def grown(
    stages: Any, below: Picture, n: int, repair: Repair, canvas: Canvas, region: Region, below_on: Below, job: Job
) -> Picture:
    """A region of the picture with its gaps filled; as it is on any other canvas than the picture's, and where more
    would be made up than the repair allows.
    """
    full = stages.canvas(job)
    if below.covered.all() or not _same(canvas, full):
        return below
    small = _small(full)
    key = key_of("growth", stages.joined_key(job), stages.set.repairs[:n], replace(repair, most_pct=100.0), small)
    found = stages.cache.get(key, lambda: _found(below_on(stages, n, small, job), small, repair.answer))
    if found is None or 100 * found.share > repair.most_pct:
        return below
    source = canvas if max(canvas.width, canvas.height) <= SOURCE_SIDE else canvas.scaled(
        SOURCE_SIDE / max(canvas.width, canvas.height))

    def closed() -> NDArray[np.float16]:
        # what no patch reaches is at least as bright as what is beside it
        picture = below_on(stages, n, source, job)
        return smoothly_filled(picture.light, picture.covered).astype(np.float16)

    picture = stages.cache.get(key_of("grown from", stages.joined_key(job), stages.set.repairs[:n], source), closed)
    light = _read(found, picture, small, canvas, region)
    drawn = canvas.drawn(region)
    gap = ~below.covered if drawn is None else ~below.covered & drawn
    return Picture(np.where(gap[..., None], light, below.light), below.covered | gap)


def _small(canvas: Canvas) -> Canvas:
    return canvas.scaled(min(1.0, SIDE / max(canvas.width, canvas.height)))


def _same(one: Canvas, other: Canvas) -> bool:
    """Whether two canvases show the same plane, at whatever size."""
    return replace(one, width=1, height=1) == replace(other, width=1, height=1)


def _found(picture: Picture, canvas: Canvas, seed: int) -> Growth | None:
    whole = Region(0, 0, canvas.width, canvas.height)
    drawn = canvas.drawn(whole)
    # a finer picture may have gaps where this one has just none
    gap = cv2.dilate((~picture.covered).astype(np.uint8), NEAR) > 0
    if drawn is not None:
        gap &= drawn
    found = patch_taken(picture.light, gap, seed)
    if found is None:
        return None
    _, taken, added = found
    y, x = np.mgrid[0 : canvas.height, 0 : canvas.width].astype(np.float32)
    away = taken - np.dstack([x, y])
    open_to = ~picture.covered if drawn is None else ~picture.covered & drawn
    return Growth(away.astype(np.float32), added, float(open_to.mean()))


def _read(found: Growth, picture: NDArray[np.float16], small: Canvas, canvas: Canvas, region: Region) -> F32:
    """The light (h, w, 3) of a region, read where its px are taken from: of each of the four px of the small picture
    around a px, as far as it is near, so that pieces pass over into each other.
    """
    y, x = np.mgrid[region.top : region.top + region.height,
                    region.left : region.left + region.width].astype(np.float32)
    k = np.float32([small.width / canvas.width, small.height / canvas.height])
    own = np.float32([picture.shape[1] / small.width, picture.shape[0] / small.height])
    at_x = np.clip((x + 0.5) * k[0] - 0.5, 0, small.width - 1)
    at_y = np.clip((y + 0.5) * k[1] - 0.5, 0, small.height - 1)
    left, top = np.floor(at_x).astype(np.intp), np.floor(at_y).astype(np.intp)
    share_x, share_y = _narrowed(at_x - left), _narrowed(at_y - top)
    out = np.zeros((region.height, region.width, 3), np.float32)
    for dx in (0, 1):
        for dy in (0, 1):
            cx, cy = np.minimum(left + dx, small.width - 1), np.minimum(top + dy, small.height - 1)
            weight = np.abs(1 - dx - share_x) * np.abs(1 - dy - share_y)
            from_x = (at_x + found.away[cy, cx, 0] + 0.5) * own[0] - 0.5
            from_y = (at_y + found.away[cy, cx, 1] + 0.5) * own[1] - 0.5
            root = np.sqrt(np.maximum(_at(picture, from_x, from_y), 0)) + found.added[cy, cx]
            out += weight[..., None] * np.square(np.maximum(root, 0))
    return out


def _narrowed(share: F32) -> F32:
    """Shares 0..1 that pass over in a narrower part of the way: the mean of two textures is none."""
    return np.clip((share - np.float32(0.5)) * PASSING + np.float32(0.5), 0, 1)


def _at(picture: NDArray[np.float16], x: F32, y: F32) -> F32:
    """A picture at px (h, w), bilinear, held at its border; only what is needed of it is turned into floats."""
    high, wide = picture.shape[:2]
    left, top = (int(np.clip(np.floor(v.min()) - 1, 0, n - 1)) for v, n in ((x, wide), (y, high)))
    right, bottom = int(np.ceil(x.max()) + 2), int(np.ceil(y.max()) + 2)
    part = np.ascontiguousarray(picture[top : max(bottom, top + 1), left : max(right, left + 1)], np.float32)
    return cv2.remap(part, x - np.float32(left), y - np.float32(top), cv2.INTER_LINEAR,
                     borderMode=cv2.BORDER_REPLICATE)
