"""Detail: noise sunk and edges sharpened, measured in pixels of the full-size frame."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import luminance
from windfell.pixels.planes import times
from windfell.recipe.model import Development

F32 = NDArray[np.float32]

SHARP_SIGMA = 1.0
BANDS = 3
KERNEL = np.array([1, 4, 6, 4, 1], np.float32) / 16


def reach_px(d: Development, scale: float) -> int:
    """How many px around a region its result depends on."""
    noise = 2 * (2 ** bands_at(scale) - 1) + 1 if d.noise_pct and bands_at(scale) else 0
    sharp = 4 if d.sharpen_pct and sharp_sigma(scale) else 0
    return noise + sharp


def bands_at(scale: float) -> int:
    """How many of the noise's bands a smaller picture still holds."""
    return int(np.clip(BANDS + round(float(np.log2(max(scale, 1e-3)))), 0, BANDS))


def sharp_sigma(scale: float) -> float:
    """The sharpening's radius at a scale; 0 where it is finer than a pixel shows."""
    sigma = SHARP_SIGMA * scale
    return sigma if sigma >= 0.3 else 0.0


def noise_level(light: F32) -> NDArray[np.float32]:
    """Deviation of the noise (3,) in the square root of light: the median of fine differences."""
    root = cv2.sqrt(np.maximum(light, 0))
    fine = root - cv2.sepFilter2D(root, -1, KERNEL, KERNEL)
    return (np.median(np.abs(fine), axis=(0, 1)) / 0.6745 / 0.89).astype(np.float32)


def denoised(light: F32, d: Development, level: NDArray[np.float32], scale: float) -> F32:
    """Noise sunk by soft thresholds on an undecimated wavelet (Starck & Murtagh 1994).

    It works on the square root of light, where photon noise is about even.
    """
    bands = bands_at(scale)
    if not d.noise_pct or not bands:
        return light
    rest = cv2.sqrt(np.maximum(light, 0))
    kept = np.zeros_like(rest)
    strength = 3.5 * d.noise_pct / 100
    for band, share in zip(range(bands), (0.89, 0.2, 0.086), strict=False):
        kernel = np.zeros(4 * 2**band + 1, np.float32)
        kernel[:: 2**band] = KERNEL
        smooth = cv2.sepFilter2D(rest, -1, kernel, kernel, borderType=cv2.BORDER_REFLECT_101)
        detail = rest - smooth
        limit = level * np.float32(strength * share)
        kept += np.sign(detail) * np.maximum(np.abs(detail) - limit, 0)
        rest = smooth
    return np.square(np.maximum(rest + kept, 0))


def sharpened(light: F32, d: Development, scale: float) -> F32:
    """Edges raised on luminance, by at most a factor of two, so that no halo burns out."""
    sigma = sharp_sigma(scale)
    if not d.sharpen_pct or not sigma:
        return light
    y = np.maximum(luminance(light), np.float32(1e-5))
    log = np.log2(y)
    fine = log - cv2.GaussianBlur(log, (7, 7), sigma, borderType=cv2.BORDER_REFLECT_101)
    gain = np.clip(np.float32(1.6 * d.sharpen_pct / 100) * fine, -1, 1)
    return times(light, np.exp2(gain))
