"""Repairs laid over a panorama: cloned or healed from elsewhere, filled smoothly or with texture, taken from a frame
alone or from a flat view that came back.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.spots import Sphere
from windfell.cache import key_of
from windfell.combine.meeting import edge_share
from windfell.engine.area_reach import may_reach
from windfell.engine.areas import on_canvas
from windfell.engine.grown import grown
from windfell.engine.picture import Picture
from windfell.finish.healing import healed
from windfell.finish.patch_fill import filled_from, patch_places
from windfell.geometry.camera import Lens
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll
from windfell.job import Job
from windfell.join.light import FrameLight
from windfell.join.warp import warped
from windfell.pixels.pull_push import smoothly_filled
from windfell.pixels.resample import remapped
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Ellipse, Gradient, Grown, Patch, Stroke
from windfell.recipe.model import Frame
from windfell.recipe.repairs import Mend, Repair
from windfell.recipe.sources import FileSource
from windfell.shape.canvas import Canvas
from windfell.shape.flat import flat_extent, looking

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

LEAST, HALF = 1e-3, 0.5
FILL_SIDE, TEXTURE_SIDE = 384, 900
MARGIN_PX = 6
PICTURE_EDGE = 0.02


def repaired(stages: Any, picture: Picture, canvas: Canvas, region: Region, count: int, job: Job) -> Picture:
    """The picture of a region with the first `count` repairs of the set laid over it."""
    for n, repair in enumerate(stages.set.repairs[:count]):
        if repair.on:
            picture = _laid(stages, picture, n, repair, canvas, region, job)
    return picture


def _laid(stages: Any, below: Picture, n: int, repair: Repair, canvas: Canvas, region: Region, job: Job) -> Picture:
    if repair.way is Mend.GROW:
        return grown(stages, below, n, repair, canvas, region, below_on, job)
    if repair.way is Mend.PICTURE:
        found = _from_picture(stages, repair, canvas, region, job)
        if found is None:
            return below
        light, share = found
        if repair.area.parts or repair.area.inverted:
            share = share * on_canvas(repair.area, stages.area_ground, canvas, region, None)
    else:
        if repair.area.empty or not may_reach(repair.area, stages.area_ground, canvas, region):
            return below
        share = on_canvas(repair.area, stages.area_ground, canvas, region, None)
        box = _box(share > LEAST)
        if box is None:
            return below
        at = box.within(Region(0, 0, region.width, region.height))
        placed = Region(region.left + box.left, region.top + box.top, box.width, box.height)
        part = TAKES[repair.way](stages, n, repair, canvas, placed, job)
        if part is None:
            return below
        light = np.zeros_like(below.light)
        light[at] = part.light
        there = np.zeros(share.shape, np.float32)
        there[at] = part.covered
        share = share * there
    mixed = np.where(below.covered[..., None], below.light + share[..., None] * (light - below.light), light)
    covered = below.covered | (share > 0.5)
    return Picture(np.ascontiguousarray(np.where(covered[..., None], mixed, np.float32(0)), np.float32), covered)


def _box(mask: NDArray[np.bool_]) -> Region | None:
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if not len(rows):
        return None
    return Region(int(columns[0]), int(rows[0]), int(np.ptp(columns)) + 1, int(np.ptp(rows)) + 1)


def _rays(canvas: Canvas, region: Region) -> Array:
    x, y = np.arange(region.width) + region.left, np.arange(region.height) + region.top
    return canvas.rays(np.stack(np.meshgrid(x, y), -1).astype(float))


def _cloned(stages: Any, n: int, repair: Repair, canvas: Canvas, region: Region, job: Job) -> Picture | None:
    """What the picture, as it is below this repair, shows where the clone takes from."""
    if repair.source is None or repair.to is None:
        return None
    rays = moved_rays(stages.area_ground, repair, _rays(canvas, region))
    flat = _flat_around(rays, canvas)
    if flat is None:
        return None
    return _read(below_on(stages, n, flat, job), flat, rays)


def _framed(stages: Any, n: int, repair: Repair, canvas: Canvas, region: Region, job: Job) -> Picture | None:
    """What a frame shows there, lit as it is joined."""
    ids = [stages.set.used[at].id for at in stages.registration(job).placed]
    if repair.frame not in ids:
        return None
    seen = stages.warped_frame(ids.index(repair.frame), canvas, region, job)
    return None if seen is None else Picture(seen.light, seen.mask())


def _healed(stages: Any, n: int, repair: Repair, canvas: Canvas, region: Region, job: Job) -> Picture | None:
    """The texture of elsewhere with the light of here."""
    flat = around_area(stages.area_ground, repair, stages.canvas(job).px_per_unit)
    if flat is None or repair.source is None or repair.to is None:
        return None

    def make() -> Picture:
        whole = Region(0, 0, flat.width, flat.height)
        below, inside = painted_over(stages, n, repair, flat, job)
        there = _cloned(stages, n, repair, flat, whole, job)
        if there is None:
            return Picture(below.light, np.zeros_like(inside))
        known = below.covered & there.covered & ~inside
        light = healed(below.light, there.light, ~known) if known.any() else there.light
        return Picture(light, there.covered)

    key = key_of("healed", stages.joined_key(job), stages.set.repairs[:n], repair, flat)
    return _read(stages.cache.get(key, make), flat, _rays(canvas, region))


def _textured(stages: Any, n: int, repair: Repair, canvas: Canvas, region: Region, job: Job) -> Picture | None:
    """The area filled with texture from around it. What is taken from where is looked for in the picture as it is
    blended usually, so that a fill keeps its places, and is quick, whatever the blend.
    """
    flat = around_area(stages.area_ground, repair, stages.canvas(job).px_per_unit)
    if flat is None:
        return None
    usual = stages.usually_blended()
    known = key_of("places", usual.joined_key(job), stages.set.repairs[:n], repair, flat)

    def places() -> tuple[F32 | None]:
        below, inside = painted_over(usual, n, repair, flat, job)
        barred = ~below.covered
        if repair.sources is not None and not repair.sources.empty:
            whole = Region(0, 0, flat.width, flat.height)
            barred |= on_canvas(repair.sources, stages.area_ground, flat, whole, None) < HALF
        return (patch_places(below.light, inside, barred, repair.answer) if inside.any() else None,)

    def make() -> Picture:
        below, inside = painted_over(stages, n, repair, flat, job)
        (taken,) = stages.cache.get(known, places)
        made = (smoothly_filled(below.light, below.covered & ~inside) if taken is None
                else filled_from(below.light, inside, taken))
        return Picture(made, below.covered | inside)

    key = key_of("textured", stages.joined_key(job), stages.set.repairs[:n], repair, flat)
    return _read(stages.cache.get(key, make), flat, _rays(canvas, region))


def below_on(stages: Any, n: int, canvas: Canvas, job: Job) -> Picture:
    """All of a canvas as it is below repair `n`."""
    whole = Region(0, 0, canvas.width, canvas.height)
    return repaired(stages, stages.joined_on(canvas, whole, job), canvas, whole, n, job)


def painted_over(stages: Any, n: int, repair: Repair, flat: Canvas, job: Job) -> tuple[Picture, NDArray[np.bool_]]:
    """What lies below a repair on a flat canvas, and where the repair is."""
    whole, below = Region(0, 0, flat.width, flat.height), below_on(stages, n, flat, job)
    return below, on_canvas(repair.area, stages.area_ground, flat, whole, None) > LEAST


def moved_rays(ground: Any, repair: Repair, rays: Array) -> Array:
    """Where a clone reads for rays (..., 3): on the sphere turned the shortest way, on a flat subject shifted; then
    turned and sized about its source, on the sphere in the plane that touches it there.
    """
    source, to = (ground.points(np.array([p], float))[0] for p in (repair.source, repair.to))
    if not isinstance(ground, Sphere):
        spots = source + (ground.of_rays(rays) - to) @ read_from(repair).T
        out = np.concatenate([spots, np.ones((*spots.shape[:-1], 1))], axis=-1)
        return out / np.linalg.norm(out, axis=-1, keepdims=True)
    axis = np.cross(to, source)
    size = np.linalg.norm(axis)
    there = rays if size < 1e-9 else rays @ from_rotvec(axis / size * np.arctan2(size, to @ source)).T
    if repair.turn_deg == 0 and repair.size_pct == 100:
        return there
    there = there @ from_rotvec(source * np.radians(-repair.turn_deg)).T
    ahead = there @ source
    with np.errstate(divide="ignore", invalid="ignore"):
        beside = (there - ahead[..., None] * source) / ahead[..., None] * (100 / repair.size_pct)
    out = np.where(ahead[..., None] > LEAST, source + beside, np.nan)
    return out / np.linalg.norm(out, axis=-1, keepdims=True)


def read_from(repair: Repair) -> Array:
    """What leads from a place beside a clone's target to that beside its source (2, 2), x to the right, y down."""
    c, s = np.cos(np.radians(repair.turn_deg)), np.sin(np.radians(repair.turn_deg))
    return np.array([[c, s], [-s, c]]) * (100 / repair.size_pct)


def _flat_around(rays: Array, canvas: Canvas) -> Canvas | None:
    """A flat canvas about as fine as the picture that shows all rays (..., 3)."""
    flat_rays = rays.reshape(-1, 3)
    flat_rays = flat_rays[np.isfinite(flat_rays).all(axis=1)]
    if not len(flat_rays):
        return None
    view = looking(flat_rays.mean(axis=0))
    extent = flat_extent(flat_rays, view)
    if extent is None:
        return None
    margin = MARGIN_PX / canvas.px_per_unit
    low, high = extent[0] - margin, extent[1] + margin
    size = np.maximum(4, np.ceil((high - low) * canvas.px_per_unit)).astype(int)
    return Canvas("rectilinear", *low.tolist(), *high.tolist(), *size.tolist(), tuple(view.ravel()))


def _read(picture: Picture, flat: Canvas, rays: Array) -> Picture:
    where = flat.pixels(rays)
    inside = np.isfinite(where).all(axis=-1)
    where = np.where(inside[..., None], where, -9.0).astype(np.float32)
    light = remapped(picture.light, where, False)
    covered = cv2.remap(picture.covered.astype(np.uint8), where, None, cv2.INTER_NEAREST, borderValue=0) > 0
    return Picture(np.maximum(light, 0), covered & inside)


def _filled(stages: Any, n: int, repair: Repair, canvas: Canvas, region: Region, job: Job) -> Picture | None:
    """The area closed from what surrounds it, smoothly."""
    flat = around_area(stages.area_ground, repair)
    if flat is None:
        return None

    def make() -> Picture:
        below, inside = painted_over(stages, n, repair, flat, job)
        known = below.covered & ~inside
        if not known.any():
            return Picture(below.light, np.zeros_like(known))
        return Picture(smoothly_filled(below.light, known), np.ones_like(known))

    key = key_of("filled", stages.joined_key(job), stages.set.repairs[:n], repair.area, flat)
    return _read(stages.cache.get(key, make), flat, _rays(canvas, region))


def around_area(ground: Any, repair: Repair, fine: float | None = None) -> Canvas | None:
    """A small flat canvas around all parts of an area that have a place; where texture matters, as `fine` (px per
    unit) as the full picture, unless it is too large, and with more around it. It holds wished sources too.
    """
    points, reach = [], 0.0
    wished = repair.sources.parts if repair.sources is not None and not repair.sources.inverted else ()
    for part in (*repair.area.parts, *wished):
        if isinstance(part, Stroke | Grown):
            runs = [part.points] if isinstance(part, Stroke) else part.inside
            points += [p for run in runs for p in run]
            reach = max(reach, part.size)
        elif isinstance(part, Patch):
            points += part.corners
        elif isinstance(part, Ellipse):
            points.append(part.middle)
            reach = max(reach, part.across / 2, part.down / 2)
        elif isinstance(part, Gradient):
            points += [part.start, part.end]
    if not points:
        return None
    spots = ground.points(np.array(points, float))
    if not isinstance(ground, Sphere):
        spots = np.concatenate([spots, np.ones((len(spots), 1))], axis=1)
    view = looking(spots.mean(axis=0))
    extent = flat_extent(spots, view)
    if extent is None:
        return None
    around = 1.3 if fine is None else 2.2
    half = around * (float(np.abs(extent).max()) + np.tan(min(np.radians(reach), 1.2))) + 0.01
    side = FILL_SIDE if fine is None else int(np.clip(2 * half * fine, 64, TEXTURE_SIDE))
    return Canvas("rectilinear", -half, -half, half, half, side, side, tuple(view.ravel()))


def _from_picture(stages: Any, repair: Repair, canvas: Canvas, region: Region, job: Job) -> tuple[F32, F32] | None:
    """(light (h, w, 3), share (h, w)) of a flat view that was taken back."""
    sheet = stages.piece(Frame("piece", FileSource(str(Path(repair.path)))), job)
    focal = 0.5 * sheet.width / np.tan(np.radians(repair.hfov_deg) / 2)
    turn = from_yaw_pitch_roll(*np.radians([repair.yaw_deg, repair.pitch_deg, repair.roll_deg]))
    posed = Posed(Lens(sheet.width, sheet.height, focal), turn)
    seen = warped(sheet, canvas, region, posed, FrameLight())
    if seen is None:
        return None
    soft = PICTURE_EDGE * min(sheet.width, sheet.height) * canvas.px_per_unit / focal
    grown = region.grown(int(np.ceil(soft)) + 1)
    around = warped(sheet, canvas, grown, posed, FrameLight())
    share = edge_share(around.mask(), (grown.height, grown.width), soft)
    return seen.light, np.ascontiguousarray(share[region.within(grown)])


def flat_view_share(stages: Any, repair: Repair, canvas: Canvas, region: Region, job: Job) -> F32 | None:
    """How much of each px (h, w) of a region a flat view that was taken back holds; None where it is not."""
    found = _from_picture(stages, repair, canvas, region, job)
    if found is None:
        return None
    if not (repair.area.parts or repair.area.inverted):
        return found[1]
    return found[1] * on_canvas(repair.area, stages.area_ground, canvas, region, None)


TAKES = {Mend.CLONE: _cloned, Mend.HEAL: _healed, Mend.FILL: _filled, Mend.TEXTURE: _textured, Mend.FRAME: _framed}
