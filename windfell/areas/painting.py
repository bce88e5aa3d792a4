"""An area painted to a mask for any region at any scale: the one function for all that is drawn."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.kinds import KINDS
from windfell.areas.look import Look
from windfell.areas.spots import Spots
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Meets, Part

F32 = NDArray[np.float32]

STEP = 1.2
COARSE_PX = 16.0
MOST_REACH_PX = 2000


def painted(
    area: Area, region: Region, spots_of: Callable[[Region], Spots],
    look_at: Callable[[Region, Spots], Look] | None = None, kept: Kept | None = None,
) -> F32:
    """The share (h, w), 0..1, that an area has of each px of a region. `spots_of` says where a region's px lie on the
    ground; `look_at` what the picture shows there, for areas that read it; `kept` keeps what was painted before, so
    that one part more costs just that.
    """
    if not area.parts:
        return np.full((region.height, region.width), _whole(area, 0.0), np.float32)
    spots = spots_of(region)
    margin = _margin(area, spots)
    wide = region.grown(margin) if margin else region
    if margin:
        spots = spots_of(wide)
    look = look_at(wide, spots) if look_at else None
    share = kept_parts(area, wide, spots, look, kept) if kept else combined_parts(area.parts, spots, look)
    if area.grow:
        share = _spread(share, spots, abs(area.grow), cv2.dilate if area.grow > 0 else cv2.erode)
    if area.feather:
        share = _spread(share, spots, area.feather, None)
    share = share[region.within(wide)] if margin else share
    return np.ascontiguousarray(_whole(area, share), np.float32)


def _whole(area: Area, share):
    return (1 - share if area.inverted else share) * np.float32(area.strength_pct / 100)


class Kept(Protocol):
    """Keeps masks by what they are of."""

    def holds(self, parts: tuple) -> bool: ...

    def get(self, parts: tuple, make: Callable[[], F32]) -> F32: ...


def kept_parts(area: Area, region: Region, spots: Spots, look: Look | None, kept: Kept) -> F32:
    """The parts as they meet; all but the last taken as they were painted before, if they were."""
    def paint() -> F32:
        before = area.parts[:-1], region
        if before[0] and kept.holds(before):
            below = kept.get(before, lambda: combined_parts(area.parts[:-1], spots, look)).copy()
            return combined_parts(area.parts[-1:], spots, look, below)
        return combined_parts(area.parts, spots, look)

    return kept.get((area.parts, region), paint)


def combined_parts(parts: tuple[Part, ...], spots: Spots, look: Look | None, below: F32 | None = None) -> F32:
    """The parts as they meet, in their order, over what is `below` if there is anything; that is changed."""
    out = below
    if out is None:
        out = np.full(spots.shape, 0.0 if parts[0].meets is Meets.ADD else 1.0, np.float32)
    for part in parts:
        share = KINDS[type(part)](part, spots, look) * np.float32(part.strength_pct / 100)
        if part.meets is Meets.ADD:
            out += share * (1 - out)
        elif part.meets is Meets.TAKE:
            out *= 1 - share
        else:
            out *= share
    return out


def _margin(area: Area, spots: Spots) -> int:
    """How many px beyond a region matter to it."""
    reach = (abs(area.grow) + 1.5 * area.feather) * spots.ground.unit
    least = spots.span if np.isscalar(spots.span) else float(spots.span.min())
    return 0 if not reach else int(min(MOST_REACH_PX, np.ceil(reach / least) + 2))


def _spread(share: F32, spots: Spots, length: float, grow) -> F32:
    """The share grown, shrunk or (`grow` None) made soft by a length of the ground, in px as many as that is there.

    Where px differ in size, it is done for some sizes and passes over between them.
    """
    px = length * spots.ground.unit / np.maximum(spots.span, 1e-12)
    if np.isscalar(px):
        return _spread_px(share, float(px), grow)
    px = np.clip(px, 0, MOST_REACH_PX)
    level = np.log(np.maximum(px, 0.25)) / np.log(STEP)
    low = np.floor(level)
    out = np.zeros_like(share)
    for k in range(int(low.min()), int(low.max()) + 2):
        weight = np.clip(1 - np.abs(level - k), 0, 1).astype(np.float32)
        if weight.any():
            out += weight * _spread_px(share, float(STEP**k), grow)
    return out


def _spread_px(share: F32, px: float, grow) -> F32:
    if px < 0.26:
        return share
    if px > COARSE_PX:
        k = COARSE_PX / px
        small = cv2.resize(share, None, fx=k, fy=k, interpolation=cv2.INTER_AREA)
        return cv2.resize(_spread_px(small, COARSE_PX, grow), share.shape[::-1], interpolation=cv2.INTER_LINEAR)
    if grow is None:
        return cv2.GaussianBlur(share, (0, 0), px / 2, borderType=cv2.BORDER_REPLICATE)
    half = int(np.ceil(px))
    y, x = np.mgrid[-half : half + 1, -half : half + 1]
    return grow(share, (np.hypot(x, y) <= px + 0.3).astype(np.uint8), borderType=cv2.BORDER_REPLICATE)
