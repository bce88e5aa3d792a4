"""A stack's pile: the lowest layer is the rule over all frames, others lie above it, each within its area."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.painting import painted
from windfell.areas.spots import Spots
from windfell.cache import key_of
from windfell.combine.meeting import edge_share, laid_over, own_gain
from windfell.combine.rules import RULES
from windfell.combine.strips import Layer as FrameInPlace
from windfell.combine.strips import combined, shown, shown_within
from windfell.engine.areas import FlatLook, flat_spots
from windfell.engine.finished import finished
from windfell.engine.picture import Picture
from windfell.engine.sources import Opened
from windfell.engine.stack import StackStages
from windfell.engine.stack_repairs import repaired_stack
from windfell.engine.stage import development_key
from windfell.geometry import planar
from windfell.job import Job
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.areas import Area, Found, Meets
from windfell.recipe.combining import Layer

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

KEPT_BELOW = 0.75


class PileStages(StackStages):
    """Pure stages over one recipe; the picture's layers are laid over each other region by region."""

    def base_key(self, job: Job) -> str:
        c, plain = self.set.combining, super().base_key

        def key() -> str:
            own = key_of(plain(job), c.region, c.layers) if c.region or c.layers else plain(job)
            return key_of(own, *self.set.repairs) if self.set.repairs else own

        return self._once("base key", key)

    def render(self, region: Region, scale: float, job: Job) -> Picture:
        """A region, in px of the picture at that scale."""
        return finished(self, region, scale, job)

    def goes_around(self, job: Job) -> bool:
        return False

    def finish_share(self, area: Area, region: Region, scale: float, job: Job) -> F32:
        """How much of each px (h, w) of a region of the picture an area holds."""
        cut = self.cut(job)
        if cut.moves:
            return self.area_share(area, region, scale, cut.onto_reference(scale), job)
        return self.area_share(area, region if cut.plain else cut.region_of(region, scale), scale, None, job)

    def area_share(self, area: Area, region: Region, scale: float, before: Callable | None, job: Job) -> F32:
        """How much of each px (h, w) of a region an area holds; it reads the reference."""
        reads = self._registration_key(job), development_key(self.set.used) if area.reads else ()

        def look(wide: Region, _spots: Spots) -> FlatLook:
            return FlatLook(
                lambda part, k: self._reference_light(part, k, None, job),
                lambda part, make: self._host.cache.get(key_of("found by light", reads, part), make),
                lambda: self._reference_light(wide, scale, before, job), self.whole_size(job), self._host.masks)

        return painted(area, region, flat_spots(self.whole_size(job), scale, before), look)

    def area_over_picture(self, area: Area, scale: float, job: Job) -> F32:
        """An area's share (h, w) of each px of the whole picture at a scale."""
        return self.finish_share(area, Region(0, 0, *scaled_size(self.cut(job).size, scale)), scale, job)

    def _reference_light(self, region: Region, scale: float, before: Callable | None, job: Job) -> F32:
        first = self.frames_in_place(scale, job)[0][0]
        if before is not None:
            return np.nan_to_num(shown(replace(first, before=before), region), nan=0.0)
        return np.nan_to_num(shown_within(first, region, Region(0, 0, *self.whole_at(scale, job))), nan=0.0)

    def frames_in_place(self, scale: float, job: Job) -> tuple[list[FrameInPlace], list[int]]:
        """The frames with a place at a scale, the reference first, and which of the used ones they are."""
        if scale not in self._held:
            self.prepare(scale, job)
        return self._fitting(self._held[scale][0], scale, job), self._order(self.registration(job).frames)

    def planes_in_place(self, scale: float, job: Job) -> tuple[list[F32], list[int]]:
        """The light (h, w, 3) of those frames over the whole ground at a scale, NaN where one shows nothing."""
        frames, numbers = self.frames_in_place(scale, job)
        whole = Region(0, 0, *self.whole_at(scale, job))
        return list(job.map(lambda x: shown(x, whole), frames, "laying frames on each other")), numbers

    def opened(self, job: Job) -> list[Opened]:
        """The frames in use, opened."""
        return self._opened(job)

    def rule_key(self, job: Job) -> str:
        """Of all that the rule's own light hangs on."""
        return key_of(self._registration_key(job), development_key(self.set.used), self._light_parts())

    def region_share(self, region: Region, scale: float, before: Callable | None, job: Job) -> F32 | None:
        c = self.set.combining
        if c.region is None or c.base is None:
            return super().region_share(region, scale, before, job)
        return self.area_share(c.region, region, scale, before, job)

    def on_ground(self, region: Region, scale: float, job: Job) -> Picture:
        """A region of the whole reference at a scale, combined, without repairs."""
        if scale not in self._held:
            self.prepare(scale, job)
        piles = [self._fitting(layers, scale, job) for layers in self._held[scale]]
        return self._piled(piles, region, scale, None, job)

    def _combined(self, piles: list[list[FrameInPlace]], region: Region, scale: float, before: Callable | None,
                  job: Job) -> Picture:
        picture = self._piled(piles, region, scale, before, job)
        return repaired_stack(self, picture, region, scale, before, job) if self.set.repairs else picture

    def _piled(self, piles: list[list[FrameInPlace]], region: Region, scale: float, before: Callable | None,
               job: Job) -> Picture:
        layers = self.set.combining.layers
        if not layers:
            return super()._combined(piles, region, scale, before, job)
        picture = self._seen("lowest", (self.set.combining.region,), region, scale, before, job,
                             lambda: super(PileStages, self)._combined(piles, region, scale, before, job))
        picture = Picture(picture.light.copy(), picture.covered.copy())  # what is kept stays as it is
        for layer in layers:
            if layer.on and layer.strength_pct > 0 and not (layer.area is not None and layer.area.empty):
                picture = self._laid_within(picture, layer, region, scale, before, job)
        return picture

    def _laid_within(self, below: Picture, layer: Layer, region: Region, scale: float, before: Callable | None,
                     job: Job) -> Picture:
        """The picture with a layer over it; of a layer that holds in a small part of it only that part is made, in
        place.
        """
        part = None if before is not None or layer.edge_pct else self._where(layer, scale, job)
        if part is None:
            return self._laid(below, layer, region, scale, before, job)
        part = part.shared(region)
        if part is None:
            return below
        at = part.within(region)
        inner = Picture(np.ascontiguousarray(below.light[at]), below.covered[at])
        made = self._laid(inner, layer, part, scale, before, job)
        below.light[at], below.covered[at] = made.light, made.covered
        return below

    def _where(self, layer: Layer, scale: float, job: Job) -> Region | None:
        """The part of the whole picture at a scale beyond which a piece, by its masks, holds nowhere; None if that is
        not known.
        """
        area = layer.area
        if area is None or area.inverted or not area.parts or area.parts[0].meets is not Meets.ADD:
            return None
        names = [p.name if isinstance(p, Found) else None for p in area.parts if p.meets is Meets.ADD]
        masks = [self._host.masks.get(name) for name in names]
        if any(m is None for m in masks):
            return None
        mask, boxes = masks[0], [
            self._host.cache.get(key_of("box of a mask", name), lambda m=m: cv2.boundingRect(m))
            for name, m in zip(names, masks, strict=True) if m.shape == masks[0].shape]
        if len(boxes) < len(masks):
            return None
        x, y = min(b[0] for b in boxes), min(b[1] for b in boxes)
        w, h = max(b[0] + b[2] for b in boxes) - x, max(b[1] + b[3] for b in boxes) - y
        width, height = self.whole_at(scale, job)
        kx, ky = width / mask.shape[1], height / mask.shape[0]
        rim = int((abs(area.grow) + 3 * area.feather) * scale + 2 * max(kx, ky, 1) + 2)
        left, top = int(x * kx) - rim, int(y * ky) - rim
        return Region(left, top, int((x + w) * kx) + rim + 1 - left, int((y + h) * ky) + rim + 1 - top)

    def _seen(self, name: str, parts: tuple, region: Region, scale: float, before: Callable | None, job: Job,
              make: Callable[[], Any]) -> Any:
        """What `make` gives of a region, kept for previews, in which one layer changes and the others do not."""
        if scale >= KEPT_BELOW:
            return make()
        cut = (self.set.view.roll_deg, self.set.outline) if before is not None else ()
        return self._host.cache.get(key_of("pile", name, parts, self.rule_key(job), scale, region, cut), make)

    def _laid(self, below: Picture, layer: Layer, region: Region, scale: float, before: Callable | None, job: Job
              ) -> Picture:
        """The picture with a layer over it."""
        share = np.full(below.covered.shape, layer.strength_pct / 100, np.float32)
        if layer.area is not None:
            share *= self.area_share(layer.area, region, scale, before, job)
        if not share.any():
            return below
        own = layer.rule, layer.frames, layer.floor, layer.floor_pct, layer.placed and (
            layer.right_px, layer.down_px, layer.turn_deg, layer.size_pct)
        found = self._seen("layer", own, region, scale, before, job,
                           lambda: self._own_light(layer, region, scale, before, job))
        if found is None:
            return below
        light, covered = found
        soft = layer.edge_pct / 100 * min(self.whole_size(job)) * scale
        there = edge_share(covered, share.shape, soft)
        share *= there
        light = light * own_gain(layer.exposure_ev, layer.warmth, layer.tint)
        light = laid_over(below.light, light, share, str(layer.over))
        return Picture(np.ascontiguousarray(light, np.float32), below.covered | (share > 0))

    def _own_light(self, layer: Layer, region: Region, scale: float, before: Callable | None, job: Job
                   ) -> tuple[F32, NDArray[np.bool_] | None] | None:
        """The light of a layer's frames by its rule, and where they cover the region; None where it has none."""
        used = self._order(self.registration(job).frames, every=True)
        ids = [self.set.used[n].id for n in used]
        mine = [k for k, i in enumerate(ids) if not layer.frames or i in layer.frames]
        if not mine:
            return None
        frames = self._frames_with_floor(layer, scale, job)
        onto = self._placed(layer, region, scale, before, job)
        chosen = [frames[k] if onto is None else replace(frames[k], before=onto) for k in mine]
        if len(mine) == 1 and layer.frames:
            return combined(chosen, RULES["mean"], region)
        numbers = [used[k] for k in mine]
        return combined(chosen, RULES[str(layer.rule)], region, self.setting_of(layer.rule, numbers, job))

    def _frames_with_floor(self, layer: Layer, scale: float, job: Job) -> list[FrameInPlace]:
        key = scale, layer.floor, layer.floor_pct
        if key not in self._floored:
            places = self.registration(job).frames
            self._floored[key] = self._layers(places, scale, job, (layer.floor, layer.floor_pct))
        return self._fitting(self._floored[key], scale, job)

    def _placed(self, layer: Layer, region: Region, scale: float, before: Callable | None, job: Job
                ) -> Callable[[Array], Array] | None:
        """The map from the region's px to those of the reference that the layer, moved as it is, shows there."""
        if not layer.placed:
            return before
        back = np.linalg.inv(placing(layer, self.whole_at(scale, job), scale))
        return lambda points: planar.apply(back, points if before is None else before(points))


def placing(layer: Layer, size: tuple[int, int], scale: float) -> Array:
    """(3, 3): where a layer, moved, turned and sized about the middle, has px of a reference of that size."""
    x, y = (size[0] - 1) / 2, (size[1] - 1) / 2
    turn, k = np.radians(layer.turn_deg), layer.size_pct / 100
    c, s = k * np.cos(turn), k * np.sin(turn)
    right, down = layer.right_px * scale, layer.down_px * scale
    return np.array([[c, -s, x - c * x + s * y + right], [s, c, y - s * x - c * y + down], [0, 0, 1.0]])
