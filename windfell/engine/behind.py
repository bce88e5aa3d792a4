"""A panorama behind another: seen where the one in front has its sky, on one sphere, so that both turn together."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.combine.meeting import own_gain
from windfell.engine.picture import Picture
from windfell.engine.repairs import repaired
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import from_view, to_view
from windfell.pixels.tiles import Region
from windfell.recipe.behind import Behind
from windfell.recipe.model import Kind
from windfell.shape.canvas import Canvas

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Array = NDArray[np.float64]

LEAST = 1e-3


@dataclass(frozen=True, eq=False)
class Backdrop:
    """What lies behind a panorama: the stages of the set, and how it is laid."""

    stages: Any
    behind: Behind

    @property
    def turn(self) -> Array:
        """The rotation (3, 3) from its own world into that of the front."""
        b = self.behind
        return from_yaw_pitch_roll(*np.radians([b.yaw_deg, b.pitch_deg, b.roll_deg]))

    def key(self, job: Job) -> str:
        return key_of("behind", self.behind, self.stages.joined_key(job), *self.stages.set.repairs)

    def canvas(self, front: Canvas) -> Canvas:
        """A canvas of the front, as the world behind has it."""
        return replace(front, view=tuple((self.turn.T @ front.rotation).ravel()))


def backdrop_of(stages: Any, job: Job) -> Backdrop | None:
    """What lies behind a panorama; None where nothing does, or nothing that turns with it."""
    own = stages.set.behind
    if own is None or not own.on or own.area.empty or stages.registration(job).flat:
        return None
    back = stages.other(own.set)
    if back.set.kind is not Kind.PANORAMA or back.registration(job).flat:
        return None
    return Backdrop(back, own)


def with_behind(stages: Any, picture: Picture, canvas: Canvas, region: Region, job: Job) -> Picture:
    """A region of the front's picture with what lies behind it."""
    backdrop = stages.backdrop(job)
    if backdrop is None:
        return picture
    share = stages.behind_share(backdrop.behind.area, canvas, region, False, job)
    if share.max(initial=0) < LEAST:
        return picture
    turned = backdrop.canvas(canvas)
    back = backdrop.stages.joined_on(turned, region, job)
    back = repaired(backdrop.stages, back, turned, region, len(backdrop.stages.set.repairs), job)
    share = np.where(picture.covered, share, share > 0.5) * back.covered
    light = picture.light + share[..., None] * (back.light * _gain(backdrop) - picture.light)
    return Picture(np.ascontiguousarray(light, np.float32), picture.covered | (share > 0.5))


def draft_with_behind(stages: Any, pixels: U8, canvas: Canvas, job: Job) -> U8:
    """A draft (h, w, 4) of a canvas with what lies behind it."""
    backdrop = stages.backdrop(job)
    if backdrop is None:
        return pixels
    region = Region(0, 0, canvas.width, canvas.height)
    share = stages.behind_share(backdrop.behind.area, canvas, region, True, job)
    if share.max(initial=0) < LEAST:
        return pixels
    back = backdrop.stages.draft_on(backdrop.canvas(canvas), job)
    shown = back[..., :3]
    gain = _gain(backdrop)
    if not np.allclose(gain, 1):
        light = from_view(shown) * gain
        shown = to_view(np.ascontiguousarray(light, np.float32))
    there = pixels[..., 3] > 0
    share = (np.where(there, share, share > 0.5) * (back[..., 3] > 0)).astype(np.float32)[..., None]
    out = np.empty_like(pixels)
    out[..., :3] = pixels[..., :3] + share * (shown.astype(np.float32) - pixels[..., :3]) + 0.5
    out[..., 3] = np.where(there | (share[..., 0] > 0.5), 255, 0)
    return out


def _gain(backdrop: Backdrop) -> F32:
    return own_gain(backdrop.behind.exposure_ev, backdrop.behind.warmth)
