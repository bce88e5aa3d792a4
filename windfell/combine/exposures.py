"""One light from exposures of different length: noise-aware weights, what moved taken from one of them.

Each frame's light over its exposure is an estimate of the same radiance; its variance is that of photons and of the
sensor, so the weights are those of least variance (Hasinoff, Durand & Freeman 2010). Burnt-out values say nothing.
Where a frame contradicts the one that is best exposed there, something moved: it is not heard (Eden, Uyttendaele &
Szeliski 2006).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.channels import mean_of, most_of

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

WHITE, WHITE_FROM = np.float32(0.97), np.float32(0.86)
PHOTON, SENSOR = np.float32(4e-5), np.float32(1.2e-6)
CODE_STEP = {8: 1 / 255, 16: 1 / 65535}
CONTRADICTS = np.float32(4.0)
RELATIVE = np.float32(0.10)
CALM_SIGMA = 2.0
DARKEST = 0.004
LEAST_SHARED, MOST_SHARED = 200, 60_000
EV_TRUSTED = 0.35


def fullness(light: F32) -> F32:
    """How far a spot is from burnt out, (h, w): 1 well below white, 0 at it."""
    top = most_of(light)
    return np.clip((WHITE - top) / (WHITE - WHITE_FROM), 0, 1)


def variance(light: F32, step: float) -> F32:
    """The variance of a frame's light (h, w, 3): photons, the sensor, and the steps of its encoding (`step`: one of
    the encoded values, whose size in light grows with it).
    """
    # a step of the encoded value v = x^(1/2.2) is 2.2 x^0.55 of light; its square is nearly 4.84 x, never less than
    # where the curve runs straight
    steps = np.float32(step * step / 12)
    return np.maximum(light, 0) * (PHOTON + np.float32(4.84) * steps) + (SENSOR + np.float32(0.006) * steps)


def merged(planes: Sequence[F32], exposures: Sequence[float], steps: Sequence[float]) -> F32:
    """Radiance (h, w, 3) in units of the light of a frame whose exposure is 1, beyond white where others saw it.

    `exposures`: how much light each frame took beside that one. `steps`: one step of each one's encoding.
    """
    full = [fullness(p) for p in planes]
    shortest = int(np.argmin(exposures))
    full[shortest] = np.maximum(full[shortest], np.float32(1e-4))
    radiance = [p / np.float32(t) for p, t in zip(planes, exposures, strict=True)]
    spread = [variance(p, s) / np.float32(t * t) for p, t, s in zip(planes, exposures, steps, strict=True)]
    guide, guide_spread = _best_exposed(planes, radiance, spread, full)
    total, weights = np.zeros_like(planes[0]), np.zeros_like(planes[0])
    for n in range(len(planes)):
        off = np.abs(radiance[n] - guide)
        allowed = CONTRADICTS * np.sqrt(spread[n] + guide_spread) + RELATIVE * np.abs(guide)
        excess = cv2.GaussianBlur(most_of(off / allowed), (0, 0), CALM_SIGMA, borderType=cv2.BORDER_REFLECT_101)
        heard = np.clip(2 - excess, 0, 1) * full[n]
        weight = (heard[..., None] + np.float32(1e-9)) / spread[n]
        total += radiance[n] * weight
        weights += weight
    return total / weights


def _best_exposed(
    planes: Sequence[F32], radiance: Sequence[F32], spread: Sequence[F32], full: Sequence[F32]
) -> tuple[F32, F32]:
    """Of each spot the radiance and variance by the frame that knows it best: the least noise among those not near
    white.
    """
    best = np.full(planes[0].shape[:2], -np.inf, np.float32)
    guide, its = radiance[0].copy(), spread[0].copy()
    for r, v, f in zip(radiance, spread, full, strict=True):
        # a choice for whole neighbourhoods, so that one thing comes from one frame
        worth = cv2.GaussianBlur(np.log(np.maximum(f, 1e-6)) * 4 - np.log(mean_of(v)), (0, 0), 3 * CALM_SIGMA,
                                 borderType=cv2.BORDER_REFLECT_101)
        better = cv2.compare(worth, best, cv2.CMP_GT)
        for values, into in ((worth, best), (r, guide), (v, its)):
            cv2.copyTo(values, better, into)
    return guide, its


def estimated_exposures(lights: Sequence[F32], known_s: Sequence[float | None], first: int) -> list[float]:
    """How much light each frame took beside frame `first`: by its metadata, refined by what the frames share.

    `lights`: small frames (h, w, 3) in place on each other. `known_s`: seconds times gain over aperture squared; None
    where the file does not say. Neighbours in brightness are compared, so that they share what is well exposed.
    """
    order = sorted(range(len(lights)), key=lambda n: (known_s[n] or 0, float(np.median(lights[n]))))
    if any(k is None for k in known_s):
        order = sorted(range(len(lights)), key=lambda n: float(lights[n].mean()))
    log2 = np.zeros(len(lights))
    for a, b in pairwise(order):
        told = None if known_s[a] is None or known_s[b] is None else float(np.log2(known_s[b] / known_s[a]))
        seen = _ratio_ev(lights[a], lights[b])
        step = told if seen is None else seen if told is None or abs(seen - told) < EV_TRUSTED else told
        log2[b] = log2[a] + (step or 0.0)
    return [float(2 ** (v - log2[first])) for v in log2]


def _ratio_ev(darker: F32, brighter: F32) -> float | None:
    """log2 of the light of the brighter over the darker, the median where both are well exposed; None if too little
    is.
    """
    a, b = mean_of(darker).ravel(), mean_of(brighter).ravel()
    top = np.maximum(most_of(darker), most_of(brighter)).ravel()
    good = (a > DARKEST) & (b > DARKEST) & (top < WHITE_FROM)
    if good.sum() < LEAST_SHARED:
        return None
    step = max(1, int(good.sum()) // MOST_SHARED)
    found = np.log2(b[good][::step] / a[good][::step])
    middle = np.median(found)
    near = np.abs(found - middle) < 3 * max(1.4826 * float(np.median(np.abs(found - middle))), 0.02)
    return float(np.median(found[near]))
