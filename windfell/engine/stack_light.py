"""What a stack's rule is told of its frames, and what is done to their light before and after it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.combine.beyond import BeyondNoise
from windfell.combine.calibrated import (
    CalibratedSheet,
    Plane,
    black_plane,
    even_plane,
    evened_flat,
    level_plane,
    mean_light,
)
from windfell.combine.display import DisplayGain, ToneLook, fusion_gain, tone_gain
from windfell.combine.exposures import CODE_STEP, estimated_exposures
from windfell.combine.rules import RULES, Exposures, Setting, StackRule
from windfell.combine.skyline import share_at
from windfell.engine.sources import OpenedFile
from windfell.engine.stage import Stages, development_key
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.combining import Display, Floor, Rule
from windfell.recipe.model import Frame

F32 = NDArray[np.float32]

FLOOR_SIDE, SMALL_SIDE = 640, 700
SHALLOW = ("jpeg", "webp")


class StackLight(Stages):
    """The light of a stack's frames, over one recipe; `StackStages` lays and combines it."""

    _held: dict[float, list]

    @property
    def rule(self) -> StackRule:
        c = self.set.combining
        rule = RULES[str(c.rule)]
        return BeyondNoise(rule, c.kappa_high) if c.beyond_noise and c.rule is Rule.MAXIMUM else rule

    def rule_at(self, scale: float) -> StackRule:
        """The rule for pictures at a scale."""
        c = self.set.combining
        if c.rule is Rule.EXPOSURES and (c.grow_px or c.soften_px):
            return Exposures(c.grow_px * scale, c.soften_px * scale)
        return self.rule

    def faded(self, n: int) -> float:
        """What used frame `n`'s light is multiplied by where light is gathered: less at the ends that fade."""
        c, last = self.set.combining, len(self.set.used) - 1
        if not RULES[str(c.rule)].adds or last < 1:
            return 1.0
        at, gain = 100 * n / last, 1.0
        if c.fade_in_pct:
            gain = min(gain, (at + 100 / last) / (c.fade_in_pct + 100 / last))
        if c.fade_out_pct:
            gain = min(gain, (100 - at + 100 / last) / (c.fade_out_pct + 100 / last))
        return gain

    def _light_parts(self) -> tuple:
        """All that this changes of a picture."""
        c = replace(self.set.combining, layers=(), region=None)
        owning = tuple(tuple(m for m in f.masks if m.purpose == "region") for f in self.set.used)
        return c, owning, tuple(f.weight for f in self.set.used)

    # -- before the rule

    def _calibration(self, width: int, height: int, job: Job) -> tuple[F32 | None, F32 | None]:
        """(dark, flat): the light of no light and of an even field, at frames of width x height px; None for none."""
        c = self.set.combining
        if not (c.darks or c.flats):
            return None, None

        def make() -> tuple[F32 | None, F32 | None]:
            dark = self._mean_of(c.darks, width, height, job)
            flat = self._mean_of(c.flats, width, height, job)
            return dark, None if flat is None else evened_flat(flat, dark)

        names = tuple(o.identity for o in self._fields(job))
        return self._host.cache.get(key_of("calibration", names, len(c.darks), width, height), make)

    def _fields(self, job: Job) -> list[Any]:
        c = self.set.combining
        return [self._host.opened(self._project, Frame("field", s), job) for s in (*c.darks, *c.flats)]

    def _mean_of(self, sources: Sequence, width: int, height: int, job: Job) -> F32 | None:
        if not sources:
            return None
        opened = [self._host.opened(self._project, Frame("field", s), job) for s in sources]
        full = self._opened(job)[self.reference()].size
        for s, o in zip(sources, opened, strict=True):
            if o.size != full:
                raise BadRequest(
                    f"{s.path} is {o.size[0]} x {o.size[1]} px, but the frames are {full[0]} x {full[1]}; darks and "
                    "flats must be of the same size.")
        scale = min(1.0, width / full[0])
        return mean_light(job.map(lambda o: o.sheet(scale, job), opened, "reading darks and flats"), (width, height))

    def _prepared_sheet(self, n: int, sheet, job: Job, floor: tuple[Floor, float] | None = None):
        """A frame's sheet, calibrated and less its black floor; as it is where neither is asked for."""
        dark, flat = self._calibration(sheet.width, sheet.height, job)
        plane = self._floor(n, job, floor)
        gain = 1.0 if floor is not None or self.set.used[n].id == self.set.combining.base else self.faded(n)
        if dark is None and flat is None and plane is None and gain == 1:
            return sheet
        return CalibratedSheet(sheet, dark, flat, plane, gain)

    def _floor(self, n: int, job: Job, asked: tuple[Floor, float] | None = None) -> Plane | None:
        """What counts as black in a frame; `asked` for a layer of its own, else as for all but the base."""
        c, frame = self.set.combining, self.set.used[n]
        way, level = asked or (c.floor, c.floor_pct)
        if way is Floor.OFF or (asked is None and frame.id == c.base):
            return None
        if way is Floor.LEVEL:
            return level_plane(level)

        def look() -> Plane:
            opened = self._opened(job)[n]
            sheet = self._host.developed(opened, frame, min(1.0, FLOOR_SIDE / max(opened.size)), job)
            dark, flat = self._calibration(sheet.width, sheet.height, job)
            whole = CalibratedSheet(sheet, dark, flat).light(0, 0, sheet.width, sheet.height)
            k = min(1.0, FLOOR_SIDE / max(whole.shape[:2]))
            size = max(1, round(whole.shape[1] * k)), max(1, round(whole.shape[0] * k))
            return black_plane(cv2.resize(whole, size, interpolation=cv2.INTER_AREA))

        fields = tuple(o.identity for o in self._fields(job))
        key = key_of("black floor", self._opened(job)[n].identity, development_key((frame,)), fields)
        black = self._host.cache.get(key, look)
        return even_plane(black) if way is Floor.EVEN else black

    # -- the rule

    def setting(self, used: Sequence[int], job: Job) -> Setting:
        """What the rule is told of the frames `used`, in that order, the first of them the reference."""
        return self.setting_of(self.set.combining.rule, used, job)

    def setting_of(self, rule: Rule, used: Sequence[int], job: Job) -> Setting:
        """What any rule is told of frames."""
        return self._once(f"setting {rule} {tuple(used)}", lambda: self._find_setting(rule, used, job))

    def _find_setting(self, rule: Rule, used: Sequence[int], job: Job) -> Setting:
        c, frames = self.set.combining, self.set.used
        weights = tuple(frames[n].weight for n in used)
        kappa = (c.kappa_low, c.kappa_high)
        asks = RULES[str(rule)].asks_noise or self.set.combining.beyond_noise
        steps = tuple(self._step(n, job) for n in used) if asks else ()
        exposures = tuple(self.exposures(used, job)) if rule is Rule.EXPOSURES else ()
        return Setting(weights, kappa, exposures, steps)

    def _step(self, n: int, job: Job) -> float:
        """One step of a frame's encoding; read at a scale at which it is held already."""
        opened = self._opened(job)[n]
        if isinstance(opened, OpenedFile) and opened.still.metadata.format in SHALLOW:
            return CODE_STEP[8]
        sheet = opened.sheet(next(iter(self._held), 1.0), job)
        return CODE_STEP[8 if sheet.pixels.dtype == np.uint8 else 16]

    def exposures(self, used: Sequence[int], job: Job) -> list[float]:
        """How much light each of the frames took beside the first of them."""
        def estimate() -> list[float]:
            lights = dict(zip(self._order(self.registration(job).frames), self.small_lights(job), strict=True))
            lights = [lights[n] for n in used]
            return estimated_exposures(lights, [self._gathered(n, job) for n in used], 0)

        key = key_of("exposures", self._registration_key(job), development_key(self.set.used), tuple(used),
                     self._light_parts())
        return self._host.cache.get(key, estimate)

    def _gathered(self, n: int, job: Job) -> float | None:
        opened = self._opened(job)[n]
        ev = opened.still.metadata.exposure_value if isinstance(opened, OpenedFile) else None
        return None if ev is None else float(2.0**ev)

    # -- after the rule

    @cached_property
    def _region_mask(self) -> NDArray[np.uint8] | None:
        for frame in self.set.used:
            names = [m.name for m in frame.masks if m.purpose == "region"]
            found = self._host.owning(frame, "region") if names else None
            if found is not None:
                return found
        return None

    def region_share(self, region: Region, scale: float, before: Callable | None, job: Job) -> F32 | None:
        """How much the rule holds at each px (h, w) of a region, 0..1; None for wholly."""
        mask = self._region_mask
        if mask is None or self.set.combining.base is None:
            return None
        return share_at(mask, region, scale, self.whole_size(job), before).astype(np.float32) / np.float32(255)

    def display(self, job: Job) -> DisplayGain | None:
        """How the light of several exposures is shown; None where it is left as it is."""
        c = self.set.combining
        if c.rule is not Rule.EXPOSURES or c.display is Display.NONE:
            return None
        return self._once("display", lambda: self._find_display(job))

    def _find_display(self, job: Job) -> DisplayGain:
        c = self.set.combining

        def make() -> DisplayGain:
            radiance = self.small_radiance(job)
            if c.display is Display.TONE:
                look = ToneLook(*(v / 100 for v in (
                    c.compression_pct, c.detail_pct, c.highlights_pct, c.shadows_pct)))
                return tone_gain(radiance, look)
            return fusion_gain(radiance, self.small_lights(job))

        key = key_of("display", self._registration_key(job), development_key(self.set.used), self._light_parts())
        return self._host.cache.get(key, make)
