"""Which frames are held just by one spot: what lies there may have moved, and nothing else says otherwise."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.align.groups import group_numbers
from windfell.align.registration import PairFit, PanoramaRegistration
from windfell.geometry import planar

LEAST_SHARE = 0.11
GRID = 32


def doubtful_frames(found: PanoramaRegistration) -> dict[int, tuple[int, float]]:
    """Frames that hold to most of the others, themselves or with others behind them, by a doubtful link: the frame on
    its other side, and the share of what both show over which its points are spread. Points by hand are not doubted.
    """
    shares = [1.0 if k.by_hand or _spread_widely(found, k) else spread_share(found, k) for k in found.links]
    doubted = [share < LEAST_SHARE for share in shares]
    group = group_numbers(
        len(found.frames), ((k.a, k.b) for k, bad in zip(found.links, doubted, strict=True) if not bad))
    out: dict[int, tuple[int, float]] = {}
    for k, share, bad in zip(found.links, shares, doubted, strict=True):
        if bad and group[k.a] != group[k.b]:
            # of both sides that with fewer frames, or the later one
            lesser, other = sorted((k.a, k.b), key=lambda n: (group.count(group[n]), -n))
            out[lesser] = other, share
    return out


def doubts_in_words(found: PanoramaRegistration, numbers: Sequence[int]) -> dict[int, str]:
    """Of each doubtful frame what is doubtful about it, and what to do; `numbers`: what a person calls the frames."""
    return {n: f"held to frame {numbers[other]} by one spot alone, {100 * share:.0f} % of what both show: it may "
               f"have moved; compare the two, a point made elsewhere settles it"
            for n, (other, share) in doubtful_frames(found).items()}


def _spread_widely(found: PanoramaRegistration, link: PairFit) -> bool:
    """Whether a link's points are spread over so much of the whole frame that its share of less needs no look."""
    lens = found.frames[link.a].lens
    return planar.spread(link.points_a) >= LEAST_SHARE * lens.width * lens.height


def spread_share(found: PanoramaRegistration, link: PairFit) -> float:
    """The share of what both frames of a link show that its points are spread over, 0..1."""
    a, b = found.frames[link.a], found.frames[link.b]
    x, y = ((np.arange(GRID) + 0.5) / GRID * side for side in (a.lens.width, a.lens.height))
    grid = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    there = b.posed.project(a.posed.rays(grid))
    with np.errstate(invalid="ignore"):
        shared = np.all((there >= 0) & (there < [b.lens.width, b.lens.height]), axis=1).mean()
    return float(min(1.0, planar.spread(link.points_a) / max(shared * a.lens.width * a.lens.height, 1.0)))
