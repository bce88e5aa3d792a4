"""Which pieces stand in each other's place, and which can stand together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.subjects.pieces import Box, Piece

SHARED = 0.02


def conflicts_of(pieces: Sequence[tuple[int, Piece]], shadows: bool = True) -> list[list[int]]:
    """For each of the pieces (frame, piece) the others, by index, whose place it shares: things of other frames that
    overlap, or one of which lies on the other's shadow, by a fiftieth of the smaller.
    """
    out: list[list[int]] = [[] for _ in pieces]
    for i, (frame, one) in enumerate(pieces):
        for j in range(i + 1, len(pieces)):
            other_frame, other = pieces[j]
            if other_frame != frame and shared_px(one, other, shadows) > SHARED * min(one.area, other.area):
                out[i].append(j)
                out[j].append(i)
    return out


def shared_px(one: Piece, other: Piece, shadows: bool = True) -> int:
    """On how many px two things overlap, or one lies on the other's shadow."""
    box = _both(one.box, other.box)
    if box is None:
        return 0
    a, b = (_inside(p, p.matte, box) for p in (one, other))
    hit = a & b
    if shadows:
        hit |= (a & _inside(other, other.shadow, box)) | (b & _inside(one, one.shadow, box))
    return int(hit.sum())


def _both(a: Box, b: Box) -> Box | None:
    left, top = max(a[0], b[0]), max(a[1], b[1])
    right, bottom = min(a[0] + a[2], b[0] + b[2]), min(a[1] + a[3], b[1] + b[3])
    return (left, top, right - left, bottom - top) if right > left and bottom > top else None


def _inside(piece: Piece, matte: np.ndarray, box: Box) -> np.ndarray:
    x, y = box[0] - piece.box[0], box[1] - piece.box[1]
    return matte[y : y + box[3], x : x + box[2]] > 127


def together(count: int, conflicts: Sequence[Sequence[int]], order: Sequence[int] | None = None) -> list[int]:
    """A large set of pieces without conflicts, by index: again and again the one with the fewest among those left,
    of equals the first in `order` (greedy independent set).
    """
    left = list(range(count) if order is None else order)
    out = []
    while left:
        best = min(left, key=lambda i: sum(j in left for j in conflicts[i]))
        out.append(best)
        left = [i for i in left if i != best and i not in conflicts[best]]
    return sorted(out)
