"""The pictures of an animation, one after the other: the aligned series, what moves over the clean plate, trails."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.stack_pile import PileStages
from windfell.engine.stack_subjects import Mover, clean_plate, found_subjects
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.recipe.animation import Plan, Way

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]


def animation_size(stages: PileStages, width: int, job: Job) -> tuple[int, int]:
    """(width, height): the height by the frames' shape."""
    whole = stages.whole_size(job)
    return width, max(1, round(width * whole[1] / whole[0]))


def animated(stages: PileStages, plan: Plan, job: Job) -> Iterator[U8]:
    """One picture (h, w, 3), sRGB, for each frame that has a place, in their order."""
    width, height = animation_size(stages, plan.width, job)
    planes, numbers = _planes(stages, width, height, job)
    order = sorted(range(len(numbers)), key=lambda k: numbers[k])
    clean = [np.nan_to_num(p, nan=0.0) for p in planes]
    plate = clean_plate(planes)
    if plan.way is Way.SERIES:
        for k in job.over(order, "drawing pictures"):
            yield to_view(np.ascontiguousarray(np.where(np.isnan(planes[k]), plate, planes[k]), np.float32))
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
