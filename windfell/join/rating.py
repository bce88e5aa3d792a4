"""How much an eye would notice a stretch of a seam: structure broken or doubled, a step of light or colour, softness
that changes; each against what the surroundings hide.

All is judged on small patches around the stretch: both frames as they lie there, the joined picture, who owns what.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.channels import mean_of, most_of

F32 = NDArray[np.float32]

FINE, BROAD = 1.0, 6.0
BAND, SIDE = 9, 4
NOISE = 0.012
STRUCTURE, STEP, SOFT = 0.36, 0.02, 1.1
LEAST_TEXTURE = 0.008
SHIFTS = (-1, 0, 1)
# px beyond the band that is judged which its own detail is told by
REACH = 26


@dataclass(frozen=True)
class Rated:
    """What speaks against a stretch, each 1 where an eye begins to notice; the worst of them is its rating."""

    structure: float
    step: float
    softness: float

    @property
    def rating(self) -> float:
        return max(self.structure, self.step, self.softness)

    @property
    def why(self) -> str:
        worst = max(("structure", "step", "softness"), key=lambda name: getattr(self, name))
        return {"structure": "what one frame shows ends or comes twice", "step": "light or colour steps",
                "softness": "sharpness changes"}[worst]


def rated(one: F32, other: F32, joined: F32, mine: NDArray[np.bool_], seen: NDArray[np.bool_]) -> Rated | None:
    """The rating of the seam within a patch: perceptual values (h, w, 3) of both frames and of the joined picture,
    where the first owns (h, w), where both are seen; None if too little is.
    """
    edge = _edge(mine) & seen
    if edge.sum() < 8:
        return None
    near = cv2.dilate(edge.astype(np.uint8), np.ones((2 * BAND + 1,) * 2, np.uint8)) > 0
    near &= seen
    close = (cv2.dilate(edge.astype(np.uint8), np.ones((7, 7), np.uint8)) > 0) & seen
    at = _around(near, REACH)
    one, other, joined, mine, near, edge, close = (v[at] for v in (one, other, joined, mine, near, edge, close))
    texture = float(np.sqrt(np.mean(_bands(joined)[near] ** 2)))
    return Rated(_structure(one, other, close, near), _step(one, other, joined, mine, near, edge, texture),
                 _softness(one, other, near))


def _edge(mine: NDArray[np.bool_]) -> NDArray[np.bool_]:
    out = np.zeros(mine.shape, bool)
    out[:, 1:] |= mine[:, 1:] != mine[:, :-1]
    out[1:] |= mine[1:] != mine[:-1]
    return out


def _around(where: NDArray[np.bool_], room: int) -> tuple[slice, slice]:
    """The part of a patch that holds `where`, with so many px around it."""
    rows, columns = (np.flatnonzero(where.any(axis)) for axis in (1, 0))
    return np.s_[max(0, rows[0] - room) : rows[-1] + room + 1, max(0, columns[0] - room) : columns[-1] + room + 1]


def _bands(picture: F32) -> F32:
    """What is neither noise nor light: the detail between two scales, (h, w, 3)."""
    return cv2.GaussianBlur(picture, (0, 0), FINE) - cv2.GaussianBlur(picture, (0, 0), BROAD)


def _structure(one: F32, other: F32, close: NDArray[np.bool_], near: NDArray[np.bool_]) -> float:
    """How much of the detail along the seam the frames do not share, a px of misfit forgiven."""
    a, b = _bands(one), _bands(other)
    least = np.full(a.shape[:2], np.inf, np.float32)
    for dy in SHIFTS:
        for dx in SHIFTS:
            moved = np.roll(b, (dy, dx), axis=(0, 1))
            least = cv2.min(least, most_of(cv2.absdiff(a, moved)))
    detail = cv2.max(most_of(np.abs(a)), most_of(np.abs(b)))
    around = float(np.sqrt(np.mean(detail[near] ** 2))) + 2 * NOISE
    # the worst run along the seam counts, not its mean
    off = cv2.blur(np.where(close, np.maximum(least - NOISE, 0), 0).astype(np.float32), (9, 9))
    weight = cv2.blur(close.astype(np.float32), (9, 9))
    worst = float((off / np.maximum(weight, 0.15))[close].max())
    return worst / (STRUCTURE * around + 0.012)


def _step(one: F32, other: F32, joined: F32, mine: NDArray[np.bool_], near: NDArray[np.bool_],
          edge: NDArray[np.bool_], texture: float) -> float:
    """What the joined picture steps by across the seam that neither frame does there, colour by colour, against the
    texture around.
    """
    at = _around(near, SIDE)
    one, other, joined, mine, near, edge = (v[at] for v in (one, other, joined, mine, near, edge))
    first, second = (mine & near).astype(np.float32), (~mine & near).astype(np.float32)
    shape = (2 * SIDE + 1, 2 * SIDE + 1)
    shares = [cv2.blur(m, shape) for m in (first, second)]

    def across(picture: F32) -> F32:
        means = [cv2.blur(cv2.multiply(picture, cv2.merge([m, m, m])), shape) / np.maximum(share, 1e-3)[..., None]
                 for m, share in zip((first, second), shares, strict=True)]
        return means[0] - means[1]

    steps = [across(p) for p in (joined, one, other)]
    low, high = np.minimum(steps[1], steps[2]), np.maximum(steps[1], steps[2])
    excess = most_of(np.maximum(np.maximum(steps[0] - high, low - steps[0]), 0))
    enough = (shares[0] > 0.2) & (shares[1] > 0.2) & edge
    if not enough.any():
        return 0.0
    return float(np.percentile(excess[enough], 80)) / (STEP + 0.35 * texture)


def _softness(one: F32, other: F32, near: NDArray[np.bool_]) -> float:
    """How much sharper one frame is than the other where both show the same."""
    def energy(picture: F32) -> float:
        grey = mean_of(picture)
        fine = grey - cv2.GaussianBlur(grey, (0, 0), 1.2)
        return float(np.sqrt(np.mean(fine[near] ** 2)))

    a, b = energy(one), energy(other)
    if max(a, b) < LEAST_TEXTURE:
        return 0.0
    return abs(float(np.log(max(a, 1e-4) / max(b, 1e-4)))) / SOFT
