"""Blending in linear light by bands (Burt & Adelson 1983), fine bands here, wide bands once.

A picture of 500 megapixels cannot be one pyramid. The fine bands reach only tens of
pixels, so they are blended region by region. What the wide bands would change is
smooth: it is found once on a small surface, as the difference between blending with
all bands and with the fine ones only, and added everywhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.join.agree import Difference, added, taken
from windfell.join.warp import Warped
from windfell.pixels.pyramid import collapsed, gaussian, laplacian, max_levels

F32 = NDArray[np.float32]
FINE_LEVELS = 4
PLAIN_SIGMA = 1.0


def reach(levels: int) -> int:
    """How far, in px, a pixel's influence spreads through so many levels."""
    return 0 if levels == 0 else 5 * 2**levels


def blended(frames: Sequence[Warped], weights: Sequence[F32], levels: int) -> F32:
    """Light (h, w, 3) of frames joined by weights (h, w) that add up to one."""
    if len(frames) == 1:
        return frames[0].light
    levels = min(levels, max_levels(*weights[0].shape))
    if levels == 0:
        return _weighted(frames, weights)
    if len(frames) == 2:
        return _two_blended(frames, weights, levels)
    sums: list[F32] = []
    for frame, weight in zip(frames, weights, strict=True):
        masks = gaussian(weight, levels)
        bands = laplacian(frame.light, levels)
        for n, (band, mask) in enumerate(zip(bands, masks, strict=True)):
            band *= mask[..., None]
            if n < len(sums):
                sums[n] += band
            else:
                sums.append(band)
    return collapsed(sums)


def _two_blended(frames: Sequence[Warped], weights: Sequence[F32], levels: int) -> F32:
    """The same for the usual case, band by band in one pass (its eps dims by 1e-5)."""
    masks = [gaussian(w, levels) for w in weights]
    first, second = (laplacian(f.light, levels) for f in frames)
    return collapsed([
        cv2.blendLinear(a, b, m, n) for a, b, m, n in zip(first, second, *masks, strict=True)
    ])


def _weighted(frames: Sequence[Warped], weights: Sequence[F32]) -> F32:
    out = np.zeros_like(frames[0].light)
    for frame, weight in zip(frames, weights, strict=True):
        out += frame.light * weight[..., None]
    return out


def wide_correction(
    differences: Iterable[tuple[int, Difference]], owner: NDArray[np.int16], levels: int, wraps: bool = False,
    fine: int = 0,
) -> F32:
    """What `levels` bands add (h, w, 3) to the picture as a small surface's `owner` (h, w) owns it, beyond what the
    `fine` first of them do.

    Takes (owner number, its difference from that picture) one by one.
    """
    levels = min(levels, max_levels(*owner.shape))
    total = np.zeros((*owner.shape, 3), np.float32)
    for number, part in differences:
        mask = (taken(owner, part.box, wraps) == number).astype(np.float32)
        light = part.light.astype(np.float32)
        plain = _masked(light, mask, fine) if fine else light * cv2.GaussianBlur(mask, (0, 0), PLAIN_SIGMA)[..., None]
        added(total, _masked(light, mask, levels) - plain, part.box, wraps)
    return total


def _masked(light: F32, mask: F32, levels: int) -> F32:
    """Light (h, w, 3) times its mask (h, w), band by band."""
    fit = min(levels, max_levels(*mask.shape))
    return collapsed([b * m[..., None] for b, m in zip(laplacian(light, fit), gaussian(mask, fit), strict=True)])


def hard_weights(softs: Sequence[F32], valid: Sequence[NDArray[np.bool_] | None]) -> list[F32]:
    """Weights 0 or 1 (h, w) that give each pixel to the frame with the most claim on it.

    A frame that does not see the pixel has none, unless nobody does.
    """
    claims = [s + 2.0 if v is None else s + np.where(v, np.float32(2), np.float32(0))
              for s, v in zip(softs, valid, strict=True)]
    best, owner = claims[0], np.zeros(claims[0].shape, np.uint8)
    for n, claim in enumerate(claims[1:], 1):
        owner[claim > best] = n
        best = cv2.max(best, claim)
    return [(owner == n).astype(np.float32) for n in range(len(claims))]
