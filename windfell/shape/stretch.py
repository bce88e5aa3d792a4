"""How unevenly a projection draws: the greatest local scale against that of its middle."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.geometry.posed import Posed
from windfell.shape.bounds import covered_rays
from windfell.shape.canvas import Canvas

STEP = 1e-4


def most_stretch(canvas: Canvas, frames: Sequence[Posed]) -> float:
    """The largest area scale (as a length ratio) over the frames, 1 at the canvas's middle.

    From the derivative of the projection along two directions at each ray (Tissot's
    indicatrix; Snyder 1987, p. 20).
    """
    rays = covered_rays(frames)
    pixels = canvas.pixels(rays)
    inside = np.isfinite(pixels).all(axis=1)
    inside &= (pixels >= -0.5).all(axis=1) & (pixels <= [canvas.width, canvas.height]).all(axis=1)
    rays = rays[inside]
    if not len(rays):
        return 1.0
    across = np.cross(rays, canvas.rotation @ np.array([0.0, 1.0, 1e-3]))
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    along = np.cross(rays, across)
    here = canvas.pixels(rays)
    dx = (canvas.pixels(rays + STEP * across) - here) / STEP
    dy = (canvas.pixels(rays + STEP * along) - here) / STEP
    area = np.abs(dx[:, 0] * dy[:, 1] - dx[:, 1] * dy[:, 0])
    area = area[np.isfinite(area) & (area < 1e3 * canvas.px_per_unit**2)]
    return float(np.sqrt(area.max(initial=0.0)) / canvas.px_per_unit)
