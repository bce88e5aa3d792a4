"""Sharpness, compared on what two frames share, so that a plain sky is not called soft."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry import planar
from windfell.readiness.survey import FrameLook, PairLook

F32 = NDArray[np.float32]

BLOCKS = 24
TEXTURE = 2.0
BURNT = 251
LEAST_SHARED = 8


def detail_blocks(grey: NDArray[np.uint8]) -> F32:
    """log2 of the energy of fine against coarser detail (by, bx); NaN in blocks without texture."""
    g = grey.astype(np.float32)
    one = cv2.GaussianBlur(g, (0, 0), 0.9)
    two = cv2.GaussianBlur(one, (0, 0), 1.8)
    size = block_size(grey.shape)
    fine = cv2.resize(np.square(g - one), size, interpolation=cv2.INTER_AREA)
    coarse = cv2.resize(np.square(one - two), size, interpolation=cv2.INTER_AREA)
    ratio = np.log2((fine + 1e-3) / (coarse + 1e-3))
    return np.where(coarse > TEXTURE, ratio, np.nan).astype(np.float32)


def burnt_blocks(encoded: NDArray[np.uint8]) -> F32:
    """The share of pixels (h, w, 3) with all channels at their limit, in blocks (by, bx)."""
    burnt = (encoded.min(axis=2) >= BURNT).astype(np.float32)
    return cv2.resize(burnt, block_size(burnt.shape), interpolation=cv2.INTER_AREA)


def block_size(shape: tuple[int, ...]) -> tuple[int, int]:
    """(bx, by): about square blocks, BLOCKS along the longer side."""
    h, w = shape[:2]
    k = BLOCKS / max(h, w)
    return max(1, round(w * k)), max(1, round(h * k))


def sharper_by(a: FrameLook, b: FrameLook, pair: PairLook) -> float | None:
    """How much sharper `a` is than `b` on what both show, log2 of energy; None if too little is."""
    by, bx = a.fine.shape
    y, x = np.mgrid[0:by, 0:bx]
    at = np.stack([(x + 0.5) / bx, (y + 0.5) / by], -1)
    there = planar.apply(pair.onto, at)
    inside = np.all((there > 0) & (there < 1), axis=-1)
    hy, hx = b.fine.shape
    iy = np.clip((there[..., 1] * hy).astype(int), 0, hy - 1)
    ix = np.clip((there[..., 0] * hx).astype(int), 0, hx - 1)
    off = np.where(inside, a.fine - b.fine[iy, ix], np.nan)
    off = off[np.isfinite(off)]
    return float(np.median(off)) if len(off) >= LEAST_SHARED else None


def softness(frames: tuple[FrameLook, ...], pairs: tuple[PairLook, ...]) -> list[float]:
    """How much softer each frame is than those it shares with: the lower median, 0 or more."""
    behind: list[list[float]] = [[] for _ in frames]
    for pair in pairs:
        found = sharper_by(frames[pair.a], frames[pair.b], pair)
        if found is not None:
            behind[pair.b].append(found)
            behind[pair.a].append(-found)
    return [max(0.0, float(np.median(v))) if v else 0.0 for v in behind]
