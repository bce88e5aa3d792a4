"""A piece of a picture, as the engine answers it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Picture:
    """Working-space light (h, w, 3) float32, and where it is covered (h, w) bool."""

    light: NDArray[np.float32]
    covered: NDArray[np.bool_]

    @property
    def nbytes(self) -> int:
        return self.light.nbytes + self.covered.nbytes


@dataclass(frozen=True)
class Draft:
    """A small picture as a screen shows it, sRGB and opacity uint8 (h, w, 4), the size it stands for in px; of a
    panorama its projection, why that, and px per unit of its plane.
    """

    width: int
    height: int
    pixels: NDArray[np.uint8]
    projection: str = ""
    reason: str = ""
    px_per_unit: float = 1000.0
