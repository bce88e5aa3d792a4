"""Values looked up in a table, between its steps linearly."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]

MOST_WIDE = 30_000


def looked_up(at: F32, table: F32) -> F32:
    """What a table (n,) of up to 30,000 steps holds at places (h, w) from 0 to n - 1, linear between."""
    row = np.ascontiguousarray(table, np.float32)[None]
    flat = np.ascontiguousarray(at, np.float32)
    if flat.ndim != 2 or max(flat.shape) > MOST_WIDE:
        # as many rows as it takes, the last one filled up
        wide = min(flat.size, MOST_WIDE)
        high = -(-flat.size // wide)
        flat = np.pad(flat.ravel(), (0, wide * high - flat.size)).reshape(high, wide)
    found = cv2.remap(row, flat, np.zeros_like(flat), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return found if flat.shape == np.shape(at) else found.ravel()[: np.size(at)].reshape(np.shape(at))
