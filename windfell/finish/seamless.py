"""Pieces taken from elsewhere without a step between them or along their rim (Perez, Gangnet & Blake 2003)."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
Bools = NDArray[np.bool_]

CLOSE = 1e-4
MOST_ROUNDS = 200
APART = np.float32(0.12)


def seamless(picture: F32, hole: Bools, taken: F32) -> F32:
    """The picture (h, w, c) whose hole has the slopes of what each of its px is taken from (`taken` (h, w, 2): px, x
    and y), and what is known around it at its rim. Slopes between two px that come from different places are the mean
    of what both say. Where what is taken and the rim are of other things (further apart than about `APART`), the edge
    between them stays, so that no colour bleeds in.
    """
    rows, columns = np.flatnonzero(hole.any(axis=1)), np.flatnonzero(hole.any(axis=0))
    if not len(rows):
        return picture
    at = np.s_[max(rows[0] - 1, 0) : rows[-1] + 2, max(columns[0] - 1, 0) : columns[-1] + 2]
    inside, whence = hole[at], np.rint(taken[at]).astype(np.intp)
    copied = picture[np.clip(whence[..., 1], 0, hole.shape[0] - 1), np.clip(whence[..., 0], 0, hole.shape[1] - 1)]
    here = np.where(inside[..., None], copied, picture[at])
    held, lacks = [], []
    for axis, (dy, dx) in ((1, (0, 1)), (0, (1, 0))):
        # what the hole lacks of these slopes, beginning with copies
        lack = _slopes(picture, inside, taken[at], dy, dx) - np.diff(here, axis=axis)
        rim = np.diff(inside, axis=axis)
        far = np.abs(lack).max(axis=2) * (1 / APART)
        held.append((1 / (1 + rim * far**4)).astype(np.float32)[..., None])
        lacks.append(lack)
    out = picture.copy()
    out[at] = here + _solved(_out_of(*(h * k for h, k in zip(held, lacks, strict=True))), inside, *held)
    return out


def _slopes(picture: F32, hole: Bools, taken: F32, dy: int, dx: int) -> F32:
    """The steps from each px to that (dy, dx) further, as the places say that they come from; where the hole has
    neither, those of the picture.
    """
    h, w = picture.shape[:2]
    tx, ty = (np.clip(np.rint(taken[..., c]).astype(np.intp), 0, n - 1) for c, n in ((0, w), (1, h)))
    spot = picture[ty, tx]
    ahead = picture[np.clip(ty + dy, 0, h - 1), np.clip(tx + dx, 0, w - 1)] - spot
    behind = spot - picture[np.clip(ty - dy, 0, h - 1), np.clip(tx - dx, 0, w - 1)]
    first, second = np.s_[: hole.shape[0] - dy, : hole.shape[1] - dx], np.s_[dy:, dx:]
    a, b = (hole[part].astype(np.float32)[..., None] for part in (first, second))
    return (a * ahead[first] + b * behind[second]) / np.maximum(a + b, 1)


def _out_of(across: F32, down: F32) -> F32:
    """Of steps across (h, w - 1, c) and down (h - 1, w, c): those into each px less those out of it (h, w, c)."""
    out = np.zeros((across.shape[0], down.shape[1], across.shape[2]), np.float32)
    out[:, :-1] -= across
    out[:, 1:] += across
    out[:-1] -= down
    out[1:] += down
    return out


def _solved(lack: F32, hole: Bools, across: F32, down: F32) -> F32:
    """Values (h, w, c), 0 outside the hole, whose Laplacian in it, with steps held so much, is `lack`: conjugate
    gradients, smoothed at all sizes at once (Bramble, Pasciak & Xu 1990).
    """
    inside = np.repeat(hole[..., None], lack.shape[2], axis=2).astype(np.float32)
    found, rest = np.zeros_like(lack), lack * inside
    wanted = CLOSE * float(np.abs(rest).max())
    way, before = None, 0.0
    for _ in range(MOST_ROUNDS):
        if float(np.abs(rest).max()) <= wanted:
            break
        smooth = _at_all_sizes(rest) * inside
        now = float(np.vdot(rest, smooth))
        way = smooth if way is None else smooth + np.float32(now / before) * way
        before = now
        pulled = _out_of(across * np.diff(way, axis=1), down * np.diff(way, axis=0)) * inside
        step = np.float32(now / max(float(np.vdot(way, pulled)), 1e-30))
        found += step * way
        rest = rest - step * pulled
    return found


def _at_all_sizes(rest: F32) -> F32:
    sums, levels = rest, []
    while min(sums.shape[:2]) > 2:
        levels.append(sums)
        h, w = sums.shape[:2]
        even = cv2.copyMakeBorder(sums, 0, h % 2, 0, w % 2, cv2.BORDER_CONSTANT)
        sums = even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2]
    out = sums * np.float32(0.25 / 2 ** len(levels))
    for k in range(len(levels) - 1, -1, -1):
        h, w = levels[k].shape[:2]
        up = np.repeat(np.repeat(out, 2, axis=0), 2, axis=1)[:h, :w]
        out = up + np.float32(0.25 / 2**k) * levels[k]
    return out
