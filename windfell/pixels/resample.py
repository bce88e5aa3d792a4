"""Resampling: a picture read through a map, and pictures made smaller."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
MARGIN = 4


def dense_map(
    pixel_map: Callable[[NDArray], NDArray], left: int, top: int, width: int, height: int, step: int
) -> F32:
    """A map evaluated on every `step`-th pixel and interpolated between, (height, width, 2).

    `pixel_map` takes float64 pixels (..., 2) and answers source pixels (..., 2), NaN
    where there are none. Linear interpolation errs by about step^2/(8 f) px for a
    focal length of f px: 0.006 px for step 16 at 5000 px.
    """
    nx, ny = -(-(width - 1) // step) + 1, -(-(height - 1) // step) + 1
    nx, ny = max(nx, 2), max(ny, 2)
    x = left + step * np.arange(nx, dtype=np.float64)
    y = top + step * np.arange(ny, dtype=np.float64)
    coarse = pixel_map(np.stack(np.meshgrid(x, y), -1))
    if step == 1:
        return np.ascontiguousarray(coarse[:height, :width], np.float32)
    return _spread(coarse.astype(np.float32), step, width, height)


def _spread(coarse: F32, step: int, width: int, height: int) -> F32:
    fx = np.arange(width, dtype=np.float32) / np.float32(step)
    fy = np.arange(height, dtype=np.float32) / np.float32(step)
    ix, iy = fx.astype(np.int32), fy.astype(np.int32)
    tx = (fx - ix.astype(np.float32))[None, :, None]
    ty = (fy - iy.astype(np.float32))[:, None, None]
    ix1, iy1 = np.minimum(ix + 1, coarse.shape[1] - 1), np.minimum(iy + 1, coarse.shape[0] - 1)
    rows = coarse[:, ix] * (1 - tx) + coarse[:, ix1] * tx
    upper = rows[iy]
    upper *= 1 - ty
    lower = rows[iy1]
    lower *= ty
    upper += lower
    return upper


def source_box(source_map: F32, width: int, height: int) -> tuple[int, int, int, int] | None:
    """(left, top, right, bottom) of the source that a map reads, or None if it reads nothing."""
    with np.errstate(invalid="ignore"):
        inside = inside_frame(source_map, width, height)
    if not inside.any():
        return None
    x, y = source_map[..., 0][inside], source_map[..., 1][inside]
    left = max(0, int(x.min()) - MARGIN)
    top = max(0, int(y.min()) - MARGIN)
    right = min(width, int(x.max()) + MARGIN + 2)
    bottom = min(height, int(y.max()) + MARGIN + 2)
    return left, top, right, bottom


def inside_frame(source_map: F32, width: int, height: int) -> NDArray[np.bool_]:
    """Where the map reads within the frame's area (edges at -0.5 and size - 0.5)."""
    x, y = source_map[..., 0], source_map[..., 1]
    with np.errstate(invalid="ignore"):
        return (x >= -0.5) & (x <= width - 0.5) & (y >= -0.5) & (y <= height - 0.5)


def remapped(source: F32, source_map: F32, left: int = 0, top: int = 0) -> F32:
    """`source`, whose pixel (0, 0) is (left, top) of the map's coordinates, read cubically.

    Beyond the source it is mirrored, so that filters near its edge meet plausible pixels.
    """
    mx = np.nan_to_num(source_map[..., 0] - np.float32(left), nan=-1e4)
    my = np.nan_to_num(source_map[..., 1] - np.float32(top), nan=-1e4)
    reach = np.float32(4 * max(source.shape[:2]))
    mx, my = np.clip(mx, -reach, reach), np.clip(my, -reach, reach)
    return cv2.remap(source, mx, my, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101)


def shrunk(picture: NDArray, width: int, height: int) -> NDArray:
    """The picture averaged down to width x height (area filter)."""
    if (picture.shape[1], picture.shape[0]) == (width, height):
        return picture
    return cv2.resize(picture, (width, height), interpolation=cv2.INTER_AREA)
