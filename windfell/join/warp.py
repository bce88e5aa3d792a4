"""A frame seen on a canvas: one resampling from its pixels to the picture's."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.posed import Posed
from windfell.join.light import FrameLight
from windfell.pixels.fringes import read_in_colours
from windfell.pixels.resample import GridMap, inside_frame
from windfell.pixels.sheet import Sheet, seen_at
from windfell.pixels.tiles import Region
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Warped:
    """A frame on a region: light (h, w, 3), mirrored past the frame's edge, and where it is
    valid (h, w), or None where it is valid everywhere.
    """

    light: F32
    valid: NDArray[np.bool_] | None

    def mask(self) -> NDArray[np.bool_]:
        """Where the frame is valid, (h, w)."""
        return np.ones(self.light.shape[:2], bool) if self.valid is None else self.valid


def map_step(px_per_unit: float) -> int:
    """How far apart a map's nodes may lie for an error below a hundredth of a pixel."""
    return 16 if px_per_unit > 1500 else 8 if px_per_unit > 500 else 4


def frame_map(canvas: Canvas, region: Region, frame: Posed) -> GridMap:
    """Where the pixels of the region lie in the frame."""
    return GridMap.of(
        canvas.frame_pixels(frame),
        region.left, region.top, region.width, region.height, map_step(canvas.px_per_unit),
    )


def covered(
    canvas: Canvas, region: Region, frame: Posed, shown: NDArray[np.bool_] | None = None
) -> NDArray[np.bool_]:
    """Where on the region the frame lies, (h, w); of a frame that is transparent in parts where it is `shown` (of any
    size).
    """
    lens = frame.lens
    where = frame_map(canvas, region, frame).dense()
    inside = inside_frame(where, lens.width, lens.height)
    if shown is None:
        return inside
    scale = np.float32([shown.shape[1] / lens.width, shown.shape[0] / lens.height])
    return inside & seen_at(shown, (where + np.float32(0.5)) * scale - np.float32(0.5))


def warped(
    sheet: Sheet, canvas: Canvas, region: Region, frame: Posed, light: FrameLight
) -> Warped | None:
    """The frame on a region of the canvas, its light corrected; None if it isn't there.

    The frame's lens may be of any size; it is scaled to the sheet.
    """
    frame = frame.scaled(sheet.width, sheet.height)
    lens = frame.lens
    grid = frame_map(canvas, region, frame)
    box = grid.box(sheet.width, sheet.height)
    if box is None:
        return None
    left, top, right, bottom = box
    where = grid.moved(left, top).dense()
    everywhere = grid.everywhere_inside(sheet.width, sheet.height)
    valid = None if everywhere else inside_frame(where, sheet.width, sheet.height, left, top)
    if sheet.covered is not None:
        own = seen_at(sheet.covered[top:bottom, left:right], where)
        valid = own if valid is None else valid & own
    if valid is not None and not valid.any():
        return None
    plain = grid.stays_near(box)
    picture = read_in_colours(sheet.light(left, top, right, bottom), grid, where, lens, (left, top), plain)
    factors = light.factors(grid.nodes, lens)
    if factors.shape[:2] == (1, 1):
        picture *= factors
    else:
        cv2.multiply(picture, grid.spread(factors), dst=picture)
    return Warped(picture, valid)
