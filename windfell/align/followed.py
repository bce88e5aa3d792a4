"""Straight edges followed beyond where a detector let go of them: fainter there, or among texture, yet going on."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

SIGMA = 0.8
ASIDE = np.array([1.0, 2.0, 3.0])
BESIDE = 4.0
PIECE, MOST_PIECES, LONGER = 8, 12, 1.5
SURE, LEAST, LONG = 3.0, 1.0, 30.0


def followed(grey: NDArray[np.uint8], edges: Array, width: int, height: int) -> Array:
    """Edges (m, 4), ends in px of the full size, made longer at both ends, piece by piece, as long as the picture
    (h, w), seen smaller, differs from one side of them to the other, more than by chance and more than beside them.
    Short ones stay: among texture they are chance.
    """
    if not len(edges):
        return edges
    h, w = grey.shape
    soft = cv2.GaussianBlur(grey, (0, 0), SIGMA).astype(np.float32)
    scale = np.tile([w / width, h / height], 2)
    ends = ((edges + 0.5) * scale - 0.5).reshape(-1, 2, 2)
    along = ends[:, 1] - ends[:, 0]
    length = np.linalg.norm(along, axis=1)
    along /= np.maximum(length, 1e-9)[:, None]
    most = np.where(length < LONG, 0, np.minimum(LONGER * length // PIECE, MOST_PIECES)).astype(int)
    first = ends[:, 0] - along * _further(soft, ends[:, 0], -along, most)[:, None]
    last = ends[:, 1] + along * _further(soft, ends[:, 1], along, most)[:, None]
    return (np.concatenate([first, last], 1) + 0.5) / scale - 0.5


def _further(soft: NDArray[np.float32], start: Array, way: Array, most: NDArray[np.intp]) -> Array:
    """By how many px (m,) edges go on from `start` (m, 2), `most` pieces at most."""
    h, w = soft.shape
    t = np.arange(PIECE * MOST_PIECES) + 1.0
    spots = start[:, None] + way[:, None] * t[:, None]
    normal = np.stack([-way[:, 1], way[:, 0]], -1)
    room = np.max(ASIDE) + BESIDE
    inside = ((spots > room) & (spots < np.array([w, h]) - 1 - room)).all(-1)
    steps = [_step(soft, spots + off * normal[:, None], normal) for off in (-BESIDE, 0.0, BESIDE)]
    there, before, after = (s.reshape(len(start), -1, PIECE) for s in (steps[1], steps[0], steps[2]))
    mean = np.abs(there.mean(-1))
    chance = there.std(-1) / np.sqrt(PIECE / 2)
    beside = np.maximum(np.abs(before.mean(-1)), np.abs(after.mean(-1)))
    goes_on = (mean > SURE * chance) & (mean > beside) & (mean > LEAST) & inside.reshape(there.shape).all(-1)
    goes_on &= np.arange(goes_on.shape[1]) < most[:, None]
    return PIECE * np.cumprod(goes_on, axis=1).sum(1)


def _step(soft: NDArray[np.float32], spots: Array, normal: Array) -> Array:
    """By how much the picture is brighter on one side of spots (m, n, 2) than on the other."""
    out = 0.0
    for side in (1, -1):
        for off in ASIDE:
            at = (spots + side * off * normal[:, None]).astype(np.float32)
            out = out + side * cv2.remap(soft, at[..., 0], at[..., 1], cv2.INTER_LINEAR)
    return out / len(ASIDE)
