"""The ragged outline of a picture as four sides between four corners, a little within it and without steps."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

STEEPEST = 0.5
SMOOTH = 0.003
OVERHANG = 0.02
NAMES = ("top", "right", "bottom", "left")


@dataclass(frozen=True, eq=False)
class Sides:
    """Spots (n, 2) along each side in px of the mask they were found on, from corner to corner; a picture that closes
    in a ring has no left and right (empty).
    """

    top: Array
    right: Array
    bottom: Array
    left: Array

    @property
    def each(self) -> tuple[Array, Array, Array, Array]:
        return self.top, self.right, self.bottom, self.left

    def within(self, shape: tuple[int, int]) -> NDArray[np.bool_]:
        """What lies between them, as a mask (h, w)."""
        edge = np.concatenate([self.top, self.right, self.bottom[::-1], self.left[::-1]])
        out = np.zeros(shape, np.uint8)
        cv2.fillPoly(out, [np.rint(edge * 16).astype(np.int32)], 1, shift=4)
        return out > 0


def sides_of(covered: NDArray[np.bool_], closed: bool = False, steepest: float = STEEPEST) -> Sides | None:
    """The sides of the largest covered part (h, w); None where it is too small to have any.

    Each lies inside the covered part, nowhere steeper than `steepest`, and is smooth.
    """
    part = _largest(covered)
    if part is None:
        return None
    height, width = part.shape
    if closed:
        x = np.arange(width)
        top, bottom = _reach(part, 0, width), _reach(part[::-1], 0, width)
        sigma = _smoothness(part)
        top, bottom = _calm(top, steepest, True, sigma), height - 1 - _calm(bottom, steepest, True, sigma)
        none = np.zeros((0, 2))
        return Sides(np.stack([x, top], -1), none, np.stack([x, bottom], -1), none)
    return _between(part, _corners(part), steepest)


def _largest(covered: NDArray[np.bool_]) -> NDArray[np.bool_] | None:
    """The largest connected part, its holes filled."""
    count, labels, stats, _ = cv2.connectedComponentsWithStats(covered.astype(np.uint8), connectivity=4)
    if count < 2:
        return None
    best = 1 + int(np.argmax(stats[1:, cv2.CC_STAT_AREA]))
    if stats[best, cv2.CC_STAT_AREA] < 64:
        return None
    part = labels == best
    outside = np.pad(~part, 1, constant_values=True).astype(np.uint8)
    cv2.floodFill(outside, None, (0, 0), 2)
    return outside[1:-1, 1:-1] != 2


def _corners(part: NDArray[np.bool_]) -> Array:
    """(4, 2): top left, top right, bottom right, bottom left: the spots farthest that way."""
    y, x = np.nonzero(part)
    u = (x - x.min()) / max(1, np.ptp(x))
    v = (y - y.min()) / max(1, np.ptp(y))
    picks = [np.argmin(u + v), np.argmax(u - v), np.argmax(u + v), np.argmin(u - v)]
    return np.array([[x[k], y[k]] for k in picks], float)


def _reach(part: NDArray[np.bool_], first: int, last: int) -> Array:
    """For columns first..last-1: the row at which what is covered begins; what hangs over a narrow gap is not."""
    columns = part[:, first:last]
    over = max(1, round(OVERHANG * min(part.shape)))
    begins = np.argmax(columns, axis=0)
    rows = np.arange(part.shape[0])[:, None]
    gaps = np.where(~columns & (rows > begins) & (rows <= begins + over), rows, -1).max(axis=0)
    solid = gaps + 1 < part.shape[0]
    return np.where((gaps > begins) & solid, gaps + 1, begins).astype(float)


def _between(part: NDArray[np.bool_], corners: Array, steepest: float) -> Sides | None:
    height, width = part.shape
    (tl, tr, br, bl), sigma = corners, _smoothness(part)
    if min(tr[0] - tl[0], br[0] - bl[0], bl[1] - tl[1], br[1] - tr[1]) < 8:
        return None

    def side(turned: NDArray[np.bool_], a: float, b: float) -> tuple[Array, Array]:
        places = np.arange(int(min(a, b)), int(max(a, b)) + 1)
        return places, _calm(_reach(turned, places[0], places[-1] + 1), steepest, False, sigma)

    tx, ty = side(part, tl[0], tr[0])
    bx, by = side(part[::-1], bl[0], br[0])
    by = height - 1 - by
    ly, lx = side(np.ascontiguousarray(part.T), tl[1], bl[1])
    ry, rx = side(np.ascontiguousarray(part.T[::-1]), tr[1], br[1])
    rx = width - 1 - rx

    def meet(across: tuple[Array, Array], down: tuple[Array, Array], corner: Array) -> Array:
        x, y = corner
        for _ in range(30):
            x = np.interp(y, *down)
            y = np.interp(x, *across)
        return np.array([x, y])

    tl, tr = meet((tx, ty), (ly, lx), tl), meet((tx, ty), (ry, rx), tr)
    bl, br = meet((bx, by), (ly, lx), bl), meet((bx, by), (ry, rx), br)
    if min(tr[0] - tl[0], br[0] - bl[0], bl[1] - tl[1], br[1] - tr[1]) < 8:
        return None

    def cut(places: Array, values: Array, low: Array, high: Array, axis: int) -> Array:
        at = np.linspace(low[axis], high[axis], max(8, int(high[axis] - low[axis]) + 1))
        value = np.interp(at, places, values)
        return np.stack([at, value] if axis == 0 else [value, at], -1)

    return Sides(cut(tx, ty, tl, tr, 0), cut(ry, rx, tr, br, 1), cut(bx, by, bl, br, 0), cut(ly, lx, tl, bl, 1))


def _smoothness(part: NDArray[np.bool_]) -> float:
    return max(1.0, SMOOTH * float(np.sqrt(part.size)))


def _calm(reach: Array, steepest: float, closed: bool, sigma: float) -> Array:
    """A side that lies within everywhere, no steeper than allowed, without kinks."""
    rim = len(reach) if closed else 0
    v = np.concatenate([reach, reach, reach]) if closed else reach
    v = _limited(v, steepest)
    if closed:
        v = v[rim : 2 * rim]
    trend = np.zeros_like(v)
    if not closed and len(v) > 8:
        x = np.linspace(-1, 1, len(v))
        trend = np.polyval(np.polyfit(x, v, 3), x)
    rest = v - trend
    half = int(np.ceil(2 * sigma))
    mode = cv2.BORDER_REPLICATE
    row = np.pad(rest, half * 2, mode="wrap" if closed else "edge")[None].astype(np.float32)
    top = cv2.dilate(row, np.ones((1, 2 * half + 1), np.uint8), borderType=mode)
    smooth = cv2.GaussianBlur(top, (2 * half + 1, 1), sigma, borderType=mode)[0]
    return smooth[2 * half : -2 * half].astype(float) + trend


def _limited(v: Array, steepest: float) -> Array:
    """The least function that is nowhere below v and nowhere steeper than allowed."""
    x = steepest * np.arange(len(v))
    fall = np.maximum.accumulate(v + x) - x
    rise = (np.maximum.accumulate((v - x)[::-1]))[::-1] + x
    return np.maximum(np.maximum(fall, rise), v)
