"""How large a canvas must be to hold all frames."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.posed import Posed
from windfell.geometry.projection import Projection
from windfell.geometry.projections import projection_of
from windfell.shape.canvas import IDENTITY, Canvas

Array = NDArray[np.float64]
BINS = 720
SAMPLES, SPARSER = 33, 4


def covered_rays(frames: Sequence[Posed]) -> Array:
    """World rays (n, 3) spread over all frames, their edges included."""
    return np.concatenate([f.rays(f.lens.grid(SAMPLES)) for f in frames])


def sparser(rays: Array) -> Array:
    """A quarter of `covered_rays`, every frame's corners among them."""
    return rays.reshape(-1, SAMPLES**2, 3)[:, ::SPARSER].reshape(-1, 3)


def field_of_view(frames: Sequence[Posed], rays: Array | None = None) -> tuple[float, float]:
    """(width, height) in rad that the frames cover, along and across the horizon. `rays`: their `covered_rays`."""
    left, top, right, bottom = plane_bounds("equirectangular", frames, np.eye(3), rays)
    return right - left, bottom - top


def plane_bounds(
    projection: str, frames: Sequence[Posed], view: Array, rays: Array | None = None,
    parameters: tuple[float, ...] = ()
) -> tuple[float, float, float, float]:
    """(left, top, right, bottom) of the frames on a projection's plane, within its limits.

    `rays`: their `covered_rays`, if they are known. A flat subject that cameras slid along is the plane itself and
    has no limits.
    """
    kind = projection_of(projection, parameters)
    plane = kind.forward((covered_rays(frames) if rays is None else rays) @ view)
    plane = plane[np.isfinite(plane).all(axis=1)]
    if not len(plane):
        return 0.0, 0.0, 0.0, 0.0
    if frames[0].place is None:
        limit = np.array([kind.half_width, kind.half_height])
        plane = np.clip(plane, -limit, limit)
    top, bottom = plane[:, 1].min(), plane[:, 1].max()
    left, right = plane[:, 0].min(), plane[:, 0].max()
    if kind.period is not None:
        left, right = _around(plane[:, 0], kind.period)
    return float(left), float(top), float(right), float(bottom)


def _around(x: Array, period: float) -> tuple[float, float]:
    """The shortest run around a circle that holds all x, as (start, end)."""
    filled = np.zeros(BINS, bool)
    filled[((x / period + 0.5) * BINS).astype(int) % BINS] = True
    gaps = _longest_gap(filled)
    if gaps is None:
        return -period / 2, period / 2
    start, length = gaps
    edge = ((start + length) % BINS) / BINS * period - period / 2
    turned = (x - edge + 1e-9) % period
    first, last = edge + turned.min(), edge + turned.max()
    middle = (first + last) / 2
    shift = period * np.round(middle / period)
    return first - shift, last - shift


def _longest_gap(filled: NDArray[np.bool_]) -> tuple[int, int] | None:
    """(start, length) of the longest empty run on the ring, None if shorter than 4 degrees."""
    if filled.all():
        return None
    first = int(np.argmax(filled))
    ring = np.roll(filled, -first)
    edges = np.flatnonzero(np.diff(np.concatenate([[True], ring, [True]]).astype(int)))
    starts, ends = edges[::2], edges[1::2]
    best = int(np.argmax(ends - starts))
    length = int(ends[best] - starts[best])
    if length < BINS * 4 // 360:
        return None
    return (first + int(starts[best])) % len(filled), length


def fitted_canvas(
    projection: str, frames: Sequence[Posed], view: Array, px_per_unit: float, rays: Array | None = None,
    parameters: tuple[float, ...] = ()
) -> Canvas:
    """The canvas that just holds all frames, with so many pixels per unit of its plane.

    `rays`: their `covered_rays`, if they are known; `parameters`: the projection's.
    """
    left, top, right, bottom = plane_bounds(projection, frames, view, rays, parameters)
    # turned so far that its limits hide all of it, there is an edge at most to see
    left, right = _apart(left, right, 2 / px_per_unit)
    top, bottom = _apart(top, bottom, 2 / px_per_unit)
    width = max(2, round((right - left) * px_per_unit))
    height = max(2, round((bottom - top) * px_per_unit))
    rows = tuple(float(v) for v in view.ravel())
    return Canvas(projection, left, top, right, bottom, width, height, rows, parameters)


def view_bounds(canvas: Canvas, hfov_deg: float | None, vfov_deg: float | None) -> Canvas:
    """The canvas cut to a field of view about its middle, as far as the projection goes; None leaves a side be."""
    kind = canvas.kind
    left, top, right, bottom = canvas.left, canvas.top, canvas.right, canvas.bottom
    if hfov_deg is not None:
        right = _half(kind, np.radians(hfov_deg) / 2, 0)
        left = -right
    if vfov_deg is not None:
        bottom = _half(kind, np.radians(vfov_deg) / 2, 1)
        top = -bottom
    return canvas.bounded(left, top, right, bottom)


def _half(kind: Projection, angle: float, axis: int) -> float:
    """How far from the middle a direction so far aside (axis 0) or down (1) is drawn, within the limits."""
    limit = kind.half_height if axis else kind.half_width
    ray = np.zeros(3)
    ray[axis], ray[2] = np.sin(angle), np.cos(angle)
    place = float(kind.forward(ray)[axis])
    if axis and angle >= np.pi / 2 and kind.period is not None:
        return float(limit)
    return min(place, float(limit)) if np.isfinite(place) and place > 0 else float(limit)


def _apart(low: float, high: float, least: float) -> tuple[float, float]:
    """Two bounds at least so far apart."""
    short = max(0.0, least - (high - low)) / 2
    return low - short, high + short


def sphere_canvas(width: int) -> Canvas:
    """The whole sphere in equirectangular projection: longitude 0 in the middle, zenith on top."""
    width += width % 2
    return Canvas(
        "equirectangular", -np.pi, -np.pi / 2, np.pi, np.pi / 2, width, width // 2, IDENTITY
    )


def native_px_per_unit(frames: Sequence[Posed]) -> float:
    """Pixels per rad at which the sharpest frame keeps all its pixels in its middle."""
    return max(f.px_per_unit for f in frames)
