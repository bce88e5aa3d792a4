"""Areas of a set: where its ground lies in a picture, and what areas that read it are told."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from windfell.areas.painting import painted
from windfell.areas.spots import Ground, Pixels, Plane, Sphere, Spots, spots_of
from windfell.cache import Cache, key_of
from windfell.geometry import planar
from windfell.geometry.directions import degrees_of
from windfell.join.warp import map_step
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.areas import Area, Part
from windfell.shape.canvas import Canvas
from windfell.shape.flat import flat_extent, looking

F32 = NDArray[np.float32]
Array = NDArray[np.float64]
Masks = Mapping[str, NDArray[np.uint8]]
T = TypeVar("T")

LOOK_SIDE = 720


@dataclass(frozen=True, eq=False)
class Drawer:
    """`draw` gives the light (h, w, 3) of a region of any canvas; `keep` what was found of a part by that light."""

    draw: Callable[[Canvas, Region], F32]
    keep: Callable[[Part, Callable[[], T]], T]


@dataclass(frozen=True, eq=False)
class CanvasLook:
    """What a drawer shows on a region of a canvas, and masks that lie on the sphere: all of it unrolled, its middle
    straight ahead.
    """

    drawer: Drawer | None
    canvas: Canvas
    region: Region
    ground: Ground
    masks: Masks

    def light(self) -> F32:
        return self.drawer.draw(self.canvas, self.region)

    def around(self, points: Array, reach: float) -> tuple[F32, Callable[[NDArray], F32]]:
        if self.ground.axes == 2:
            low, high = points.min(axis=0) - reach, points.max(axis=0) + reach
            view = np.eye(3)
        else:
            view = looking(points.mean(axis=0))
            low, high = flat_extent(points, view) or (np.zeros(2), np.zeros(2))
            low, high = low - reach, high + reach
        k = LOOK_SIDE / max(float((high - low).max()), 1e-6)
        size = np.maximum(8, np.ceil((high - low) * k)).astype(int)
        flat_canvas = Canvas("rectilinear", *low, *high, *size.tolist(), tuple(view.ravel()))
        light = self.drawer.draw(flat_canvas, Region(0, 0, flat_canvas.width, flat_canvas.height))

        def place(spots: NDArray) -> F32:
            if self.ground.axes == 2:
                spots = np.concatenate([spots, np.ones((*spots.shape[:-1], 1), spots.dtype)], axis=-1)
            return flat_canvas.pixels(np.asarray(spots, float)).astype(np.float32)

        return light, place

    def kept(self, part: Part, make: Callable[[], T]) -> T:
        return self.drawer.keep(part, make)

    def mask(self, name: str) -> tuple[NDArray[np.uint8], Callable[[NDArray], F32]] | None:
        found = self.masks.get(name)
        if found is None or self.ground.axes == 2:
            return None
        return found, lambda spots: on_unrolled(spots, found.shape)


@dataclass(frozen=True, eq=False)
class FlatLook:
    """What a picture in px of its own shows: `draw` gives the light (h, w, 3) of a region of it at a scale."""

    draw: Callable[[Region, float], F32]
    keep: Callable[[Part, Callable[[], T]], T]
    here: Callable[[], F32]
    whole: tuple[int, int]
    masks: Masks

    def light(self) -> F32:
        return self.here()

    def around(self, points: Array, reach: float) -> tuple[F32, Callable[[NDArray], F32]]:
        low, high = points.min(axis=0) - reach, points.max(axis=0) + reach
        scale = min(1.0, LOOK_SIDE / max(float((high - low).max()), 1.0))
        size = scaled_size(self.whole, scale)
        k = np.array(size) / self.whole
        left, top = np.clip(np.floor(low * k), 0, np.array(size) - 2).astype(int)
        right, bottom = np.clip(np.ceil(high * k) + 1, [left + 2, top + 2], size).astype(int)
        region = Region(int(left), int(top), int(right - left), int(bottom - top))

        def place(spots: NDArray) -> F32:
            return ((np.asarray(spots) + 0.5) * k - 0.5 - [region.left, region.top]).astype(np.float32)

        return self.draw(region, scale), place

    def kept(self, part: Part, make: Callable[[], T]) -> T:
        return self.keep(part, make)

    def mask(self, name: str) -> tuple[NDArray[np.uint8], Callable[[NDArray], F32]] | None:
        found = self.masks.get(name)
        if found is None:
            return None
        onto = planar.resized(self.whole, (found.shape[1], found.shape[0]))
        return found, lambda spots: planar.apply(onto, np.asarray(spots, float)).astype(np.float32)


def on_unrolled(rays: NDArray, shape: tuple[int, ...]) -> F32:
    """Px (..., 2) of unit rays (..., 3) on the whole sphere unrolled to (h, w)."""
    h, w = shape
    rays = np.asarray(rays, np.float32)
    across = np.arctan2(rays[..., 0], rays[..., 2]) * np.float32(w / (2 * np.pi)) + np.float32((w - 1) / 2)
    with np.errstate(invalid="ignore"):
        down = np.arcsin(np.clip(rays[..., 1], -1, 1)) * np.float32(h / np.pi) + np.float32((h - 1) / 2)
    # its two sides are one; between their px lies no gap
    return np.stack([np.clip(across, 0, w - 1), down], axis=-1)


def canvas_spots(ground: Sphere | Plane, canvas: Canvas) -> Callable[[Region], Spots]:
    """Where regions of a canvas lie on a panorama's ground."""
    step = min(8, map_step(canvas.px_per_unit))
    return lambda region: spots_of(ground, lambda p: ground.of_rays(canvas.rays(p)), region, step)


def flat_spots(
    whole: tuple[int, int], scale: float, before: Callable[[Array], Array] | None = None
) -> Callable[[Region], Spots]:
    """Where regions of a picture of `whole` px, at a scale, lie on it at full size; `before` takes the region's px to
    the picture's at that scale.
    """
    size = scaled_size(whole, scale)
    onto = planar.resized(size, whole)

    def point(px: Array) -> Array:
        return planar.apply(onto, px if before is None else before(px))

    return lambda region: spots_of(Pixels(), point, region)


def on_canvas(
    area: Area, ground: Sphere | Plane, canvas: Canvas, region: Region, drawer: Drawer | None,
    cache: Cache | None = None, masks: Masks | None = None,
) -> F32:
    """The share (h, w) that an area has of a region of a canvas; `drawer`: what canvases show, for one that reads.
    `cache` keeps what is painted, and where the px lie; `masks` are those that it may name.
    """
    look = None
    if drawer is not None or (masks and area.masks):
        def look(wide: Region, _spots: Spots) -> CanvasLook:
            return CanvasLook(drawer, canvas, wide, ground, masks or {})
    spots, kept = canvas_spots(ground, canvas), None
    if cache is not None:
        plain, name = spots, (type(ground).__name__, canvas)
        spots = lambda wide: cache.get(key_of("spots", name, wide), lambda: plain(wide))  # noqa: E731
        kept = None if area.reads else KeptMasks(cache, name)
    return painted(area, region, spots, look, kept)


@dataclass(frozen=True, eq=False)
class KeptMasks:
    """Masks kept by their parts, of one canvas."""

    cache: Cache
    name: tuple

    def holds(self, parts: tuple) -> bool:
        return self.cache.holds(key_of("area", self.name, parts))

    def get(self, parts: tuple, make: Callable[[], F32]) -> F32:
        return self.cache.get(key_of("area", self.name, parts), make)


def ground_points(ground: Ground, rays: Array) -> tuple[tuple[float, float], ...]:
    """What a recipe holds of rays (n, 3)."""
    found = ground.given(rays) if isinstance(ground, Plane) else degrees_of(rays)
    return tuple((round(float(a), 5), round(float(b), 5)) for a, b in found)
