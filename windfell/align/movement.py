"""How the camera moved between the frames of a series: the simplest transform that explains it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.align.pairs import Link
from windfell.align.series import WAYS, reweighted
from windfell.geometry import planar

SIMPLER, FEW, MOST_FOR_FEW = 1.15, 40, 0.25
PARAMETERS = {"none": 0, "shift": 2, "rigid": 3, "similarity": 4, "perspective": 8}
STILL, STILL_PX = 1 / 2000, 0.4
LEAST_POINTS = 12


def way_of_moving(links: Sequence[Link], width: int, height: int, found_at: int) -> str:
    """The first of "none", "shift", "rigid", "similarity" and "perspective" that leaves hardly more of the links'
    points unexplained than the last does, by what is left for each degree of freedom. Of few points what is left
    says little, and what has many parameters goes astray beyond them: then "hardly more" is more.

    Links of one frame of width x height px with others of its size, by features found on a longest side of `found_at`
    px. What moves by itself is put aside. A frame of which too few points are known says nothing.
    """
    left: dict[str, float] = dict.fromkeys(PARAMETERS, 0.0)
    moved, points = [], 0
    for k in links:
        p, q = k.points_a[k.inlier], k.points_b[k.inlier]
        if len(p) < LEAST_POINTS:
            continue
        points += len(p)
        for way, count in PARAMETERS.items():
            found = None if way == "none" else reweighted(p, q, WAYS[way])
            off = np.linalg.norm(p - q, axis=1) if found is None else found[1]
            left[way] += len(p) * float(np.median(off) / np.sqrt(1 - count / (2 * len(p))))
            if way == "similarity":
                moved.append(planar.corner_shift(found[0], width, height))
    if not moved or np.median(moved) < max(width, height) * max(STILL, STILL_PX / found_at):
        return "none"
    allowed = (SIMPLER + min(MOST_FOR_FEW, (FEW / points) ** 2)) * left["perspective"]
    return next(way for way, v in left.items() if v <= allowed)
