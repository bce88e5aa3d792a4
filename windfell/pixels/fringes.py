"""A frame read through a map, its red and blue through maps of their own where a lens fringes."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens
from windfell.pixels.resample import GridMap, remapped

F32 = NDArray[np.float32]


def read_in_colours(
    source: F32, grid: GridMap, where: F32, lens: Lens, origin: tuple[int, int], plain: bool,
    calm: bool = False,
) -> F32:
    """`source`, the part of a frame from `origin` on, read through `grid` (frame px).

    `where` is the grid's dense map on that part. One resampling in every case; `calm`: without ringing.
    """
    optics = lens.optics
    if optics is None or not optics.fringes:
        return remapped(source, where, plain, calm)
    planes = list(cv2.split(source))
    for c, colour in ((0, "red"), (2, "blue")):
        nodes = optics.shifted(grid.nodes.astype(np.float64), lens.centre, lens.half_diagonal, colour)
        own = replace(grid, nodes=nodes.astype(np.float32)).moved(*origin).dense()
        planes[c] = remapped(planes[c], own, plain, calm)
    planes[1] = remapped(planes[1], where, plain, calm)
    return cv2.merge(planes)
