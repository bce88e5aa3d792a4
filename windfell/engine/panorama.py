"""The stages of a panorama: registered, levelled, laid out, light fitted, owned, blended."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.cache import key_of
from windfell.engine.picture import Picture
from windfell.engine.registered import RegisteredFrames
from windfell.engine.sources import FULL_FROM
from windfell.engine.stage import (
    development_key,
)
from windfell.engine.surface import (
    Ownership,
    Wide,
    frame_box,
    owner_at,
    owners_near,
    sampled,
    softly,
    surface_map,
)
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.join.blend import FINE_LEVELS, blended, hard_weights, reach, wide_correction
from windfell.join.light import FrameLight, common_samples, fitted_light, radius2
from windfell.join.seams import Claim, cut_owner, nearest_owner, spread
from windfell.join.warp import Warped, covered, frame_map, warped
from windfell.pixels.colour import perceptual
from windfell.pixels.resample import GridMap, inside_frame
from windfell.pixels.tiles import Region
from windfell.recipe.model import Edges, Kind, ProjectionChoice
from windfell.shape.bounds import (
    field_of_view,
    fitted_canvas,
    native_px_per_unit,
    sphere_canvas,
)
from windfell.shape.canvas import Canvas
from windfell.shape.choice import Choice, suitable_projection
from windfell.shape.trim import largest_rectangle

F32 = NDArray[np.float32]

SEAM_PIXELS = 750_000
LIGHT_PIXELS = 160_000
WIDE_PIXELS = 450_000
TRIM_SIDE = 1400
KEPT_PIXELS = 60_000
EXPORT_TILE = 1024


class PanoramaStages(RegisteredFrames):
    """Pure stages over one recipe; each result is kept by what it depends on."""

    kind = Kind.PANORAMA

    def _light_key(self, job: Job) -> str:
        lit = development_key(self.set.used), self.set.joining.match_light
        return key_of("light", self._world_key(job), *lit)

    def _owner_key(self, job: Job) -> str:
        return key_of("owner", self._light_key(job), self.set.joining.cut_seams)

    def key(self, job: Job) -> str:
        """Changes when the picture may have changed."""
        s = self.set
        return key_of(self._owner_key(job), s.view, s.outline, s.joining.blend_pct)

    @cached_property
    def _view(self) -> NDArray[np.float64]:
        v = self.set.view
        if self._slid:
            return from_yaw_pitch_roll(0.0, 0.0, np.radians(v.roll_deg))
        return from_yaw_pitch_roll(*np.radians([v.yaw_deg, v.pitch_deg, v.roll_deg]))

    def choice(self, job: Job) -> Choice:
        """The projection in use and why."""
        wish = self.set.view.projection
        if self._slid:
            return Choice("rectilinear", "the camera slid along a flat subject")
        if self.set.view.full_sphere:
            return Choice("equirectangular", "the whole sphere is asked for")
        if wish is not ProjectionChoice.AUTO:
            return Choice(str(wish), "chosen by hand")
        return suitable_projection(*field_of_view(self.posed(job)))

    @property
    def _whole_sphere(self) -> bool:
        return self.set.view.full_sphere and not self._slid

    def canvas(self, job: Job) -> Canvas:
        """The picture's canvas at full size, trimmed if asked."""
        def lay_out() -> Canvas:
            whole = self.whole_canvas(job)
            trims = self.set.outline.edges is Edges.TRIM and not self._whole_sphere
            return self._trimmed(whole, job) if trims else whole

        s = self.set
        key = key_of("canvas", self._world_key(job), s.view, s.outline, s.output.width_px)
        return self._once("canvas", lambda: self._host.cache.get(key, lay_out))

    def whole_canvas(self, job: Job) -> Canvas:
        """The canvas that holds all frames, at full size."""
        frames = self.posed(job)
        px = native_px_per_unit(frames)
        if self._whole_sphere:
            return sphere_canvas(self.set.output.width_px or round(2 * np.pi * px))
        return fitted_canvas(self.choice(job).projection, frames, self._view, px)

    def _trimmed(self, whole: Canvas, job: Job) -> Canvas:
        small = whole.scaled(min(1.0, TRIM_SIDE / max(whole.width, whole.height)))
        job.step("trimming", 0.5)
        seen = np.pad(self._coverage(small, job), 1)
        inner = cv2.erode(seen.astype(np.uint8), np.ones((3, 3), np.uint8))[1:-1, 1:-1]
        left, top, right, bottom = largest_rectangle(inner > 0)
        if right - left < 2 or bottom - top < 2:
            return whole
        kx = (whole.right - whole.left) / small.width
        ky = (whole.bottom - whole.top) / small.height
        return Canvas(
            whole.projection, whole.left + left * kx, whole.top + top * ky,
            whole.left + right * kx, whole.top + bottom * ky,
            round((right - left) * whole.width / small.width),
            round((bottom - top) * whole.height / small.height), whole.view,
        )

    def _coverage(self, canvas: Canvas, job: Job) -> NDArray[np.bool_]:
        seen = np.zeros((canvas.height, canvas.width), bool)
        region = Region(0, 0, canvas.width, canvas.height)
        for frame in self.posed(job):
            job.check()
            seen |= covered(canvas, region, frame)
        return seen

    def kept_area(self, job: Job) -> float:
        """The share of what the frames cover, as solid angle, that the canvas shows."""
        surface = self._surface(KEPT_PIXELS, job)
        y, x = np.nonzero(self._coverage(surface, job))
        rays = surface.rays(np.stack([x, y], -1).astype(np.float64))
        weight = np.ones(len(rays)) if self._slid else np.hypot(rays[:, 0], rays[:, 2])
        canvas = self.canvas(job)
        with np.errstate(invalid="ignore"):
            place = canvas.pixels(rays)
            shown = inside_frame(place, canvas.width, canvas.height)
        return float(np.sum(weight * shown) / max(np.sum(weight), 1e-9))

    def size(self, job: Job) -> tuple[int, int]:
        """(width, height) px at full size."""
        canvas = self.canvas(job)
        return canvas.width, canvas.height

    def focal_px(self, job: Job) -> float | None:
        """The picture's own focal length in px where it is itself a flat view, else None."""
        canvas = self.canvas(job)
        return canvas.px_per_unit if canvas.projection == "rectilinear" else None

    def export_tile(self, width: int) -> tuple[int, int]:
        """(width, height) of the regions an export is made of."""
        return EXPORT_TILE, EXPORT_TILE

    def _surface(self, pixels: int, job: Job) -> Canvas:
        """The sphere around all frames, unrolled, with about so many pixels."""
        frames = self.posed(job)
        kind = "rectilinear" if self._slid else "equirectangular"
        full = fitted_canvas(kind, frames, np.eye(3), native_px_per_unit(frames))
        return full.scaled(min(1.0, float(np.sqrt(pixels / (full.width * full.height)))))

    def _source_scale(self, frame: Posed, canvas: Canvas) -> float:
        return min(1.0, canvas.px_per_unit / frame.px_per_unit)

    def _warp(self, n: int, canvas: Canvas, region: Region, light: FrameLight, job: Job):
        """Placed frame `n` on a region of a canvas, or None."""
        frame = self.posed(job)[n]
        at = self.registration(job).placed[n]
        source = self._opened(job)[at], self.set.used[at]
        sheet = self._host.developed(*source, self._source_scale(frame, canvas), job)
        return warped(sheet, canvas, region, frame, light)

    def lights(self, job: Job) -> list[FrameLight]:
        """What each placed frame's light is multiplied by."""
        return self._once("lights", lambda: self._host.cache.get(
            self._light_key(job), lambda: self._fit_light(job)))

    def _fit_light(self, job: Job, always: bool = False) -> list[FrameLight]:
        frames = self.posed(job)
        if not (self.set.joining.match_light or always) or len(frames) < 2:
            return [FrameLight()] * len(frames)
        surface = self._surface(LIGHT_PIXELS, job)
        whole = Region(0, 0, surface.width, surface.height)

        def seen(n: int) -> tuple:
            w = self._warp(n, surface, whole, FrameLight(), job)
            if w is None:
                return None
            where = frame_map(surface, whole, frames[n]).dense()
            return w.light, w.mask(), radius2(where, frames[n].lens)

        views = job.map(seen, list(range(len(frames))), "matching light")
        rng = np.random.default_rng(1)
        samples = []
        for a in range(len(frames)):
            for b in range(a + 1, len(frames)):
                if views[a] and views[b]:
                    both = views[a][1] & views[b][1]
                    if both.any():
                        samples.append(common_samples(
                            a, b, views[a][0], views[b][0], views[a][2], views[b][2], both, rng
                        ))
        return fitted_light(len(frames), [s for s in samples if s], job)

    def shared_falloff(self, job: Job) -> tuple[float, float, float]:
        """The edge darkening that the overlaps show, as `FrameLight.falloff`."""
        if len(self.posed(job)) < 2:
            return (0.0, 0.0, 0.0)
        return self._fit_light(job, always=True)[0].falloff

    def ownership(self, job: Job) -> Ownership:
        """Which placed frame owns which spot of the sphere."""
        return self._once("ownership", lambda: self._host.cache.get(
            self._owner_key(job), lambda: self._own(job), on_disk=True))

    def _own(self, job: Job) -> Ownership:
        surface = self._surface(SEAM_PIXELS, job)
        lights = self.lights(job)
        count = len(lights)
        claims = job.map(
            lambda n: self._claim(n, surface, lights[n], job), list(range(count)), "comparing overlaps"
        )
        shape = (surface.height, surface.width)
        if self.set.joining.cut_seams:
            owner = cut_owner(shape, claims, job)
        else:
            owner = nearest_owner(shape, claims)
        return Ownership(surface, spread(owner))

    def _claim(self, n: int, surface: Canvas, light: FrameLight, job: Job) -> Claim:
        frame = self.posed(job)[n]
        box = frame_box(frame, surface)
        seen = self._warp(n, surface, box, light, job)
        if seen is None:
            blank = np.zeros((box.height, box.width), np.float32)
            return Claim(box, np.dstack([blank] * 3), blank > 0, blank)
        where = frame_map(surface, box, frame).dense()
        width, height = frame.lens.width, frame.lens.height
        x, y = where[..., 0], where[..., 1]
        inside = np.minimum.reduce([x, width - 1 - x, y, height - 1 - y]) / (min(width, height) / 2)
        depth = np.clip(np.nan_to_num(inside, nan=0.0), 0, 1)
        return Claim(box, perceptual(seen.light), seen.mask(), depth.astype(np.float32))

    def _levels(self, scale_px_per_unit: float, job: Job) -> int:
        """Bands in all, at a scale: wide enough for the blend asked for, within the overlaps."""
        frames = self.posed(job)
        overlap = 0.3 * min(min(f.lens.width / f.lens.focal_px, f.lens.height / f.lens.focal_px)
                            for f in frames)
        reach_px = self.set.joining.blend_pct / 100 * overlap / 2 * scale_px_per_unit
        return max(0, round(float(np.log2(max(reach_px, 1.0)))))

    def _wide(self, job: Job) -> Wide | None:
        """The wide bands' correction, or None where the fine bands are all that is asked."""
        full = native_px_per_unit(self.posed(job))
        if self._levels(full, job) <= FINE_LEVELS:
            return None
        key = key_of("wide", self._owner_key(job), self.set.joining.blend_pct)
        return self._once("wide", lambda: self._host.cache.get(
            key, lambda: self._make_wide(full, job)))

    def _make_wide(self, full: float, job: Job) -> Wide:
        own = self.ownership(job)
        surface = self._surface(WIDE_PIXELS, job)
        if surface.px_per_unit > full / 2**FINE_LEVELS:
            surface = surface.scaled(full / 2**FINE_LEVELS / surface.px_per_unit)
        owner = cv2.resize(
            own.owner, (surface.width, surface.height), interpolation=cv2.INTER_NEAREST
        )
        lights = self.lights(job)
        whole = Region(0, 0, surface.width, surface.height)

        def frames():
            for n in job.over(range(len(lights)), "evening out"):
                seen = self._warp(n, surface, whole, lights[n], job)
                if seen is not None:
                    yield n, seen

        levels = self._levels(surface.px_per_unit, job)
        return Wide(surface, wide_correction(frames(), owner, levels))

    def prepare(self, scale: float, job: Job) -> None:
        """Do now, in order, what all regions share; full-size frames are decoded meanwhile."""
        canvas = self.canvas(job).scaled(scale)
        with ThreadPoolExecutor(1) as reader:
            if self._source_scale(self.posed(job)[0], canvas) > FULL_FROM:
                for n in self.registration(job).placed:
                    reader.submit(self._opened(job)[n].sheet, 1.0, job)
            self.lights(job)
            self.ownership(job)
            self._wide(job)

    def render(self, region: Region, scale: float, job: Job) -> Picture:
        """A region, in px of the picture at that scale."""
        job.check()
        full = self.canvas(job)
        canvas = full.resized(round(full.width * scale), round(full.height * scale))
        levels = self._fine_levels(canvas.px_per_unit, job)
        grown = region.grown(reach(levels))
        own = self.ownership(job)
        where = surface_map(own.surface, canvas, grown)
        present = owners_near(own, where)
        if len(present) == 1:
            grown, where = region, surface_map(own.surface, canvas, region)
        frames, softs = self._owners_seen(own, present, where, canvas, grown, job)
        if not frames:
            blank = np.zeros((region.height, region.width, 3), np.float32)
            return Picture(blank, np.zeros((region.height, region.width), bool))
        inner = np.s_[
            region.top - grown.top : region.top - grown.top + region.height,
            region.left - grown.left : region.left - grown.left + region.width,
        ]
        light = self._joined(frames, softs, levels)[inner]
        wide = self._wide(job)
        if wide is not None:
            correction = sampled(wide.correction, wide.surface, where.nodes, own.surface)
            light = cv2.add(light, where.spread(correction)[inner])
        if any(f.valid is None for f in frames):
            return Picture(np.ascontiguousarray(light), np.ones(light.shape[:2], bool))
        covers = np.logical_or.reduce([f.valid[inner] for f in frames])
        light = np.where(covers[..., None], light, np.float32(0))
        return Picture(light, covers)

    @staticmethod
    def _joined(frames: list[Warped], softs: list[F32], levels: int) -> F32:
        if len(frames) == 1:
            return frames[0].light
        return blended(frames, hard_weights(softs, [f.valid for f in frames]), levels)

    def owner_map(self, scale: float, job: Job) -> tuple[NDArray[np.int16], NDArray[np.bool_]]:
        """(owner, covered), each (h, w), over the whole picture at a small scale.

        Owners are indices into the placed frames.
        """
        canvas = self.canvas(job).scaled(scale)
        own = self.ownership(job)
        where = surface_map(own.surface, canvas, Region(0, 0, canvas.width, canvas.height)).dense()
        return owner_at(own, where), self._coverage(canvas, job)

    def _fine_levels(self, px_per_unit: float, job: Job) -> int:
        full = native_px_per_unit(self.posed(job))
        fine = min(FINE_LEVELS, self._levels(full, job))
        return max(0, round(fine + float(np.log2(min(1.0, px_per_unit / full)))))

    def _owners_seen(
        self, own: Ownership, present: list[int], where: GridMap, canvas: Canvas, region: Region,
        job: Job,
    ) -> tuple[list[Warped], list[F32]]:
        """Those of the present frames that the region holds, and how strongly each owns what."""
        lights = self.lights(job)
        frames, softs = [], []
        small = canvas.px_per_unit <= own.surface.px_per_unit and len(present) > 1
        owner = owner_at(own, where.dense()) if small else None
        for n in present:
            seen = self._warp(n, canvas, region, lights[n], job)
            if seen is None:
                continue
            frames.append(seen)
            if small:
                softs.append((owner == n).astype(np.float32))
            elif len(present) > 1:
                softs.append(where.spread(softly(own, n, where.nodes)))
        return frames, softs
