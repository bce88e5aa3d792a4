"""The sphere around all frames, unrolled: who owns which spot, and values looked up on it."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.posed import Posed
from windfell.geometry.projections import PROJECTIONS
from windfell.join.agree import Difference
from windfell.join.warp import map_step
from windfell.pixels.resample import GridMap, inside_frame
from windfell.pixels.tiles import Region
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]
SOFT_SIGMA = 0.8


@dataclass(frozen=True)
class Ownership:
    """Owner (h, w) of each spot of a surface, as index into the placed frames."""

    surface: Canvas
    owner: NDArray[np.int16]


@dataclass(frozen=True)
class Wide:
    """The wide bands' correction (h, w, 3) on its surface."""

    surface: Canvas
    correction: F32


def frame_box(frame: Posed, surface: Canvas) -> Region:
    """The box of the surface that holds a frame, with a margin."""
    points = surface.pixels(frame.rays(frame.lens.grid(40)))
    points = points[np.isfinite(points).all(axis=1)]
    points = np.clip(points, -2, [surface.width + 2, surface.height + 2])
    x0, y0 = np.floor(points.min(axis=0)).astype(int) - 3
    x1, y1 = np.ceil(points.max(axis=0)).astype(int) + 4
    if surface.wraps and x1 - x0 > 0.9 * surface.width:
        x0, x1 = 0, surface.width
    y0, y1 = _to_poles(frame, surface, y0, y1)
    x0, y0 = max(0, x0), max(0, y0)
    return Region(
        int(x0), int(y0), int(min(surface.width, x1) - x0), int(min(surface.height, y1) - y0)
    )


def _to_poles(frame: Posed, surface: Canvas, top: int, bottom: int) -> tuple[int, int]:
    """The rows stretched to the pole that the frame holds, if it does."""
    if frame.place is not None:
        return top, bottom
    poles = np.array([[0.0, -1.0, 0.0], [0.0, 1.0, 0.0]])
    seen = frame.project(poles)
    size = (frame.lens.width, frame.lens.height)
    inside = inside_frame(seen, *size)
    return (0 if inside[0] else top), (surface.height if inside[1] else bottom)


def surface_map(surface: Canvas, canvas: Canvas, region: Region) -> GridMap:
    """Where the pixels of a canvas's region lie on the surface, without a jump within the region."""
    around = PROJECTIONS[surface.projection].period
    period = around and around / (surface.right - surface.left) * surface.width
    middle = np.array([[region.left + region.width / 2, region.top + region.height / 2]])
    about = surface.pixels(canvas.rays(middle))[0, 0]

    def place(points: NDArray) -> NDArray:
        found = surface.pixels(canvas.rays(points))
        if period:
            found[..., 0] -= period * np.round((found[..., 0] - about) / period)
        return found

    step = min(8, map_step(canvas.px_per_unit))
    return GridMap.of(place, region.left, region.top, region.width, region.height, step)


def owner_at(own: Ownership, where: F32) -> NDArray[np.int16]:
    """The owner at each place (h, w, 2) of the surface."""
    y = np.clip(np.rint(where[..., 1]).astype(np.int32), 0, own.surface.height - 1)
    return own.owner[y, columns(own.surface, np.rint(where[..., 0]).astype(np.int32))]


def owners_near(own: Ownership, where: GridMap) -> list[int]:
    """Owners found at the nodes of a map and a little around them."""
    h = own.owner.shape[0]
    x = np.rint(where.nodes[..., 0]).astype(np.int32)
    y = np.rint(where.nodes[..., 1]).astype(np.int32)
    found: set[int] = set()
    for dx, dy in ((0, 0), (-2, -2), (2, -2), (-2, 2), (2, 2)):
        near = own.owner[np.clip(y + dy, 0, h - 1), columns(own.surface, x + dx)]
        found |= set(np.flatnonzero(np.bincount(near.ravel() + 1)) - 1)
    return sorted(int(n) for n in found if n >= 0)


def columns(surface: Canvas, x: NDArray[np.int32]) -> NDArray[np.int32]:
    """Columns within the surface: around it where it closes, held at its edge where not."""
    return x % surface.width if surface.wraps else np.clip(x, 0, surface.width - 1)


def _cut(values: NDArray, surface: Canvas, where: F32) -> tuple[NDArray, F32]:
    """The part of a surface's values (h, w, ...) around places, and the places on that part."""
    # places that no picture shows can lie anywhere, even nowhere: they need no room
    most = np.array([3 * surface.width, 3 * surface.height], np.float32)
    where = np.clip(np.nan_to_num(where, nan=0.0), -most, most)
    x0, y0 = np.floor(where.reshape(-1, 2).min(axis=0)).astype(int) - 6
    x1, y1 = np.ceil(where.reshape(-1, 2).max(axis=0)).astype(int) + 7
    moved = where - np.array([x0, y0], np.float32)
    left, top, right, bottom = max(0, x0), max(0, y0), min(surface.width, x1), min(surface.height, y1)
    around = surface.wraps and (x0 < 0 or x1 > surface.width)
    if around or left >= right or top >= bottom:
        rows = np.clip(np.arange(y0, y1), 0, surface.height - 1)
        return values[rows][:, columns(surface, np.arange(x0, x1))], moved
    part = values[top:bottom, left:right]
    beyond = top - y0, y1 - bottom, left - x0, x1 - right
    return (cv2.copyMakeBorder(part, *beyond, cv2.BORDER_REPLICATE) if any(beyond) else part), moved


def softly(own: Ownership, n: int, where: F32, sigma: float = SOFT_SIGMA) -> F32:
    """How much of each place's neighbourhood, of so many px, frame `n` owns, 0..1, at surface px (h, w, 2)."""
    part, moved = _cut(own.owner, own.surface, where)
    mask = cv2.GaussianBlur((part == n).astype(np.float32), (0, 0), sigma)
    return cv2.remap(mask, moved, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def sampled(correction: F32, surface: Canvas, where: F32, of: Canvas) -> F32:
    """The correction at places (h, w, 2) given in px of another surface of the same bounds."""
    ratio = np.array([surface.width / of.width, surface.height / of.height], np.float32)
    part, moved = _cut(correction, surface, (where + np.float32(0.5)) * ratio - np.float32(0.5))
    return cv2.remap(part, moved, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def heard_at(part: Difference, surface: Canvas, where: GridMap, of: Canvas) -> tuple[F32, F32] | None:
    """(heard (h, w), tone (h, w, 3)) of a frame at places given in px of another surface of the same bounds; None
    where it is heard everywhere.
    """
    ratio = np.array([surface.width / of.width, surface.height / of.height], np.float32)
    nodes = (where.nodes + np.float32(0.5)) * ratio - np.float32(0.5) - np.float32([part.box.left, part.box.top])
    if surface.wraps:
        # into the box, or as near to it as it goes around
        before = (surface.width - part.box.width) / 2
        turns = np.floor((nodes[..., 0] + before) / surface.width)
        middle = np.round(np.median(turns)) if np.ptp(turns) <= 1 else turns
        nodes[..., 0] -= (surface.width * middle).astype(np.float32)
    nodes = np.ascontiguousarray(nodes)
    ears = cv2.remap(part.heard.astype(np.float32), nodes, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    if ears.min() > 0.995:
        return None
    tone = cv2.remap(part.tone.astype(np.float32), nodes, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return where.spread(ears), where.spread(tone)
