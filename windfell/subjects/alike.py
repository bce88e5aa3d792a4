"""A frame's light brought to that of the clean plate, so that what is left between them is what moved."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
Bools = NDArray[np.bool_]

DARKEST, BRIGHTEST = np.float32(0.002), np.float32(0.9)
SMALL = 160
LOCAL_SHARE = 0.10
ALLOWED = np.float32(0.35)
ROUNDS = 3


@dataclass(frozen=True)
class Matched:
    """A frame's light (h, w, 3) as the plate's light would have it; the gain of each channel over the whole frame;
    and the share of the frame that agrees once it is matched.
    """

    light: F32
    gain: tuple[float, float, float]
    agrees: float


def matched(light: F32, plate: F32, seen: Bools | None = None) -> Matched:
    """A frame's light, its exposure and white balance brought to the plate's, as a whole and then slowly over the
    picture (a passing cloud): by the ratio of what did not move, found robustly at a small size.
    """
    h, w = light.shape[:2]
    k = min(1.0, SMALL / max(h, w))
    size = max(2, round(w * k)), max(2, round(h * k))
    small, its = (cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in (light, plate))
    fair = (np.minimum(small, its).min(axis=2) > DARKEST) & (np.maximum(small, its).max(axis=2) < BRIGHTEST)
    if seen is not None:
        fair &= cv2.resize(seen.astype(np.uint8), size, interpolation=cv2.INTER_AREA) > 0
    if fair.sum() < 50:
        return Matched(light, (1.0, 1.0, 1.0), 1.0)
    ratio = np.log2(np.maximum(its, 1e-6) / np.maximum(small, 1e-6))
    whole = np.median(ratio[fair], axis=0).astype(np.float32)
    local = np.zeros_like(ratio)
    sigma = LOCAL_SHARE * max(size)
    blur = lambda v: cv2.GaussianBlur(v, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)  # noqa: E731
    for _ in range(ROUNDS):
        off = ratio - whole - local
        calm = (fair & (np.abs(off).max(axis=2) < ALLOWED)).astype(np.float32)
        # little known: near nothing
        local += blur(off * calm[..., None]) / (blur(calm) + np.float32(0.15))[..., None]
    off = np.abs(ratio - whole - local).max(axis=2)
    gain = np.exp2(cv2.resize(whole + local, (w, h), interpolation=cv2.INTER_LINEAR))
    return Matched(light * gain, tuple(float(v) for v in np.exp2(whole)), float((off[fair] < ALLOWED).mean()))
