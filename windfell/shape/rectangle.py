"""Rectangles of a wished form: the largest that is covered, one around a picture, one within it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.mesh import Bounds


def largest_of_ratio(covered: NDArray[np.bool_], ratio: float) -> tuple[int, int, int, int]:
    """(left, top, right, bottom), ends exclusive, of the largest all-true rectangle `ratio` times as wide as high.

    By halving over sums of the mask; of several the one nearest the middle. All zeros if there is none.
    """
    rows, columns = covered.shape
    sums = np.zeros((rows + 1, columns + 1), np.int64)
    sums[1:, 1:] = covered.cumsum(0).cumsum(1)
    best = (0, 0, 0, 0)
    low, high = 1, min(rows, int(columns / ratio))
    while low <= high:
        tall = (low + high) // 2
        wide = max(1, round(tall * ratio))
        found = None
        if wide <= columns:
            held = (sums[tall:, wide:] - sums[:-tall, wide:] - sums[tall:, :-wide] + sums[:-tall, :-wide]
                    ) == tall * wide
            y, x = np.nonzero(held)
            if len(x):
                off = np.hypot(x + wide / 2 - columns / 2, y + tall / 2 - rows / 2)
                k = int(np.argmin(off))
                found = int(x[k]), int(y[k]), int(x[k] + wide), int(y[k] + tall)
        if found is None:
            high = tall - 1
        else:
            best, low = found, tall + 1
    return best


def around(box: Bounds, ratio: float) -> Bounds:
    """The least rectangle of a ratio that holds a box, about its middle."""
    width, height = max(box.width, box.height * ratio), max(box.height, box.width / ratio)
    return _about(box, width, height)


def inside(box: Bounds, ratio: float) -> Bounds:
    """The largest rectangle of a ratio within a box, about its middle."""
    width, height = min(box.width, box.height * ratio), min(box.height, box.width / ratio)
    return _about(box, width, height)


def _about(box: Bounds, width: float, height: float) -> Bounds:
    x, y = (box.left + box.right) / 2, (box.top + box.bottom) / 2
    return Bounds(x - width / 2, y - height / 2, x + width / 2, y + height / 2)
