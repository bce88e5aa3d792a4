"""Directions as longitude and latitude in degrees, up positive, as recipes hold them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.projections import PROJECTIONS

Array = NDArray[np.float64]


def rays_of(degrees: Sequence[tuple[float, float]] | Array) -> Array:
    """Unit rays (n, 3) of (longitude, latitude), (n, 2)."""
    plane = np.radians(np.array(degrees, float).reshape(-1, 2)) * [1.0, -1.0]
    return PROJECTIONS["equirectangular"].backward(plane)


def degrees_of(rays: Array) -> Array:
    """(longitude, latitude), (n, 2), of rays (n, 3)."""
    return np.degrees(PROJECTIONS["equirectangular"].forward(rays)) * [1.0, -1.0]
