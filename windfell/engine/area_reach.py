"""How far areas reach, told from their parts alone, so that nothing is painted where they surely are not."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.areas.spots import Ground
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Ellipse, Grown, Patch, Stroke
from windfell.shape.canvas import Canvas

Array = NDArray[np.float64]

CELL = 32


def runs_of(area: Area) -> list[tuple[Array, float]] | None:
    """Of each part its points (n, 2) and how far from them, or from between them, it reaches at most, in the ground's
    own lengths; None for an area that may reach anywhere.
    """
    more = abs(area.grow) + 1.5 * area.feather
    found = []
    for part in area.parts:
        if isinstance(part, Stroke | Grown):
            lines = [part.points] if isinstance(part, Stroke) else part.inside
            points, reach = [p for line in lines for p in line], part.size
        elif isinstance(part, Patch):
            points, reach = part.corners, part.softness
        elif isinstance(part, Ellipse):
            points, reach = [part.middle], max(part.across, part.down) / 2
        else:
            return None
        if len(points):
            found.append((np.array(points, float).reshape(-1, 2), reach + more))
    return found if found and not area.inverted else None


def extent_of(area: Area) -> tuple[Array, Array] | None:
    """The corners (2,), (2,) of what an area's parts reach, px; None for one that may reach anywhere."""
    runs = runs_of(area)
    if runs is None:
        return None
    return (np.min([points.min(axis=0) - reach for points, reach in runs], axis=0),
            np.max([points.max(axis=0) + reach for points, reach in runs], axis=0))


def may_reach(area: Area, ground: Ground, canvas: Canvas, region: Region) -> bool:
    """Whether an area may hold anywhere in a region of a canvas; where that is not plain, it may."""
    runs = runs_of(area)
    if runs is None:
        return True
    x, y = (np.linspace(-0.5, n - 0.5, -(-n // CELL) + 1) for n in (region.width, region.height))
    rays = canvas.rays(np.stack(np.meshgrid(x + region.left, y + region.top), -1))
    at = ground.of_rays(rays)
    if not np.isfinite(at).all():
        return True
    cell = np.hypot(*(np.linalg.norm(np.diff(at, axis=axis), axis=2).max() for axis in (0, 1)))
    for points, reach in runs:
        spots = ground.points(points)
        middle = spots.mean(axis=0)
        far = np.linalg.norm(spots - middle, axis=1).max() + reach * ground.unit + cell
        if np.linalg.norm(at - middle, axis=2).min() <= far:
            return True
    return False
