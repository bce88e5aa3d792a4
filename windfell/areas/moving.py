"""Areas that are moved on their ground."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.recipe.areas import Area, Ellipse, Found, Gradient, Grown, Part, Patch, Point, Stroke

Array = NDArray[np.float64]
Move = Callable[[Array], Array]


def may_move(area: Area) -> bool:
    """Whether all of an area can be moved: masks that were found lie where they were found."""
    return not any(isinstance(p, Found) for p in area.parts)


def moved_area(area: Area, move: Move) -> Area:
    """An area whose points (n, 2), as the recipe has them, are moved. What it reads of the picture it reads there; a
    mask that was found stays.
    """
    return replace(area, parts=tuple(_moved_part(p, move) for p in area.parts))


def moved_points(points: tuple[Point, ...], move: Move) -> tuple[Point, ...]:
    if not points:
        return ()
    return tuple((round(float(a), 5), round(float(b), 5)) for a, b in move(np.array(points, float)))


def _moved_part(part: Part, move: Move) -> Part:
    if isinstance(part, Stroke):
        return replace(part, points=moved_points(part.points, move))
    if isinstance(part, Patch):
        return replace(part, corners=moved_points(part.corners, move))
    if isinstance(part, Gradient):
        start, end = moved_points((part.start, part.end), move)
        return replace(part, start=start, end=end)
    if isinstance(part, Ellipse):
        return replace(part, middle=moved_points((part.middle,), move)[0])
    if isinstance(part, Grown):
        return replace(part, inside=tuple(moved_points(s, move) for s in part.inside),
                       outside=tuple(moved_points(s, move) for s in part.outside))
    return part
