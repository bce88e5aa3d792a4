"""What a real lens does to an ideal picture, as tables over the radius."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.fisheye import from_flat, to_flat

Array = NDArray[np.float64]

NODES = 384
REACH = 1.25
MATCHED_FLAT = 1.4


@dataclass(frozen=True)
class Optics:
    """Radial tables; radii count from the principal point, 1 at half the frame's diagonal.

    `bend[n]` is the frame's radius of the ideal radius REACH * n / (NODES - 1); empty for
    none. `red` and `blue` are those colours' size against green at the frame's radius,
    `light` the share of light kept there, on the same steps; empty for none. `mapping` names a
    fisheye's of the given `focal` length in half diagonals: it comes before the bend.
    """

    bend: tuple[float, ...] = ()
    red: tuple[float, ...] = ()
    blue: tuple[float, ...] = ()
    light: tuple[float, ...] = ()
    mapping: str = ""
    focal: float = 0.0

    @property
    def bends(self) -> bool:
        return bool(self.bend) or bool(self.mapping)

    @property
    def fringes(self) -> bool:
        return bool(self.red) or bool(self.blue)

    def seen(self, points: Array, centre: Array, half_diagonal: float) -> Array:
        """Frame px (..., 2) of ideal px; NaN beyond the table."""
        if self.mapping:
            unit = self.focal * half_diagonal
            points = _radially(points, centre, unit, lambda r: from_flat(self.mapping, r))
        return self._scaled(points, centre, half_diagonal, self.bend, outward=True)

    def ideal(self, points: Array, centre: Array, half_diagonal: float) -> Array:
        """Ideal px (..., 2) of frame px; beyond the table as at its end."""
        found = self._scaled(points, centre, half_diagonal, self.bend, outward=False)
        if self.mapping:
            unit = self.focal * half_diagonal
            found = _radially(found, centre, unit, lambda r: to_flat(self.mapping, r))
        return found

    def in_reach(self, ideal: Array, centre: Array, half_diagonal: float) -> NDArray[np.bool_]:
        """Which ideal px (..., 2) lie near enough to the axis to be matched as on a flat view."""
        if not self.mapping:
            return np.ones(ideal.shape[:-1], bool)
        return np.linalg.norm(ideal - centre, axis=-1) < MATCHED_FLAT * self.focal * half_diagonal

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


def _radially(points: Array, centre: Array, unit: float, change) -> Array:
    """Points moved along their radius, which counts in `unit` px."""
    off = np.asarray(points, float) - centre
    r = np.linalg.norm(off, axis=-1) / unit
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = np.where(r > 1e-9, change(r) / np.where(r > 1e-9, r, 1.0), 1.0)
    return centre + off * ratio[..., None]


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
