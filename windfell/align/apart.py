"""Whether two frames of a series lie apart, told at a glance: how far the picture as a whole has moved.

Phase correlation (Kuglin & Hines 1975) of edges in overlapping windows over the frame: only a shift on which most
windows agree is the camera's; what moves by itself, or shows nothing, disagrees.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

SIDE = 400
ACROSS, DOWN = 3, 2
FAINT = 1.0
AGREE_PX, LEAST_PX = 2.0, 1.5
MOST_WINDOWS = 4


def apart_px(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> float:
    """How far (px) most of `other` lies from `one`, both grey (h, w) of one size, about SIDE px long; 0 where they
    lie together, or where too few windows say the same.
    """
    h, w = one.shape
    shifts = []
    for top in np.linspace(0, h - h // DOWN, DOWN).astype(int):
        for left in np.linspace(0, w - w // ACROSS, ACROSS).astype(int):
            box = slice(top, top + h // DOWN), slice(left, left + w // ACROSS)
            a, b = (_edges(v[box]) for v in (one, other))
            if min(a.std(), b.std()) < FAINT:
                continue
            shifts.append(cv2.phaseCorrelate(a, b, cv2.createHanningWindow(a.shape[::-1], cv2.CV_32F))[0])
    if len(shifts) < MOST_WINDOWS:
        return 0.0
    middle = np.median(shifts, axis=0)
    agree = np.linalg.norm(np.array(shifts) - middle, axis=1) < AGREE_PX
    far = float(np.hypot(*middle))
    return far if agree.sum() >= MOST_WINDOWS and far >= LEAST_PX else 0.0


def _edges(grey: NDArray[np.uint8]) -> NDArray[np.float32]:
    soft = cv2.GaussianBlur(grey, (0, 0), 1.0).astype(np.float32)
    return cv2.magnitude(cv2.Scharr(soft, -1, 1, 0), cv2.Scharr(soft, -1, 0, 1)) / 32
