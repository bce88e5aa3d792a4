"""Rules worked block by block, so that all frames' parts of one fit the processor's cache."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.combine.rules import PLAIN, Setting, StackRule

F32 = NDArray[np.float32]

CACHE_PIXELS = 64_000


def in_blocks(rule: StackRule, planes: list[F32], setting: Setting = PLAIN) -> F32:
    """The rule over planes (h, w, 3), as it is over all of them at once."""
    height, width = planes[0].shape[:2]
    side = max(64, 4 * rule.reach)  # of cells of exposures a whole number
    across = max(side, CACHE_PIXELS // side // 4 * 4)
    if len(planes) < 3 or (height <= side and width <= across):
        return rule.combined(planes, setting)
    out = np.empty_like(planes[0])
    r = rule.reach
    for top in range(0, height, side):
        for left in range(0, width, across):
            bottom, right = min(height, top + side), min(width, left + across)
            y, x = max(0, top - r), max(0, left - r)
            parts = [np.ascontiguousarray(p[y : bottom + r, x : right + r]) for p in planes]
            done = rule.combined(parts, setting)
            out[top:bottom, left:right] = done[top - y : bottom - y, left - x : right - x]
    return out
