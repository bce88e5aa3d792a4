"""A first focal length, and first rotations, before the joint adjustment."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations, laid_out
from windfell.align.cameras import Cameras, projected, rays_of
from windfell.geometry.rotation import nearest_rotation

Array = NDArray[np.float64]

# of the longest side; and shares of the usual one that are tried where light alone is to tell
USUAL, GUESSES = 0.9, (1.0, 0.7, 1.4)
CANDIDATES = np.geomspace(0.35, 8.0, 15)
BELIEF_SIGMA = 0.6
PLAINLY = 2.0
FITS, ASIDE = 0.02, 1.2
PAIRS, SAMPLE = 24, 30
NEAR = np.radians(3.0)


def first_focal(
    cameras: Cameras, observations: Sequence[Observations], from_metadata: bool
) -> float:
    """The factor on all focal lengths for which every pair by itself fits a turn best.

    Each candidate turns each pair as well as it can (Kabsch) and counts the robust
    error left, with a loose belief in usual lenses so that flat evidence stays sane. Focal
    lengths from metadata stand (factor 1) unless one a little aside fits better and another plainly, as after
    cropping.
    """
    longest = cameras.sizes.max()
    base = cameras.focal_px
    some = [observations[n] for n in np.unique(np.linspace(0, len(observations) - 1, PAIRS).astype(int))]
    sampled = [o.chosen(np.unique(np.linspace(0, len(o.points_a) - 1, SAMPLE).astype(int))) for o in some]

    def cost_of(factor: float) -> float:
        return pair_cost(cameras.with_focal(base * factor), sampled, longest / 400)

    def belief(factor: float) -> float:
        return 0.004 * (np.log(factor * base.mean() / (USUAL * longest)) / BELIEF_SIGMA) ** 2

    at_metadata = cost_of(1.0) if from_metadata else np.inf
    if at_metadata <= FITS or at_metadata < min(cost_of(ASIDE), cost_of(1 / ASIDE)):
        return 1.0
    factors = list(CANDIDATES * longest / base.mean())
    costs = [cost_of(f) for f in factors]
    near = int(np.argmin([c + belief(f) for f, c in zip(factors, costs, strict=True)]))
    between = np.sqrt(factors[near] * np.array(factors[max(0, near - 1) : near + 2 : 2]))
    factors += list(between)
    costs += [cost_of(f) for f in between]
    if at_metadata <= PLAINLY * min(costs) + FITS:
        return 1.0
    return float(min(zip(factors, costs, strict=True), key=lambda fc: fc[1] + belief(fc[0]))[0])


def pair_turns(cameras: Cameras, observations: Sequence[Observations]) -> Array:
    """(m, 3, 3): of each pair the rotation from `a`'s camera axes to `b`'s that carries its rays over, robustly."""
    return _turns(observations, *_rays(cameras, observations))


def _turns(observations: Sequence[Observations], ra: Array, rb: Array) -> Array:
    counts = np.array([len(o.points_a) for o in observations])
    of = np.repeat(np.arange(len(counts)), counts)
    starts = np.cumsum(counts) - counts
    weight = np.ones(len(ra))
    for _ in range(4):
        products = np.einsum("ni,nj->nij", rb * weight[:, None], ra)
        moments = np.add.reduceat(products, starts, axis=0)
        turns = nearest_rotation(moments)
        off = np.linalg.norm(np.einsum("nij,nj->ni", turns[of], ra) - rb, axis=1)
        scale = off[np.lexsort((off, of))][starts + counts // 2]
        weight = 1 / (1 + (off / np.maximum(2 * scale, 1e-6)[of]) ** 2) ** 2
    return turns


def _rays(cameras: Cameras, observations: Sequence[Observations]) -> tuple[Array, Array]:
    a, b, points_a, points_b = laid_out(observations)
    return rays_of(cameras, a, points_a), rays_of(cameras, b, points_b)


def pair_turn(cameras: Cameras, obs: Observations) -> Array:
    """`pair_turns` of one pair."""
    return pair_turns(cameras, [obs])[0]


def pair_cost(cameras: Cameras, observations: Sequence[Observations], scale: float) -> float:
    """The mean over pairs of the robust error that is left when each is turned as well as it can be."""
    ra, rb = _rays(cameras, observations)
    turns = _turns(observations, ra, rb)
    counts = [len(o.points_a) for o in observations]
    of = np.repeat(np.arange(len(counts)), counts)
    a, b, points_a, points_b = laid_out(observations)
    ab = projected(cameras, b, np.einsum("nij,nj->ni", turns[of], ra)) - points_b
    ba = projected(cameras, a, np.einsum("nji,nj->ni", turns[of], rb)) - points_a
    off2 = 0.5 * (np.sum(ab * ab, 1) + np.sum(ba * ba, 1)) / scale**2
    robust = off2 / (1 + off2)
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    return float(np.mean(np.add.reduceat(robust, starts) / counts))


def chained_rotations(cameras: Cameras, observations: Sequence[Observations]) -> Array:
    """Camera-to-world rotations (n, 3, 3), grown from the best-linked frame.

    Each next frame is the one that shares most points with those placed, and is turned onto all of them.
    """
    count = cameras.count
    turns = pair_turns(cameras, observations)
    strength = np.zeros(count)
    for o in observations:
        strength[[o.a, o.b]] += len(o.points_a)
    start = int(np.argmax(strength))
    placed = {start: np.eye(3)}
    while len(placed) < count:
        shared: dict[int, list[tuple[Array, float]]] = {}
        for o, turn in zip(observations, turns, strict=True):
            if (o.a in placed) == (o.b in placed):
                continue
            new, own = (o.b, placed[o.a] @ turn.T) if o.a in placed else (o.a, placed[o.b] @ turn)
            shared.setdefault(new, []).append((own, float(len(o.points_a))))
        best = max(shared, key=lambda n: sum(w for _, w in shared[n]))
        votes = shared[best]
        strongest = max(votes, key=lambda v: v[1])[0]
        near = [v for v in votes if np.trace(strongest.T @ v[0]) > 1 + 2 * np.cos(NEAR)]
        placed[best] = nearest_rotation(np.sum([r * w for r, w in near], axis=0))
    return np.array([placed[n] for n in range(count)])
