"""Pieces of different frames that are the same thing: joined into tracks."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.later import Later
from windfell.subjects.pieces import Piece

optimize = Later("scipy.optimize")

FARTHEST_SHARE = 0.45
COLOUR, SIZE, WAY = 1.2, 0.5, 1.0
MOST_COST = 1.6
GAP = 2


def tracks_of(frames: Sequence[Sequence[Piece]], diagonal: float) -> list[list[int]]:
    """The track of every piece of every frame, counted from 0 in the order in which they appear.

    Frame after frame pieces are given to the tracks that they go on best (the assignment of least cost): by the way
    from where it was or would be, by colour and by size.
    """
    last: dict[int, tuple[int, Piece, tuple[float, float]]] = {}
    out: list[list[int]] = []
    fresh = 0
    for n, pieces in enumerate(frames):
        open_ones = [t for t, (seen, _, _) in last.items() if n - seen <= GAP]
        given = [-1] * len(pieces)
        if open_ones and pieces:
            cost = np.array([[_cost(p, *last[t], n, diagonal) for t in open_ones] for p in pieces])
            for i, j in zip(*optimize.linear_sum_assignment(cost), strict=True):
                if cost[i, j] < MOST_COST:
                    given[i] = open_ones[j]
        for i, piece in enumerate(pieces):
            if given[i] < 0:
                given[i], fresh = fresh, fresh + 1
            before = last.get(given[i])
            here = piece.middle
            pace = (0.0, 0.0)
            if before is not None:
                there, since = before[1].middle, n - before[0]
                pace = (here[0] - there[0]) / since, (here[1] - there[1]) / since
            last[given[i]] = n, piece, pace
        out.append(given)
    return out


def _cost(piece: Piece, seen: int, before: Piece, pace: tuple[float, float], n: int, diagonal: float) -> float:
    here, there = piece.middle, before.middle
    ahead = [there[k] + pace[k] * (n - seen) for k in (0, 1)]
    way = min(np.hypot(here[0] - there[0], here[1] - there[1]), np.hypot(here[0] - ahead[0], here[1] - ahead[1]))
    colour = np.abs(np.sqrt(piece.colour) - np.sqrt(before.colour)).sum()
    size = abs(np.log2(max(piece.area, 1) / max(before.area, 1)))
    return WAY * way / (FARTHEST_SHARE * diagonal) + COLOUR * colour + SIZE * size
