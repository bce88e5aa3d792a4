"""Whether more than one spot speaks for a homography: what lies on one spot may have moved.

Points spread over much of what both frames show speak for themselves. Where they do not, the light of the land around
them is asked where it fits best (`by_look.py`), and how well it fits there and where the points say.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from windfell.align.by_look import ByLook
from windfell.align.features import Features
from windfell.align.focal import GUESSES, USUAL
from windfell.align.same_light import FINELY, SOFTLY, likeness, likeness_apart
from windfell.align.turned import turned_by_light
from windfell.geometry import planar

Array = NDArray[np.float64]

# shares of what both show over which points are spread: below the first it is one spot, from the second on no more
# than something large, from the third on all there is
SPOT, WIDELY, MOSTLY = 0.13, 0.25, 0.6
# likeness of blocks: the land fits at all, hardly where the points say, wholly, as well as elsewhere, better there
LAND_ALIKE, LEAST_ALIKE, WHOLLY, LITTLE, BETTER = 0.55, 0.4, 0.9, 0.03, 0.1
# how far from each other the land and the points put the spot, in shares of the longest side
CONFIRMS, NEARBY = 1 / 250, 1 / 130
# no more alike than any two places; how much more alike it must be elsewhere, and how far aside that must be, since
# the focal length is but guessed
UNLIKE, CLEARLY_BETTER, ELSEWHERE = 0.1, 0.3, 1 / 40
# px of the looks by which blocks may lie aside; by how much all fits more where the points say
TIGHT, CLEARLY = 1, 1.3


def confirmed(
    a: Features, b: Features, homography: Array, points: Array, settled: Callable[[], ByLook | None]
) -> bool | None:
    """Whether what a homography (3, 3) of `a` px to `b` px says, which rests on `points` (n, 2) of `a`, is confirmed;
    False where the land denies it, None where it says nothing. Features without looks have nothing to deny with.
    `settled` answers where the land around the points fits best; it is asked only where that decides.
    """
    spread = spread_share(a, b, homography, points)
    if a.look is None or b.look is None:
        return True
    if spread >= WIDELY:
        return spread >= MOSTLY or not lies_elsewhere(a, b, homography, points)
    land = settled()
    if land is None:
        return None if spread < SPOT else not lies_elsewhere(a, b, homography, points)
    away = planar.apply(land.homography, points) - planar.apply(homography, points)
    away = np.median(np.linalg.norm(away, axis=1)) / max(b.width, b.height)
    if land.alike >= LAND_ALIKE and away < CONFIRMS:
        return True
    apart, better = (likeness_apart(a, b, h, points, TIGHT) for h in (homography, land.homography))
    if away < NEARBY and apart > max(WHOLLY, better - LITTLE):
        return True
    if spread < SPOT:
        if not apart and not better:
            return None
        own, other = (likeness(a, b, h, points, TIGHT) for h in (homography, land.homography))
        return apart > LAND_ALIKE and own > CLEARLY * other
    denied = land.alike >= LAND_ALIKE and away > NEARBY and better > apart + BETTER
    return (not apart or apart > LEAST_ALIKE) and not denied


def lies_elsewhere(a: Features, b: Features, homography: Array, points: Array) -> bool:
    """Whether the light around `points` (n, 2) of `a` denies what a homography that rests on them says: wholly, or
    it fits better under a turn that puts them elsewhere. They lie on something large that moved.
    """
    told = (likeness_apart(a, b, homography, points, TIGHT, band) for band in (FINELY, SOFTLY))
    apart = next(filter(None, told), 1.0)
    if apart < UNLIKE or apart > LAND_ALIKE:
        return apart < UNLIKE
    there = planar.apply(homography, points)
    for guess in GUESSES:
        found = turned_by_light(a, b, *(guess * USUAL * max(f.width, f.height) for f in (a, b)), points, there)
        if found is not None and found.alike > apart + CLEARLY_BETTER:
            away = np.linalg.norm(planar.apply(found.homography, points) - there, axis=1)
            if np.median(away) > ELSEWHERE * max(b.width, b.height):
                return True
    return False


def spread_share(a: Features, b: Features, homography: Array, points: Array) -> float:
    """The share of what both frames show over which points (n, 2) of `a` are spread, 0..1."""
    return planar.spread(points) / max(shared_px(a, b, homography), 1.0)


def shared_px(a: Features, b: Features, homography: Array) -> float:
    """The area, px² of `a`, that both frames show."""
    onto = planar.of_fractions(homography, (a.width, a.height), (b.width, b.height))
    return planar.overlap(onto) * a.width * a.height
