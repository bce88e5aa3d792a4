"""A first focal length, and first rotations, before the joint adjustment."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Cameras, Observations, error_px
from windfell.geometry.rotation import aligning_rotation

Array = NDArray[np.float64]

USUAL = 0.9
CANDIDATES = np.geomspace(0.35, 8.0, 28)
BELIEF_SIGMA = 0.6


def first_focal(cameras: Cameras, observations: Sequence[Observations]) -> float:
    """The factor on all focal lengths for which every pair by itself fits a turn best.

    Each candidate turns each pair as well as it can (Kabsch) and counts the robust
    error left, with a loose belief in usual lenses so that flat evidence stays sane.
    """
    longest = max(max(s) for s in cameras.sizes)
    base = cameras.focal_px.copy()
    best, best_cost = 1.0, np.inf
    for factor in CANDIDATES * longest / base.mean():
        cameras.focal_px = base * factor
        cost = np.mean([_pair_cost(cameras, o, longest / 400) for o in observations])
        belief = np.log(factor * base.mean() / (USUAL * longest)) / BELIEF_SIGMA
        cost += 0.004 * belief**2
        if cost < best_cost:
            best, best_cost = factor, cost
    cameras.focal_px = base
    return float(best)


def pair_turn(cameras: Cameras, obs: Observations) -> Array:
    """The rotation from `a`'s camera axes to `b`'s that carries its rays over, robustly."""
    ra = cameras.lens(obs.a).rays(obs.points_a)
    rb = cameras.lens(obs.b).rays(obs.points_b)
    weight = np.ones(len(ra))
    for _ in range(4):
        turn = aligning_rotation(ra, rb, weight)
        off = np.linalg.norm(ra @ turn.T - rb, axis=1)
        scale = max(2.0 * np.median(off), 1e-6)
        weight = 1 / (1 + (off / scale) ** 2) ** 2
    return turn


def _pair_cost(cameras: Cameras, obs: Observations, scale: float) -> float:
    turn = pair_turn(cameras, obs)
    kept = cameras.rotations[obs.a], cameras.rotations[obs.b]
    cameras.rotations[obs.a], cameras.rotations[obs.b] = np.eye(3), turn.T
    off = np.minimum(error_px(cameras, obs) / scale, 1e3)
    cameras.rotations[obs.a], cameras.rotations[obs.b] = kept
    return float(np.mean(off**2 / (1 + off**2)))


def chained_rotations(cameras: Cameras, observations: Sequence[Observations]) -> list[Array]:
    """Camera-to-world rotations along the strongest tree of pairs, from the best-linked frame."""
    count = len(cameras.rotations)
    strength = np.zeros(count)
    for o in observations:
        strength[[o.a, o.b]] += len(o.points_a)
    start = int(np.argmax(strength))
    placed = {start: np.eye(3)}
    waiting = sorted(observations, key=lambda o: -len(o.points_a))
    while len(placed) < count:
        following = next(o for o in waiting if (o.a in placed) != (o.b in placed))
        turn = pair_turn(cameras, following)
        if following.a in placed:
            placed[following.b] = placed[following.a] @ turn.T
        else:
            placed[following.a] = placed[following.b] @ turn
    return [placed[n] for n in range(count)]
