"""The joining of a panorama's frames, whatever the view: their light fitted, owners found, wide bands evened out."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.cache import key_of
from windfell.engine.registered import RegisteredFrames
from windfell.engine.stage import development_key
from windfell.engine.surface import Ownership, Wide, frame_box
from windfell.geometry.posed import Posed
from windfell.job import Job
from windfell.join.blend import FINE_LEVELS, everywhere, wide_correction
from windfell.join.light import FrameLight, common_samples, fitted_light, radius2
from windfell.join.seams import Claim, cut_owner, nearest_owner, spread
from windfell.join.warp import Warped, frame_map, warped
from windfell.pixels.colour import perceptual
from windfell.pixels.sheet import Sheet
from windfell.pixels.tiles import Region
from windfell.shape.bounds import covered_rays, fitted_canvas, native_px_per_unit
from windfell.shape.canvas import Canvas

SEAM_PIXELS = 750_000
LIGHT_PIXELS = 160_000
WIDE_PIXELS = 450_000
DRAFT_WIDE_PIXELS = 60_000


class JoinedFrames(RegisteredFrames):
    """Pure stages over one recipe that do not hang on the view.

    Light, owners and wide bands live on the *surface*, the sphere around all frames unrolled.
    """

    def _light_key(self, job: Job) -> str:
        lit = development_key(self.set.used), self.set.joining.match_light
        return key_of("light", self._world_key(job), *lit)

    def _owner_key(self, job: Job) -> str:
        return key_of("owner", self._light_key(job), self.set.joining.cut_seams)

    def _covered_rays(self, job: Job) -> NDArray[np.float64]:
        """Rays spread over all frames, for whatever has to hold them."""
        key = key_of("covered rays", self._light_key(job))
        return self._once("covered rays", lambda: self._host.cache.get(key, lambda: covered_rays(self.posed(job))))

    def _surface(self, pixels: int, job: Job) -> Canvas:
        """The sphere around all frames, unrolled, with about so many pixels."""
        def lay_out() -> Canvas:
            frames = self.posed(job)
            kind = "rectilinear" if self._slid else "equirectangular"
            return fitted_canvas(kind, frames, np.eye(3), native_px_per_unit(frames), self._covered_rays(job))

        key = key_of("surface", self._light_key(job))
        full = self._once("surface", lambda: self._host.cache.get(key, lay_out))
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

    def _wide(self, job: Job, pixels: int = WIDE_PIXELS) -> Wide | None:
        """The wide bands' correction, or None where the fine bands are all that is asked."""
        full = native_px_per_unit(self.posed(job))
        if self._levels(full, job) <= FINE_LEVELS:
            return None
        key = key_of("wide", self._owner_key(job), self.set.joining.blend_pct, pixels)
        return self._once(f"wide {pixels}", lambda: self._host.cache.get(
            key, lambda: self._make_wide(full, pixels, job)))

    def _make_wide(self, full: float, pixels: int, job: Job) -> Wide:
        own = self._coarse_ownership(full, pixels, job)
        count = len(self.lights(job))
        levels = self._levels(own.surface.px_per_unit, job)
        frames = ((n, seen) for n in job.over(range(count), "evening out")
                  if (seen := self._on_surface(n, own.surface, job)) is not None)
        return Wide(own.surface, wide_correction(frames, own.owner, levels))

    def _coarse_ownership(self, full: float, pixels: int, job: Job) -> Ownership:
        """Owners on the surface of the wide bands, of about so many pixels."""
        own = self.ownership(job)
        surface = self._surface(pixels, job)
        if surface.px_per_unit > full / 2**FINE_LEVELS:
            surface = surface.scaled(full / 2**FINE_LEVELS / surface.px_per_unit)
        size = surface.width, surface.height
        return Ownership(surface, cv2.resize(own.owner, size, interpolation=cv2.INTER_NEAREST))

    def _on_surface(self, n: int, surface: Canvas, job: Job) -> Warped | None:
        """Placed frame `n`, lit, on the whole surface; kept, and continued all over it, if that is small."""
        whole = Region(0, 0, surface.width, surface.height)

        def lay() -> Warped | None:
            return self._warp(n, surface, whole, self.lights(job)[n], job)

        def lay_all_over() -> Warped | None:
            seen = lay()
            return seen and Warped(everywhere(seen), None)

        if surface.width * surface.height > 2 * DRAFT_WIDE_PIXELS:
            return lay()
        return self._host.cache.get(key_of("on surface", self._light_key(job), n, surface), lay_all_over)

    def draft_wide(self, job: Job) -> Wide | None:
        """The wide bands' correction as coarse as a draft may have it."""
        return self._wide(job, DRAFT_WIDE_PIXELS)

    def draft_ownership(self, job: Job) -> Ownership:
        """Owners as coarse as a draft's wide bands know them."""
        return self._coarse_ownership(native_px_per_unit(self.posed(job)), DRAFT_WIDE_PIXELS, job)

    def draft_keys(self, job: Job) -> tuple[str, str]:
        """What a draft's frames hang on before and after blending."""
        return self._owner_key(job), key_of(self._owner_key(job), self.set.joining.blend_pct)

    def small_sheet(self, n: int, scale: float, job: Job) -> Sheet:
        """Placed frame `n` as it is developed, at about a scale."""
        at = self.registration(job).placed[n]
        return self._host.developed(self._opened(job)[at], self.set.used[at], scale, job)
