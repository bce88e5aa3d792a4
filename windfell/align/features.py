"""Features of a frame: places that are found again in another."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.pixels.colour import to_view

MOST = 3000
FEW = 600
CELLS = 8


@dataclass(frozen=True)
class Features:
    """Points (n, 2) float64 in px of the frame's full size; descriptors (n, 128) float32 of
    unit length (RootSIFT, Arandjelovic & Zisserman 2012). Strongest first. `problem` says why
    the frame could not be looked at.
    """

    points: NDArray[np.float64]
    descriptors: NDArray[np.float32]
    width: int
    height: int
    problem: str = ""

    def __len__(self) -> int:
        return len(self.points)


def unbent(features: Features, optics: Optics | None) -> Features:
    """Features with their points where a lens without distortion would have put them."""
    if optics is None or not optics.bends:
        return features
    lens = Lens(features.width, features.height, 1.0)
    ideal = optics.ideal(features.points, lens.centre, lens.half_diagonal)
    near = optics.in_reach(ideal, lens.centre, lens.half_diagonal)
    return replace(features, points=ideal[near], descriptors=features.descriptors[near])


def find_features(
    linear: NDArray[np.float32], width: int, height: int, ignore: NDArray[np.uint8] | None = None,
    most: int = MOST,
) -> Features:
    """SIFT features (Lowe 2004) of a frame of width x height px seen at a smaller size.

    `linear` is the frame's working-space light at that size. Where `ignore` (any size,
    stretched over the frame) is above 127 no point is taken. At most `most` are kept.
    """
    return grey_features(cv2.cvtColor(to_view(linear), cv2.COLOR_RGB2GRAY), width, height, ignore, most)


def grey_features(
    grey: NDArray[np.uint8], width: int, height: int, ignore: NDArray[np.uint8] | None = None, most: int = MOST,
) -> Features:
    """As `find_features`, of encoded grey (h, w)."""
    mask = None
    if ignore is not None:
        mask = cv2.resize(ignore, (grey.shape[1], grey.shape[0]), interpolation=cv2.INTER_NEAREST)
        mask = np.where(mask > 127, 0, 255).astype(np.uint8)
    points, descriptors = _detected(grey, mask, most)
    sx, sy = width / grey.shape[1], height / grey.shape[0]
    full = (points + 0.5) * [sx, sy] - 0.5
    return Features(full, descriptors, width, height)


def _detected(grey: NDArray[np.uint8], mask: NDArray | None, most: int) -> tuple[NDArray, NDArray]:
    for contrast in (0.03, 0.008):
        sift = cv2.SIFT_create(
            nfeatures=most * 3 // 2, contrastThreshold=contrast, enable_precise_upscale=True
        )
        keys, raw = sift.detectAndCompute(grey, mask)
        if len(keys) >= min(FEW, most // 2):
            break
    if not keys:
        return np.zeros((0, 2)), np.zeros((0, 128), np.float32)
    points = np.array([k.pt for k in keys], np.float64)
    strength = np.array([k.response for k in keys])
    chosen = _spread_choice(points, strength, grey.shape, most)
    root = np.sqrt(raw[chosen] / (np.sum(raw[chosen], axis=1, keepdims=True) + 1e-9))
    return points[chosen], root.astype(np.float32)


def _spread_choice(points: NDArray, strength: NDArray, shape: tuple, most: int) -> NDArray[np.intp]:
    """Indices of the strongest points, no cell of the frame giving more than its share."""
    _, first = np.unique(np.round(points, 2), axis=0, return_index=True)
    order = first[np.argsort(-strength[first], kind="stable")]
    if len(order) <= most:
        return order
    cell = (points[order] / [shape[1] + 1, shape[0] + 1] * CELLS).astype(int)
    number = cell[:, 1] * CELLS + cell[:, 0]
    by_cell = np.argsort(number, kind="stable")
    sorted_cells = number[by_cell]
    starts = np.searchsorted(sorted_cells, sorted_cells)
    rank = np.empty(len(order), int)
    rank[by_cell] = np.arange(len(order)) - starts
    share = 2 * most // CELLS**2
    kept = np.flatnonzero(rank < share)[:most]
    return order[kept]
