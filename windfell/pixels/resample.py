"""Resampling: a picture read through a map, and pictures made smaller."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
MARGIN = 5

BEYOND_WHITE = 1.3
AROUND = np.ones((3, 3), np.uint8)


@dataclass(frozen=True)
class GridMap:
    """A smooth map of a region's pixels to other pixels, held at the middles of blocks of them.

    `nodes` is float32 (ny, nx, 2), NaN where the map leads nowhere, one for each block of
    step x step pixels and for a rim of blocks around the region. Linear interpolation
    between nodes errs by about step^2 / (8 f) px for a focal length of f px: 0.006 px for
    step 16 at 5000 px.
    """

    nodes: F32
    step: int
    width: int
    height: int

    @classmethod
    def of(
        cls, pixel_map: Callable[[NDArray], NDArray], left: int, top: int, width: int, height: int,
        step: int,
    ) -> GridMap:
        """`pixel_map` takes float64 pixels (..., 2) and answers pixels (..., 2), NaN where none."""
        nx, ny = -(-width // step) + 2, -(-height // step) + 2
        x = left - 0.5 + step * (np.arange(nx) - 0.5)
        y = top - 0.5 + step * (np.arange(ny) - 0.5)
        with np.errstate(over="ignore"):  # beyond what float32 holds is infinitely far
            nodes = pixel_map(np.stack(np.meshgrid(x, y), -1)).astype(np.float32)
        return cls(np.ascontiguousarray(nodes), step, width, height)

    def moved(self, dx: float, dy: float) -> GridMap:
        """The map to a source that begins at (dx, dy)."""
        return replace(self, nodes=self.nodes - np.array([dx, dy], np.float32))

    def part(self, box: Region) -> GridMap:
        """The map of a part of the region that begins at whole blocks."""
        k = self.step
        rows = slice(box.top // k, -(-(box.top + box.height) // k) + 2)
        columns = slice(box.left // k, -(-(box.left + box.width) // k) + 2)
        return GridMap(self.nodes[rows, columns], k, box.width, box.height)

    def dense(self) -> F32:
        """The map at every pixel, (height, width, 2)."""
        return self.spread(self.nodes)

    def spread(self, nodes: F32) -> F32:
        """Values given at the nodes, (ny, nx) or (ny, nx, c), at every pixel."""
        k = self.step
        size = (nodes.shape[1] * k, nodes.shape[0] * k)
        whole = cv2.resize(nodes, size, interpolation=cv2.INTER_LINEAR)
        return whole[k : k + self.height, k : k + self.width]

    def box(self, width: int, height: int) -> tuple[int, int, int, int] | None:
        """(left, top, right, bottom) of a width x height source that the map reads, or None."""
        flat = self.nodes.reshape(-1, 2)
        flat = flat[~np.isnan(flat[:, 0])]
        if not len(flat):
            return None
        low, high = flat.min(axis=0), flat.max(axis=0)
        left, top = (int(max(0, np.floor(v) - MARGIN)) for v in low)
        right = int(min(width, np.ceil(high[0]) + MARGIN + 1))
        bottom = int(min(height, np.ceil(high[1]) + MARGIN + 1))
        return (left, top, right, bottom) if right - left > 1 and bottom - top > 1 else None

    def everywhere_inside(self, width: int, height: int) -> bool:
        """Whether every pixel of the region surely reads within the source."""
        x, y = self.nodes[..., 0], self.nodes[..., 1]
        return bool(x.min() > 0 and y.min() > 0 and x.max() < width - 1 and y.max() < height - 1)

    def stays_near(self, box: tuple[int, int, int, int]) -> bool:
        """Whether the map has a place for every pixel, none far from a box of the source.

        What lies within one reflection of the box can be read as it is.
        """
        left, top, right, bottom = box
        wide, high = right - left, bottom - top
        x, y = self.nodes[..., 0], self.nodes[..., 1]
        return bool(x.min() > left - wide and x.max() < right + wide
                    and y.min() > top - high and y.max() < bottom + high)


def inside_frame(
    source_map: NDArray, width: int, height: int, left: int = 0, top: int = 0
) -> NDArray[np.bool_]:
    """Where a map (..., 2) reads within the frame's area (edges at -0.5 and size - 0.5).

    The map's origin lies at (left, top) of the frame.
    """
    x, y = source_map[..., 0], source_map[..., 1]
    with np.errstate(invalid="ignore"):
        inside = (x >= -0.5 - left) & (x <= width - 0.5 - left)
        inside &= (y >= -0.5 - top) & (y <= height - 0.5 - top)
    return inside


def remapped(source: F32, where: F32, plain: bool, calm: bool = False) -> F32:
    """`source` read cubically through a map (h, w, 2) of its pixels.

    Beyond the source it is mirrored, so that filters near its edge meet plausible
    pixels. `plain` says that the map has no NaN and stays near the source; `calm` that nothing may ring.
    """
    if not plain:
        reach = 3 * max(source.shape[:2])
        where = np.clip(np.nan_to_num(where, nan=-1.0), -reach, reach).astype(np.float32)
    found = cv2.remap(source, where, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101)
    if source.size and (calm or float(source.max()) > BEYOND_WHITE):
        # beside a light far beyond white a cubic rings so far that dark things turn black: no more than is around
        for bound, grown in ((cv2.max, cv2.erode), (cv2.min, cv2.dilate)):
            around = cv2.remap(grown(source, AROUND), where, None, cv2.INTER_LINEAR,
                               borderMode=cv2.BORDER_REFLECT_101)
            found = bound(found, around.reshape(found.shape))
    return found


def shrunk(picture: NDArray, width: int, height: int) -> NDArray:
    """The picture averaged down to width x height (area filter)."""
    if (picture.shape[1], picture.shape[0]) == (width, height):
        return picture
    return cv2.resize(picture, (width, height), interpolation=cv2.INTER_AREA)
