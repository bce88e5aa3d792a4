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
