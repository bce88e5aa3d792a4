"""What every projection is: unit rays to a plane and back."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


class Projection:
    """Rays: float64 (..., 3), unit, x right, y down, z ahead. Plane: float64 (..., 2), y down.

    `half_width` and `half_height` bound the plane that may be drawn; `period` is the
    plane's width after which it repeats, or None. `half_radius`: what lies farther from the middle is not drawn.
    `parameters` are the view's values that it reads, by their field names; `at` gives it those.
    """

    name = ""
    title = ""
    suits = ""
    half_width = np.inf
    half_height = np.inf
    half_radius = np.inf
    period: float | None = None
    parameters: tuple[str, ...] = ()

    def forward(self, rays: Array) -> Array:
        raise NotImplementedError

    def backward(self, plane: Array) -> Array:
        raise NotImplementedError

    def at(self, *values: float) -> Projection:
        """The projection with its parameters set, in their order."""
        return self

    def drawn(self, plane: Array) -> NDArray[np.bool_]:
        """Which spots (...) of the plane belong to the picture."""
        return np.hypot(plane[..., 0], plane[..., 1]) <= self.half_radius
