"""Frames bent a little along a seam, so that what they show there meets halfway: found by dense flow, bounded, and
gone a short way from the seam.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.bend import Bend, basis
from windfell.pixels.colour import perceptual

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

REACH, STEP = 56, 4
MOST_PX, SURE_PX = 14.0, 0.8
LEAST_TEXTURE = 1.2
SPANS, TURNS, LEAST = 40, 8, 0.15
ASKED = 5


@dataclass(frozen=True, eq=False)
class Meeting:
    """Spots (n, 2) px of a surface at which features of two frames are to meet, how far apart they lie (n, 2), from
    the one to the other, and how much each counts (n,).
    """

    spots: Array
    apart: Array
    weight: Array

    def __len__(self) -> int:
        return len(self.spots)


def meeting(one: F32, other: F32, shared: NDArray[np.bool_], seam: NDArray[np.bool_]) -> Meeting:
    """What two frames (h, w, 3) on one region show at different spots near the seam (h, w), by dense inverse search
    (Kroeger et al. 2016) both ways; only where both ways agree, there is something to see, and it is not too far.
    """
    greys = [_even_grey(p) for p in (one, other)]
    flow = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    flow.setFinestScale(0)
    forth, back = flow.calc(*greys, None), flow.calc(*greys[::-1], None)
    h, w = seam.shape
    x, y = np.meshgrid(np.arange(w, dtype=np.float32), np.arange(h, dtype=np.float32))
    returned = cv2.remap(back, x + forth[..., 0], y + forth[..., 1], cv2.INTER_LINEAR)
    agrees = np.linalg.norm(forth + returned, axis=2) < SURE_PX
    gradient = cv2.GaussianBlur(np.hypot(*(cv2.Sobel(greys[0], cv2.CV_32F, *d) for d in ((1, 0), (0, 1)))), (0, 0), 3)
    inner = cv2.erode(shared.astype(np.uint8), np.ones((9, 9), np.uint8), borderValue=0) > 0
    far = cv2.distanceTransform((~seam).astype(np.uint8), cv2.DIST_L2, 5)
    good = agrees & inner & (far < REACH) & (gradient > 8 * LEAST_TEXTURE) & (np.linalg.norm(forth, axis=2) < MOST_PX)
    grid = np.zeros_like(good)
    grid[STEP // 2 :: STEP, STEP // 2 :: STEP] = True
    rows, columns = np.nonzero(good & grid)
    apart = forth[rows, columns].astype(float)
    weight = np.cos(np.pi / 2 * far[rows, columns] / REACH) ** 2
    return Meeting(np.stack([columns, rows], -1) + apart / 2, apart, weight.astype(float))


def _even_grey(light: F32) -> NDArray[np.uint8]:
    """Brightness (h, w) with its slow changes taken out, so that light that differs a little does not matter."""
    grey = cv2.cvtColor(perceptual(np.ascontiguousarray(light)), cv2.COLOR_RGB2GRAY)
    return np.clip(128 + 255 * (grey - cv2.GaussianBlur(grey, (0, 0), 24)), 0, 255).astype(np.uint8)


def with_drifts(
    width: int, height: int, points: Array, drift: Array, weight: Array, before: Bend | None
) -> Bend:
    """The bend of a frame whose px (n, 2) are to drift by so much (n, 2) more than `before` has it; nothing far from
    them. Each turn spreads what is left over what lies near.
    """
    longest = max(width, height)
    shape = tuple(max(2, round(SPANS * side / longest)) + 3 for side in (height, width))
    coefficients = np.zeros((*shape, 2))
    index, share = basis(points, width, height, shape)
    size = shape[0] * shape[1]
    pull = (share * weight[:, None]).ravel()
    den = np.bincount(index.ravel(), pull, size).reshape(shape)
    den = cv2.GaussianBlur(den, (0, 0), 0.8) + LEAST
    for _ in range(TURNS):
        left = drift - np.einsum("nk,nkc->nc", share, coefficients.reshape(-1, 2)[index])
        num = np.stack([np.bincount(index.ravel(), pull * np.repeat(left[:, c], 16), size).reshape(shape)
                        for c in (0, 1)], -1)
        coefficients += cv2.GaussianBlur(num, (0, 0), 0.8) / den[..., None]
    return Bend(width, height, coefficients, before)

