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
PLAINLY = 1.5
FITS = 0.02


def first_focal(
    cameras: Cameras, observations: Sequence[Observations], from_metadata: bool
) -> float:
    """The factor on all focal lengths for which every pair by itself fits a turn best.

    Each candidate turns each pair as well as it can (Kabsch) and counts the robust
    error left, with a loose belief in usual lenses so that flat evidence stays sane. Focal
    lengths from metadata stand (factor 1) unless another fits plainly better, as after
    cropping.
    """
    longest = max(max(s) for s in cameras.sizes)
    base = cameras.focal_px.copy()

    def cost_of(factor: float) -> float:
        cameras.focal_px = base * factor
        return float(np.mean([_pair_cost(cameras, o, longest / 400) for o in observations]))

    def belief(factor: float) -> float:
        return 0.004 * (np.log(factor * base.mean() / (USUAL * longest)) / BELIEF_SIGMA) ** 2

    at_metadata = cost_of(1.0) if from_metadata else np.inf
    if at_metadata <= FITS:
        cameras.focal_px = base
        return 1.0
    factors = CANDIDATES * longest / base.mean()
    costs = [cost_of(f) for f in factors]
    cameras.focal_px = base
    if at_metadata <= PLAINLY * min(costs) + FITS:
        return 1.0
    return float(min(zip(factors, costs, strict=True), key=lambda fc: fc[1] + belief(fc[0]))[0])


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
