"""Two pieces that share a place parted: each keeps its side of a line along which both frames look alike."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.strips import shown
from windfell.engine.stack_pile import PileStages
from windfell.engine.stack_subjects import Mover
from windfell.job import Job
from windfell.pixels.tiles import Region, scaled_size
from windfell.subjects.best_cut import best_cut
from windfell.subjects.differing import rooted

U8 = NDArray[np.uint8]

ROOM_PX, SOFT_PX = 6, 1.0
ROOT_STEP = 0.02


def sides_of(stages: PileStages, one: Mover, other: Mover, job: Job) -> tuple[U8, U8]:
    """Where each of two movers may hold, uint8 over the whole ground at the size at which they were found: all but
    the other's side. What only one of them covers is its own; between, the minimum cut.
    """
    scale, size = one.scale, scaled_size(one.ground, one.scale)
    masks = [m.whole_over(size) for m in (one, other)]
    both = (masks[0] > 127) & (masks[1] > 127)
    sides = [np.full((size[1], size[0]), 255, np.uint8) for _ in masks]
    if not both.any():
        return sides[0], sides[1]
    x, y, w, h = cv2.boundingRect(((masks[0] > 127) | (masks[1] > 127)).astype(np.uint8))
    part = Region(x - ROOM_PX, y - ROOM_PX, w + 2 * ROOM_PX, h + 2 * ROOM_PX).shared(Region(0, 0, *size))
    at = np.s_[part.top : part.top + part.height, part.left : part.left + part.width]
    frames, numbers = stages.frames_in_place(scale, job)
    lights = [rooted(np.nan_to_num(shown(frames[numbers.index(m.frame)], part), nan=0.0)
                     * np.array(m.gain, np.float32)) for m in (one, other)]
    off = np.abs(lights[0] - lights[1]).max(axis=2) / np.float32(ROOT_STEP)
    # a thing itself goes before the other's shadow
    bodies = [m.body_over(size)[at] > 127 for m in (one, other)]
    inner, beyond = (bodies[0] & ~bodies[1]), (bodies[1] & ~bodies[0])
    inner |= (masks[0][at] > 127) & (masks[1][at] <= 127)
    beyond |= (masks[1][at] > 127) & (masks[0][at] <= 127)
    inner, beyond = inner & ~bodies[1], beyond & ~bodies[0]
    taken = best_cut(off, inner & ~beyond, beyond & ~inner).astype(np.float32)
    soft = np.rint(255 * cv2.GaussianBlur(taken, (0, 0), SOFT_PX)).astype(np.uint8)
    only_other, only_one = (masks[1][at] > 0) & (masks[0][at] == 0), (masks[0][at] > 0) & (masks[1][at] == 0)
    sides[0][at] = np.where(only_one, 255, soft)
    sides[1][at] = np.where(only_other, 255, 255 - soft)
    return sides[0], sides[1]
