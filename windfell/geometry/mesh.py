"""A mesh: a plane bent smoothly within bounds, both ways."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later

ndimage = Later("scipy.ndimage")

Array = NDArray[np.float64]

INVERTING, FINE = 12, 1e-8
WRAPPED = 12


@dataclass(frozen=True)
class Bounds:
    """A rectangle of a plane; y grows downward."""

    left: float
    top: float
    right: float
    bottom: float

    @property
    def width(self) -> float:
        return self.right - self.left

    @property
    def height(self) -> float:
        return self.bottom - self.top


@dataclass(frozen=True, eq=False, repr=False)
class Lattice:
    """Two smooth functions over bounds: uniform bicubic B-splines (de Boor 1978) with coefficients (rows, columns,
    2), at least 4 x 4, one rim of them outside the bounds. Beyond the bounds each is as at their edge; with `period`,
    x repeats after so much.
    """

    bounds: Bounds
    coefficients: Array
    period: float | None = None

    def __repr__(self) -> str:
        """All that it is made of, so that results can be kept by it: large arrays shorten their own words."""
        digest = hashlib.sha256(np.ascontiguousarray(self.coefficients)).hexdigest()[:24]
        return f"Lattice({self.bounds}, {self.coefficients.shape}, {digest}, {self.period})"

    @property
    def cells(self) -> tuple[int, int]:
        """How many (across, down) lie between the knots."""
        return self.coefficients.shape[1] - 3, self.coefficients.shape[0] - 3

    def at(self, plane: Array) -> Array:
        """The values (..., 2) at spots (..., 2) of the plane; NaN for what is not finite."""
        flat = np.asarray(plane, float).reshape(-1, 2)
        x, y = flat[:, 0], flat[:, 1]
        if self.period is not None:
            middle = (self.bounds.left + self.bounds.right) / 2
            with np.errstate(invalid="ignore"):
                x = x - self.period * np.round((x - middle) / self.period)
        nx, ny = self.cells
        with np.errstate(invalid="ignore"):
            column = np.clip((x - self.bounds.left) / self.bounds.width, 0, 1) * nx + 1
            row = np.clip((y - self.bounds.top) / self.bounds.height, 0, 1) * ny + 1
        lost = ~(np.isfinite(x) & np.isfinite(y))
        where = np.stack([np.where(lost, 1.0, row), np.where(lost, 1.0, column)])
        values = np.stack([
            ndimage.map_coordinates(c, where, order=3, prefilter=False, mode="nearest")
            for c in self._parts], -1)
        values[lost] = np.nan
        return values.reshape(np.shape(plane))

    @cached_property
    def _parts(self) -> tuple[Array, Array]:
        return tuple(np.ascontiguousarray(self.coefficients[..., c]) for c in (0, 1))

    @classmethod
    def through(cls, values: Array, bounds: Bounds, period: float | None = None) -> Lattice:
        """The one that has these values (rows, columns, 2) at spots spread evenly, edges included."""
        inner = np.stack([ndimage.spline_filter(values[..., c], 3, mode="mirror") for c in (0, 1)], -1)
        return cls(bounds, np.pad(inner, ((1, 1), (1, 1), (0, 0)), mode="reflect"), period)


@dataclass(frozen=True, eq=False)
class Mesh:
    """How a plane is bent: `forth` says how far its spots go, `back` whence those of the bent plane came."""

    forth: Lattice
    back: Lattice

    def forward(self, plane: Array) -> Array:
        """Where spots (..., 2) of the plane lie on the bent one."""
        return plane + self.forth.at(plane)

    def backward(self, plane: Array) -> Array:
        """The spots (..., 2) that lie here on the bent plane."""
        return plane + self.back.at(plane)

    def astray(self, plane: Array) -> float:
        """How far at most a spot (n, 2) of the plane lies from where it comes to there and back."""
        return float(np.linalg.norm(self.backward(self.forward(plane)) - plane, axis=-1).max(initial=0.0))

    @property
    def most(self) -> float:
        """A bound of how far a spot goes."""
        return float(np.abs(self.forth.coefficients).max(initial=0.0)) * np.sqrt(2)

    @classmethod
    def of(cls, forth: Lattice, within: Bounds, across: int, down: int, sure: Bounds | None = None) -> Mesh:
        """The mesh of a drift without folds; its way back held at across x down spots of the bent plane `within`.

        `sure`: beyond these bounds it may fold; there the way back goes on as it leaves them.
        """
        rim = WRAPPED if forth.period is not None else 0
        step = within.width / (across - 1)
        x = np.linspace(within.left - rim * step, within.right + rim * step, across + 2 * rim)
        y = np.linspace(within.top, within.bottom, down)
        spots = np.stack(np.meshgrid(x, y), -1)
        held = Bounds(float(x[0]), within.top, float(x[-1]), within.bottom)
        last = spots
        if sure is not None:
            free = np.inf if forth.period is not None else 0.0
            last = np.clip(spots, (sure.left - free, sure.top), (sure.right + free, sure.bottom))
        way = inverse(forth, last) - last
        beyond = (spots != last).any(axis=-1)
        if beyond.any():
            way[beyond] += _going_on(forth, (last + way)[beyond], (spots - last)[beyond])
        return cls(forth, Lattice.through(way, held, forth.period))


def _going_on(forth: Lattice, plane: Array, beyond: Array) -> Array:
    """How the way back to spots (n, 2) of the plane changes so far beyond (n, 2) them on the bent one, if it goes
    straight on.
    """
    return np.linalg.solve(slopes(forth, plane), beyond[..., None])[..., 0] - beyond


def slopes(forth: Lattice, plane: Array) -> Array:
    """The derivative (..., 2, 2) of the bent plane by the plane at spots of it: rows x', y', columns by x, by y."""
    step = 1e-5 * max(forth.bounds.width, forth.bounds.height)
    out = np.empty((*plane.shape[:-1], 2, 2))
    for n, way in enumerate(np.eye(2) * step):
        out[..., n] = (forth.at(plane + way) - forth.at(plane - way)) / (2 * step)
    return out + np.eye(2)


def inverse(forth: Lattice, bent: Array) -> Array:
    """The spots (..., 2) that a drift takes to `bent`: a fixed point, hastened by the drift's slope (Newton)."""
    found = bent - forth.at(bent)
    size = max(forth.bounds.width, forth.bounds.height)
    step = 1e-6 * size
    cell = forth.bounds.width / forth.cells[0]
    for turn in range(INVERTING):
        here = forth.at(found)
        off = found + here - bent
        if np.abs(off).max(initial=0.0) < FINE * size:
            break
        if turn in (0, 2, 5):
            dx = (forth.at(found + [step, 0.0]) - here) / step
            dy = (forth.at(found + [0.0, step]) - here) / step
            a, b, c, d = 1 + dx[..., 0], dy[..., 0], dx[..., 1], 1 + dy[..., 1]
            det = a * d - b * c
            # where the slope says little, the plain step
            safe = det > 0.05
            det = np.where(safe, det, 1.0)
        move = np.stack([(d * off[..., 0] - b * off[..., 1]) / det, (a * off[..., 1] - c * off[..., 0]) / det], -1)
        # where it folds there is no telling: nowhere is gone farther than a cell at once
        found = found - np.clip(np.where(safe[..., None], move, off), -cell, cell)
    return found
