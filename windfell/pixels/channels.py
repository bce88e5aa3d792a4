"""Three channels made one, quickly."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import SRGB_TO_WORKING

F32 = NDArray[np.float32]

THIRDS = np.full((1, 3), 1 / 3, np.float32)
_TO_SRGB = np.linalg.inv(SRGB_TO_WORKING).astype(np.float32)
# no channel of sRGB is more than so many times the largest of the working space
_MOST_TIMES = float(np.maximum(_TO_SRGB, 0).sum(axis=1).max())


def most_of(picture: F32) -> F32:
    """The largest of the three channels of (h, w, 3), (h, w)."""
    first, second, third = cv2.split(picture)
    return cv2.max(cv2.max(first, second), third)


def _filled(light: NDArray, limit: float) -> F32 | None:
    """How far the fullest channel of working-space light (h, w, 3) is filled, (h, w), in the primaries of sRGB, as
    most files hold it: a strong colour burns out there in one channel while in the wider working space none is full.
    Files of wider spaces are fuller by it than they are. None if all surely lies below a limit.
    """
    if light.max() * _MOST_TIMES <= limit:
        return None
    return most_of(cv2.transform(np.ascontiguousarray(light, np.float32), _TO_SRGB))


def burnt_share(light: F32, first: float, white: float) -> F32 | None:
    """How far light (h, w, 3), as its file has it, is burnt out (h, w): 0 up to `first`, 1 from `white`; None: it is
    nowhere.
    """
    filled = _filled(light, first)
    return None if filled is None else np.clip((filled - np.float32(first)) * np.float32(1 / (white - first)), 0, 1)


def below(light: NDArray, limit: float) -> NDArray[np.bool_]:
    """Where (h, w) no channel of the file is filled to a limit."""
    filled = _filled(light, limit)
    return np.ones(light.shape[:2], bool) if filled is None else filled < np.float32(limit)


def mean_of(picture: F32) -> F32:
    """The mean of the three channels of (h, w, 3), (h, w)."""
    return cv2.transform(np.ascontiguousarray(picture), THIRDS).reshape(picture.shape[:2])
