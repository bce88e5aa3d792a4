"""How unevenly a projection draws: the greatest local scale against that of its middle."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from windfell.shape.canvas import Canvas

Array = NDArray[np.float64]

STEP = 1e-4


def slopes_on_sphere(place: Callable[[Array], Array], rays: Array, up: Array) -> Array:
    """The derivative (n, 2, 2) of a map from rays (n, 3) to places, along two directions square to each ray and each
    other; `up` tells which, and lies along none of the rays.
    """
    across = np.cross(rays, up)
    across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-9)
    here = place(rays)
    return np.stack([(place(rays + STEP * way) - here) / STEP for way in (across, np.cross(rays, across))], -1)


def most_stretch(canvas: Canvas, rays: Array) -> float:
    """The largest area scale (as a length ratio) at world rays (n, 3) over what is covered, 1 at the canvas's middle.

    From the derivative of the projection along two directions at each ray (Tissot's
    indicatrix; Snyder 1987, p. 20).
    """
    pixels = canvas.pixels(rays)
    inside = np.isfinite(pixels).all(axis=1)
    inside &= (pixels >= -0.5).all(axis=1) & (pixels <= [canvas.width, canvas.height]).all(axis=1)
    rays = rays[inside]
    if not len(rays):
        return 1.0
    area = np.abs(np.linalg.det(slopes_on_sphere(canvas.pixels, rays, canvas.rotation @ np.array([0.0, 1.0, 1e-3]))))
    area = area[np.isfinite(area) & (area < 1e3 * canvas.px_per_unit**2)]
    return float(np.sqrt(area.max(initial=0.0)) / canvas.px_per_unit)
