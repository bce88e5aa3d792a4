"""Where the pixels of a region lie on the ground of a set."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.directions import rays_of
from windfell.pixels.resample import GridMap
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

BLOCK = 16
DEGREE = np.pi / 180


@dataclass(frozen=True)
class Sphere:
    """Directions: points are unit rays (..., 3), lengths chords, about radians."""

    axes = 3
    unit = DEGREE

    def points(self, given: Array) -> Array:
        return rays_of(given)

    def of_rays(self, rays: Array) -> Array:
        return rays


@dataclass(frozen=True)
class Plane:
    """A flat subject: points (x, y) of the plane at distance 1; given in degrees of its middle, up positive."""

    axes = 2
    unit = DEGREE

    def points(self, given: Array) -> Array:
        return np.array(given, float).reshape(-1, 2) * [DEGREE, -DEGREE]

    def of_rays(self, rays: Array) -> Array:
        with np.errstate(divide="ignore", invalid="ignore"):
            flat = rays[..., :2] / rays[..., 2:]
        return np.where(rays[..., 2:] > 1e-9, flat, np.nan)

    def given(self, rays: Array) -> Array:
        """What a recipe holds of rays (n, 3): (n, 2)."""
        return self.of_rays(rays) / [DEGREE, -DEGREE]


@dataclass(frozen=True)
class Pixels:
    """A picture in px at full size."""

    axes = 2
    unit = 1.0

    def points(self, given: Array) -> Array:
        return np.array(given, float).reshape(-1, 2)


Ground = Sphere | Plane | Pixels


@dataclass(frozen=True, eq=False)
class Spots:
    """`at`: float32 (h, w, k), the ground's points of each px, NaN where the region shows nothing of it.

    `px` (h, w) or a number: how long a px is there along its shorter side, in the ground's own lengths; `span`: along
    its longer one.
    """

    ground: Ground
    at: F32
    px: F32 | float
    span: F32 | float

    @property
    def shape(self) -> tuple[int, int]:
        return self.at.shape[:2]

    @cached_property
    def finest(self) -> float:
        """The length of the shortest px, in the ground's own lengths."""
        return float(self.px if np.isscalar(self.px) else np.nanmin(self.px))

    @cached_property
    def blocks(self) -> Blocks:
        return Blocks.of(self)


@dataclass(frozen=True, eq=False)
class Blocks:
    """The spots in blocks of px: `points` (n, BLOCK², k), `middle` (n, k), `reach` (n,): how far px lie from it."""

    points: F32
    middle: F32
    reach: F32
    px: F32
    size: tuple[int, int]

    @classmethod
    def of(cls, spots: Spots) -> Blocks:
        h, w = spots.shape
        down, across = -(-h // BLOCK), -(-w // BLOCK)
        spare = ((0, down * BLOCK - h), (0, across * BLOCK - w))
        at = np.nan_to_num(spots.at, nan=1e9)
        at = np.pad(at, (*spare, (0, 0)), mode="edge") if any(s[1] for s in spare) else at
        axes = at.shape[2]
        points = at.reshape(down, BLOCK, across, BLOCK, axes).swapaxes(1, 2).reshape(-1, BLOCK * BLOCK, axes)
        points = np.ascontiguousarray(points)
        middle = points[:, BLOCK * BLOCK // 2 + BLOCK // 2]
        corners = points[:, [0, BLOCK - 1, -BLOCK, -1]]
        reach = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
        if np.isscalar(spots.px):
            px = np.full(len(points), spots.px, np.float32)
        else:
            wide = np.pad(spots.px, spare, mode="edge")
            px = np.ascontiguousarray(wide[BLOCK // 2 :: BLOCK, BLOCK // 2 :: BLOCK][:down, :across]).ravel()
        return cls(points, middle, reach * np.float32(1.1), px, (down, across))

    def picture(self, values: F32, shape: tuple[int, int]) -> F32:
        """Values (n, BLOCK²) laid out as a picture of that shape."""
        down, across = self.size
        laid = values.reshape(down, across, BLOCK, BLOCK).swapaxes(1, 2).reshape(down * BLOCK, across * BLOCK)
        return np.ascontiguousarray(laid[: shape[0], : shape[1]])


def spots_of(ground: Ground, point_of: Callable[[Array], Array], region: Region, step: int = 8) -> Spots:
    """The spots of a region; `point_of` takes px (..., 2) to points (..., k) of the ground, smoothly."""
    grid = GridMap.of(point_of, region.left, region.top, region.width, region.height, step)
    right = np.linalg.norm(np.diff(grid.nodes, axis=1, append=np.nan), axis=2)
    right[:, -1] = right[:, -2]
    below = np.linalg.norm(np.diff(grid.nodes, axis=0, append=np.nan), axis=2)
    below[-1] = below[-2]
    sides = [np.maximum(f(right, below) / step, 1e-12).astype(np.float32) for f in (np.minimum, np.maximum)]
    return Spots(ground, grid.dense(), *(_even(s, grid) for s in sides))


def _even(lengths: F32, grid: GridMap) -> F32 | float:
    """Lengths at the nodes as one number where they are all alike, else at every px."""
    known = lengths[np.isfinite(lengths)]
    if not known.size:
        return 1.0
    if known.max() <= 1.001 * known.min():
        return float(known.mean())
    return grid.spread(np.nan_to_num(lengths, nan=float(known.max())))
