"""Blending in linear light by bands (Burt & Adelson 1983), fine bands here, wide bands once.

A picture of 500 megapixels cannot be one pyramid. The fine bands reach only tens of
pixels, so they are blended region by region. What the wide bands would change is
smooth: it is found once on a small surface, as the difference between blending with
all bands and with the fine ones only, and added everywhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.job import Job
from windfell.join.agree import Difference, added, taken
from windfell.join.warp import Warped
from windfell.pixels.pyramid import collapsed, gaussian, laplacian, max_levels
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
FINE_LEVELS = 4
PLAIN_SIGMA = 1.0


def reach(levels: int) -> int:
    """How far, in px, a pixel's influence spreads through so many levels."""
    return 0 if levels == 0 else 5 * 2**levels


@dataclass(frozen=True)
class Piece:
    """A frame on the part of a region that it may give something to, and how strongly it claims each spot (h, w).

    The box begins at multiples of 2^levels of the blending; where it ends before the region does, so too.
    """

    box: Region
    frame: Warped
    claim: F32

    @property
    def at(self) -> tuple[slice, slice]:
        b = self.box
        return slice(b.top, b.top + b.height), slice(b.left, b.left + b.width)


def blended(shape: tuple[int, int], pieces: Sequence[Piece], weights: Sequence[F32], levels: int) -> F32:
    """Light (h, w, 3) of a region whose pieces are joined by weights, each on its box, that add up to one."""
    levels = min(levels, max_levels(*shape))
    if levels == 0:
        out = np.zeros((*shape, 3), np.float32)
        for piece, weight in zip(pieces, weights, strict=True):
            out[piece.at] += piece.frame.light * weight[..., None]
        return out
    sums = [np.zeros((-(-shape[0] // 2**n), -(-shape[1] // 2**n), 3), np.float32) for n in range(levels + 1)]
    for piece, weight in zip(pieces, weights, strict=True):
        bands = laplacian(piece.frame.light, levels)
        for n, (band, mask) in enumerate(zip(bands, gaussian(weight, levels), strict=True)):
            top, left = piece.box.top >> n, piece.box.left >> n
            at = np.s_[top : top + band.shape[0], left : left + band.shape[1]]
            band *= mask[..., None]
            sums[n][at] += band
    return collapsed(sums)


def wide_correction(
    differences: Iterable[tuple[int, Difference]], owner: NDArray[np.int16], levels: int, wraps: bool = False,
    fine: int = 0, job: Job | None = None,
) -> F32:
    """What `levels` bands add (h, w, 3) to the picture as a small surface's `owner` (h, w) owns it, beyond what the
    `fine` first of them do.

    Takes owner numbers and their differences from that picture.
    """
    levels = min(levels, max_levels(*owner.shape))

    def added_by(one: tuple[int, Difference]) -> F32:
        number, part = one
        mask = (taken(owner, part.box, wraps) == number).astype(np.float32)
        light = part.light.astype(np.float32)
        plain = _masked(light, mask, fine) if fine else light * cv2.GaussianBlur(mask, (0, 0), PLAIN_SIGMA)[..., None]
        return cv2.subtract(_masked(light, mask, levels), plain)

    parts = list(differences)
    total = np.zeros((*owner.shape, 3), np.float32)
    for (_, part), more in zip(parts, (job or Job()).map(added_by, parts, "evening out"), strict=True):
        added(total, more, part.box, wraps)
    return total


def _masked(light: F32, mask: F32, levels: int) -> F32:
    """Light (h, w, 3) times its mask (h, w), band by band."""
    fit = min(levels, max_levels(*mask.shape))
    return collapsed([b * m[..., None] for b, m in zip(laplacian(light, fit), gaussian(mask, fit), strict=True)])


def hard_weights(shape: tuple[int, int], pieces: Sequence[Piece]) -> list[F32]:
    """Weights 0 or 1, on each piece's box, that give each pixel to the frame with the most claim on it.

    A frame that does not see the pixel has none, unless nobody does.
    """
    best, owner = np.full(shape, -1.0, np.float32), np.zeros(shape, np.uint8)
    for n, piece in enumerate(pieces):
        valid = piece.frame.valid
        claim = piece.claim + np.float32(2) if valid is None else piece.claim + np.where(valid, np.float32(2), 0)
        claim = claim.astype(np.float32, copy=False)
        better = claim > best[piece.at]
        owner[piece.at][better] = n
        best[piece.at] = cv2.max(best[piece.at], claim)
    return [(owner[p.at] == n).astype(np.float32) for n, p in enumerate(pieces)]


def feathered(
    shape: tuple[int, int], pieces: Sequence[Piece], weights: Sequence[F32], sigma: float
) -> list[F32]:
    """Hard weights, each on its box, made to pass into each other over a few px, only where the frames are valid."""
    soft, total = [], np.zeros(shape, np.float32)
    for piece, weight in zip(pieces, weights, strict=True):
        whole = np.zeros(shape, np.float32)
        whole[piece.at] = weight
        part = cv2.GaussianBlur(whole, (0, 0), sigma, borderType=cv2.BORDER_REPLICATE)[piece.at]
        if piece.frame.valid is not None:
            part = part * piece.frame.valid
        soft.append(part)
        total[piece.at] += part
    return [np.where(total[p.at] > 1e-6, s / np.maximum(total[p.at], 1e-6), w)
            for p, s, w in zip(pieces, soft, weights, strict=True)]


def heard_only(
    shape: tuple[int, int], pieces: Sequence[Piece], weights: Sequence[F32],
    heard: Sequence[tuple[F32, F32] | None],
) -> list[Piece]:
    """The pieces, each showing what the owner shows, in its own tone, wherever it is not heard (`join/agree.py`).

    `weights`: who owns, 0 or 1. `heard`: (where it is heard 0..1 (h, w), tone (h, w, 3)) on its box; None for
    everywhere.
    """
    if all(h is None for h in heard):
        return list(pieces)
    base = np.zeros((*shape, 3), np.float32)
    for piece, weight in zip(pieces, weights, strict=True):
        cv2.copyTo(piece.frame.light, weight.astype(np.uint8), base[piece.at])
    return [p if h is None else _taught(p, w, base[p.at], *h)
            for p, w, h in zip(pieces, weights, heard, strict=True)]


def _taught(piece: Piece, weight: F32, base: F32, ears: F32, tone: F32) -> Piece:
    share = cv2.max(ears, weight)
    deaf = share < 0.995
    rows, columns = np.flatnonzero(deaf.any(axis=1)), np.flatnonzero(deaf.any(axis=0))
    if not len(rows):
        return piece
    at = np.s_[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
    light = piece.frame.light.copy()
    told = cv2.multiply(base[at], cv2.exp(np.ascontiguousarray(tone[at])))
    part = np.ascontiguousarray(share[at])
    light[at] = cv2.blendLinear(np.ascontiguousarray(light[at]), told, part, 1 - part)
    return replace(piece, frame=Warped(light, piece.frame.valid))
