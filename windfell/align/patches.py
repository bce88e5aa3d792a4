"""How far the light of one patch lies in another, to a fraction of a pixel.

A small shift is searched for by normalised correlation, then solved by least squares on the patches' gradients
(Lucas & Kanade 1981), with the mean of both patches' gradients, which takes away the error of first order.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

HALF, SEARCH = 8, 5
ROUNDS, STILL, HOPELESS = 8, 0.003, 0.3
RUN = 256


@dataclass(frozen=True)
class Shifts:
    """What was found for m pairs of patches: shifts (m, 2) in patch px, likeness (m,) -1..1, and
    the expected error (m,) in patch px, inf where nothing was found.
    """

    shift: Array
    likeness: Array
    error: Array

    def part(self, which: slice) -> Shifts:
        return Shifts(self.shift[which], self.likeness[which], self.error[which])


def together(parts: Sequence[Shifts]) -> Shifts:
    """One behind the other."""
    return Shifts(*(np.concatenate([getattr(p, name) for p in parts]) for name in ("shift", "likeness", "error")))


def patch_offsets(half: int) -> Array:
    steps = np.arange(-half, half + 1, dtype=float)
    return np.stack(np.meshgrid(steps, steps), axis=-1)


def steps_seen(grids: Array, steps: Array) -> Array:
    """(m, h, w, 2): `steps` (h, w, 2) as each of `grids` (m, 2, 2) shows them."""
    return (steps.reshape(-1, 2) @ grids.transpose(0, 2, 1)).reshape(len(grids), *steps.shape)


def patch_shifts(one: F32, other: F32) -> Shifts:
    """How far the light of patches `one` (m, k, k) lies in `other` (m, k + 2 r, k + 2 r), in px.

    Worked on in runs of patches that stay near the processor.
    """
    if len(one) == 0:
        return Shifts(np.zeros((0, 2)), np.zeros(0), np.zeros(0))
    return together([_shifts(one[n : n + RUN], other[n : n + RUN]) for n in range(0, len(one), RUN)])


def _shifts(one: F32, other: F32) -> Shifts:
    m, k = len(one), one.shape[1]
    fair = np.isfinite(one).all((1, 2)) & np.isfinite(other).all((1, 2))
    one = np.where(fair[:, None, None], one, 0).astype(np.float32)
    other = np.where(fair[:, None, None], other, 0).astype(np.float32)
    shift = start = _searched(one, other)
    one = _normalised(one)
    likeness, error = np.full(m, -1.0), np.full(m, np.inf)
    moving = np.flatnonzero(fair)
    for _ in range(ROUNDS + 1):
        if not len(moving):
            break
        there = _normalised(_shifted(other[moving], shift[moving], k))
        likeness[moving], error[moving], step = _step(one[moving], there)
        shift[moving] = np.clip(shift[moving] + np.clip(step, -0.7, 0.7), start[moving] - 1.5, start[moving] + 1.5)
        moving = moving[(np.abs(step).max(axis=1) > STILL) & (likeness[moving] > HOPELESS)]
    inner = np.abs(shift).max(axis=1) < SEARCH + 0.6
    return Shifts(shift, np.where(inner, likeness, -1.0), np.where(inner, error, np.inf))


def _step(one: F32, there: F32) -> tuple[Array, Array, Array]:
    """Likeness (m,) of normalised patches, the expected error (m,), and the step (m, 2) that brings them together."""
    m, window = len(one), _window(one.shape[1])
    total = float(np.sum(window))
    root = np.sqrt(window).reshape(-1)
    gy, gx = (g.reshape(m, -1) * root for g in np.gradient(0.5 * (one + there), axis=(1, 2)))
    one, there = one.reshape(m, -1) * root, there.reshape(m, -1) * root
    off = one - there
    xx, xy, yy, bx, by, left, like = (
        np.einsum("mk,mk->m", p, q).astype(np.float64)
        for p, q in ((gx, gx), (gx, gy), (gy, gy), (gx, off), (gy, off), (off, off), (one, there)))
    det = np.maximum(xx * yy - xy * xy, 1e-12)
    step = np.stack([(yy * bx - xy * by) / det, (xx * by - xy * bx) / det], axis=-1)
    # neighbouring pixels err alike: a quarter of them count
    return like / total, np.sqrt(4 * left / total * (xx + yy) / det), step


@lru_cache
def _window(k: int) -> F32:
    x = np.arange(k) - (k - 1) / 2
    g = np.exp(-0.5 * (x / (k / 3)) ** 2)
    return np.outer(g, g).astype(np.float32)


@lru_cache
def _planes(k: int) -> F32:
    """(3, k * k): flat, and sloping along both axes, each of length 1 under the window."""
    x = np.arange(k, dtype=np.float32) - (k - 1) / 2
    planes = np.stack([np.ones((k, k), np.float32), np.broadcast_to(x, (k, k)), np.broadcast_to(x[:, None], (k, k))])
    planes /= np.sqrt(np.sum(planes * planes * _window(k), axis=(1, 2), keepdims=True))
    return planes.reshape(3, -1)


def _normalised(p: F32) -> F32:
    """Patches with weighted mean and slope 0 and deviation 1: what darkens towards a corner moves nothing."""
    k = p.shape[1]
    weight, planes = _window(k).reshape(-1), _planes(k)
    flat = p.reshape(len(p), -1)
    flat = flat - (flat @ (planes * weight).T) @ planes
    deviation = np.sqrt(np.einsum("mk,mk,k->m", flat, flat, weight) / np.sum(weight) + 1e-9)
    return (flat / deviation[:, None]).reshape(p.shape)


def _searched(one: F32, other: F32) -> Array:
    """The best shift (m, 2) by normalised correlation of the patches at half their size, to about half a px."""
    m, k = len(one), one.shape[1] // 2
    margin = (other.shape[1] - one.shape[1]) // 2
    reach, odd = margin // 2, margin % 2
    small = _halved(one).reshape(m, -1)
    small = small - small.mean(axis=1, keepdims=True)
    side = 2 * reach + 1
    room = _halved(other[:, odd:, odd:])[:, : k + 2 * reach, : k + 2 * reach]
    along = sliding_window_view(room, k, axis=2).reshape(m, -1, k)
    # each row of the patch on each of the rows; then those of the same shift together
    products = small.reshape(m, k, k) @ along.transpose(0, 2, 1)
    score = sum(products[:, n, n * side : (n + side) * side] for n in range(k)).reshape(m, side, side)
    total, squares = _boxes(room, k), _boxes(room * room, k)
    score = (score / np.sqrt(np.maximum(squares - total * total / k**2, 1e-6))).reshape(m, -1)
    at = np.argmax(score, axis=1)
    at = np.stack(np.divmod(at, side), axis=-1)
    n, top = np.arange(m), score.max(axis=1)
    fine = np.zeros((m, 2))
    for axis, step in ((0, side), (1, 1)):
        aside = np.clip(at[:, axis] + [[-1], [1]], 0, side - 1) - at[:, axis]
        low, high = score[n, at @ (side, 1) + step * aside]
        fine[:, axis] = _vertex(low, top, high)
    return 2.0 * (at - reach + fine)[:, ::-1]


def _boxes(p: F32, k: int) -> F32:
    """Sums over every k x k px of p (m, h, w)."""
    rows = sum(p[:, n : p.shape[1] - k + 1 + n] for n in range(k))
    return sum(rows[:, :, n : p.shape[2] - k + 1 + n] for n in range(k))


def _vertex(low: Array, peak: Array, high: Array) -> Array:
    """Where the parabola through three values at -1, 0, 1 has its top, at most half a step aside."""
    bend = 2 * peak - low - high
    return np.clip(0.5 * (high - low) / np.maximum(bend, 1e-9), -0.5, 0.5)


def _halved(p: F32) -> F32:
    """Means of 2 x 2 px; an odd last row and column are left out."""
    even = p.shape[1] // 2 * 2
    p = p[:, :even, :even]
    rows = p[:, ::2] + p[:, 1::2]
    return 0.25 * (rows[:, :, ::2] + rows[:, :, 1::2])


def _shifted(other: F32, shift: Array, k: int) -> F32:
    """The middle (m, k, k) of patches looked at `shift` px aside (cubic convolution, Keys 1981)."""
    margin = (other.shape[1] - k) // 2
    whole = np.floor(shift).astype(int)
    corner = np.clip(whole + margin - 1, 0, other.shape[1] - k - 3)
    near = np.empty((len(other), k + 3, k + 3), np.float32)
    for n, (x, y) in enumerate(corner.tolist()):
        near[n] = other[n, y : y + k + 3, x : x + k + 3]
    across, down = (_taps(shift[:, c] - whole[:, c], k) for c in (0, 1))
    return down.transpose(0, 2, 1) @ (near @ across)


def _taps(t: Array, k: int) -> F32:
    """(m, k + 3, k): matrices that interpolate k values from k + 3 at fractions `t` (m,)."""
    t2, t3 = t * t, t * t * t
    weights = np.stack([-0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1,
                        -1.5 * t3 + 2 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2], axis=-1)
    out = np.zeros((len(t), (k + 3) * k), np.float32)
    for i in range(4):
        # a diagonal of the matrix
        out[:, i * k : (i + k) * k : k + 1] = weights[:, i : i + 1]
    return out.reshape(len(t), k + 3, k)
