"""The net: a few nodes over the picture, moved by hand, smooth between them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.mesh import Bounds, Lattice
from windfell.recipe.outline import NetPoint

COLUMNS, ROWS = 9, 5


def net_lattice(net: Sequence[NetPoint], bounds: Bounds, cells: tuple[int, int]) -> NDArray[np.float64] | None:
    """The drift that the net asks for as coefficients (rows, columns, 2) of a spline of so many cells (across, down)
    over the bounds; None where no node is moved.
    """
    if not any(p.right_pct or p.down_pct for p in net):
        return None
    moved = np.zeros((ROWS, COLUMNS, 2))
    for p in net:
        moved[p.row, p.column] = p.right_pct / 100 * bounds.width, p.down_pct / 100 * bounds.height
    coarse = Lattice.through(moved, bounds)
    across, down = cells
    x = np.linspace(bounds.left, bounds.right, across + 1)
    y = np.linspace(bounds.top, bounds.bottom, down + 1)
    return Lattice.through(coarse.at(np.stack(np.meshgrid(x, y), -1)), bounds).coefficients
