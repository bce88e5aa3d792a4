"""Areas that lie on a frame, in px of its file, painted to a mask."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from windfell.areas.painting import painted
from windfell.cache import Cache, key_of
from windfell.engine.areas import FlatLook, flat_spots
from windfell.engine.sources import Opened, canonical_scale
from windfell.job import Job
from windfell.pixels.resample import shrunk
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.areas import Area

F32 = NDArray[np.float32]

MASK_SIDE = 1024


def frame_mask(opened: Opened, area: Area, masks: dict, cache: Cache, job: Job) -> NDArray[np.uint8]:
    """An area of a frame as a mask (h, w), 255 inside, at most `MASK_SIDE` px a side; it reads the frame's own
    light.
    """
    scale = min(1.0, MASK_SIDE / max(opened.size))
    whole = Region(0, 0, *scaled_size(opened.size, scale))

    def light(region: Region, at: float) -> F32:
        sheet = opened.sheet(canonical_scale(at), job)
        return shrunk(sheet.light(0, 0, sheet.width, sheet.height), *scaled_size(opened.size, at))[region.within(
            Region(0, 0, *scaled_size(opened.size, at)))]

    def look(wide: Region, _spots: object) -> FlatLook:
        def kept(part: object, make: Callable) -> object:
            return cache.get(key_of("found in a frame", opened.identity, part), make)

        def here() -> F32:
            seen = light(whole, scale)
            rows = np.clip(np.arange(wide.top, wide.top + wide.height), 0, whole.height - 1)
            columns = np.clip(np.arange(wide.left, wide.left + wide.width), 0, whole.width - 1)
            return np.ascontiguousarray(seen[rows][:, columns])

        return FlatLook(light, kept, here, opened.size, masks)

    def paint() -> NDArray[np.uint8]:
        share = painted(area, whole, flat_spots(opened.size, scale), look)
        return (255 * share + np.float32(0.5)).astype(np.uint8)

    return cache.get(key_of("area of a frame", opened.identity, area), paint)
