"""Repairs in drafts: each kept as a small flat patch on its place around the camera, which any view lays anew."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import Cache, key_of
from windfell.engine.areas import on_canvas
from windfell.engine.repairs import around_area, below_on, flat_view_share
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.resample import GridMap
from windfell.pixels.tiles import Region
from windfell.recipe.repairs import Mend, Repair
from windfell.shape.canvas import Canvas

U8 = NDArray[np.uint8]

STEP, PICTURE_SIDE = 8, 384


@dataclass(frozen=True)
class DraftPatch:
    """A repair as a screen shows it on a flat canvas: sRGB times its share, and the share, uint8 (h, w, 4)."""

    canvas: Canvas
    pixels: U8

    @property
    def nbytes(self) -> int:
        return self.pixels.nbytes


def make_ready(stages: Any, cache: Cache, job: Job) -> None:
    """Make the patches of the set's repairs, so that drafts have them."""
    for n, repair in enumerate(stages.set.repairs):
        if repair.on and repair.way is not Mend.GROW:
            cache.get(_key(stages, n, job), lambda n=n, repair=repair: (_patch(stages, n, repair, job),))


def with_repairs(stages: Any, cache: Cache, pixels: U8, canvas: Canvas, job: Job) -> U8:
    """A draft of a canvas (h, w, 4) with the repairs laid over it whose patches are ready; gaps that were grown are
    left, since they hang on the outline.
    """
    for n, repair in enumerate(stages.set.repairs):
        key = _key(stages, n, job)
        if repair.on and cache.holds(key):
            (patch,) = cache.get(key, lambda n=n, repair=repair: (_patch(stages, n, repair, job),))
            if patch is not None:
                pixels = _laid(pixels, canvas, patch)
    return pixels


def _key(stages: Any, n: int, job: Job) -> str:
    return key_of("draft repair", stages.joined_key(job), *stages.set.repairs[: n + 1])


def _patch(stages: Any, n: int, repair: Repair, job: Job) -> DraftPatch | None:
    flat = _flat(stages, repair, job)
    if flat is None:
        return None
    whole = Region(0, 0, flat.width, flat.height)
    if repair.way is Mend.PICTURE:
        share = flat_view_share(stages, repair, flat, whole, job)
    else:
        share = on_canvas(repair.area, stages.area_ground, flat, whole, None)
    if share is None or not (share > 0).any():
        return None
    shown = below_on(stages, n + 1, flat, job)
    share = share * shown.covered
    out = np.dstack([to_view(np.ascontiguousarray(shown.light)) * share[..., None], 255 * share])
    return DraftPatch(flat, (out + 0.5).astype(np.uint8))


def _flat(stages: Any, repair: Repair, job: Job) -> Canvas | None:
    if repair.way is not Mend.PICTURE:
        return None if repair.area.empty else around_area(stages.area_ground, repair)
    half = float(np.tan(np.radians(min(repair.hfov_deg, 160.0)) / 2))
    turn = from_yaw_pitch_roll(*np.radians([repair.yaw_deg, repair.pitch_deg, repair.roll_deg]))
    return Canvas("rectilinear", -half, -half, half, half, PICTURE_SIDE, PICTURE_SIDE, tuple(turn.ravel()))


def _laid(pixels: U8, canvas: Canvas, patch: DraftPatch) -> U8:
    h, w = pixels.shape[:2]

    def place(points: NDArray) -> NDArray:
        found = patch.canvas.pixels(canvas.rays(points))
        return np.where(np.isfinite(found), found, -1e4)

    where = GridMap.of(place, 0, 0, w, h, STEP).dense()
    over = cv2.remap(patch.pixels, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
    if not over[..., 3].any():
        return pixels
    left = (255 - over[..., 3:].astype(np.uint16))
    return (over + (pixels * left + 127) // 255).astype(np.uint8)
