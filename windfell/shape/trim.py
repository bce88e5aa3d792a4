"""The largest upright rectangle within a picture's covered area."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def largest_rectangle(covered: NDArray[np.bool_]) -> tuple[int, int, int, int]:
    """(left, top, right, bottom), ends exclusive, of the largest all-true rectangle of a (h, w) mask.

    By rows of column heights and a stack (the largest rectangle in a histogram), rows that could hold the largest
    first: none under a row is larger than its k highest columns wide and as high as the least of these. All zeros if
    nothing is covered.
    """
    heights = np.zeros(covered.shape, np.int32)
    for y, row in enumerate(covered):
        heights[y] = np.where(row, heights[y - 1] + 1 if y else 1, 0)
    ordered = np.sort(heights, axis=1)[:, ::-1]
    most = (ordered * np.arange(1, covered.shape[1] + 1)).max(axis=1, initial=0)
    best, box = 0, (0, 0, 0, 0)
    for y in np.argsort(-most, kind="stable").tolist():
        if most[y] <= best:
            break
        area, left, right, tall = _under(heights[y].tolist())
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
