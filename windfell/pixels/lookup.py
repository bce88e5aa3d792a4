"""Values looked up in a table, between its steps linearly."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]

MOST_STEPS = 65536


class Table:
    """A table (n,) of at most 65,536 values, made ready for many px: as fine as 16 bits tell places apart."""

    def __init__(self, values: NDArray) -> None:
        values = np.ascontiguousarray(values, np.float32)
        if not 1 < len(values) <= MOST_STEPS:
            raise ValueError(f"a table of {len(values)} values")
        last = len(values) - 1
        self._finer = np.float32((MOST_STEPS - 1) / last)
        # the vision library looks a 16-bit number up in a full table
        self._values = np.interp(np.linspace(0, last, MOST_STEPS), np.arange(last + 1), values).astype(np.float32)

    def __call__(self, at: F32) -> F32:
        """What it holds at places of any shape from 0 to n - 1, linear between; beyond its ends as at them."""
        fine = np.multiply(at, self._finer, dtype=np.float32)
        fine += np.float32(0.5)
        np.clip(fine, 0, MOST_STEPS - 1, out=fine)
        with np.errstate(invalid="ignore"):
            low = fine.astype(np.uint16)
        return cv2.LUT(low.reshape(low.shape[0] if low.ndim else 1, -1), self._values).reshape(low.shape)
