"""The picture while a hand moves: small, as a screen shows it, from frames that are kept ready.

What a change of view leaves alone is done once and kept: every frame small and lit, with what it owns of the
picture and what the wide bands add to it, in the frame's own px. A new view then only lays these on its canvas.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import Cache, key_of
from windfell.engine.sources import canonical_scale
from windfell.engine.surface import Ownership, Wide, sampled, softly
from windfell.geometry.posed import Posed
from windfell.geometry.projections import PROJECTIONS
from windfell.job import Job
from windfell.join.blend import PLAIN_SIGMA
from windfell.join.light import FrameLight
from windfell.pixels.colour import to_view
from windfell.pixels.resample import GridMap, inside_frame
from windfell.pixels.sheet import Sheet
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]

STEP, FRAME_STEP = 8, 2
COARSER = 3
LEAST_SHARE = 40
FINER = (2**0.5, 2.0)
FAR = np.float32(-1e4)


@dataclass(frozen=True)
class LitFrame:
    """A frame small and lit (h, w, 3), its share of the picture's spots (h, w) 0..1, and where its px, held at every
    few of them, lie on the surface of the owners.
    """

    light: F32
    own: F32
    where: GridMap

    @property
    def nbytes(self) -> int:
        return self.light.nbytes + self.own.nbytes + self.where.nodes.nbytes


@dataclass(frozen=True)
class ShownFrame:
    """A frame as a screen shows it: the part of it that the picture shows, sRGB times its share, and the share,
    uint8 (h, w, 4); and that part's box (left, top, right, bottom) in px of the small frame.
    """

    pixels: U8
    box: tuple[int, int, int, int]
    size: tuple[int, int]

    @property
    def nbytes(self) -> int:
        return self.pixels.nbytes


class Jointly(Protocol):
    """A panorama's stages, as its draft sees them."""

    def posed(self, job: Job) -> list[Posed]: ...

    def shown_posed(self, job: Job) -> list[Posed]: ...

    def lights(self, job: Job) -> list[FrameLight]: ...

    def draft_ownership(self, job: Job) -> Ownership: ...

    def draft_wide(self, job: Job) -> Wide | None: ...

    def draft_keys(self, job: Job) -> tuple[str, str]: ...

    def small_sheet(self, n: int, scale: float, job: Job) -> Sheet: ...


def drafted(stages: Jointly, cache: Cache, canvas: Canvas, scale: float, job: Job) -> U8:
    """The whole canvas, as a screen shows it: sRGB, opacity, uint8 (h, w, 4).

    `scale`: at which the frames are read. Seams are as sharp as the frames, without bands but the wide ones.
    """
    shown = shown_frames(stages, cache, scale, job)
    rays = canvas.rays(_middles(canvas, STEP))
    out = np.zeros((canvas.height, canvas.width, 4), np.uint8)
    for frame, seen in zip(stages.shown_posed(job), shown, strict=True):
        job.check()
        if seen is not None:
            _lay(out, seen, frame.scaled(*seen.size), rays, STEP)
    return opaque(out)


def _middles(canvas: Canvas, step: int) -> NDArray[np.float64]:
    """The middles of the canvas's blocks of step x step px, and a rim of them around it."""
    x = step * (np.arange(-(-canvas.width // step) + 2) - 0.5) - 0.5
    y = step * (np.arange(-(-canvas.height // step) + 2) - 0.5) - 0.5
    return np.stack(np.meshgrid(x, y), -1)


def _lay(out: U8, seen: ShownFrame, frame: Posed, rays: NDArray[np.float64], step: int) -> None:
    """Add a frame to the canvas, whose blocks' middles look along `rays` (ny, nx, 3)."""
    rough = _span(seen, frame.project(rays[::COARSER, ::COARSER]))
    if rough is None:
        return
    # what lies between the coarse nodes too
    j0, j1 = max(0, rough[0] * COARSER - COARSER), min(rays.shape[0], rough[1] * COARSER + 1)
    i0, i1 = max(0, rough[2] * COARSER - COARSER), min(rays.shape[1], rough[3] * COARSER + 1)
    nodes = frame.project(rays[j0:j1, i0:i1]) - seen.box[:2]
    nodes = np.nan_to_num(nodes, nan=FAR, posinf=FAR, neginf=FAR).clip(FAR, -FAR).astype(np.float32)
    height = min((j1 - j0 - 2) * step, out.shape[0] - j0 * step)
    width = min((i1 - i0 - 2) * step, out.shape[1] - i0 * step)
    if height <= 0 or width <= 0:
        return
    where = GridMap(np.ascontiguousarray(nodes), step, width, height).dense()
    laid = cv2.remap(seen.pixels, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    at = np.s_[j0 * step : j0 * step + height, i0 * step : i0 * step + width]
    out[at] = cv2.add(out[at], laid)


def _span(seen: ShownFrame, nodes: NDArray[np.float64]) -> tuple[int, int, int, int] | None:
    """(first row, last row + 1, first column, last column + 1) of nodes at what the frame gives, or near it."""
    left, top, right, bottom = seen.box
    x, y = nodes[..., 0], nodes[..., 1]
    with np.errstate(invalid="ignore"):
        around_x, around_y = _spacing(x, 1), _spacing(y, 0)
        inside = (x > left - around_x) & (x < right + around_x) & (y > top - around_y) & (y < bottom + around_y)
    rows, columns = np.flatnonzero(inside.any(1)), np.flatnonzero(inside.any(0))
    return (rows[0], rows[-1] + 2, columns[0], columns[-1] + 2) if len(rows) else None


def _spacing(values: NDArray[np.float64], axis: int) -> float:
    """How far neighbouring nodes lie apart at most times, and half as much again, in px."""
    apart = np.abs(np.diff(values, axis=axis))
    apart = apart[np.isfinite(apart)]
    half = apart.size // 2
    return 1.5 * float(np.partition(apart, half)[half]) if apart.size else 0.0


def opaque(rgba: U8) -> U8:
    """Shares (h, w, 4) made whole: a spot of which frames give something that can be told is theirs wholly."""
    share = rgba[..., 3]
    partly = (share >= LEAST_SHARE) & (share < 255)
    some = rgba[partly].astype(np.float32)
    rgba[partly] = np.minimum(some * (255.0 / some[:, 3:]) + 0.5, 255).astype(np.uint8)
    rgba[share < LEAST_SHARE] = 0
    return rgba


def shown_frames(stages: Jointly, cache: Cache, scale: float, job: Job) -> list[ShownFrame | None]:
    """All placed frames as a screen shows them; None for one that gives nothing.

    Where they are ready a little finer, those are shrunk: a draft that becomes smaller is to come soon.
    """
    owned, blended = stages.draft_keys(job)
    count = len(stages.posed(job))

    def show() -> list[ShownFrame | None]:
        wide = stages.draft_wide(job)
        return [_shown(_lit(stages, cache, owned, n, scale, job), wide) for n in
                job.over(range(count), "making the picture")]

    key = key_of("draft shown", blended, scale)
    ready = [finer for finer in (canonical_scale(scale * k) for k in FINER)
             if cache.holds(key_of("draft shown", blended, finer))]
    if cache.holds(key) or not ready:
        return cache.get(key, show)

    def shrink() -> list[ShownFrame | None]:
        return [f and _shrunk(f, ready[0] / scale) for f in shown_frames(stages, cache, ready[0], job)]

    return cache.get(key_of("draft shrunk", blended, ready[0], scale), shrink)


def _shrunk(frame: ShownFrame, less: float) -> ShownFrame:
    """A frame as a screen shows it, so many times smaller."""
    width, height = frame.size
    left, top, right, bottom = frame.box
    whole = np.zeros((height, width, 4), np.uint8)
    whole[top:bottom, left:right] = frame.pixels[: height - top, : width - left]
    size = max(1, round(width / less)), max(1, round(height / less))
    whole = cv2.resize(whole, size, interpolation=cv2.INTER_AREA)
    left, top, right, bottom = int(left / less), int(top / less), int(right / less) + 1, int(bottom / less) + 1
    return ShownFrame(np.ascontiguousarray(whole[top:bottom, left:right]), (left, top, right, bottom), size)


def _lit(stages: Jointly, cache: Cache, owned: str, n: int, scale: float, job: Job) -> LitFrame:
    return cache.get(key_of("draft lit", owned, n, scale), lambda: _light(stages, n, scale, job))


def _light(stages: Jointly, n: int, scale: float, job: Job) -> LitFrame:
    own = stages.draft_ownership(job)
    sheet = stages.small_sheet(n, scale, job)
    frame = stages.shown_posed(job)[n].scaled(sheet.width, sheet.height)
    where = own_places(own, frame)
    grid = GridMap.of(lambda p: p, 0, 0, sheet.width, sheet.height, 8)
    light = np.ascontiguousarray(sheet.light(0, 0, sheet.width, sheet.height))
    factors = stages.lights(job)[n].factors(grid.nodes, frame.lens)
    light = light * (factors if factors.shape[:2] == (1, 1) else grid.spread(factors))
    share = where.spread(softly(own, n, where.nodes, PLAIN_SIGMA))
    inside = np.isfinite(where.nodes).all(axis=-1)
    if not inside.all():
        share = share * (where.spread(inside.astype(np.float32)) > 0.5)
    return LitFrame(light, share, where)


def own_places(own: Ownership, frame: Posed) -> GridMap:
    """Where a frame's px lie on the owners' surface, without a jump; px by px if a pole lies in it."""
    surface = own.surface
    around = PROJECTIONS[surface.projection].period
    period = around and around / (surface.right - surface.left) * surface.width
    width, height = frame.lens.width, frame.lens.height
    middle = surface.pixels(frame.rays(np.array([[(width - 1) / 2, (height - 1) / 2]])))[0, 0]

    def place(points: NDArray) -> NDArray:
        found = surface.pixels(frame.rays(points))
        if period:
            found[..., 0] -= period * np.round((found[..., 0] - middle) / period)
        return found

    poles = frame.project(np.array([[0.0, -1.0, 0.0], [0.0, 1.0, 0.0]])) if frame.place is None else np.zeros((0, 2))
    near = bool(inside_frame(poles, width, height).any())
    return GridMap.of(place, 0, 0, width, height, 1 if near else FRAME_STEP)


def _shown(lit: LitFrame, wide: Wide | None) -> ShownFrame | None:
    rows, columns = (np.flatnonzero((lit.own > 0.004).any(axis)) for axis in (1, 0))
    if not len(rows):
        return None
    box = (max(0, columns[0] - 1), max(0, rows[0] - 1), columns[-1] + 2, rows[-1] + 2)
    at = np.s_[box[1] : box[3], box[0] : box[2]]
    light = lit.light[at]
    if wide is not None:
        nodes = np.nan_to_num(lit.where.nodes, nan=0.0)
        light = light + lit.where.spread(sampled(wide.correction, wide.surface, nodes, wide.surface))[at]
    share = lit.own[at]
    rgb = to_view(np.ascontiguousarray(light))
    out = np.dstack([rgb * share[..., None], 255 * share])
    size = lit.light.shape[1], lit.light.shape[0]
    return ShownFrame((out + 0.5).astype(np.uint8), tuple(int(v) for v in box), size)
