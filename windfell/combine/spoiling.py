"""Frames that spoil a series: their light changed, they are soft, they were bumped, stray light is in them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import luminance

F32 = NDArray[np.float32]

LEAST_EV, LEAST_SHARE, SOFT, BUMPED_PX = 0.2, 0.012, 0.55, 4.0
SPREADS = 5.0
BRIGHT, CALM_PX = 0.25, 3
STREAK, LEAST_STREAK, WIDE_PX = 0.05, 0.12, 9
LEAST_FRAMES, NOISE_PX, FINE_PX, MOST_WEIGHT = 3, 480, 1.5, 20.0


@dataclass(frozen=True)
class Spoiled:
    """What is wrong with a frame in a few words, "" for nothing; its light off the others' in EV, the share of the
    picture where it is far brighter, its sharpness beside theirs, and how far it was moved (px).
    """

    why: str
    ev: float
    bright: float
    sharpness: float
    moved_px: float


def spoiled(lights: Sequence[F32], moved_px: Sequence[float]) -> list[Spoiled]:
    """A verdict on each frame (h, w, 3) in place, small, beside all others."""
    levels = np.stack([np.maximum(luminance(np.ascontiguousarray(x)), 1e-5) for x in lights])
    middle = np.median(levels, axis=0)
    ratio = np.log2(levels / middle)
    ev = np.median(ratio, axis=(1, 2))
    bright, streak = np.array([(_bright_share(x, middle), _longest_streak(x, middle))
                               for x in (level / 2.0**e for level, e in zip(levels, ev, strict=True))]).T
    sharp = np.array([_detail(x) for x in levels])
    sharp = sharp / max(float(np.median(sharp)), 1e-9)
    moved = np.array(moved_px, float)
    out = []
    for n in range(len(lights)):
        why = ""
        if _stands_out(np.abs(ev), n, LEAST_EV):
            why = f"its light is {ev[n]:+.1f} EV off the others'"
        elif _stands_out(bright, n, LEAST_SHARE):
            why = f"stray light on {100 * bright[n]:.0f} % of it"
        elif _stands_out(streak, n, LEAST_STREAK):
            why = "a streak of light across it (a plane, a torch)"
        elif sharp[n] < SOFT:
            why = f"softer than the others ({100 * sharp[n]:.0f} % of their detail)"
        elif np.median(moved) < 1 and _stands_out(moved, n, BUMPED_PX):
            why = f"the camera was bumped by {moved[n]:.0f} px"
        out.append(Spoiled(why, float(ev[n]), float(bright[n]), float(sharp[n]), float(moved[n])))
    return out


def noise_weights(lights: Sequence[F32]) -> list[float]:
    """How much each frame (h, w, 3) in place is to count in a mean, 1 for the usual one: by the inverse of its
    noise's variance, which gives the least noise. Noise is what is left of its fine detail beside the middle of the
    others, whose own noise is taken off (a median's variance is pi / 2 that of a mean); edges and what moves do not
    count (the median of the deviations).
    """
    count = len(lights)
    if count < LEAST_FRAMES:
        return [1.0] * count
    h, w = (min(NOISE_PX, s) for s in lights[0].shape[:2])
    top, left = (lights[0].shape[0] - h) // 2, (lights[0].shape[1] - w) // 2
    levels = np.stack([luminance(np.ascontiguousarray(x[top : top + h, left : left + w])) for x in lights])
    spread = []
    for n in range(count):
        rest = np.asarray(levels[n] - np.median(np.delete(levels, n, axis=0), axis=0), np.float32)
        spread.append(float(np.median(np.abs(rest - cv2.GaussianBlur(rest, (0, 0), FINE_PX)))))
    variance = np.square(spread)
    usual = max(float(np.median(variance)), 1e-14) / (1 + np.pi / 2 / (count - 1))
    own = np.maximum(variance - usual * np.pi / 2 / (count - 1), usual / MOST_WEIGHT)
    return [float(v) for v in np.clip(usual / own, 1 / MOST_WEIGHT, MOST_WEIGHT)]


def _stands_out(values: NDArray, n: int, least: float) -> bool:
    """Whether one value lies far above what the others are."""
    others = np.delete(values, n)
    if not len(others):
        return False
    middle = float(np.median(others))
    spread = 1.4826 * float(np.median(np.abs(others - middle)))
    return bool(values[n] > max(least, middle + SPREADS * max(spread, 0.1 * middle)))


def _bright_share(level: F32, middle: F32) -> float:
    """The share of the picture that is far brighter than in the middle of all, single spots left aside."""
    over = (np.sqrt(level) - np.sqrt(middle) > BRIGHT * np.maximum(np.sqrt(middle), 0.08)).astype(np.uint8)
    return float(cv2.morphologyEx(over, cv2.MORPH_OPEN, np.ones((CALM_PX, CALM_PX), np.uint8)).mean())


def _longest_streak(level: F32, middle: F32) -> float:
    """How long the longest thin bright line is that the middle of all does not show, in shares of the diagonal."""
    off = np.sqrt(level) - np.sqrt(middle)
    noise = 1.4826 * float(np.median(np.abs(off)))
    over = (off > max(SPREADS * noise, STREAK)).astype(np.uint8)
    # what is wide is no streak, be it as long as it is
    wide = cv2.erode(over, np.ones((WIDE_PX, WIDE_PX), np.uint8))
    over[cv2.dilate(wide, np.ones((3 * WIDE_PX, 3 * WIDE_PX), np.uint8)) > 0] = 0
    joined = cv2.morphologyEx(over, cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    _, _, stats, _ = cv2.connectedComponentsWithStats(joined)
    sides = stats[1:, [cv2.CC_STAT_WIDTH, cv2.CC_STAT_HEIGHT]].astype(float)
    return float(np.hypot(*sides.T).max(initial=0.0) / np.hypot(*level.shape))


def _detail(level: F32) -> float:
    """How much fine detail there is: the typical Laplacian of its square root."""
    grey = np.sqrt(level).astype(np.float32)
    return float(np.percentile(np.abs(cv2.Laplacian(grey, cv2.CV_32F)), 92)) / max(float(grey.mean()), 1e-4)
