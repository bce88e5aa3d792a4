"""Where another frame lies by the light of small looks, what may have moved left out: it finds what features do not.

Features that agree may all lie on one thing that moved a little, and soft land is alike enough everywhere to let it
pass. So the land around is asked where it fits best: by the enhanced correlation coefficient (Evangelidis & Psarakis
2008), begun where the features say, or at the best of all shifts (masked normalised correlation, Padfield 2012).
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.align.same_light import around, likeness_apart, texture, to_look
from windfell.geometry import planar
from windfell.later import Later

fft = Later("scipy.fft")

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

FINE, COARSE = 1.0, 10.0
TURNS, SETTLED, SMOOTH = 25, 1e-3, 5
LEAST_SHARED = 0.12
LONGEST, GRID = 2.0, 9


@dataclass(frozen=True)
class ByLook:
    """The homography (3, 3) of `a` px to `b` px at which the light fits best, and how alike it is there apart from
    what was left out, -1..1.
    """

    homography: Array
    alike: float


def settled_by_look(a: Features, b: Features, homography: Array, points: Array) -> ByLook | None:
    """Where the light around `points` (n, 2) of `a` fits best, begun at a homography; None if it settles nowhere."""
    h = _settled(a, b, homography, around(points, a))
    return None if h is None else ByLook(h, likeness_apart(a, b, h, points))


def found_by_look(a: Features, b: Features, points_a: Array, points_b: Array) -> ByLook | None:
    """Where the light fits best of all shifts, what lies around points (n, 2) of either frame left out."""
    hidden = around(points_a, a)
    fair_a, fair_b = ~hidden, ~around(points_b, b)
    textures = texture(a.look, FINE, COARSE, fair_a), texture(b.look, FINE, COARSE, fair_b)
    shift = best_shift(*textures, LEAST_SHARED, (fair_a, fair_b))
    if shift is None:
        return None
    start = between_looks(a, b, shift)
    h = _settled(a, b, start, hidden)
    return None if h is None else ByLook(h, likeness_apart(a, b, h, points_a))


def between_looks(a: Features, b: Features, shift: tuple[int, int]) -> Array:
    """A shift of looks as a homography (3, 3) of `a` px to `b` px."""
    return np.linalg.inv(to_look(b)) @ np.array([[1, 0, shift[0]], [0, 1, shift[1]], [0, 0, 1.0]]) @ to_look(a)


def _settled(a: Features, b: Features, homography: Array, hidden: NDArray[np.bool_]) -> Array | None:
    start = to_look(b) @ homography @ np.linalg.inv(to_look(a))
    size = b.look.shape[1], b.look.shape[0]
    fair = cv2.warpPerspective(hidden.astype(np.uint8), start, size) == 0
    one, other = texture(a.look, FINE, COARSE, ~hidden), texture(b.look, FINE, COARSE, fair)
    try:
        _, found = cv2.findTransformECC(
            one, other, (start / start[2, 2]).astype(np.float32), cv2.MOTION_HOMOGRAPHY,
            (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, TURNS, SETTLED), 255 * fair.astype(np.uint8), SMOOTH)
    except cv2.error:
        # the light does not agree enough to settle
        return None
    found = np.linalg.inv(to_look(b)) @ found.astype(float) @ to_look(a)
    # what both show stays near; all else may lie anywhere, as between a frame of the zenith and one of the horizon
    x, y = np.meshgrid(np.linspace(0, a.width, GRID), np.linspace(0, a.height, GRID))
    grid = np.column_stack([x.ravel(), y.ravel()])
    with np.errstate(divide="ignore", invalid="ignore"):
        before, there = planar.apply(homography, grid), planar.apply(found, grid)
        shared = np.all((before > 0) & (before < [b.width, b.height]), axis=1)
    near = shared.any() and np.all(np.abs(there[shared]) < LONGEST * max(b.width, b.height))
    return found if near else None


def best_shift(
    one: F32, other: F32, least_shared: float, fair: tuple[NDArray, NDArray] | None = None, about: float = 0.0
) -> tuple[int, int] | None:
    """The shift (x, y), px, of one texture (h, w) onto another at which what is `fair` in both correlates best, of
    those that leave so large a share of them to compare. Of those that do `about` as well the least: along stripes
    none is better. None if they correlate at none.
    """
    fair_one, fair_other = fair or (np.ones(one.shape, bool), np.ones(other.shape, bool))
    high, wide = (fft.next_fast_len(one.shape[n] + other.shape[n], real=True) for n in (0, 1))

    def spectrum(x: NDArray) -> NDArray:
        return fft.rfft2(x, (high, wide))

    m1, m2 = fair_one.astype(np.float32), fair_other.astype(np.float32)
    x1, x2 = one * m1, other * m2
    f1, f2, g1, g2 = spectrum(m1), spectrum(m2), spectrum(x1), spectrum(x2)

    def together(p: NDArray, q: NDArray) -> NDArray:
        return fft.irfft2(np.conj(p) * q, (high, wide))

    count = np.maximum(together(f1, f2), 1e-6)
    s1, s2 = together(g1, f2), together(f1, g2)
    v1 = together(spectrum(x1 * one), f2) - s1 * s1 / count
    v2 = together(f1, spectrum(x2 * other)) - s2 * s2 / count
    alike = (together(g1, g2) - s1 * s2 / count) / np.sqrt(np.maximum(v1, 1e-3) * np.maximum(v2, 1e-3))
    alike[count < least_shared * one.size] = -1
    if alike.max() <= 0:
        return None
    y, x = np.nonzero(alike >= alike.max() - about)
    x, y = np.where(x < other.shape[1], x, x - wide), np.where(y < other.shape[0], y, y - high)
    least = int(np.argmin(x * x + y * y))
    return int(x[least]), int(y[least])
