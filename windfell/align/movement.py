"""Whether the camera moved between the frames of a series."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.align.pairs import Link
from windfell.align.transforms import WAYS, reweighted
from windfell.geometry import planar

STILL, STILL_PX = 1 / 2000, 0.4
LEAST_POINTS = 12


def has_moved(links: Sequence[Link], width: int, height: int, found_at: int) -> bool | None:
    """Whether most of the links say that the frame's corners moved; None if too few points are known to say.

    Links of one frame of width x height px with others of its size, by features found on a longest side of `found_at`
    px. What moves by itself is put aside.
    """
    moved = []
    for k in links:
        p, q = k.points_a[k.inlier], k.points_b[k.inlier]
        if len(p) >= LEAST_POINTS:
            moved.append(planar.corner_shift(reweighted(p, q, WAYS["similarity"])[0], width, height))
    if not moved:
        return None
    return bool(np.median(moved) >= max(width, height) * max(STILL, STILL_PX / found_at))
