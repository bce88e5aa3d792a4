"""What a real lens does to an ideal picture, as tables over the radius."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

NODES = 384
REACH = 1.25


@dataclass(frozen=True)
class Optics:
    """Radial tables; radii count from the principal point, 1 at half the frame's diagonal.

    `bend[n]` is the frame's radius of the ideal radius REACH * n / (NODES - 1); empty for
    none. `red` and `blue` are those colours' size against green at the frame's radius,
    `light` the share of light kept there, on the same steps; empty for none.
    """

    bend: tuple[float, ...] = ()
    red: tuple[float, ...] = ()
    blue: tuple[float, ...] = ()
    light: tuple[float, ...] = ()

    @property
    def bends(self) -> bool:
        return bool(self.bend)

    @property
    def fringes(self) -> bool:
        return bool(self.red) or bool(self.blue)

    def seen(self, points: Array, centre: Array, half_diagonal: float) -> Array:
        """Frame px (..., 2) of ideal px; NaN beyond the table."""
        return self._scaled(points, centre, half_diagonal, self.bend, outward=True)

    def ideal(self, points: Array, centre: Array, half_diagonal: float) -> Array:
        """Ideal px (..., 2) of frame px; beyond the table as at its end."""
        return self._scaled(points, centre, half_diagonal, self.bend, outward=False)

    def _scaled(self, points, centre, half_diagonal, table, outward: bool) -> Array:
        if not table:
            return np.asarray(points, float)
        off = np.asarray(points, float) - centre
        r = np.sqrt(np.sum(off * off, axis=-1)) / half_diagonal
        steps, bent = radii(), _array(table)
        if outward:
            found = np.interp(r, steps, bent, right=np.nan)
        else:
            top = _monotone_to(table)
            found = np.interp(r, bent[:top], steps[:top])
        near = bent[1] / steps[1] if outward else steps[1] / bent[1]
        with np.errstate(invalid="ignore", divide="ignore"):
            ratio = np.where(r > 1e-9, found / np.where(r > 1e-9, r, 1.0), near)
        return centre + off * ratio[..., None]

    def shifted(self, points: Array, centre: Array, half_diagonal: float, colour: str) -> Array:
        """Where a colour ("red" or "blue") of the light at green's frame px (..., 2) lies."""
        table = getattr(self, colour)
        if not table:
            return points
        off = points - centre
        r = np.sqrt(np.sum(off * off, axis=-1)) / half_diagonal
        return centre + off * np.interp(r, radii(), _array(table))[..., None]

    def light_kept(self, radius: Array) -> Array:
        """The share of light kept at frame radii (...)."""
        return np.ones_like(radius) if not self.light else np.interp(radius, radii(), _array(self.light))


@lru_cache(maxsize=1)
def radii() -> Array:
    """The tables' radii, (NODES,)."""
    return np.linspace(0.0, REACH, NODES)


@lru_cache(maxsize=128)
def _array(table: tuple[float, ...]) -> Array:
    return np.array(table)


@lru_cache(maxsize=128)
def _monotone_to(table: tuple[float, ...]) -> int:
    """How many leading values rise: beyond, a barrel lens folds back."""
    falling = np.flatnonzero(np.diff(_array(table)) <= 0)
    return int(falling[0]) + 1 if len(falling) else len(table)


def tabled(function) -> tuple[float, ...]:
    """A function of the radii as a table."""
    return tuple(float(v) for v in function(radii()))
