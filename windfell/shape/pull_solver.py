"""The least squares of a pull: form kept, sides brought to their line, edges held; solved once for each side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.shape.pull import CELLS, Pull, Task
from windfell.shape.sides import NAMES

sparse = Later("scipy.sparse")
dense = Later("scipy.linalg")

Array = NDArray[np.float64]

FORM, UPSIZE, TURN, CURVE = 1.0, 0.35, 1.2, 0.3
OUTSIDE = 0.03
SIDE = 4e4
BEND = 30000.0
STIFF = 150.0
LEAST_DOWN = 24


def solved(task: Task) -> Pull:
    """The pull of a task."""
    return _Solver(task).solve()


@dataclass(frozen=True, eq=False)
class _Terms:
    """Sums of coefficients: for each of n rows 16 of them, by number (n, 16), and what each counts (n, 16)."""

    index: NDArray[np.intp]
    weight: Array

    def times(self, factor: Array) -> _Terms:
        """Each row times its factor (n,)."""
        return _Terms(self.index, self.weight * factor[:, None])

    def __add__(self, other: _Terms) -> _Terms:
        """Row by row, of terms of the same spots."""
        return _Terms(self.index, self.weight + other.weight)


class _Solver:
    """The rows of the least squares; lengths in units of the plane's root area."""

    def __init__(self, task: Task) -> None:
        self.task = task
        b = task.bounds
        # a long strip is not to be left with few cells across it
        least = LEAST_DOWN**2 * max(b.width, b.height) / min(b.width, b.height) * task.cells / CELLS
        side = np.sqrt(b.width * b.height / max(task.cells, least))
        self.nx, self.ny = max(4, round(b.width / side)), max(4, round(b.height / side))
        self.unit = float(np.sqrt(b.width * b.height))
        self.columns = self.nx if task.closed else self.nx + 3
        self.count = self.columns * (self.ny + 3)
        self.own: list = []
        self.beside: list = []
        self.right: list[Array] = []
        self.extra = 0

    def _basis(self, spots: Array, dx: int = 0, dy: int = 0) -> _Terms:
        """What makes a drift, or its slope, at spots of the plane."""
        b = self.task.bounds
        u = (spots[:, 0] - b.left) / b.width * self.nx
        u = u % self.nx if self.task.closed else np.clip(u, 0, self.nx)
        v = np.clip((spots[:, 1] - b.top) / b.height, 0, 1) * self.ny
        ix, wx = _along(u, self.nx, dx)
        iy, wy = _along(v, self.ny, dy)
        wx, wy = wx * (self.nx / b.width * self.unit) ** dx, wy * (self.ny / b.height * self.unit) ** dy
        if self.task.closed:
            ix = ix % self.columns
        index = (iy[:, :, None] * self.columns + ix[:, None, :]).reshape(len(spots), 16)
        return _Terms(index, (wy[:, :, None] * wx[:, None, :]).reshape(len(spots), 16))

    def _add(self, u: _Terms | None, v: _Terms | None, weight: Array, right: Array | None = None,
             beside: tuple[NDArray[np.intp], Array] | None = None) -> None:
        """Rows u of the drift across + v of the drift down + beside = right, each counting by its weight.

        `right` (n, 5) for the five drifts; `beside`: numbers and weights, (n, k) each, of unknowns of their own.
        """
        n, root = len(weight), np.sqrt(weight)[:, None]
        index, value = np.zeros((n, 0), np.intp), np.zeros((n, 0))
        for terms, first in ((u, 0), (v, self.count)):
            if terms is not None:
                index = np.hstack([index, terms.index + first])
                value = np.hstack([value, terms.weight * root])
        self.own.append((index, value))
        self.beside.append((np.zeros((n, 0), np.intp), np.zeros((n, 0))) if beside is None else
                           (beside[0], beside[1] * root))
        self.right.append(np.zeros((n, 5)) if right is None else right * root)

    def _form(self) -> None:
        """Form, size and direction are kept, less so where nothing is to be seen."""
        b = self.task.bounds
        x = b.left + (np.arange(2 * self.nx) + 0.5) * b.width / (2 * self.nx)
        y = b.top + (np.arange(2 * self.ny) + 0.5) * b.height / (2 * self.ny)
        spots = np.stack(np.meshgrid(x, y), -1).reshape(-1, 2)
        seen = self._read(self.task.covered.astype(np.float32), spots)
        area = np.full(len(spots), 1.0 / len(spots))
        weight = area * (OUTSIDE + (1 - OUTSIDE) * seen)
        if self.task.stiff is not None:
            weight = weight * (1 + STIFF * self._read(self.task.stiff, spots))
        ux, uy = self._basis(spots, 1, 0), self._basis(spots, 0, 1)
        self._add(ux, uy.times(-np.ones(len(spots))), weight * FORM)
        self._add(uy, ux, weight * FORM)
        self._add(ux, uy, weight * UPSIZE)
        # horizontals stay level and verticals upright: each direction of turning by itself
        self._add(None, ux, weight * TURN)
        self._add(uy, None, weight * TURN)
        cell = (b.width / self.nx / self.unit) ** 2
        for order in ((2, 0), (1, 1), (0, 2)):
            second = self._basis(spots, *order)
            w = area * CURVE * cell * (2 if order == (1, 1) else 1)
            self._add(second, None, w)
            self._add(None, second, w)

    def _read(self, values: Array, spots: Array) -> Array:
        b = self.task.bounds
        h, w = values.shape
        x = np.clip(((spots[:, 0] - b.left) / b.width * w).astype(int), 0, w - 1)
        y = np.clip(((spots[:, 1] - b.top) / b.height * h).astype(int), 0, h - 1)
        return values[y, x]

    def _sides(self) -> None:
        """Every spot of a side comes to one height, or one place across, which is free."""
        for n, (name, spots) in enumerate(zip(NAMES, self.task.sides, strict=True)):
            if not len(spots):
                continue
            axis = 1 if name in ("top", "bottom") else 0
            value = self._basis(spots)
            step = np.linalg.norm(np.gradient(spots, axis=0), axis=1) / self.unit
            right = np.zeros((len(spots), 5))
            right[:, n] = -(spots[:, axis] - spots[:, axis].mean()) / self.unit
            beside = np.full((len(spots), 1), self.extra), -np.ones((len(spots), 1))
            self._add(*((None, value) if axis else (value, None)), SIDE * step, right, beside)
            self.extra += 1

    def _lines(self) -> None:
        """Lines keep their form, or get the one asked for; where and how far turned, is free, or costs."""
        lines = [h for h in self.task.held if h.length > 1e-9]
        if not lines:
            return
        spots, normals = (np.concatenate([getattr(h, name) for h in lines]) for name in ("spots", "normals"))
        counts = np.array([len(h.spots) for h in lines])
        number = np.repeat(np.arange(len(lines)), counts)
        long = np.array([h.length for h in lines]) / self.unit
        t = np.concatenate([np.linspace(-0.5, 0.5, n) for n in counts]) * long[number]
        right = np.zeros((len(spots), 5))
        right[:, 4] = np.concatenate([
            np.zeros(len(h.spots)) if h.asked is None else h.asked / self.unit for h in lines])
        value = self._basis(spots)
        first = self.extra + 2 * number
        beside = np.stack([first, first + 1], -1), -np.stack([np.ones_like(t), t], -1)
        strength = np.array([h.strength for h in lines]) / counts / long
        self._add(value.times(normals[:, 0]), value.times(normals[:, 1]), BEND * strength[number], right, beside)
        rigid = (np.array([h.rigid for h in lines]) * long / counts)[number]
        some = rigid > 0
        if some.any():
            across, down = normals[some].T
            ux, uy = self._basis(spots[some], 1, 0), self._basis(spots[some], 0, 1)
            slope = ux.times(down) + uy.times(-across)
            self._add(slope.times(across), slope.times(down), rigid[some])
        turned = [n for n, h in enumerate(lines) if h.turn > 0]
        if turned:
            at = self.extra + 2 * np.array(turned)[:, None] + 1
            weight = np.array([lines[n].turn * long[n] for n in turned])
            self._add(None, None, weight, None, (at, np.ones((len(turned), 1))))
        self.extra += 2 * len(lines)

    def solve(self) -> Pull:
        self._form()
        self._sides()
        self._lines()
        order = self._order()
        place = np.empty_like(order)
        place[order] = np.arange(len(order))
        matrix = _rows([(place[i], w) for i, w in self.own], 2 * self.count)
        found = _arrow(matrix, _rows(self.beside, max(1, self.extra)), np.concatenate(self.right))
        drift = found[place].reshape(2, self.ny + 3, self.columns, 5) * self.unit
        drift = np.moveaxis(drift, (3, 1, 2, 0), (0, 1, 2, 3))
        if self.task.closed:
            drift = drift[:, :, np.arange(self.nx + 3) % self.nx]
        return Pull(self.task, np.ascontiguousarray(drift))

    def _order(self) -> NDArray[np.intp]:
        """The coefficients in an order in which those that meet lie near each other: along the longer side; around a
        ring from both ends at once.
        """
        across = np.arange(self.columns)
        if self.task.closed:
            half = (self.columns + 1) // 2
            across = np.stack([across[:half], across[::-1][:half]], -1).ravel()[: self.columns]
        index = np.arange(self.count).reshape(self.ny + 3, self.columns)[:, across]
        one = index.T.ravel() if self.columns >= self.ny + 3 else index.ravel()
        return np.stack([one, one + self.count], -1).ravel()


def _rows(parts: Sequence[tuple[NDArray[np.intp], Array]], columns: int):
    """The sparse matrix of rows given by numbers and weights, (n, k) each."""
    counts = np.concatenate([np.full(len(i), i.shape[1]) for i, _ in parts])
    starts = np.concatenate([[0], np.cumsum(counts)])
    index, value = (np.concatenate([p[k].ravel() for p in parts]) for k in (0, 1))
    return sparse.csr_matrix((value, index, starts), shape=(len(counts), columns))


def _arrow(matrix, wide, right: Array) -> Array:
    """The least squares' answer (n, k) of rows whose own unknowns meet only near ones, beside few that meet all:
    banded Cholesky, the others eliminated (Schur complement).
    """
    band = (matrix.T @ matrix).tocoo()
    reach = int((band.row - band.col).max())
    n = matrix.shape[1]
    held = np.zeros((reach + 1, n))
    lower = band.row >= band.col
    held[band.row[lower] - band.col[lower], band.col[lower]] = band.data[lower]
    held[0] += 1e-9
    factor = dense.cholesky_banded(held, overwrite_ab=True, lower=True, check_finite=False)
    cross = (matrix.T @ wide).toarray()
    both = dense.cho_solve_banded((factor, True), np.hstack([matrix.T @ right, cross]), check_finite=False)
    k = right.shape[1]
    plain, bent = both[:, :k], both[:, k:]
    corner = (wide.T @ wide).toarray() - cross.T @ bent + 1e-9 * np.eye(wide.shape[1])
    others = np.linalg.solve(corner, wide.T @ right - cross.T @ plain)
    return plain - bent @ others


def _along(place: Array, count: int, order: int) -> tuple[NDArray[np.intp], Array]:
    """(index, weight), each (n, 4), of a uniform cubic B-spline at places 0..count, or of its derivative."""
    first = np.minimum(place.astype(int), count - 1)
    t = place - first
    if order == 0:
        parts = [(1 - t) ** 3, 3 * t**3 - 6 * t**2 + 4, -3 * t**3 + 3 * t**2 + 3 * t + 1, t**3]
    elif order == 1:
        parts = [-3 * (1 - t) ** 2, 9 * t**2 - 12 * t, -9 * t**2 + 6 * t + 3, 3 * t**2]
    else:
        parts = [6 * (1 - t), 18 * t - 12, -18 * t + 6, 6 * t]
    return first[:, None] + np.arange(4), np.stack(parts, axis=-1) / 6
