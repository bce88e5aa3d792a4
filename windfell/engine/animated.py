"""The pictures of an animation, one after the other: the aligned series, what moves over the clean plate, trails."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.stack_pile import PileStages
from windfell.engine.stack_subjects import Mover, clean_plate, found_subjects
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
    width, height = animation_size(stages, plan.width, job)
    planes, numbers = _planes(stages, width, height, job)
    order = sorted(range(len(numbers)), key=lambda k: numbers[k])
    clean = [np.nan_to_num(p, nan=0.0) for p in planes]
    plate = clean_plate(planes)
    if plan.way is Way.SERIES:
        for k in job.over(order, "drawing pictures"):
            yield to_view(np.ascontiguousarray(np.where(np.isnan(planes[k]), plate, planes[k]), np.float32))
        return
    if plan.way is Way.LIGHTS:
        gathered = plate.copy()
        for k in job.over(order, "drawing pictures"):
            # by luminance, so that colours of lights stay true
            brighter = luminance(clean[k]) > luminance(gathered)
            cv2.copyTo(clean[k], brighter.astype(np.uint8), gathered)
            yield to_view(gathered)
        return
    found = found_subjects(stages, job)
    light = {numbers[k]: clean[k] for k in order}
    trail = plan.trail if plan.way is Way.TRAILS else 0
    for n in job.over(range(len(order)), "drawing pictures"):
        picture = plate.copy()
        for back in range(min(trail, n), -1, -1):
            frame = numbers[order[n - back]]
            strength = 1 - back / (trail + 1)
            for mover in found.movers:
                if mover.frame == frame:
                    _lay(picture, light[frame], mover, strength)
        yield to_view(np.ascontiguousarray(picture))


def _lay(picture: F32, light: F32, mover: Mover, strength: float) -> None:
    """A mover laid into a picture (h, w, 3), its light matched."""
    h, w = picture.shape[:2]
    share = mover.whole_over((w, h)).astype(np.float32) * np.float32(strength / 255)
    x, y, wide, high = cv2.boundingRect((share > 0).astype(np.uint8))
    at = np.s_[y : y + high, x : x + wide]
    own = light[at] * np.array(mover.gain, np.float32)
    picture[at] += share[at][..., None] * (own - picture[at])


def _planes(stages: PileStages, width: int, height: int, job: Job) -> tuple[list[F32], list[int]]:
    scale = min(1.0, width / stages.whole_size(job)[0])
    planes, numbers = stages.planes_in_place(scale, job)
    if planes[0].shape[:2] != (height, width):
        planes = [cv2.resize(p, (width, height), interpolation=cv2.INTER_LINEAR) for p in planes]
    return planes, numbers
