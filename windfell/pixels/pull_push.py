"""Gaps in a picture closed smoothly from what surrounds them."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]


def smoothly_filled(light: F32, known: NDArray[np.bool_]) -> F32:
    """The light (h, w, 3) with what is not known taken from what surrounds it: pulled together from fine to coarse
    and pushed back (Gortler et al. 1996), so that it passes over smoothly.
    """
    weight = known.astype(np.float32)
    values = light * weight[..., None]
    levels = [(values, weight)]
    while min(levels[-1][1].shape) > 2:
        values, weight = levels[-1]
        size = (weight.shape[1] + 1) // 2, (weight.shape[0] + 1) // 2
        levels.append((cv2.resize(values, size, interpolation=cv2.INTER_AREA),
                       cv2.resize(weight, size, interpolation=cv2.INTER_AREA)))
    values, weight = levels[-1]
    filled = values / np.maximum(weight, 1e-6)[..., None]
    if not (weight > 0).all():
        mean = values.sum(axis=(0, 1)) / max(float(weight.sum()), 1e-6)
        filled = np.where((weight > 0)[..., None], filled, mean)
    for values, weight in reversed(levels[:-1]):
        up = cv2.resize(filled, weight.shape[::-1], interpolation=cv2.INTER_LINEAR)
        share = np.minimum(weight, 1)[..., None]
        filled = share * values / np.maximum(weight, 1e-6)[..., None] + (1 - share) * cv2.GaussianBlur(up, (3, 3), 0)
    return np.ascontiguousarray(filled, np.float32)
