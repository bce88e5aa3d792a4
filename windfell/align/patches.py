"""How far the light of one patch lies in another, to a fraction of a pixel.

A small shift is searched for by normalised correlation, then solved by least squares on the first patch's gradients
(Lucas & Kanade 1981), against which the other is looked at ever further aside.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

HALF, SEARCH, STEP = 8, 5, 4.0
LEAST_LIKENESS, MOST_ERROR = 0.75, 0.35
ROUNDS, STILL, HOPELESS = 8, 0.003, 0.3
RUN = 512
BURNT, TONES, LEAST_FAIR = 250.0, (60.0, 235.0), 100


@dataclass(frozen=True)
class Shifts:
    """What was found for m pairs of patches: shifts (m, 2) in patch px, likeness (m,) -1..1, and
    the expected error (m,) in patch px, inf where nothing was found.
    """

    shift: Array
    likeness: Array
    error: Array

    @property
    def sure(self) -> NDArray[np.bool_]:
        """(m,) where the light agrees well enough to be believed."""
        return (self.likeness > LEAST_LIKENESS) & (self.error < MOST_ERROR)


def together(parts: Sequence[Shifts]) -> Shifts:
    """One behind the other."""
    return Shifts(*(np.concatenate([getattr(p, name) for p in parts]) for name in ("shift", "likeness", "error")))


def patch_offsets(half: int) -> Array:
    steps = np.arange(-half, half + 1, dtype=float)
    return np.stack(np.meshgrid(steps, steps), axis=-1)


def seen_around(onto: Callable[[Array], Array], points: Array) -> tuple[Array, Array]:
    """How a small step at points (m, 2) is seen where they are taken `onto`: (m, 2, 2) its derivatives, and the
    second ones (m, 2, 3) by x twice, by x and y, by y twice.

    Without these, what lies at the side of a patch would pull its middle aside, by a hundredth of a px in rows.
    """
    x, y = np.array([STEP, 0]), np.array([0, STEP])
    at, right, left, below, above, corner = (onto(points + d) for d in (0 * x, x, -x, y, -y, x + y))
    first = np.stack([right - left, below - above], axis=-1) / (2 * STEP)
    second = np.stack([right + left - 2 * at, corner - right - below + at, below + above - 2 * at], axis=-1) / STEP**2
    return first, second


def steps_seen(grids: Array, steps: Array, bends: Array | None = None) -> Array:
    """(m, h, w, 2): `steps` (h, w, 2) as they are seen by first derivatives `grids` (m, 2, 2) and second ones `bends`
    (m, 2, 3), by x twice, by x and y, by y twice (Taylor).
    """
    x, y = steps.reshape(-1, 2).T
    terms = [x, y]
    if bends is not None:
        terms += [0.5 * x * x, x * y, 0.5 * y * y]
        grids = np.concatenate([grids, bends], axis=2)
    return (np.stack(terms, axis=-1) @ grids.transpose(0, 2, 1)).reshape(len(grids), *steps.shape)


def burnt_alike(one: F32, other: F32) -> tuple[F32, F32]:
    """Encoded patches (m, k, k) and (m, k + 2 r, k + 2 r) of two frames, as if both had burnt out at the same light.

    Where light burns out in just one of them, edges creep towards the dark in that one. Encodings are close to powers
    of the light, so that one ratio of codes stands for the ratio of exposures.
    """
    if not (np.any(one >= BURNT) or np.any(other >= BURNT)):
        return one, other
    margin = (other.shape[1] - one.shape[1]) // 2
    some, there = one[:, ::3, ::3], other[:, margin:-margin:3, margin:-margin:3]
    fair = (some > TONES[0]) & (some < TONES[1]) & (there > TONES[0]) & (there < TONES[1])
    if np.sum(fair) < LEAST_FAIR:
        return one, other
    ratio = float(np.median(there[fair] / some[fair]))
    return np.minimum(one, BURNT / max(ratio, 1.0)), np.minimum(other, BURNT * min(ratio, 1.0))


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
    if not fair.all():
        one, other = (np.where(fair[:, None, None], p, np.float32(0)) for p in (one, other))
    other = other - other.mean(axis=(1, 2), keepdims=True)
    shift = start = _searched(one, other)
    pull = _Pull.of(one)
    likeness, error = np.full(m, -1.0), np.full(m, np.inf)
    moving = np.flatnonzero(fair)
    for _ in range(ROUNDS + 1):
        if not len(moving):
            break
        there = _shifted(other, moving, shift[moving], k)
        likeness[moving], error[moving], step = pull.towards(moving, there)
        shift[moving] = np.clip(shift[moving] + np.clip(step, -0.7, 0.7), start[moving] - 1.5, start[moving] + 1.5)
        moving = moving[(np.abs(step).max(axis=1) > STILL) & (likeness[moving] > HOPELESS)]
    inner = np.abs(shift).max(axis=1) < SEARCH + 0.6
    return Shifts(shift, np.where(inner, likeness, -1.0), np.where(inner, error, np.inf))


@dataclass(frozen=True)
class _Pull:
    """What of m patches does not change while others are brought to lie on them (inverse compositional alignment,
    Baker & Matthews 2004): weighted `rows` (m, 3, k * k), their slopes along both axes and themselves, and of the
    slopes the inverse normal matrix (m, 2, 2). Nothing in the rows answers to a plane of light, nor the slopes to
    more contrast: what darkens towards a corner moves nothing.
    """

    rows: F32
    inverse: Array

    @classmethod
    def of(cls, patches: F32) -> _Pull:
        m, k = patches.shape[:2]
        weight = _window(k).reshape(-1)
        own = _level(patches.reshape(m, -1))
        own /= np.sqrt(np.einsum("mk,mk,k->m", own, own, weight) / np.sum(weight) + 1e-9)[:, None]
        sides = [_level(g.reshape(m, -1)) for g in np.gradient(own.reshape(m, k, k), axis=(2, 1))]
        rows = np.stack([*sides, own], axis=1)
        rows[:, :2] -= (rows[:, :2] @ (own * weight)[:, :, None] / np.sum(weight)) * own[:, None]
        weighted = rows * weight
        normal = (weighted[:, :2] @ rows[:, :2].transpose(0, 2, 1)).astype(np.float64)
        return cls(weighted, np.linalg.inv(normal + 1e-9 * np.eye(2)))

    def towards(self, which: NDArray[np.intp], there: F32) -> tuple[Array, Array, Array]:
        """Of some of the patches, against what lies there (n, k, k): likeness (n,), the expected error (n,), and the
        step (n, 2) that brings them together.
        """
        flat = there.reshape(len(there), -1)
        weight, planes = _window(there.shape[1]).reshape(-1), _planes(there.shape[1])
        total, along = float(np.sum(weight)), flat @ (planes * weight).T
        squares = np.einsum("mk,mk,k->m", flat, flat, weight) - np.einsum("mp,mp->m", along, along)
        deviation = np.sqrt(np.maximum(squares, 0) / total + 1e-9)
        products = (self.rows[which] @ flat[:, :, None])[:, :, 0].astype(np.float64) / deviation[:, None]
        likeness, inverse = products[:, 2] / total, self.inverse[which]
        step = -np.einsum("mij,mj->mi", inverse, products[:, :2])
        left = 2 * np.maximum(1 - likeness, 0)
        # neighbouring pixels err alike: a quarter of them count; the trace of what rounding made worse than singular
        # is below 0
        return likeness, np.sqrt(4 * left * np.abs(np.trace(inverse, axis1=1, axis2=2))), step


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


def _level(flat: F32) -> F32:
    """Patches (m, k * k) without their weighted mean and slopes."""
    k = round(flat.shape[1] ** 0.5)
    planes = _planes(k)
    return flat - (flat @ (planes * _window(k).reshape(-1)).T) @ planes


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


def _shifted(other: F32, which: NDArray[np.intp], shift: Array, k: int) -> F32:
    """The middle (n, k, k) of some patches looked at `shift` px (n, 2) aside (cubic convolution, Keys 1981)."""
    margin = (other.shape[1] - k) // 2
    whole = np.floor(shift).astype(int)
    x, y = np.clip(whole + margin - 1, 0, other.shape[1] - k - 3).T
    near = sliding_window_view(other, (k + 3, k + 3), axis=(1, 2))[which, y, x]
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
