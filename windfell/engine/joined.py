"""The joining of a panorama's frames, whatever the view: their light fitted, owners found, wide bands evened out."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.spots import Plane, Sphere
from windfell.cache import key_of
from windfell.engine.areas import Drawer, on_canvas
from windfell.engine.registered import RegisteredFrames
from windfell.engine.seam_bends import SeamBends, seam_bends
from windfell.engine.seam_blends import WayShare, seam_shares
from windfell.engine.stage import development_key
from windfell.engine.surface import Ownership, Wide, frame_box
from windfell.geometry.posed import Posed
from windfell.job import Job
from windfell.join.agree import Difference, difference, owned_picture, reaching
from windfell.join.blend import FINE_LEVELS, reach, wide_correction
from windfell.join.light import FrameLight, FrameSeen, fair_light, fitted_light, radius2, shared_samples
from windfell.join.owning import Boxed, with_owning
from windfell.join.seams import BLOCK, Claim, cut_near, cut_owner, nearest_owner, spread
from windfell.join.warp import Warped, frame_map, warped
from windfell.pixels.channels import burnt_share
from windfell.pixels.colour import perceptual
from windfell.pixels.sheet import Sheet
from windfell.pixels.tiles import Region
from windfell.recipe.model import Blend, Frame, Given
from windfell.shape.bounds import covered_rays, fitted_canvas, native_px_per_unit
from windfell.shape.canvas import Canvas

SEAM_PIXELS = 750_000
BURNT_FROM, BURNT = 0.92, 0.995
LIGHT_PIXELS, SHARE_PIXELS = 160_000, 200_000
WIDE_PIXELS = 450_000
DRAFT_WIDE_PIXELS = 60_000
REACH = 3
FEATHER_LEVELS, FEATHER_SIGMA = 2, 5.0


class JoinedFrames(RegisteredFrames):
    """Pure stages over one recipe that do not hang on the view.

    Light, owners and wide bands live on the *surface*, the sphere around all frames unrolled.
    """

    def _light_key(self, job: Job) -> str:
        return self._once("light key", lambda: key_of(
            "light", self._world_key(job), development_key(self.set.used), self.set.joining.match_light))

    def _owner_key(self, job: Job) -> str:
        plain = self._found_owner_key(job)
        return key_of(plain, *self._given) if self._given else plain

    def _seen_key(self, job: Job) -> str:
        """Of the owners, and of how the frames lie as they are shown."""
        j = self.set.joining
        return key_of(self._owner_key(job), j.bend_seams, j.bent) if j.bend_seams or j.bent else self._owner_key(job)

    def _found_owner_key(self, job: Job) -> str:
        """Of the owners as they were without areas."""
        owning = tuple(f.masks for f in self.set.used)
        asked = owning if any(owning) else ()
        return self._once("owner key", lambda: key_of(
            "owner", self._light_key(job), self.set.joining.cut_seams, *asked))

    @property
    def _given(self) -> tuple[Given, ...]:
        """What is given to frames that are in use."""
        ids = {f.id for f in self.set.used}
        return tuple(g for g in self.set.joining.given if g.frame in ids and not g.area.empty)

    @property
    def area_ground(self) -> Sphere | Plane:
        """What areas of the panorama are drawn on."""
        return Plane() if self._slid else Sphere()

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

    def surface_of(self, pixels: int, job: Job) -> Canvas:
        """The sphere around all frames in their level world, unrolled, with about so many pixels."""
        return self._surface(pixels, job)

    def _source_scale(self, frame: Posed, canvas: Canvas) -> float:
        return min(1.0, canvas.px_per_unit / frame.px_per_unit)

    def shown_posed(self, job: Job) -> list[Posed]:
        """The placed frames as the picture shows them: bent along seams too, where that is asked for."""
        joining = self.set.joining
        if not joining.bend_seams and not joining.bent:
            return self.posed(job)
        bends = self.seam_bends(job).bends
        return self._once("shown posed", lambda: [
            replace(f, bend=bends[n]) if n in bends else f for n, f in enumerate(self.posed(job))])

    def seam_bends(self, job: Job) -> SeamBends:
        """How frames are bent along seams."""
        joining, used = self.set.joining, self.set.used
        numbers = {used[at].id: n for n, at in enumerate(self.registration(job).placed)}
        pairs = None if joining.bend_seams else frozenset(
            tuple(sorted((numbers[s.a], numbers[s.b]))) for s in joining.bent if s.a in numbers and s.b in numbers)
        key = key_of("seam bends", self._owner_key(job), sorted(pairs) if pairs is not None else None)
        return self._once("seam bends", lambda: self._host.cache.get(key, lambda: seam_bends(self, pairs, job)))

    def piece(self, frame: Frame, job: Job) -> Sheet:
        """The pixels of a picture file that is laid over the panorama."""
        return self._host.opened(self._project, frame, job).sheet(1.0, job)

    def frames_joined_key(self, job: Job) -> str:
        """Of the frames joined, whatever the view."""
        joining = self.set.joining
        return self._once("joined key", lambda: key_of(
            self._seen_key(job), joining.blend_pct, joining.blend, *joining.seam_blends))

    def straight_frame(self, n: int, canvas: Canvas, region: Region, job: Job) -> Warped | None:
        """Placed frame `n`, lit, on a region of a canvas, not bent along seams; None if it is not there."""
        return self._warp(n, canvas, region, self.lights(job)[n], job, self.posed(job)[n])

    def _warp(self, n: int, canvas: Canvas, region: Region, light: FrameLight, job: Job, posed: Posed | None = None):
        """Placed frame `n` on a region of a canvas, or None; as the picture shows it, or `posed`."""
        frame = posed or self.shown_posed(job)[n]
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

        def seen(n: int) -> FrameSeen | None:
            box = frame_box(frames[n], surface)
            w = self._warp(n, surface, box, FrameLight(), job, frames[n])
            if w is None:
                return None
            where = frame_map(surface, box, frames[n]).dense()
            return FrameSeen(box, w.light, fair_light(w.light, w.mask()), radius2(where, frames[n].lens))

        views = job.map(seen, list(range(len(frames))), "matching light")
        return fitted_light(len(frames), shared_samples(views, np.random.default_rng(1)), job)

    def fitted_lights(self, job: Job) -> list[FrameLight]:
        """What each placed frame's light is off the others', whether it is to be matched or not."""
        return self.lights(job) if self.set.joining.match_light else self._fit_light(job, always=True)

    def shared_falloff(self, job: Job) -> tuple[float, float, float]:
        """The edge darkening that the overlaps show, as `FrameLight.falloff`."""
        if len(self.posed(job)) < 2:
            return (0.0, 0.0, 0.0)
        return self._fit_light(job, always=True)[0].falloff

    def ownership(self, job: Job) -> Ownership:
        """Which placed frame owns which spot of the sphere."""
        def found() -> Ownership:
            return self._host.cache.get(
                self._found_owner_key(job), lambda: self._own(job), on_disk=self.lasting(job))

        def given() -> Ownership:
            before = found()
            claims = self._as_given(self.claims(before.surface, job), before.surface, job)
            return Ownership(before.surface, cut_near(before.owner, claims, job))

        return self._once("ownership", lambda: self._host.cache.get(
            self._owner_key(job), given) if self._given else found())

    def _own(self, job: Job) -> Ownership:
        surface = self._surface(SEAM_PIXELS, job)
        surface = surface.resized(*(-(-v // BLOCK) * BLOCK for v in (surface.width, surface.height)))
        shape = surface.height, surface.width
        claims = self.claims(surface, job)
        lay = cut_owner if self.set.joining.cut_seams else nearest_owner
        return Ownership(surface, spread(lay(shape, claims, job)))

    def claims(self, surface: Canvas, job: Job) -> list[Claim]:
        """What every placed frame may own of a surface, by masks of their own."""
        lights = self.lights(job)
        claims = self._host.cache.get(key_of("claims", self._light_key(job), surface), lambda: job.map(
            lambda n: self._claim(n, surface, lights[n], job), list(range(len(lights))), "comparing overlaps"))
        return with_owning(claims, *(self._owning(surface, p, job) for p in ("keep", "never")))

    def _as_given(self, claims: list[Claim], surface: Canvas, job: Job) -> list[Claim]:
        """The claims with what areas say; later ones against what was said before them."""
        keep: dict[int, Boxed] = {}
        never: dict[int, Boxed] = {}
        used, placed = self.set.used, self.registration(job).placed
        numbers = {used[at].id: n for n, at in enumerate(placed)}
        for given in self._given:
            n = numbers.get(given.frame)
            if n is None:
                continue
            box = frame_box(self.posed(job)[n], surface).blocks(BLOCK)
            here = self.given_share(given, n, surface, box, job) >= 0.5
            for m, known in [*keep.items(), *never.items()]:
                if given.keep or m == n:
                    _without(known, box, here)
            mine = keep if given.keep else never
            mine[n] = _joined_box(mine[n], (box, here)) if n in mine else (box, here)
        return with_owning(claims, keep, never)

    def given_share(self, given: Given, n: int, surface: Canvas, box: Region, job: Job) -> NDArray[np.float32]:
        """How much of each px (h, w) of a box of a surface is given to placed frame `n`."""
        draw = self.frame_drawer(n, job)
        key = key_of("given", self._light_key(job), given.area, given.area.reads and given.frame, surface, box)
        return self._host.cache.get(key, lambda: on_canvas(
            given.area, self.area_ground, surface, box, draw if given.area.reads else None))

    def frame_drawer(self, n: int, job: Job) -> Drawer:
        """What shows placed frame `n` on a region of any canvas, 0 beyond it."""
        def draw(canvas: Canvas, region: Region) -> NDArray[np.float32]:
            seen = self._warp(n, canvas, region, FrameLight(), job, self.posed(job)[n])
            return np.zeros((region.height, region.width, 3), np.float32) if seen is None else seen.light

        return Drawer(draw, lambda part, make: self._host.cache.get(
            key_of("found by light", self._light_key(job), n, part), make))

    def _owning(self, surface: Canvas, purpose: str, job: Job) -> dict[int, Boxed]:
        """Where placed frames must, or must not, own a surface: (box, mask (h, w)) by number."""
        found = {}
        for n, at in enumerate(self.registration(job).placed):
            mask = self._host.owning(self.set.used[at], purpose)
            if mask is None:
                continue
            frame = self.posed(job)[n]
            box = frame_box(frame, surface).blocks(BLOCK)
            small = frame.scaled(mask.shape[1], mask.shape[0])
            where = np.nan_to_num(frame_map(surface, box, small).dense(), nan=-9.0).astype(np.float32)
            seen = cv2.remap(mask, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
            found[n] = box, seen >= 128
        return found

    def _claim(self, n: int, surface: Canvas, light: FrameLight, job: Job) -> Claim:
        frame = self.posed(job)[n]
        box = frame_box(frame, surface).blocks(BLOCK)
        seen = self._warp(n, surface, box, light, job, frame)
        if seen is None:
            blank = np.zeros((box.height, box.width), np.float32)
            return Claim(box, np.dstack([blank] * 3), blank > 0, blank)
        where = frame_map(surface, box, frame).dense()
        width, height = frame.lens.width, frame.lens.height
        x, y = cv2.split(np.nan_to_num(where, nan=-1.0))
        inside = cv2.min(cv2.min(x, width - 1 - x), cv2.min(y, height - 1 - y)) / np.float32(min(width, height) / 2)
        # as bright as others show it, but without what it was there
        burnt = burnt_share(seen.light / light.factors(where, frame.lens), BURNT_FROM, BURNT)
        return Claim(box, perceptual(seen.light), seen.mask(), np.clip(inside, 0, 1), burnt)

    def _levels(self, scale_px_per_unit: float, job: Job, blend_pct: float | None = None) -> float:
        """Bands in all, at a scale: wide enough for the blend asked for, within the overlaps. Between whole numbers
        a share of the next.
        """
        frames = self.posed(job)
        overlap = 0.3 * min(min(f.lens.width / f.lens.focal_px, f.lens.height / f.lens.focal_px)
                            for f in frames)
        blend = self.set.joining.blend_pct if blend_pct is None else blend_pct
        reach_px = blend / 100 * overlap / 2 * scale_px_per_unit
        return float(np.log2(max(reach_px, 1.0)))

    def _seam_ways(self, job: Job) -> dict[tuple[int, int], Blend]:
        """Ways of blending of single seams, by their placed frames, where they differ from that of all."""
        joining, used = self.set.joining, self.set.used
        numbers = {used[at].id: n for n, at in enumerate(self.registration(job).placed)}
        return {tuple(sorted((numbers[s.a], numbers[s.b]))): s.blend for s in joining.seam_blends
                if s.a in numbers and s.b in numbers and s.blend is not joining.blend}

    def _ways(self, job: Job) -> set[Blend]:
        """All ways in which seams are blended."""
        return {self.set.joining.blend, *self._seam_ways(job).values()}

    def seam_shares(self, job: Job) -> list[WayShare]:
        """Where single seams' own ways of blending hold."""
        ways = self._seam_ways(job)
        if not ways:
            return []
        key = key_of("seam shares", self._owner_key(job), sorted(ways.items()))
        return self._once("seam shares", lambda: self._host.cache.get(
            key, lambda: seam_shares(self._coarse_ownership(SHARE_PIXELS, job), ways)))

    def _fine_levels(self, px_per_unit: float, job: Job, way: Blend | None = None) -> int:
        """Bands blended region by region; of a way of blending, or the most of all in use."""
        if way is None:
            return max(self._fine_levels(px_per_unit, job, w) for w in self._ways(job))
        if way is Blend.NONE:
            return 0
        full = native_px_per_unit(self.posed(job))
        feather = way is Blend.FEATHER
        fine = FEATHER_LEVELS if feather else min(FINE_LEVELS, round(self._levels(full, job)))
        return max(0, round(fine + float(np.log2(min(1.0, px_per_unit / full)))))

    def _wide(self, job: Job, pixels: int = WIDE_PIXELS) -> Wide | None:
        """The wide bands' correction, or None where the fine bands are all that is asked."""
        if Blend.WIDE not in self._ways(job):
            return None
        full = native_px_per_unit(self.posed(job))
        if self._levels(full, job) <= FINE_LEVELS:
            return None
        return self._once(f"wide {pixels}", lambda: self._make_wide(pixels, job))

    def _make_wide(self, pixels: int, job: Job) -> Wide:
        """Between the corrections of whole numbers of bands, which serve every width of the blend."""
        surface = self._surface(pixels, job)
        # a draft has no fine bands
        fine = 0 if pixels == DRAFT_WIDE_PIXELS else self._fine_levels(surface.px_per_unit, job, Blend.WIDE)
        whole, more = divmod(max(float(fine), self._levels(surface.px_per_unit, job)), 1)
        correction = self._corrected(pixels, int(whole), fine, job)
        if more > 0:
            correction = cv2.addWeighted(
                correction, 1 - more, self._corrected(pixels, int(whole) + 1, fine, job), more, 0)
        return Wide(surface, correction)

    def _corrected(self, pixels: int, levels: int, fine: int, job: Job) -> NDArray[np.float32]:
        """What `levels` bands add to what the `fine` first of them do."""
        def correct() -> NDArray[np.float32]:
            own = self._coarse_ownership(pixels, job)
            heard = [(n, d) for n, d in enumerate(self.differences(job, pixels)) if d is not None]
            return wide_correction(heard, own.owner, levels, own.surface.wraps, fine, job)

        return self._host.cache.get(key_of("wide", self._seen_key(job), pixels, levels, fine), correct)

    def differences(self, job: Job, pixels: int = WIDE_PIXELS) -> list[Difference | None]:
        """How each placed frame differs from the picture as it is owned, on the wide bands' surface."""
        key = key_of("differences", self._seen_key(job), pixels)
        return self._once(f"differences {pixels}", lambda: self._host.cache.get(
            key, lambda: self._find_differences(pixels, job)))

    def _find_differences(self, pixels: int, job: Job) -> list[Difference | None]:
        own = self._coarse_ownership(pixels, job)
        surface, lights = own.surface, self.lights(job)
        margin = round(REACH * 2 ** self._levels(surface.px_per_unit, job, 100.0))
        fine = round(reach(FINE_LEVELS) * surface.px_per_unit / native_px_per_unit(self.posed(job))) + 2

        def seen(n: int) -> tuple[Region, Warped] | None:
            box = frame_box(self.posed(job)[n], surface)
            frame = self._warp(n, surface, box, lights[n], job)
            return frame and (box, frame)

        frames = job.map(seen, list(range(len(lights))), "comparing overlaps")
        picture = owned_picture(frames, own.owner)

        def compare(n: int) -> Difference | None:
            box = reaching(own.owner, n, margin, surface.wraps)
            if box is None or frames[n] is None:
                return None
            return difference(
                n, frames[n], picture, own.owner, box, surface.wraps, np.random.default_rng(n), fine)

        return job.map(compare, list(range(len(lights))), "evening out")

    def coarse_surface(self, job: Job) -> Canvas:
        """The surface of the wide bands."""
        return self._surface(WIDE_PIXELS, job)

    def _coarse_ownership(self, pixels: int, job: Job) -> Ownership:
        """Owners on the surface of the wide bands, of about so many pixels."""
        own = self.ownership(job)
        surface = self._surface(pixels, job)
        size = surface.width, surface.height
        return Ownership(surface, cv2.resize(own.owner, size, interpolation=cv2.INTER_NEAREST))

    def draft_wide(self, job: Job) -> Wide | None:
        """The wide bands' correction as coarse as a draft may have it."""
        return self._wide(job, DRAFT_WIDE_PIXELS)

    def draft_ownership(self, job: Job) -> Ownership:
        """Owners as coarse as a draft's wide bands know them."""
        return self._coarse_ownership(DRAFT_WIDE_PIXELS, job)

    def draft_keys(self, job: Job) -> tuple[str, str]:
        """What a draft's frames hang on before and after blending."""
        return self._seen_key(job), self.frames_joined_key(job)

    def small_sheet(self, n: int, scale: float, job: Job) -> Sheet:
        """Placed frame `n` as it is developed, at about a scale."""
        at = self.registration(job).placed[n]
        return self._host.developed(self._opened(job)[at], self.set.used[at], scale, job)


def _without(known: Boxed, box: Region, here: NDArray[np.bool_]) -> None:
    """Take from what is known, in place, what lies in another box's mask."""
    part = box.shared(known[0])
    if part is not None:
        known[1][part.within(known[0])] &= ~here[part.within(box)]


def _joined_box(a: Boxed, b: Boxed) -> Boxed:
    """Two masks as one, on a box that holds both."""
    left, top = min(a[0].left, b[0].left), min(a[0].top, b[0].top)
    right = max(v[0].left + v[0].width for v in (a, b))
    bottom = max(v[0].top + v[0].height for v in (a, b))
    box = Region(left, top, right - left, bottom - top)
    out = np.zeros((box.height, box.width), bool)
    for region, mask in (a, b):
        out[region.within(box)] |= mask
    return box, out
