"""The stages of a panorama: registered, levelled, laid out, light fitted, owned, blended."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.engine.areas import Drawer, on_canvas
from windfell.engine.behind import Backdrop, backdrop_of, draft_with_behind, with_behind
from windfell.engine.draft import drafted
from windfell.engine.draft_repairs import make_ready, with_repairs
from windfell.engine.finished import finished, finished_view
from windfell.engine.joined import FEATHER_LEVELS, FEATHER_SIGMA
from windfell.engine.laid_out import LaidOutFrames
from windfell.engine.picture import Picture
from windfell.engine.repairs import repaired
from windfell.engine.sources import FULL_FROM, canonical_scale
from windfell.engine.surface import Ownership, heard_at, owner_at, owners_near, sampled, softly, surface_map
from windfell.job import Job
from windfell.join.blend import Piece, blended, feathered, hard_weights, heard_only, reach
from windfell.join.warp import Warped, covered
from windfell.pixels.resample import GridMap
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area
from windfell.recipe.model import Blend, Joining, Kind
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]

EXPORT_TILE = 1024
LEAST_CLAIM = 1e-3
PREVIEW_BELOW = 0.75


class PanoramaStages(LaidOutFrames):
    """Pure stages over one recipe; each result is kept by what it depends on."""

    kind = Kind.PANORAMA

    def key(self, job: Job) -> str:
        """Changes when the picture may have changed."""
        return key_of(self.base_key(job), *self.set.finish.active)

    def base_key(self, job: Job) -> str:
        """Of all that the picture without its finish hangs on."""
        return self._once("base key", lambda: key_of(
            self.joined_key(job), self.set.view, self.set.outline, *self.set.repairs))

    def joined_key(self, job: Job) -> str:
        """Of the joined picture around the frames and what lies behind it, whatever the view, without repairs."""
        frames, backdrop = self.frames_joined_key(job), self.backdrop(job)
        return frames if backdrop is None else key_of(frames, backdrop.key(job))

    def backdrop(self, job: Job) -> Backdrop | None:
        """What lies behind the panorama, if anything does."""
        return self._once("backdrop", lambda: (backdrop_of(self, job),))[0]

    def other(self, set_id: str) -> PanoramaStages:
        """The stages of another set of the project."""
        return self._host.stages(self._project, set_id)

    def usually_blended(self) -> PanoramaStages:
        """The stages of the same set if nobody had changed how it is blended."""
        usual = replace(self.set.joining, blend=Joining.blend, blend_pct=Joining.blend_pct, seam_blends=())
        if usual == self.set.joining:
            return self
        project = self._project.with_set(replace(self.set, joining=usual))
        return self._once("usual blend", lambda: self._host.stages(project, self.set.id))

    def look_key(self, job: Job) -> str:
        """Of all that the picture of a spot hangs on but who owns it."""
        joining = self.set.joining
        bent = self._seen_key(job) if joining.bend_seams or joining.bent else ""
        return key_of(self._light_key(job), joining.blend_pct, joining.blend, bent, *joining.seam_blends)

    def draft(self, side: int, job: Job) -> tuple[Canvas, NDArray[np.uint8]]:
        """The canvas at full size, found coarsely, and the whole picture at about `side` px a side as a screen shows
        it: sRGB, opacity, uint8 (h, w, 4).
        """
        full = self.canvas(job, fine=False)
        canvas = full.scaled(min(1.0, side / max(full.width, full.height)))
        return full, finished_view(self, self.draft_on(canvas, job), canvas.width / full.width, job)

    def draft_on(self, canvas: Canvas, job: Job) -> NDArray[np.uint8]:
        """A draft (h, w, 4) of all of a canvas around the frames, without its finish."""
        scale = canonical_scale(min(1.0, max(self._source_scale(f, canvas) for f in self.posed(job))))
        pixels = drafted(self, self._host.cache, canvas, scale, job)
        pixels = draft_with_behind(self, pixels, canvas, job)
        return with_repairs(self, self._host.cache, pixels, canvas, job)

    def export_tile(self, width: int) -> tuple[int, int]:
        """(width, height) of the regions an export is made of."""
        return EXPORT_TILE, EXPORT_TILE

    def prepare(self, scale: float, job: Job) -> None:
        """Do now, in order, what all regions share; full-size frames are decoded meanwhile."""
        canvas = self.canvas(job).scaled(scale)
        with ThreadPoolExecutor(1) as reader:
            if self._source_scale(self.posed(job)[0], canvas) > FULL_FROM:
                for n in self.registration(job).placed:
                    reader.submit(self._opened(job)[n].sheet, 1.0, job)
            self.make_ready(canvas.px_per_unit, job)
        if scale < PREVIEW_BELOW:
            make_ready(self, self._host.cache, job)

    def make_ready(self, px_per_unit: float, job: Job) -> None:
        """Do now what all regions of a picture so fine share."""
        self.lights(job)
        self.ownership(job)
        self._wide(job)
        if self._fine_levels(px_per_unit, job):
            self.differences(job)
        backdrop = self.backdrop(job)
        if backdrop is not None:
            backdrop.stages.make_ready(px_per_unit, job)

    def render(self, region: Region, scale: float, job: Job) -> Picture:
        """A region, in px of the picture at that scale."""
        return finished(self, region, scale, job)

    def goes_around(self, job: Job) -> bool:
        """Whether the picture's left and right edge show the same direction."""
        return self.canvas(job).wraps

    def finish_share(self, area: Area, region: Region, scale: float, job: Job) -> F32:
        """How much of each px (h, w) of a region an area holds; it reads the joined picture."""
        full = self.canvas(job)
        canvas = full.resized(round(full.width * scale), round(full.height * scale))
        return on_canvas(area, self.area_ground, canvas, region, self._joined_drawer(job) if area.reads else None,
                         self._host.cache)

    def _joined_drawer(self, job: Job) -> Drawer:
        """What shows the picture, as it is joined, on any canvas."""
        return Drawer(lambda canvas, region: self.joined_on(canvas, region, job).light, lambda part, make:
                      self._host.cache.get(key_of("found in the picture", self.joined_key(job), part), make))

    def unfinished(self, region: Region, scale: float, job: Job) -> Picture:
        """A region of the picture without its finish."""
        full = self.canvas(job)
        canvas = full.resized(round(full.width * scale), round(full.height * scale))
        picture = self.joined_on(canvas, region, job)
        return repaired(self, picture, canvas, region, len(self.set.repairs), job)

    def joined_on(self, canvas: Canvas, region: Region, job: Job) -> Picture:
        """A region of any canvas around the frames, joined, what lies behind it laid behind, without repairs."""
        return with_behind(self, self.frames_on(canvas, region, job), canvas, region, job)

    def behind_share(self, area: Area, canvas: Canvas, region: Region, kept: bool, job: Job) -> F32:
        """How much of each px (h, w) of a region an area of what lies behind holds; it reads the frames."""
        drawer = None
        if area.reads:
            drawer = Drawer(lambda c, r: self.frames_on(c, r, job).light, lambda part, make: self._host.cache.get(
                key_of("found in the frames", self.frames_joined_key(job), part), make))
        return on_canvas(area, self.area_ground, canvas, region, drawer, self._host.cache if kept else None,
                         self._host.masks)

    def frames_on(self, canvas: Canvas, region: Region, job: Job) -> Picture:
        """A region of any canvas around the frames, joined."""
        job.check()
        levels = self._fine_levels(canvas.px_per_unit, job)
        grown = region.grown(reach(levels))
        own = self.ownership(job)
        where = surface_map(own.surface, canvas, grown)
        present = owners_near(own, where)
        if len(present) == 1:
            grown, where = region, surface_map(own.surface, canvas, region)
        seen = self._pieces(own, present, where, canvas, grown, levels, job)
        if not seen:
            blank = np.zeros((region.height, region.width, 3), np.float32)
            return Picture(blank, np.zeros((region.height, region.width), bool))
        inner = np.s_[
            region.top - grown.top : region.top - grown.top + region.height,
            region.left - grown.left : region.left - grown.left + region.width,
        ]
        light = self._joined(seen, canvas, where, job)[inner]
        covers = np.zeros((grown.height, grown.width), bool)
        for piece in seen.values():
            covers[piece.at] |= piece.frame.mask()
        covers = covers[inner]
        drawn = canvas.drawn(region)
        if drawn is not None:
            covers &= drawn
        if covers.all():
            return Picture(np.ascontiguousarray(light), covers)
        return Picture(np.where(covers[..., None], light, np.float32(0)), covers)

    def _joined(self, seen: dict[int, Piece], canvas: Canvas, where: GridMap, job: Job) -> F32:
        """The frames blended, each seam in its way."""
        light = self._blended(seen, self.set.joining.blend, canvas, where, job)
        own = self.ownership(job)
        for part in self.seam_shares(job):
            share = sampled(part.share, part.surface, where.nodes, own.surface)
            if share.max() > LEAST_CLAIM:
                its = self._blended(seen, part.way, canvas, where, job)
                light = light + where.spread(share)[..., None] * (its - light)
        return light

    def _blended(self, seen: dict[int, Piece], way: Blend, canvas: Canvas, where: GridMap, job: Job) -> F32:
        """The frames blended in one way, wide bands included."""
        light = self._finely(seen, way, self._fine_levels(canvas.px_per_unit, job, way), where, job)
        wide = self._wide(job) if way is Blend.WIDE else None
        if wide is None:
            return light
        correction = sampled(wide.correction, wide.surface, where.nodes, self.ownership(job).surface)
        return cv2.add(light, where.spread(correction))

    def _finely(self, seen: dict[int, Piece], way: Blend, levels: int, where: GridMap, job: Job) -> F32:
        """The frames blended by their fine bands; what only one of them shows is not heard beyond what it owns."""
        shape, pieces = (where.height, where.width), list(seen.values())
        if len(pieces) == 1 and pieces[0].box == Region(0, 0, where.width, where.height):
            return pieces[0].frame.light
        weights = hard_weights(shape, pieces)
        if way is Blend.FEATHER and levels:
            scale = 2.0 ** (levels - FEATHER_LEVELS)
            return blended(shape, pieces, feathered(shape, pieces, weights, FEATHER_SIGMA * scale), 0)
        if levels:
            own, parts, coarse = self.ownership(job), self.differences(job), self.coarse_surface(job)
            heard = [parts[n] and heard_at(parts[n], coarse, where.part(p.box), own.surface) for n, p in seen.items()]
            pieces = heard_only(shape, pieces, weights, heard)
        return blended(shape, pieces, weights, levels)

    def warped_frame(self, n: int, canvas: Canvas, region: Region, job: Job) -> Warped | None:
        """Placed frame `n`, lit, on a region of a canvas; None if it is not there."""
        return self._warp(n, canvas, region, self.lights(job)[n], job)

    def owners(self, canvas: Canvas, region: Region, job: Job) -> NDArray[np.int16]:
        """The placed frame that owns each px (h, w) of a region, as the blending has it; -1 where none is."""
        own = self.ownership(job)
        where = surface_map(own.surface, canvas, region)
        best = np.full((region.height, region.width), -1.0, np.float32)
        owner = np.full(best.shape, -1, np.int16)
        for n in owners_near(own, where):
            seen = covered(canvas, region, self.shown_posed(job)[n])
            if not seen.any():
                continue
            claim = np.where(seen, where.spread(softly(own, n, where.nodes)) + np.float32(2), np.float32(-1))
            better = claim > best
            owner[better], best[better] = n, claim[better]
        return owner

    def owner_map(self, scale: float, job: Job) -> tuple[NDArray[np.int16], NDArray[np.bool_]]:
        """(owner, covered), each (h, w), over the whole picture at a small scale.

        Owners are indices into the placed frames.
        """
        canvas = self.canvas(job).scaled(scale)
        own = self.ownership(job)
        where = surface_map(own.surface, canvas, Region(0, 0, canvas.width, canvas.height)).dense()
        return owner_at(own, where), self._coverage(canvas, job)

    def _pieces(
        self, own: Ownership, present: list[int], where: GridMap, canvas: Canvas, region: Region, levels: int,
        job: Job,
    ) -> dict[int, Piece]:
        """Those of the present frames that the region holds, by number, each on the part that it may give to."""
        lights, out, whole = self.lights(job), {}, Region(0, 0, region.width, region.height)
        small = canvas.px_per_unit <= own.surface.px_per_unit and len(present) > 1
        owner = owner_at(own, where.dense()) if small else None
        for n in present:
            box, nodes = whole, None
            if small:
                box = _box_of(owner == n, 1, where, levels)
            elif len(present) > 1:
                nodes = softly(own, n, where.nodes)
                box = _box_of(nodes > LEAST_CLAIM, where.step, where, levels)
            if box is None:
                continue
            placed = Region(region.left + box.left, region.top + box.top, box.width, box.height)
            seen = self._warp(n, canvas, placed, lights[n], job)
            if seen is None:
                continue
            if small:
                claim = (owner[box.within(whole)] == n).astype(np.float32)
            elif nodes is None:
                claim = np.ones((box.height, box.width), np.float32)
            else:
                claim = replace(where, nodes=nodes).part(box).dense()
            out[n] = Piece(box, seen, claim)
        return out


def _box_of(claimed: NDArray[np.bool_], step: int, where: GridMap, levels: int) -> Region | None:
    """The part of a region around what is claimed at its px, or at the nodes of its map, as far as bands reach."""
    rows, columns = np.flatnonzero(claimed.any(axis=1)), np.flatnonzero(claimed.any(axis=0))
    if not len(rows):
        return None
    # nodes lie a block outside of the px they stand for, and speak for their neighbours
    before, after = (0, 1) if step == 1 else (2, 1)
    grow = reach(levels) + 2
    block = max(where.step, 2**levels)
    left, top = (max(0, ((v[0] - before) * step - grow) // block * block) for v in (columns, rows))
    right, bottom = ((v[-1] + after) * step + grow for v in (columns, rows))
    right, bottom = (-(-v // block) * block for v in (right, bottom))
    right, bottom = min(right, where.width), min(bottom, where.height)
    if right <= left or bottom <= top:
        return None
    return Region(int(left), int(top), int(right - left), int(bottom - top))
