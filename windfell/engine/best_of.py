"""The best of a group: one spot as all frames show it, and the wished one laid in where both agree."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.meeting import as_layer_light
from windfell.combine.strips import Layer as FrameInPlace
from windfell.combine.strips import shown_within
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.pixels.channels import most_of
from windfell.pixels.colour import luminance, to_view
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Found
from windfell.recipe.combining import Layer
from windfell.recipe.project_file import mask_name
from windfell.subjects.best_cut import best_cut

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Box = tuple[int, int, int, int]

TILE_PX, CUT_PX, MASK_SIDE = 150, 160, 1400
AROUND = 0.35
FARTHEST_SHARE = 0.06
NOISE = np.float32(0.02)
SOFT_PX = 1.2


@dataclass(frozen=True)
class Appearance:
    """A spot as used frame `frame` shows it: sRGB, uint8 (h, w, 3); its sharpness beside the sharpest's, 0..1."""

    frame: int
    picture: U8
    sharpness: float


def appearances(stages: PileStages, box: Box, job: Job) -> list[Appearance]:
    """A box (x, y, width, height; px of the ground) in all frames that have a place, in their order."""
    scale = min(1.0, TILE_PX / max(box[2:]))
    frames, numbers = stages.frames_in_place(scale, job)
    found = []
    for k, n in sorted(enumerate(numbers), key=lambda kn: kn[1]):
        light = _part(stages, frames[k], box, scale, job)
        detail = cv2.Laplacian(np.sqrt(np.maximum(luminance(light), 0)).astype(np.float32), cv2.CV_32F)
        found.append((n, to_view(np.ascontiguousarray(light)), float(detail.std())))
    most = max((s for *_, s in found), default=1.0) or 1.0
    return [Appearance(n, picture, s / most) for n, picture, s in found]


def _part(stages: PileStages, frame: FrameInPlace, box: Box, scale: float, job: Job) -> F32:
    whole = Region(0, 0, *stages.whole_at(scale, job))
    x, y, w, h = (round(v * scale) for v in box)
    return np.nan_to_num(shown_within(frame, Region(x, y, max(2, w), max(2, h)), whole), nan=0.0)


def best_layer(stages: PileStages, frame: int, box: Box, job: Job) -> tuple[Layer, U8]:
    """The layer that lays used frame `frame` into the picture at a box, and its mask: moved a little if it shifted,
    its light matched around the box, cut where it agrees with the picture.
    """
    x, y, w, h = box
    grown = (round(x - AROUND * w), round(y - AROUND * h), round(w * (1 + 2 * AROUND)), round(h * (1 + 2 * AROUND)))
    scale = min(1.0, CUT_PX / max(grown[2:]))
    whole = Region(0, 0, *stages.whole_at(scale, job))
    region = Region(*(round(v * scale) for v in grown)).shared(whole)
    stages.prepare(scale, job)
    picture = stages.unfinished(region, scale, job).light
    frames, numbers = stages.frames_in_place(scale, job)
    own = np.nan_to_num(shown_within(frames[numbers.index(frame)], region, whole), nan=0.0)
    core = np.zeros((region.height, region.width), np.uint8)
    middle = (x + w / 2) * scale - region.left, (y + h / 2) * scale - region.top
    cv2.ellipse(core, (round(middle[0]), round(middle[1])), (max(1, round(0.36 * w * scale)),
                                                            max(1, round(0.36 * h * scale))), 0, 0, 360, 1, -1)
    ring = core == 0
    shift = _shift(picture, own, ring, FARTHEST_SHARE * max(w, h) * scale)
    own = cv2.warpAffine(own, np.float32([[1, 0, shift[0]], [0, 1, shift[1]]]), own.shape[1::-1],
                         borderMode=cv2.BORDER_REFLECT)
    gain = _gain(picture, own, ring)
    off = most_of(cv2.absdiff(np.sqrt(np.maximum(own * gain, 0)), np.sqrt(np.maximum(picture, 0)))) / NOISE
    off = cv2.GaussianBlur(np.ascontiguousarray(off, np.float32), (0, 0), 0.8)
    edge = np.ones(core.shape, bool)
    edge[1:-1, 1:-1] = False
    take = best_cut(off, core > 0, edge)
    mask = _over_all(take, region, scale, stages.whole_size(job))
    ev, warmth, tint = as_layer_light(tuple(float(v) for v in gain))
    layer = Layer(frames=(stages.set.used[frame].id,), name=f"best: frame {stages.set.numbers[frame]}",
                  area=Area((Found(mask_name(mask)),)), exposure_ev=ev, warmth=warmth, tint=tint,
                  right_px=round(float(shift[0]) / scale, 1), down_px=round(float(shift[1]) / scale, 1))
    return layer, mask


def _shift(picture: F32, own: F32, ring: NDArray[np.bool_], farthest: float) -> tuple[float, float]:
    """How far, in px, a frame is to be moved so that what lies around the box meets; 0 where that is not plain."""
    a, b = (np.ascontiguousarray(np.sqrt(np.maximum(luminance(v), 0)), np.float32) for v in (picture, own))
    mean = float(a[ring].mean()) if ring.any() else float(a.mean())
    a, b = np.where(ring, a, mean), np.where(ring, b, mean)
    window = cv2.createHanningWindow(a.shape[1::-1], cv2.CV_32F)
    (dx, dy), sure = cv2.phaseCorrelate(b.astype(np.float32), a.astype(np.float32), window)
    if sure < 0.15 or np.hypot(dx, dy) > farthest or np.hypot(dx, dy) < 0.3:
        return 0.0, 0.0
    return float(dx), float(dy)


def _gain(picture: F32, own: F32, ring: NDArray[np.bool_]) -> NDArray[np.float32]:
    """What brings the frame's light around the box to the picture's, per channel."""
    fair = ring & (np.minimum(picture, own).min(axis=2) > 2e-3)
    if fair.sum() < 20:
        return np.ones(3, np.float32)
    return np.clip(np.median(picture[fair] / own[fair], axis=0), 0.25, 4.0).astype(np.float32)


def _over_all(take: NDArray[np.bool_], region: Region, scale: float, size: tuple[int, int]) -> U8:
    """The cut over the whole ground, softened, uint8."""
    k = min(1.0, MASK_SIDE / max(size))
    out = np.zeros((max(1, round(size[1] * k)), max(1, round(size[0] * k))), np.uint8)
    left, top = round(region.left / scale * k), round(region.top / scale * k)
    wide, high = max(1, round(region.width / scale * k)), max(1, round(region.height / scale * k))
    soft = cv2.resize(cv2.GaussianBlur(255 * take.astype(np.float32), (0, 0), SOFT_PX), (wide, high))
    at = out[max(0, top) : top + high, max(0, left) : left + wide]
    at[:] = np.rint(soft[: at.shape[0], : at.shape[1]]).astype(np.uint8)
    return out
