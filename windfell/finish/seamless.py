"""Pieces taken from elsewhere without a step between them or along their rim (Perez, Gangnet & Blake 2003)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later

sparse = Later("scipy.sparse")
linalg = Later("scipy.sparse.linalg")

F32 = NDArray[np.float32]
STEPS = ((0, 1), (1, 0))


def seamless(picture: F32, hole: NDArray[np.bool_], taken: F32) -> F32:
    """The picture (h, w, c) whose hole has the slopes of what each of its px is taken from (`taken` (h, w, 2): px, x
    and y), and what is known around it at its rim. Slopes between two px that come from different places are the mean
    of what both say.
    """
    h, w = hole.shape
    count = int(hole.sum())
    if not count:
        return picture
    number = np.full((h, w), -1, np.int64)
    number[hole] = np.arange(count)
    tx, ty = (np.clip(np.rint(taken[..., c]).astype(np.int64), 0, n - 1) for c, n in ((0, w), (1, h)))

    def slope(y: NDArray, x: NDArray, dy: int, dx: int) -> NDArray:
        """What the place that px (y, x) come from says of the step to (y + dy, x + dx)."""
        sy, sx = ty[y, x], tx[y, x]
        return picture[np.clip(sy + dy, 0, h - 1), np.clip(sx + dx, 0, w - 1)] - picture[sy, sx]

    rows, columns, values = [], [], []
    right = np.zeros((count, picture.shape[2]))
    degree = np.zeros(count)
    for dy, dx in STEPS:
        ay, ax = (v.ravel() for v in np.mgrid[0 : h - dy, 0 : w - dx])
        by, bx = ay + dy, ax + dx
        some = hole[ay, ax] | hole[by, bx]
        ay, ax, by, bx = ay[some], ax[some], by[some], bx[some]
        in_a, in_b = hole[ay, ax], hole[by, bx]
        said = np.zeros((len(ay), picture.shape[2]))
        said[in_a] += slope(ay[in_a], ax[in_a], dy, dx)
        said[in_b] -= slope(by[in_b], bx[in_b], -dy, -dx)
        said /= (in_a.astype(float) + in_b)[:, None]
        na, nb = number[ay, ax], number[by, bx]
        both = in_a & in_b
        rows += [na[both], nb[both]]
        columns += [nb[both], na[both]]
        values += [np.full(int(both.sum()), -1.0)] * 2
        # of a px: its neighbour less the step to it, or more
        np.add.at(degree, na[in_a], 1)
        np.add.at(degree, nb[in_b], 1)
        np.add.at(right, na[in_a], -said[in_a])
        np.add.at(right, nb[in_b], said[in_b])
        rim_a, rim_b = in_a & ~in_b, in_b & ~in_a
        np.add.at(right, na[rim_a], picture[by[rim_a], bx[rim_a]].astype(float))
        np.add.at(right, nb[rim_b], picture[ay[rim_b], ax[rim_b]].astype(float))
    rows.append(np.arange(count))
    columns.append(np.arange(count))
    # a piece that touches nothing known stays as it was, by the slightest pull
    values.append(degree + 1e-6)
    right += 1e-6 * picture[hole]
    matrix = sparse.csc_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))),
                               shape=(count, count))
    found = linalg.splu(matrix).solve(right)
    out = picture.copy()
    out[hole] = found
    return out
