"""Which pieces to take: as many as stand together, spread evenly, every n-th, or so far apart."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from windfell.subjects.conflicts import together

Array = NDArray[np.float64]


class Suggest(StrEnum):
    """The largest set without conflicts; so many evenly along each track; every n-th of each; at least so far apart
    (in % of the picture's diagonal).
    """

    MOST = "most"
    EVEN = "even"
    NTH = "nth"
    APART = "apart"


def chosen(way: Suggest, number: float, tracks: Sequence[int], frames: Sequence[int], middles: Array, diagonal: float,
           conflicts: Sequence[Sequence[int]]) -> list[int]:
    """The pieces to take, by index, none in conflict with another. Of each its track, its frame and its middle
    (n, 2), px. `number`: how many, which, or how far, as the way asks.
    """
    if way is Suggest.MOST:
        return together(len(tracks), conflicts)
    out: list[int] = []
    for track in sorted(set(tracks)):
        own = sorted((i for i, t in enumerate(tracks) if t == track), key=lambda i: frames[i])
        if way is Suggest.EVEN:
            _add(out, _evenly(own, middles, max(1, round(number))), conflicts)
        elif way is Suggest.NTH:
            _add(out, [[i] for i in own[:: max(1, round(number))]], conflicts)
        else:
            far = number / 100 * diagonal
            for i in own:
                if all(np.hypot(*(middles[i] - middles[j])) >= far for j in out):
                    _add(out, [[i]], conflicts)
    return sorted(out)


def _evenly(own: Sequence[int], middles: Array, count: int) -> list[list[int]]:
    """For so many places evenly along the way of a track its pieces, the nearest to the place first."""
    steps = [np.hypot(*(middles[b] - middles[a])) for a, b in pairwise(own)]
    along = np.concatenate([[0.0], np.cumsum(steps)])
    places = np.linspace(0, along[-1], count) if count > 1 else np.array([along[-1] / 2])
    return [[own[k] for k in np.argsort(np.abs(along - place), kind="stable")] for place in places]


def _add(out: list[int], wishes: Sequence[Sequence[int]], conflicts: Sequence[Sequence[int]]) -> None:
    """Of each wish the first that can stand with what is there; of an even spread one of the three nearest."""
    for wish in wishes:
        free = (i for i in wish[:3] if i not in out and not any(j in out for j in conflicts[i]))
        found = next(free, None)
        if found is not None:
            out.append(found)
