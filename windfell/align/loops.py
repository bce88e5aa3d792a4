"""Links that one spot alone speaks for, and that others confirm: by way of a third frame it lies at the same place.

What moved between frames lies elsewhere in each of them, so that a loop of links does not close.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.align.pairs import Link, NoLink
from windfell.geometry import planar

Array = NDArray[np.float64]

CLOSES = 1 / 40


def with_closed_loops(
    links: Sequence[Link], refused: Sequence[NoLink], features: Sequence[Features]
) -> tuple[list[Link], list[NoLink]]:
    """The links, those among them too that were refused for one spot alone and that close a loop with a firm one."""
    firm = {(k.a, k.b): k.homography for k in links}
    every = {**{(r.a, r.b): r.perhaps.homography for r in refused if r.perhaps is not None}, **firm}
    firm, every = (_both_ways(x) for x in (firm, every))
    kept = [r.perhaps for r in refused if r.perhaps is not None and _closes(r.perhaps, firm, every, features)]
    held = {(k.a, k.b) for k in kept}
    return [*links, *kept], [r for r in refused if (r.a, r.b) not in held]


def _both_ways(homographies: dict[tuple[int, int], Array]) -> dict[tuple[int, int], Array]:
    return {**homographies, **{(b, a): np.linalg.inv(h) for (a, b), h in homographies.items()}}


def _closes(
    k: Link, firm: dict[tuple[int, int], Array], every: dict[tuple[int, int], Array], features: Sequence[Features]
) -> bool:
    points, there = k.points_a[k.inlier], k.points_b[k.inlier]
    longest = max(features[k.b].width, features[k.b].height)
    for c in range(len(features)):
        first, then = (k.a, c), (c, k.b)
        if first not in every or then not in every or not (first in firm or then in firm):
            continue
        with np.errstate(divide="ignore", invalid="ignore"):
            away = np.linalg.norm(planar.apply(every[then], planar.apply(every[first], points)) - there, axis=1)
        if np.nanmedian(np.where(np.isfinite(away), away, np.inf)) < CLOSES * longest:
            return True
    return False
