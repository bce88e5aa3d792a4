"""A value of each px against the three channels of a picture, in ways that run through memory once."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]


def thrice(values: F32) -> F32:
    """(h, w) as all three channels (h, w, 3)."""
    return cv2.cvtColor(np.ascontiguousarray(values, np.float32), cv2.COLOR_GRAY2RGB)


def times(light: F32, gain: F32) -> F32:
    """Light (h, w, 3) times a gain (h, w)."""
    out = thrice(gain)
    out *= light
    return out


def mixed(one: F32, other: F32, share: F32) -> F32:
    """The one picture (h, w, 3), and the other where the share (h, w) is 1."""
    out = other - one
    out *= thrice(share)
    out += one
    return out


def least(light: F32) -> F32:
    """The least of three channels (h, w)."""
    return np.minimum(np.minimum(light[..., 0], light[..., 1]), light[..., 2])


def most(light: F32) -> F32:
    """The most of three channels (h, w)."""
    return np.maximum(np.maximum(light[..., 0], light[..., 1]), light[..., 2])
