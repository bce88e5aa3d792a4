"""The largest upright rectangle within a picture's covered area."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def largest_rectangle(covered: NDArray[np.bool_]) -> tuple[int, int, int, int]:
    """(left, top, right, bottom), ends exclusive, of the largest all-true rectangle of a (h, w) mask.

    By rows of column heights and a stack (the largest rectangle in a histogram). All
    zeros if nothing is covered.
    """
    heights = np.zeros(covered.shape[1], np.int64)
    best, box = 0, (0, 0, 0, 0)
    for y, row in enumerate(covered):
        heights = np.where(row, heights + 1, 0)
        if heights.max(initial=0) * len(heights) <= best:
            continue
        area, left, right, tall = _under(heights.tolist())
        if area > best:
            best, box = area, (left, y - tall + 1, right, y + 1)
    return box


def _under(heights: list[int]) -> tuple[int, int, int, int]:
    """(area, left, right, height) of the largest rectangle under a histogram."""
    best = (0, 0, 0, 0)
    stack: list[tuple[int, int]] = []
    for x, h in enumerate([*heights, 0]):
        start = x
        while stack and stack[-1][1] >= h:
            start, tall = stack.pop()
            if tall * (x - start) > best[0]:
                best = (tall * (x - start), start, x, tall)
        stack.append((start, h))
    return best
