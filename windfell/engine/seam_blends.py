"""Seams that are blended in a way of their own: where each way holds."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.surface import Ownership
from windfell.recipe.model import Blend
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]

SOFT_SHARE = 0.012


@dataclass(frozen=True)
class WayShare:
    """How much a way of blending holds (h, w), 0..1, on a surface."""

    way: Blend
    surface: Canvas
    share: F32


def seam_shares(own: Ownership, ways: dict[tuple[int, int], Blend]) -> list[WayShare]:
    """Where seams' own ways hold: each spot goes by the seam nearest to it, softly between seams.

    `ways`: of pairs of owners, the lower first. Spots whose nearest seam is none of these are nobody's.
    """
    pairs = _pairs(own.owner)
    soft = max(2.0, SOFT_SHARE * max(own.owner.shape))
    off = {way: _distance(np.isin(pairs, [_code(*p) for p, w in ways.items() if w is way]), own.surface.wraps)
           for way in set(ways.values())}
    off[None] = _distance((pairs >= 0) & ~np.isin(pairs, [_code(*p) for p in ways]), own.surface.wraps)
    near = {way: np.exp(-0.5 * ((d - np.min(list(off.values()), axis=0)) / soft) ** 2) for way, d in off.items()}
    total = sum(near.values())
    return [WayShare(way, own.surface, (near[way] / total).astype(np.float32)) for way in sorted(set(ways.values()))]


def _code(a: int, b: int) -> int:
    return a * 65536 + b


def _pairs(owner: NDArray[np.int16]) -> NDArray[np.int64]:
    """At each spot beside a seam the code of its two owners, else -1."""
    out = np.full(owner.shape, -1, np.int64)
    for one, other in ((np.s_[:, :-1], np.s_[:, 1:]), (np.s_[:-1], np.s_[1:])):
        p, q = owner[one].astype(np.int64), owner[other].astype(np.int64)
        seam = (p != q) & (p >= 0) & (q >= 0)
        code = np.minimum(p, q) * 65536 + np.maximum(p, q)
        out[one] = np.where(seam, code, out[one])
    return out


def _distance(there: NDArray[np.bool_], wraps: bool) -> F32:
    """How far, in px, each spot is from the nearest that is there; very far where none is."""
    if not there.any():
        return np.full(there.shape, 1e6, np.float32)
    wide = there.shape[1]
    if wraps:
        there = np.concatenate([there] * 3, axis=1)
    found = cv2.distanceTransform((~there).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    return found[:, wide : 2 * wide] if wraps else found
