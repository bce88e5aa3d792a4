"""Which pairs deserve a closer look: frames that found no place, and neighbours that the rest holds only loosely."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras, carried_there_and_back
from windfell.align.features import Features
from windfell.align.solve import Ground
from windfell.later import Later

csgraph = Later("scipy.sparse.csgraph")

Array = NDArray[np.float64]

LOOSE_POINTS, FIRM_POINTS, NEAR_STEPS = 25, 80, 3
LEAST_OVERLAP = 0.08
LEAST_SEEN = 8
STEPS = 12


def doubtful_pairs(
    ground: Ground, features: Sequence[Features], pairs: Sequence[tuple[int, int]]
) -> list[tuple[int, int]]:
    """Those of the `pairs` that finer features may still decide.

    Either frame has no place; or the cameras say that both share a part of the view where both have features,
    and yet they hold together only by few points or through a long chain of others.
    """
    members = set(ground.members)
    fair = [(a, b) for a, b in pairs if not features[a].problem and not features[b].problem]
    out = [(a, b) for a, b in fair if a not in members or b not in members]
    steps = _steps_between(len(features), ground.held)
    points = np.zeros(len(features))
    for o in ground.held:
        points[[o.a, o.b]] += len(o.points_a)
    loose = [(a, b) for a, b in fair if a in members and b in members
             and steps[a, b] > 1 and (steps[a, b] > NEAR_STEPS or min(points[a], points[b]) < FIRM_POINTS)]
    return sorted(out + [(a, b) for a, b in loose if _overlap(ground.cameras, features, a, b)])


def _steps_between(count: int, held: Sequence[Observations]) -> Array:
    """(n, n): over how many firm links frames hold together; inf where they do not."""
    firm = np.zeros((count, count))
    for o in held:
        if len(o.points_a) >= LOOSE_POINTS:
            firm[o.a, o.b] = 1
    return csgraph.shortest_path(firm, directed=False, unweighted=True)


def _overlap(cameras: Cameras, features: Sequence[Features], a: int, b: int) -> bool:
    """Whether two frames share a part of the view in which both have features."""
    grid = np.stack(np.meshgrid(*(np.linspace(0, side - 1, STEPS) for side in cameras.sizes[a])), axis=-1)
    if _inside(cameras, a, b, grid.reshape(-1, 2)).mean() < LEAST_OVERLAP:
        return False
    return all(_inside(cameras, i, j, features[i].points).sum() >= LEAST_SEEN for i, j in ((a, b), (b, a)))


def _inside(cameras: Cameras, i: int, j: int, points: Array) -> NDArray[np.bool_]:
    """Which px (n, 2) of frame i are seen in frame j."""
    there = carried_there_and_back(cameras, i, j, points)
    return np.all((there >= 0) & (there <= cameras.sizes[j] - 1), axis=1)
