"""Where the sky is: what the frames agree on when laid by the stars, and not when laid by the ground.

The cut between sky and ground follows the picture's own edges (Rother, Kolmogorov & Blake 2004).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]

WIDE, FINE = 9.0, 2.5
SURE = 2.0
ROUNDS = 4
SOFT = 0.003
SLIVER = 0.012


def sky_share(reference: F32, by_stars: Sequence[F32], by_ground: Sequence[F32]) -> F32:
    """How much of each spot is sky, (h, w) 0..1.

    All pictures are encoded light (h, w, 3), 0..255: the reference, and the other frames laid on it by the stars and
    by the ground; NaN where a frame shows nothing.
    """
    stars_off, ground_off = _off(reference, by_stars), _off(reference, by_ground)
    evidence = cv2.GaussianBlur(ground_off - stars_off, (0, 0), FINE)
    around = cv2.GaussianBlur(ground_off - stars_off, (0, 0), WIDE)
    noise = 1.5 * float(np.median(np.abs(evidence))) + 1e-6
    mask = np.where(around > 0, cv2.GC_PR_BGD, cv2.GC_PR_FGD).astype(np.uint8)
    mask[evidence > SURE * noise] = cv2.GC_BGD
    mask[evidence < -SURE * noise] = cv2.GC_FGD
    if not (mask == cv2.GC_BGD).any() or not (mask == cv2.GC_FGD).any():
        return np.full(mask.shape, 1.0 if (around > 0).mean() > 0.5 else 0.0, np.float32)
    picture = _without_stars(reference, by_ground)
    cv2.setRNGSeed(1)
    cv2.grabCut(picture, mask, None, np.zeros((1, 65)), np.zeros((1, 65)), ROUNDS, cv2.GC_INIT_WITH_MASK)
    sky = ((mask == cv2.GC_BGD) | (mask == cv2.GC_PR_BGD)).astype(np.uint8)
    sky = _without_specks(sky)
    return cv2.GaussianBlur(sky.astype(np.float32), (0, 0), max(0.6, SOFT * sky.shape[1]))


def share_at(
    share: F32, region: Region, scale: float, size: tuple[int, int],
    before: Callable[[NDArray], NDArray] | None = None,
) -> F32:
    """The share (h, w) on a region in px of the reference of full `size` at a scale; `before` takes the
    region's px to those.
    """
    h, w = share.shape
    kx, ky = (small / max(1, round(full * scale)) for small, full in zip((w, h), size, strict=True))
    x, y = (np.arange(first, first + n) for first, n in ((region.left, region.width), (region.top, region.height)))
    at = np.stack(np.meshgrid(x, y), axis=-1).astype(np.float64)
    if before is not None:
        at = before(at)
    where = ((at + 0.5) * [kx, ky] - 0.5).astype(np.float32)
    return cv2.remap(share, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def _off(reference: F32, others: Sequence[F32]) -> F32:
    """How far the others are from the reference in the mean, (h, w); 0 where none shows anything."""
    total, count = np.zeros(reference.shape[:2], np.float32), np.zeros(reference.shape[:2], np.float32)
    for other in others:
        off = np.abs(other - reference).mean(axis=2)
        seen = np.isfinite(off)
        total += np.where(seen, np.minimum(off, 40.0), 0)
        count += seen
    return total / np.maximum(count, 1)


def _without_stars(reference: F32, by_ground: Sequence[F32]) -> U8:
    """The ground sharp and the sky plain: the median of the frames laid by the ground, brightened."""
    every = np.stack([reference, *by_ground])
    with np.errstate(all="ignore"):
        middle = np.nan_to_num(np.nanmedian(every, axis=0), nan=0.0)
    return np.clip(middle * (235 / max(float(np.percentile(middle, 99)), 1.0)), 0, 255).astype(np.uint8)


def _without_specks(sky: U8) -> U8:
    """Sky without slivers and specks, and without small holes."""
    width = max(3, round(SLIVER * sky.shape[1]) | 1)
    round_brush = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (width, width))
    sky = cv2.erode(sky, round_brush, borderType=cv2.BORDER_CONSTANT, borderValue=0)
    sky = cv2.copyMakeBorder(sky, width, width, width, width, cv2.BORDER_REPLICATE)
    sky = cv2.dilate(sky, round_brush)[width:-width, width:-width]
    least = sky.size // 400
    for value in (1, 0):
        count, labels, stats, _ = cv2.connectedComponentsWithStats((sky == value).astype(np.uint8), connectivity=4)
        small = [n for n in range(1, count) if stats[n, cv2.CC_STAT_AREA] < least]
        sky = np.where(np.isin(labels, small), 1 - value, sky)
    return sky.astype(np.uint8)
