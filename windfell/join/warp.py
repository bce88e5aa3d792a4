"""A frame seen on a canvas: one resampling from its pixels to the picture's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens
from windfell.join.light import FrameLight
from windfell.pixels.resample import dense_map, inside_frame, remapped, source_box
from windfell.pixels.sheet import Sheet
from windfell.pixels.tiles import Region
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]
MAP_STEP = 16


@dataclass(frozen=True)
class Warped:
    """A frame on a region: light (h, w, 3), mirrored past the frame's edge, and where it is valid."""

    light: F32
    valid: NDArray[np.bool_]


def frame_map(canvas: Canvas, region: Region, lens: Lens, rotation: NDArray) -> F32:
    """Where each pixel of the region lies in the frame, (h, w, 2) px; NaN where nowhere."""
    step = MAP_STEP if canvas.px_per_unit > 600 else MAP_STEP // 4
    return dense_map(
        canvas.frame_pixels(lens, rotation),
        region.left, region.top, region.width, region.height, step,
    )


def warped(
    sheet: Sheet, canvas: Canvas, region: Region, lens: Lens, rotation: NDArray, light: FrameLight
) -> Warped | None:
    """The frame on a region of the canvas, its light corrected; None if it isn't there.

    `lens` may be of any size; it is scaled to the sheet.
    """
    lens = lens.scaled(sheet.width, sheet.height)
    where = frame_map(canvas, region, lens, rotation)
    box = source_box(where, sheet.width, sheet.height)
    if box is None:
        return None
    left, top, right, bottom = box
    picture = remapped(sheet.light(left, top, right, bottom), where, left, top)
    picture *= light.factors(where, lens)
    return Warped(picture, inside_frame(where, sheet.width, sheet.height))
