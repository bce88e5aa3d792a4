"""The pictures of an animation, one after the other: the aligned series, what moves over the clean plate, trails."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.moving_lights import MovingLights
from windfell.engine.stack_pile import PileStages
from windfell.engine.stack_subjects import Mover, found_subjects
from windfell.job import Job
from windfell.pixels.colour import luminance, to_view
from windfell.recipe.animation import Plan, Way
from windfell.shape.stack_cut import StackCut

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]


def animation_size(stages: PileStages, width: int, job: Job, cut: StackCut | None = None) -> tuple[int, int]:
    """(width, height): the height by the frames' shape, or by that of the part of them that is shown."""
    shown = cut.size if cut is not None else stages.whole_size(job)
    return width, max(1, round(width * shown[1] / shown[0]))


def animated(stages: PileStages, plan: Plan, job: Job, cut: StackCut | None = None) -> Iterator[U8]:
    """One picture (h, w, 3), sRGB, for each frame that has a place, in their order; `cut`: the part that is shown."""
    whole = stages.whole_size(job)
    width, height = animation_size(stages, plan.width, job, cut)
    if cut is None or cut.plain:
        # larger than the frames are they are made only at the end
        for picture in _whole(stages, replace(plan, width=min(width, whole[0])), job):
            larger = picture.shape[:2] != (height, width)
            yield cv2.resize(picture, (width, height), interpolation=cv2.INTER_CUBIC) if larger else picture
        return
    inner = replace(plan, width=max(1, min(whole[0], round(width * whole[0] / cut.size[0]))))
    scale = inner.width / whole[0]
    y, x = np.mgrid[:height, :width].astype(np.float64)
    full = np.stack([(x + 0.5) * cut.size[0] / width - 0.5, (y + 0.5) * cut.size[1] / height - 0.5], -1)
    at = ((cut.onto_reference(1.0)(full) + 0.5) * scale - 0.5).astype(np.float32)
    for picture in _whole(stages, inner, job):
        yield cv2.remap(picture, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)


def _whole(stages: PileStages, plan: Plan, job: Job) -> Iterator[U8]:
    """The pictures of all of the frames' ground, no larger than that."""
    size = animation_size(stages, plan.width, job)
    lights = MovingLights(stages, min(1.0, plan.width / stages.whole_size(job)[0]), job)
    order = sorted(range(len(lights)), key=lambda k: lights.numbers[k])
    plate = lights.plate()
    ways = {Way.SERIES: _series, Way.LIGHTS: _gathered}
    if plan.way in ways:
        pictures = ways[plan.way](lights, order, plate)
    else:
        found = found_subjects(stages, job)
        pictures = _moving(lights, order, plate, found.movers, plan.trail if plan.way is Way.TRAILS else 0)
    for _ in job.over(range(len(order)), "drawing pictures"):
        picture = to_view(np.ascontiguousarray(next(pictures), np.float32))
        yield picture if picture.shape[1::-1] == size else cv2.resize(picture, size, interpolation=cv2.INTER_LINEAR)


def _series(lights: MovingLights, order: Sequence[int], plate: F32) -> Iterator[F32]:
    for k in order:
        yield np.where(lights.seen(k)[..., None], lights.plain(k), plate)


def _gathered(lights: MovingLights, order: Sequence[int], plate: F32) -> Iterator[F32]:
    """The plate and what is brighter in any frame so far, by luminance, so that colours of lights stay true."""
    gathered = plate.copy()
    for k in order:
        light = lights.plain(k)
        cv2.copyTo(light, (luminance(light) > luminance(gathered)).astype(np.uint8), gathered)
        yield gathered


def _moving(lights: MovingLights, order: Sequence[int], plate: F32, movers: Sequence[Mover], trail: int
            ) -> Iterator[F32]:
    """The plate with each frame's movers, and those of so many frames before, fading."""
    for n in range(len(order)):
        picture = plate.copy()
        for back in range(min(trail, n), -1, -1):
            k = order[n - back]
            for mover in movers:
                if mover.frame == lights.numbers[k]:
                    _lay(picture, lights, k, mover, 1 - back / (trail + 1))
        yield picture


def _lay(picture: F32, lights: MovingLights, k: int, mover: Mover, strength: float) -> None:
    """A mover laid into a picture (h, w, 3), its light matched."""
    h, w = picture.shape[:2]
    x, y, wide, high = mover.box_over((w, h))
    at = np.s_[y : y + high, x : x + wide]
    share = mover.whole_over((w, h))[at].astype(np.float32) * np.float32(strength / 255)
    own = lights.plain(k, at) * np.array(mover.gain, np.float32)
    picture[at] += share[..., None] * (own - picture[at])
