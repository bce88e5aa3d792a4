"""What each frame has to do with a rule's result: how much it would move it, what the rule gains and takes away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.rules import PLAIN, Setting, StackRule
from windfell.pixels.colour import lightness

F32 = NDArray[np.float32]

STEP = 2e-3
LEAST_STEP = 1e-5
HEARD_STEP, LEAST_HEARD_STEP = np.float32(1e-4), np.float32(1e-6)
LEAST_NOISE = 5e-4
NOTHING = 1e-3
BRIGHTER = 2.0


def influence(planes: Sequence[F32], rule: StackRule, setting: Setting = PLAIN) -> tuple[F32, F32]:
    """How much of a small change of each frame's light at a spot the result takes over, (n, 3), and the result (3,).

    `planes`: the frames (s, s, 3) around the spot, as far as the rule looks. Of a mean of n it is 1/n for each, of a
    median 1 for the frame in the middle and 0 for the others, of a clipped mean 0 for what is rejected.
    """
    n, side = len(planes), planes[0].shape[0]
    half = side // 2
    step = np.maximum(STEP * np.abs(np.stack(planes)).max(axis=(0, 1, 2)), LEAST_STEP).astype(np.float32)
    laid = [np.tile(p, (1, n + 1, 1)) for p in planes]
    for k in range(n):
        laid[k][half, (k + 1) * side + half] += step
    found = rule.combined(laid, setting)[half, half::side]
    return ((found[1:] - found[:1]) / step).astype(np.float32), found[0]


@dataclass(frozen=True, eq=False)
class Shaken:
    """Small frames (h, w, 3), once as they are and twice with a little more noise: what the figures of every rule
    start from. `spread`: of that noise; `level`: of their light in the middle; `lightness` (h, w): the median's.
    """

    planes: list[F32]
    noisy: tuple[list[F32], list[F32]]
    spread: float
    level: float
    lightness: F32

    @classmethod
    def of(cls, planes: Sequence[F32]) -> Shaken:
        middle = np.median(np.stack(planes), axis=0)
        off = np.median([np.median(np.abs(p - middle)) for p in planes])
        spread = np.float32(max(float(off) * 1.4826, LEAST_NOISE))
        rng = np.random.default_rng(5)
        noisy = tuple([p + spread * rng.standard_normal(p.shape, np.float32) for p in planes] for _ in range(2))
        light = np.median(np.stack([lightness(p) for p in planes]), axis=0)
        return cls(list(planes), noisy, float(spread), float(np.median(middle)), light)

    def noise_gain_db(self, rule: StackRule, setting: Setting = PLAIN) -> float:
        """How much less noise there is in the result (h, w, 3) against its light than in one frame, in dB: what the
        rule leaves of the noise that was added.
        """
        drawn = [rule.combined([p.copy() for p in noisy], setting) for noisy in self.noisy]
        left = 1.4826 * float(np.median(np.abs(drawn[0] - drawn[1]))) / np.sqrt(2)
        level = float(np.median(drawn[0])) / max(self.level, 1e-6)
        return 20 * float(np.log10(max(level, 1e-6) * self.spread / max(left, 1e-9)))


@dataclass(frozen=True)
class RuleFigures:
    """Noise gained over one frame in dB, the share of values rejected (None: the rule rejects none as such), and
    the share of the picture that is brighter than in the median.
    """

    noise_db: float
    rejected: float | None
    brightened: float


def rule_figures(shaken: Shaken, rule: StackRule, setting: Setting = PLAIN) -> RuleFigures:
    """The figures of a rule over small frames in place."""
    result = rule.combined([p.copy() for p in shaken.planes], setting)
    brightened = float(np.mean(lightness(result) > shaken.lightness + BRIGHTER))
    left_out = rule.rejected(list(shaken.planes), setting)
    rejected = None if left_out is None else float(np.mean([r.any(axis=2).mean() for r in left_out]))
    return RuleFigures(shaken.noise_gain_db(rule, setting), rejected, brightened)


def against_mean(planes: Sequence[F32], rule: StackRule, setting: Setting = PLAIN) -> F32:
    """How much lighter (positive: added) or darker (taken away) the result (h, w) is than the mean of all, in L*."""
    mean = sum(planes[1:], planes[0].copy()) * np.float32(1 / len(planes))
    return lightness(rule.combined([p.copy() for p in planes], setting)) - lightness(mean)


def whose(planes: Sequence[F32], rule: StackRule, setting: Setting = PLAIN) -> NDArray[np.int16]:
    """The frame (h, w) that has most to do with the result at each spot: the one nearest to it where many have."""
    result = rule.combined([p.copy() for p in planes], setting)
    off = np.stack([np.abs(p - result).sum(axis=2) for p in planes])
    return off.argmin(axis=0).astype(np.int16)



def heard(planes: Sequence[F32], k: int, rule: StackRule, setting: Setting = PLAIN) -> F32:
    """How much of the result (h, w) is frame `k`'s at each spot, 0..1: what it takes over of a small change of it."""
    step = np.maximum(HEARD_STEP * np.abs(planes[k]), LEAST_HEARD_STEP)
    before = rule.combined([p.copy() for p in planes], setting)
    after = rule.combined([p + step if n == k else p.copy() for n, p in enumerate(planes)], setting)
    told = setting.exposures[k] if setting.exposures else 1.0
    share = np.clip(np.float32(told) * ((after - before) / step).mean(axis=2), 0, 1)
    # where the small change makes a rule decide otherwise a px stands out
    return cv2.medianBlur(np.ascontiguousarray(share, np.float32), 3)
