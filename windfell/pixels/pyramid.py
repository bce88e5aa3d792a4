"""Gaussian and Laplacian pyramids (Burt & Adelson 1983), and filling of holes by them."""

from __future__ import annotations

from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]


def gaussian(picture: F32, levels: int) -> list[F32]:
    """The picture and `levels` halvings of it."""
    out = [picture]
    for _ in range(levels):
        out.append(cv2.pyrDown(out[-1]))
    return out


def raised(small: F32, like: F32) -> F32:
    """`small` brought up to the size of the next finer level `like`."""
    return cv2.pyrUp(small, dstsize=(like.shape[1], like.shape[0]))


def laplacian(picture: F32, levels: int) -> list[F32]:
    """`levels` band-pass pictures, finest first, and the low-pass rest."""
    g = gaussian(picture, levels)
    bands = [_difference(fine, raised(coarse, fine)) for fine, coarse in pairwise(g)]
    return [*bands, g[-1]]


def _difference(fine: F32, base: F32) -> F32:
    return cv2.subtract(fine, base, dst=base)


def collapsed(bands: list[F32]) -> F32:
    """The picture whose Laplacian pyramid this is."""
    out = bands[-1]
    for band in reversed(bands[:-1]):
        up = raised(out, band)
        out = cv2.add(up, band, dst=up)
    return out


def max_levels(height: int, width: int) -> int:
    """How many halvings leave at least two pixels a side."""
    return max(0, int(np.log2(max(1, min(height, width)))) - 1)


def filled(picture: F32, weight: F32) -> F32:
    """The picture (h, w, c) with the pixels of zero weight filled from around them.

    Pull-push: normalised averages down the pyramid, then up into the holes (Gortler
    et al. 1996, sec. 3.3).
    """
    top = weight[..., None] * picture
    sums, weights = [top], [weight]
    for _ in range(max_levels(*weight.shape)):
        sums.append(cv2.pyrDown(sums[-1]))
        weights.append(cv2.pyrDown(weights[-1]))
    out = sums[-1] / np.maximum(weights[-1], 1e-6)[..., None]
    for s, w in zip(reversed(sums[:-1]), reversed(weights[:-1]), strict=True):
        own = np.minimum(w, 1.0)[..., None]
        up = raised(out, w)
        out = np.where(own > 1e-3, s / np.maximum(w, 1e-6)[..., None], 0) * own + up * (1 - own)
    keep = (weight > 0.999)[..., None]
    return np.where(keep, picture, out).astype(np.float32)
