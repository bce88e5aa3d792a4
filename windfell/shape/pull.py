"""The outline pulled to its rectangle: the plane bent as little as possible until its four sides are straight.

A drift of the plane is sought that brings every spot of a side to one height (or one place across), at the least cost
of form, with straight edges kept straight, upright ones upright and the horizon level: weighted least squares over
the coefficients of a bicubic B-spline (rectangling by warping, He, Chang & Sun 2013, with a smooth spline in place of
their quads, a free rectangle, and edges held one by one). All terms are linear in the drift, so that what each side
asks for is worked out once and any amounts of the four are their sum.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.mesh import Bounds, Lattice, Mesh
from windfell.later import Later
from windfell.shape.held import Held
from windfell.shape.sides import NAMES

sparse = Later("scipy.sparse")
dense = Later("scipy.linalg")

Array = NDArray[np.float64]

CELLS, DRAFT_CELLS = 2400, 400
FORM, UPSIZE, TURN, CURVE = 1.0, 0.35, 1.2, 0.3
OUTSIDE = 0.03
SIDE = 4e4
BEND = 2000.0
STIFF = 150.0
LEAST_AREA = 0.2
WAY_BACK, DRAFT_BACK = 2, 64
RIM = 0.01
SEEN = 3000
LEAST_DOWN = 24


@dataclass(frozen=True, eq=False)
class Task:
    """What is to be bent: the plane's bounds, its four sides (`Sides.each`, in plane units, empty ones are let be),
    what is covered (h, w) over the bounds, lines that are held, and where it must stay stiff (h, w, 0..1).
    `rim`: whether half a px of what is covered is left out at the edges.
    """

    bounds: Bounds
    sides: Sequence[Array]
    covered: NDArray[np.bool_]
    held: Sequence[Held] = ()
    stiff: NDArray[np.float32] | None = None
    closed: bool = False
    cells: int = CELLS
    rim: bool = True


@dataclass(frozen=True, eq=False)
class Pull:
    """What each side asks for, as drifts that add up, and what the lines ask for.

    `drifts` (5, rows, columns, 2): top, right, bottom, left, lines. `sides` as in the task.
    """

    task: Task
    drifts: Array

    @property
    def nbytes(self) -> int:
        return self.drifts.nbytes

    def forth(self, amounts: Sequence[float], net: Array | None = None) -> Lattice:
        """The drift for amounts (0..1) of top, right, bottom and left, never so far that it folds.

        `net`: a drift (rows, columns, 2) made by hand that comes on top.
        """
        weights = np.array([*amounts, 1.0])
        drift, turn = np.tensordot(weights, self.drifts, 1), np.tensordot(weights, self._turns, 1)
        if net is not None:
            drift = drift + net
            turn = turn + slopes(Lattice(self.task.bounds, net, self._period), self.seen) - np.eye(2)
        return Lattice(self.task.bounds, drift * unfolded_share(turn), self._period)

    @cached_property
    def _turns(self) -> Array:
        """(5, n, 2, 2): the slopes of each drift at the spots that are seen."""
        flat = np.eye(2)
        return np.stack([slopes(Lattice(self.task.bounds, d, self._period), self.seen) - flat for d in self.drifts])

    @property
    def cells(self) -> tuple[int, int]:
        """How many (across, down) lie between the spline's knots."""
        return self.drifts.shape[2] - 3, self.drifts.shape[1] - 3

    @property
    def whole(self) -> bool:
        """Whether the full pull of all sides leaves every spot enough of its area."""
        return unfolded_share(self._turns.sum(0)) == 1.0

    @cached_property
    def seen(self) -> Array:
        """Spots (n, 2) of the plane spread over what is within the sides."""
        b, (h, w) = self.task.bounds, self.task.covered.shape
        step = max(1, int(np.sqrt(h * w / SEEN)))
        y, x = np.nonzero(self.task.covered[::step, ::step])
        return np.stack([b.left + (x * step + 0.5) * b.width / w, b.top + (y * step + 0.5) * b.height / h], -1)

    @property
    def _period(self) -> float | None:
        return self.task.bounds.width if self.task.closed else None

    def mesh(self, amounts: Sequence[float], net: Array | None = None, fine: bool = True) -> tuple[Mesh, Bounds]:
        """The mesh for amounts of the four sides, and the bounds that the bent plane is cut to.

        Its way back is held more coarsely if not `fine`.
        """
        forth = self.forth(amounts, net)
        cut = self._cut(forth, amounts)
        most = max(forth.cells)
        finer = WAY_BACK if fine else min(1.0, DRAFT_BACK / most)
        across, down = (max(8, round(finer * v)) + 1 for v in forth.cells)
        # a little more than is cut, since maps look beyond their region
        rim = RIM * max(cut.width, cut.height)
        aside = 0.0 if self.task.closed else rim
        grown = Bounds(cut.left - aside, cut.top - rim, cut.right + aside, cut.bottom + rim)
        return Mesh.of(forth, grown, across, down), cut

    def _cut(self, forth: Lattice, amounts: Sequence[float]) -> Bounds:
        """From the whole plane's bounds to the rectangle within the bent sides, side by side, by the amounts."""
        whole = self.task.bounds
        edge = self._rim
        bent = edge + forth.at(edge) if len(edge) else edge
        found = {}
        for name, spots, amount in zip(NAMES, self.task.sides, amounts, strict=True):
            axis, first = (1 if name in ("top", "bottom") else 0), name in ("top", "left")
            outer = getattr(whole, name)
            if len(edge):
                # what lay at the bounds may have gone beyond them, or come in
                most = np.min if first else np.max
                outer += float(most(bent[:, axis]) - most(edge[:, axis]))
            if len(spots):
                inner = np.max if first else np.min
                inside = float(inner((spots + forth.at(spots))[:, axis]))
                rim = self._pixel / 2 if self.task.rim else 0.0
                outer = (1 - amount) * outer + amount * (inside + (rim if first else -rim))
            found[name] = outer
        if self.task.closed:
            found["left"], found["right"] = whole.left, whole.right
        return Bounds(found["left"], found["top"], found["right"], found["bottom"])

    @cached_property
    def _rim(self) -> Array:
        """Spots (n, 2) along the edge of what is covered."""
        b, covered = self.task.bounds, self.task.covered
        h, w = covered.shape
        inner = cv2.erode(np.pad(covered, 1).astype(np.uint8), np.ones((3, 3), np.uint8))[1:-1, 1:-1]
        y, x = np.nonzero(covered & (inner == 0))
        return np.stack([b.left + (x + 0.5) * b.width / w, b.top + (y + 0.5) * b.height / h], -1)

    @property
    def _pixel(self) -> float:
        """The side of a px of what is covered, in units of the plane."""
        return self.task.bounds.width / self.task.covered.shape[1]


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


def slopes(forth: Lattice, plane: Array) -> Array:
    """The derivative (..., 2, 2) of the bent plane by the plane at spots of it: rows x', y', columns by x, by y."""
    step = 1e-5 * max(forth.bounds.width, forth.bounds.height)
    out = np.empty((*plane.shape[:-1], 2, 2))
    for n, way in enumerate(np.eye(2) * step):
        out[..., n] = (forth.at(plane + way) - forth.at(plane - way)) / (2 * step)
    return out + np.eye(2)


def unfolded_share(turn: Array) -> float:
    """The largest share of a drift, up to 1, that leaves each spot at least LEAST_AREA of its area, by the drift's
    slopes (n, 2, 2) there.
    """
    # the area as a function of the share s: 1 + s t + s^2 d
    trace, det = turn[..., 0, 0] + turn[..., 1, 1], np.linalg.det(turn)
    share = 1.0
    for _ in range(40):
        if (1 + share * trace + share**2 * det).min(initial=1.0) >= LEAST_AREA:
            return share
        share *= 0.95
    return 0.0
