"""Values looked up in a table, between its steps linearly."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]

MOST_STEPS = 65536


class Table:
    """A table (n,) of at most 65,536 values, made ready for many px."""

    def __init__(self, values: NDArray) -> None:
        values = np.ascontiguousarray(values, np.float32)
        if not 0 < len(values) <= MOST_STEPS:
            raise ValueError(f"a table of {len(values)} values")
        self._last = np.float32(len(values) - 1)
        # the vision library looks a 16-bit number up in a full table
        self._values, self._rise = np.full((2, MOST_STEPS), values[-1], np.float32)
        self._values[: len(values)] = values
        self._rise[:] = np.diff(self._values, append=values[-1:])

    def __call__(self, at: F32) -> F32:
        """What it holds at places of any shape from 0 to n - 1, linear between; beyond its ends as at them."""
        at = np.clip(at, 0, self._last)
        with np.errstate(invalid="ignore"):
            low = at.astype(np.uint16)
        flat = low.reshape(low.shape[0] if low.ndim else 1, -1)
        at -= low
        at *= cv2.LUT(flat, self._rise).reshape(low.shape)
        at += cv2.LUT(flat, self._values).reshape(low.shape)
        return at
