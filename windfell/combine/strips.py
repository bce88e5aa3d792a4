"""A stack worked strip by strip, so that memory follows the strip, not the series."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.combine.blocks import in_blocks
from windfell.combine.network import ranked
from windfell.combine.rules import PLAIN, Setting, StackRule
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.pixels.fringes import read_in_colours
from windfell.pixels.resample import GridMap, inside_frame
from windfell.pixels.sheet import Sheet, seen_at
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
CACHE_BYTES = 768 * 1024


@dataclass(frozen=True)
class Layer:
    """A frame of the stack: its pixels, its place (reference px to frame px; None: as it is),
    and its lens's bending, if it is corrected. `transform` counts at the sheet's own scale and
    leads to the ideal place that `optics` bends. `before` takes the picture's px to the reference's, None
    where they are the same. `lenses`: how the reference's px and the frame's are bent; the
    transform then acts between the ideal ones. `calm`: read without ringing, since its light will be multiplied.
    """

    sheet: Sheet
    transform: NDArray[np.float64] | None = None
    optics: Optics | None = None
    lenses: tuple[Lens, Lens] | None = None
    before: Callable[[NDArray[np.float64]], NDArray[np.float64]] | None = None
    calm: bool = False


def rows_in_cache(layers: Sequence[Layer], width: int) -> int:
    """How many rows of all layers fit the cache together."""
    per_row = sum(width * 3 * layer.sheet.pixels.dtype.itemsize for layer in layers)
    return max(1, CACHE_BYTES // max(1, per_row))


def by_rank(layers: Sequence[Layer], rule: StackRule) -> bool:
    """Whether the rule may pick among the encoded values: one encoding, nothing moved or lit."""
    first = layers[0].sheet
    if rule.ranks(len(layers)) is None or first.linearizer is None:
        return False
    return all(
        x.transform is None and x.before is None and x.sheet.linearizer is first.linearizer
        and x.sheet.covered is None
        and first.linearizer.matrix is not None and x.sheet.pixels.shape == first.pixels.shape
        and x.sheet.pixels.dtype == first.pixels.dtype
        for x in layers
    )


def combined(
    layers: Sequence[Layer], rule: StackRule, region: Region, setting: Setting = PLAIN
) -> tuple[F32, NDArray[np.bool_] | None]:
    """Working-space light (h, w, 3) of the rule over a region within the reference's area, 0 where no layer covers
    it; and where any does, None for everywhere.
    """
    if by_rank(layers, rule):
        return _picked(layers, rule, region), None
    wide = _around(layers, rule, region)
    planes, masks = zip(*(_plane(x, wide) for x in layers), strict=True)
    if all(m is None for m in masks):
        light, covers = in_blocks(rule, list(planes), setting), None
    elif rule.reach:
        light, covers = _filled(list(planes), masks, rule, setting)
    else:
        light, covers = _where_covered(list(planes), masks, rule, setting)
    if wide == region:
        return light, covers
    at = region.within(wide)
    return np.ascontiguousarray(light[at]), None if covers is None else covers[at]


def _around(layers: Sequence[Layer], rule: StackRule, region: Region) -> Region:
    """The region and what around it the rule looks at, as far as frames that lie as they are reach."""
    if not rule.reach:
        return region
    wide = region.grown(rule.reach)
    for x in layers:
        if x.transform is None and x.before is None:
            wide = wide.shared(Region(0, 0, x.sheet.width, x.sheet.height)) or region
    return wide


def _filled(planes: list[F32], masks: Sequence, rule: StackRule, setting: Setting
            ) -> tuple[F32, NDArray[np.bool_]]:
    """A rule that looks around, told the mean of the others (or what stands for unseen) where a frame shows nothing;
    and where any does.
    """
    total, count = np.zeros_like(planes[0]), np.zeros(planes[0].shape[:2], np.float32)
    for plane, mask in zip(planes, masks, strict=True):
        seen = np.ones(count.shape, np.float32) if mask is None else mask.astype(np.float32)
        total += plane * seen[..., None]
        count += seen
    mean = total / np.maximum(count, 1)[..., None]
    else_told = mean if rule.unseen is None else np.float32(rule.unseen)
    told = [p if m is None else np.where(m[..., None], p, else_told) for p, m in zip(planes, masks, strict=True)]
    covers = count > 0
    return in_blocks(rule, told, setting) * covers[..., None], covers


def _picked(layers: Sequence[Layer], rule: StackRule, region: Region) -> F32:
    """Ranks found among the encoded values, a few rows at a time, then turned into light."""
    linearizer = layers[0].sheet.linearizer
    ranks = rule.ranks(len(layers))
    out = np.empty((region.height, region.width, 3), np.float32)
    step = rows_in_cache(layers, region.width)
    columns = slice(region.left, region.left + region.width)
    for top in range(0, region.height, step):
        rows = slice(region.top + top, region.top + min(top + step, region.height))
        planes = [np.ascontiguousarray(x.sheet.pixels[rows, columns]) for x in layers]
        lights = [linearizer.light(p) for p in ranked(planes, ranks)]
        light = lights[0] if len(lights) == 1 else sum(lights) * np.float32(1 / len(lights))
        out[top : top + step] = linearizer.working(light)
    return out


def _plane(layer: Layer, region: Region) -> tuple[F32, NDArray[np.bool_] | None]:
    """A layer's light on the region, and where it covers it (None: everywhere)."""
    sheet = layer.sheet
    if layer.transform is None and layer.before is None:
        right, bottom = region.left + region.width, region.top + region.height
        there = None if sheet.covered is None else sheet.covered[region.top : bottom, region.left : right]
        return sheet.light(region.left, region.top, right, bottom), there
    lens = Lens(sheet.width, sheet.height, 1.0, optics=layer.optics)
    grid = GridMap.of(
        lambda p: lens.bent(_carried(layer, p)),
        region.left, region.top, region.width, region.height, 8,
    )
    box = grid.box(sheet.width, sheet.height)
    shape = (region.height, region.width)
    if box is None:
        return np.zeros((*shape, 3), np.float32), np.zeros(shape, bool)
    left, top, right, bottom = box
    where = grid.moved(left, top).dense()
    everywhere = grid.everywhere_inside(sheet.width, sheet.height)
    inside = None if everywhere else inside_frame(where, sheet.width, sheet.height, left, top)
    if sheet.covered is not None:
        own = seen_at(sheet.covered[top:bottom, left:right], where)
        inside = own if inside is None else inside & own
    plain = grid.stays_near(box)
    source = sheet.light(left, top, right, bottom)
    return read_in_colours(source, grid, where, lens, (left, top), plain, layer.calm), inside


def shown(layer: Layer, region: Region) -> F32:
    """A layer's light (h, w, 3) on the region, NaN where it shows nothing."""
    light, mask = _plane(layer, region)
    return light if mask is None else np.where(mask[..., None], light, np.float32(np.nan))


def shown_within(layer: Layer, region: Region, whole: Region) -> F32:
    """A layer's light (h, w, 3) on a region, NaN where it shows nothing and beyond the whole."""
    out = np.full((region.height, region.width, 3), np.nan, np.float32)
    inner = region.shared(whole)
    if inner is not None:
        out[inner.within(region)] = shown(layer, inner)
    return out


def _carried(layer: Layer, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """The frame's px of the picture's (..., 2)."""
    if layer.before is not None:
        points = layer.before(points)
    if layer.transform is None:
        return points
    if layer.lenses is None:
        return planar.apply(layer.transform, points)
    first, own = layer.lenses
    ideal = planar.apply(layer.transform, first.centre + first.focal_px * first.undistort(points))
    u = (ideal - own.centre) / own.focal_px
    return own.project(np.concatenate([u, np.ones((*u.shape[:-1], 1))], axis=-1))


def _where_covered(
    planes: list[F32], masks: Sequence, rule: StackRule, setting: Setting = PLAIN
) -> tuple[F32, NDArray[np.bool_]]:
    """The rule over those frames only that cover a spot, and where any does: corrected lenses leave corners empty."""
    covers = np.stack([
        np.ones(planes[0].shape[:2], bool) if m is None else m for m in masks
    ])
    out = rule.combined(planes, setting)
    partial = ~covers.all(axis=0)
    codes = np.zeros(partial.shape, np.int64)
    for n in range(len(planes)):
        codes = codes * 2 + covers[n]
    for code in np.unique(codes[partial]):
        here = partial & (codes == code)
        if not code:
            out[here] = 0
            continue
        chosen = [n for n in range(len(planes)) if covers[n][here][0]]
        out[here] = rule.combined([planes[n][here][None] for n in chosen], setting.of(chosen))[0]
    return out, covers.any(axis=0)
