"""Sharpness, compared on what two frames share, so that a plain sky is not called soft."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry import planar
from windfell.readiness.survey import FrameLook, PairLook

F32 = NDArray[np.float32]

BLOCKS = 24
STRIP_ROWS, REACH = 40, 6
SAMPLED_SIDE = 900
TEXTURE = 2.0
BURNT = 251
LEAST_SHARED = 8


def detail_blocks(grey: NDArray[np.uint8]) -> F32:
    """log2 of the energy of fine against coarser detail (by, bx); NaN in blocks without texture.

    Of large frames each row of blocks is judged by a strip through its middle.
    """
    bx, by = block_size(grey.shape)
    high = grey.shape[0] / by
    rows = min(high, STRIP_ROWS) if high > 1.5 * STRIP_ROWS else high
    out = np.full((by, bx), np.nan, np.float32)
    for n in range(by):
        top = max(0, round((n + 0.5) * high - rows / 2) - REACH)
        strip = grey[top : round((n + 0.5) * high + rows / 2) + REACH].astype(np.float32)
        one = cv2.GaussianBlur(strip, (0, 0), 0.9)
        two = cv2.GaussianBlur(one, (0, 0), 1.8)
        inner = slice(REACH, -REACH) if len(strip) > 3 * REACH else slice(None)
        fine, coarse = (
            cv2.resize(np.square(d[inner]), (bx, 1), interpolation=cv2.INTER_AREA)[0]
            for d in (strip - one, one - two))
        out[n] = np.where(coarse > TEXTURE, np.log2((fine + 1e-3) / (coarse + 1e-3)), np.nan)
    return out


def burnt_blocks(encoded: NDArray[np.uint8]) -> F32:
    """The share of pixels (h, w, 3) with all channels at their limit, in blocks (by, bx).

    Of large pictures a sample of the pixels.
    """
    step = max(1, max(encoded.shape[:2]) // SAMPLED_SIDE)
    red, green, blue = cv2.split(np.ascontiguousarray(encoded[::step, ::step]))
    burnt = (cv2.min(cv2.min(red, green), blue) >= BURNT).astype(np.float32)
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
