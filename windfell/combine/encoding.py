"""How large one step of an encoding is in light."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]

# a step of the encoded value v = x^(1/2.2) is 2.2 x^0.55 of light: nearly the root of 4.84 x, never less than where
# the curve runs straight
SLOPE, LEAST = np.float32(4.84), np.float32(0.006)


def step_light(light: F32, step: float) -> F32:
    """The size in light of one `step` of the encoded value (0..1) at each level of light."""
    return np.sqrt(np.maximum(light, 0) * (SLOPE * np.float32(step * step)) + LEAST * np.float32(step * step))
