"""Rules that ask how a spot's values are spread: what is kept, what stands out, which frame is in focus."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.encoding import step_light
from windfell.combine.network import median
from windfell.pixels.channels import mean_of, most_of

F32 = NDArray[np.float32]

SPREAD_OF_MAD = np.float32(1.4826)
LEAST_SPREAD = np.float32(2e-4)
LEAST_STEPS = 0.5
POOL = 9
STANDS_OUT = 5.0
CALM_SIGMA = 1.0
FOCUS_SIGMA, FOCUS_POWER = 4.0, 4.0


def spread_of(planes: list[F32], middle: F32, step: float = 0.0) -> F32:
    """The noise at each spot and channel, (h, w, 3): the median of the distances from the middle, pooled over a
    neighbourhood, since of few frames alone it is hardly known; never less than half a `step` of the frames'
    encoding: of a noise below that most frames show the very same value, and the few that show the next one belong.
    """
    distances = median([cv2.absdiff(p, middle) for p in planes])
    pooled = cv2.blur(distances, (POOL, POOL), borderType=cv2.BORDER_REFLECT_101)
    # one in which things move has a wide neighbourhood: the least of both
    own = cv2.max(cv2.min(distances, pooled), pooled * np.float32(0.7))
    spread = np.maximum(own * (SPREAD_OF_MAD * _small_sample(len(planes))), LEAST_SPREAD)
    return np.maximum(spread, step_light(middle, LEAST_STEPS * step)) if step else spread


def _small_sample(count: int) -> np.float32:
    """What makes the median distance of few values as large as that of many (Croux & Rousseeuw 1992)."""
    factors = {2: 1.196, 3: 1.495, 4: 1.363, 5: 1.206, 6: 1.200, 7: 1.140, 8: 1.129, 9: 1.107}
    return np.float32(factors.get(count, count / max(count - 0.8, 1e-3)))


def clipped_mean(planes: list[F32], low: float, high: float, weights: list[float], step: float = 0.0) -> F32:
    """The mean of what lies within so many spreads below and above the middle, channel by channel (kappa-sigma
    clipping). Middle and spread are robust, so that once is enough.
    """
    if len(planes) < 3:
        return weighted_mean(planes, weights)
    middle = median(planes)
    shape = middle.shape
    flat = (shape[0], -1)
    bottom, top = (v.reshape(flat) for v in kept_between(planes, low, high, middle, step))
    total, count = np.zeros_like(bottom), np.zeros_like(bottom)
    for plane, weight in zip(planes, weights, strict=True):
        values = np.ascontiguousarray(plane).reshape(flat)
        kept = cv2.inRange(values, bottom, top)
        cv2.add(total, values if weight == 1 else values * np.float32(weight), dst=total, mask=kept)
        cv2.add(count, float(weight), dst=count, mask=kept)
    mean = cv2.divide(total, count)
    cv2.copyTo(middle.reshape(flat), (count <= 0).astype(np.uint8), mean)
    return mean.reshape(shape)


def kept_between(planes: list[F32], low: float, high: float, middle: F32 | None = None, step: float = 0.0
                 ) -> tuple[F32, F32]:
    """Between which values (h, w, 3) a clipped mean keeps what frames show; `middle`: their median, if known."""
    middle = median(planes) if middle is None else middle
    spread = spread_of(planes, middle, step)
    return cv2.scaleAdd(spread, -float(low), middle), cv2.scaleAdd(spread, float(high), middle)


def weighted_mean(planes: list[F32], weights: list[float]) -> F32:
    """The mean, each frame by its weight; of no weight at all the plain one."""
    whole = sum(weights)
    if whole <= 0:
        weights, whole = [1.0] * len(planes), float(len(planes))
    total = planes[0] * np.float32(weights[0] / whole)
    for plane, weight in zip(planes[1:], weights[1:], strict=True):
        total += plane * np.float32(weight / whole)
    return total


def stand_out(planes: list[F32], step: float = 0.0) -> F32:
    """Of each spot the frame farthest from the middle where that is far beyond the noise, else the middle."""
    middle = median(planes)
    if len(planes) < 3:
        return middle
    inverse = cv2.divide(1.0, spread_of(planes, middle, step))
    best = np.full(middle.shape[:2], STANDS_OUT, np.float32)
    out = middle.copy()
    for plane in planes:
        off = cv2.multiply(cv2.absdiff(plane, middle), inverse)
        calm = cv2.GaussianBlur(most_of(off), (0, 0), CALM_SIGMA, borderType=cv2.BORDER_REFLECT_101)
        farther = cv2.compare(calm, best, cv2.CMP_GT)
        cv2.copyTo(calm, farther, best)
        cv2.copyTo(plane, farther, out)
    return out


def sharpest(planes: list[F32]) -> F32:
    """Each spot from the frames in best focus there: by the energy of fine detail around it, softly."""
    total, weights = np.zeros_like(planes[0]), np.zeros(planes[0].shape[:2], np.float32)
    energies = []
    for plane in planes:
        grey = np.sqrt(np.maximum(mean_of(plane), 0))
        detail = cv2.Laplacian(grey, cv2.CV_32F, ksize=3)
        energies.append(cv2.GaussianBlur(detail * detail, (0, 0), FOCUS_SIGMA, borderType=cv2.BORDER_REFLECT_101))
    most = np.maximum.reduce(energies) + np.float32(1e-12)
    for plane, energy in zip(planes, energies, strict=True):
        weight = (energy / most) ** np.float32(FOCUS_POWER)
        total += plane * weight[..., None]
        weights += weight
    return total / np.maximum(weights, np.float32(1e-12))[..., None]
