"""A smooth way from nothing to all."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def eased(t: NDArray) -> NDArray:
    """0 up to 0, 1 from 1 on, level at both ends between (Hermite's cubic)."""
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)
