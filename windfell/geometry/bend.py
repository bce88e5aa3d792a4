"""A bend of a frame: how far its px lie from where the lens alone would put them, smoothly over the frame."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
UNDOING = 6


@dataclass(frozen=True)
class Bend:
    """A uniform bicubic B-spline over a frame of width x height px (de Boor 1978).

    `coefficients` (rows, columns, 2) in px of the frame; at least 4 x 4. A spot never moves farther than the
    largest of them. Beyond the frame the drift is that of its edge. `over`: another bend that it adds to.
    """

    width: int
    height: int
    coefficients: Array
    over: Bend | None = None

    def at(self, points: Array) -> Array:
        """The drift (..., 2) px at px (..., 2) as the lens alone sees them; NaN for NaN."""
        flat = points.reshape(-1, 2)
        index, weight = basis(flat, self.width, self.height, self.coefficients.shape[:2])
        drift = np.einsum("nk,nkc->nc", weight, self.coefficients.reshape(-1, 2)[index])
        drift = np.where(np.isfinite(flat), drift, np.nan).reshape(points.shape)
        return drift if self.over is None else drift + self.over.at(points)

    def undone(self, points: Array) -> Array:
        """The px (..., 2) that drift to these."""
        found = points
        for _ in range(UNDOING):
            found = points - self.at(found)
        return found

    def scaled(self, width: int, height: int) -> Bend:
        """The same for the frame resized to width x height px."""
        ratio = np.array([width / self.width, height / self.height])
        over = self.over and self.over.scaled(width, height)
        return replace(self, width=width, height=height, coefficients=self.coefficients * ratio, over=over)


def typical_px(left: Array) -> float:
    """rms px of what is left (n, 2), the worst tenth left aside; 0 of nothing."""
    if not len(left):
        return 0.0
    size = np.sort(np.linalg.norm(left, axis=1))
    return float(np.sqrt(np.mean(size[: max(1, round(0.9 * len(size)))] ** 2)))


def basis(points: Array, width: int, height: int, shape: tuple[int, int]) -> tuple[NDArray[np.intp], Array]:
    """(index, weight), each (n, 16): the coefficients, row by row, that make the drift at px (n, 2)."""
    rows, columns = shape
    points = np.nan_to_num(points, nan=0.0, posinf=0.0, neginf=0.0)
    x, wx = _along(points[:, 0] / max(width - 1, 1), columns)
    y, wy = _along(points[:, 1] / max(height - 1, 1), rows)
    index = (y[:, :, None] * columns + x[:, None, :]).reshape(len(points), 16)
    return index, (wy[:, :, None] * wx[:, None, :]).reshape(len(points), 16)


def _along(fraction: Array, count: int) -> tuple[NDArray[np.intp], Array]:
    """(index, weight), each (n, 4), along one side at fractions of it."""
    place = np.clip(fraction, 0.0, 1.0) * (count - 3)
    first = np.minimum(place.astype(int), count - 4)
    t = place - first
    weight = np.stack([(1 - t) ** 3, 3 * t**3 - 6 * t**2 + 4, -3 * t**3 + 3 * t**2 + 3 * t + 1, t**3], axis=-1) / 6
    return first[:, None] + np.arange(4), weight
