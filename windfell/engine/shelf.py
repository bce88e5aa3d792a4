"""What the shelf of movers shows of each: its picture, cut out, its outline, the names of its masks."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.strips import shown
from windfell.engine.pieces_laid import piece_mask
from windfell.engine.stack_pile import PileStages
from windfell.engine.stack_subjects import Mover, Subjects, found_subjects
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.project_file import mask_name

Array = NDArray[np.float64]

TILE_PX = 76
OUTLINE_STEP = 0.004


@dataclass(frozen=True)
class Shown:
    """`picture`: sRGB, dark by its opacity, and that, uint8 (h, w, 4). `outlines`: closed lines (n, 2) in px of the
    ground. `mask`: the name of the thing's own.
    """

    picture: NDArray[np.uint8]
    outlines: tuple[Array, ...]
    mask: str


@dataclass(frozen=True)
class Shelf:
    """All movers of a stack and what is shown of each."""

    found: Subjects
    shown: tuple[Shown, ...]

    @property
    def nbytes(self) -> int:
        return self.found.nbytes + sum(s.picture.nbytes for s in self.shown)

    def named(self, mask: str | None) -> int | None:
        """The mover that holds within a mask, by index."""
        return next((n for n, s in enumerate(self.shown) if mask == s.mask), None)


def shelf_of(stages: PileStages, job: Job) -> Shelf:
    """What moves, ready for the shelf."""
    found = found_subjects(stages, job)
    out: list[Shown] = [None] * len(found.movers)
    if not found.movers:
        return Shelf(found, ())
    scale = found.movers[0].scale
    frames, numbers = stages.frames_in_place(scale, job)
    whole = Region(0, 0, *stages.whole_at(scale, job))
    for k, n in job.over(list(enumerate(numbers)), "cutting out what moves"):
        own = [(i, m) for i, m in enumerate(found.movers) if m.frame == n]
        for i, mover in own:
            x, y, w, h = mover.piece.box
            part = Region(x, y, w, h).shared(whole)
            light = np.nan_to_num(shown(frames[k], part), nan=0.0)
            out[i] = Shown(_tile(light, mover), _outlines(mover), mask_name(piece_mask(mover, False)))
    return Shelf(found, tuple(out))


def _tile(light: NDArray, mover: Mover) -> NDArray[np.uint8]:
    h, w = light.shape[:2]
    alpha = np.maximum(mover.piece.matte[:h, :w], mover.piece.shadow[:h, :w] // 2)
    seen = to_view(np.ascontiguousarray(light, np.float32)) * (alpha[..., None] / 255)
    cut = np.dstack([np.rint(seen).astype(np.uint8), alpha])
    k = TILE_PX / max(h, w)
    way = cv2.INTER_AREA if k < 1 else cv2.INTER_LINEAR
    return cv2.resize(cut, (max(1, round(w * k)), max(1, round(h * k))), interpolation=way)


def _outlines(mover: Mover) -> tuple[Array, ...]:
    body = (mover.piece.matte > 127).astype(np.uint8)
    lines, _ = cv2.findContours(body, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    step = OUTLINE_STEP * float(np.hypot(*body.shape)) + 0.5
    x, y = mover.piece.box[:2]
    return tuple((cv2.approxPolyDP(line, step, True).reshape(-1, 2) + (x + 0.5, y + 0.5)) / mover.scale
                 for line in lines if len(line) > 4)


def mover_at(found: Subjects, x: float, y: float) -> list[int]:
    """The movers, by index, whose thing covers a spot, in px of the ground."""
    out = []
    for n, m in enumerate(found.movers):
        left, top, w, h = m.piece.box
        i, j = int(y * m.scale) - top, int(x * m.scale) - left
        if 0 <= i < h and 0 <= j < w and m.piece.matte[i, j] > 127:
            out.append(n)
    return out
