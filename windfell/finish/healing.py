"""Texture from elsewhere, light from here."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.pull_push import smoothly_filled

F32 = NDArray[np.float32]

LEAST = np.float32(2e-3)
MOST = np.float32(8.0)


def healed(here: F32, there: F32, hole: NDArray[np.bool_]) -> F32:
    """`there` (h, w, 3), a patch of elsewhere, as the light of `here` would have it: what brings it to here around
    the hole passes over smoothly across it.
    """
    ratio = np.clip((np.maximum(here, 0) + LEAST) / (np.maximum(there, 0) + LEAST), 1 / MOST, MOST)
    known = ~hole
    if not known.any():
        return there
    smooth = np.exp2(smoothly_filled(np.log2(ratio).astype(np.float32), known))
    out = (np.maximum(there, 0) + LEAST) * smooth - LEAST
    return np.where(hole[..., None], np.maximum(out, 0), here).astype(np.float32)
