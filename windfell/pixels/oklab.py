"""Oklab (Ottosson 2020): a space in which lightness, chroma and hue are about what the eye makes of them."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import WORKING, rgb_to_xyz

F32 = NDArray[np.float32]

XYZ_TO_LMS = np.array([
    [0.8189330101, 0.3618667424, -0.1288597137], [0.0329845436, 0.9293118715, 0.0361456387],
    [0.0482003018, 0.2643662691, 0.6338517070]])
LMS_TO_LAB = np.array([
    [0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099],
    [0.0259040371, 0.7827717662, -0.8086757660]])
_LMS = XYZ_TO_LMS @ rgb_to_xyz(WORKING)
# white is exactly without colour
_LMS = (_LMS / _LMS.sum(axis=1, keepdims=True)).astype(np.float32)
_LAB = LMS_TO_LAB.copy()
_LAB[1:] -= _LAB[1:].mean(axis=1, keepdims=True)
_LAB[0] /= _LAB[0].sum()
_LAB = _LAB.astype(np.float32)
_BACK = np.linalg.inv(_LAB.astype(np.float64)).astype(np.float32)
_LIGHT = np.linalg.inv(_LMS.astype(np.float64)).astype(np.float32)


def to_oklab(light: F32) -> F32:
    """(h, w, 3) lightness, a, b of working-space light (h, w, 3), also beyond white and below black."""
    return cv2.transform(np.cbrt(cv2.transform(light, _LMS)), _LAB)


def oklab_planes(light: F32) -> tuple[F32, F32, F32]:
    """Lightness, a and b (h, w) each of working-space light (h, w, 3)."""
    root = np.cbrt(cv2.transform(light, _LMS))
    deep, a, b = (cv2.transform(root, _LAB[k : k + 1]) for k in range(3))
    return deep, a, b


def from_oklab(lab: F32) -> F32:
    """Working-space light (h, w, 3)."""
    root = cv2.transform(np.ascontiguousarray(lab, np.float32), _BACK)
    cube = root * root
    cube *= root
    return cv2.transform(cube, _LIGHT)
