"""Noise sunk in luminance and in colour, by what the picture itself has of it.

Undecimated wavelets (Starck & Murtagh 1994) of the root of light, on which photon noise is about even, in opponent
channels; each detail is kept as far as its neighbourhood stands out of the noise (the empirical Wiener filter,
Mihcak et al. 1999).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]

KERNEL = np.array([1, 4, 6, 4, 1], np.float32) / 16
# the deviation of white noise of 1 in each band
WHITE = (0.889, 0.2, 0.0857, 0.0413)
STRONGEST, STRONGEST_COLOUR = 2.2, 4.0
NEAR = 7
OPPONENT = (np.array([[1, 1, 1], [1, 0, -1], [1, -2, 1]]) / np.sqrt([[3], [2], [6]])).astype(np.float32)
BACK = np.linalg.inv(OPPONENT.astype(np.float64)).astype(np.float32)


def noise_reach(scale: float) -> int:
    bands = bands_at(scale)
    return 2 * (2**bands - 1) + NEAR // 2 + 1 if bands else 0


def bands_at(scale: float) -> int:
    """How many of the bands that hold noise a smaller picture still has."""
    return int(np.clip(len(WHITE) + round(float(np.log2(max(scale, 1e-3)))), 0, len(WHITE)))


def noise_of(light: F32) -> NDArray[np.float32]:
    """The deviation (3,) of noise in opponent channels of the root of light: by the median of fine differences."""
    found = []
    for plane in cv2.split(_opponent(light)):
        fine = plane - cv2.sepFilter2D(plane, -1, KERNEL, KERNEL, borderType=cv2.BORDER_REFLECT_101)
        found.append(np.median(np.abs(fine)) / 0.6745 / WHITE[0])
    return np.array(found, np.float32)


def sunk(light: F32, level: NDArray[np.float32], plain: float, colour: float, scale: float) -> F32:
    """Light with noise of a `level`, measured at full size, sunk: `plain` and `colour` from 0 to 1."""
    bands = bands_at(scale)
    if not bands:
        return light
    planes = list(cv2.split(_opponent(light)))
    for k, strength in enumerate((STRONGEST * plain, STRONGEST_COLOUR * colour, STRONGEST_COLOUR * colour)):
        if strength:
            planes[k] = _calm(planes[k], float(level[k]) * scale * strength, bands)
    root = cv2.transform(cv2.merge(planes), BACK)
    made = np.square(np.maximum(root, 0))
    return made + np.minimum(light, 0)


def _opponent(light: F32) -> F32:
    return cv2.transform(cv2.sqrt(np.maximum(light, 0)), OPPONENT)


def _calm(plane: F32, limit: float, bands: int) -> F32:
    rest, kept = plane, np.zeros_like(plane)
    for band in range(bands):
        kernel = np.zeros(4 * 2**band + 1, np.float32)
        kernel[:: 2**band] = KERNEL
        smooth = cv2.sepFilter2D(rest, -1, kernel, kernel, borderType=cv2.BORDER_REFLECT_101)
        detail = rest - smooth
        power = cv2.blur(detail * detail, (NEAR, NEAR), borderType=cv2.BORDER_REFLECT_101)
        noise = np.float32((limit * WHITE[band]) ** 2)
        kept += detail * (np.maximum(power - noise, 0) / (power + np.float32(1e-12)))
        rest = smooth
    return rest + kept
