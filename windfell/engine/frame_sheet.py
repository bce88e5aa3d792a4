"""A frame as it is shown, its lens corrected, to draw areas on that lie in the px of the frame as it was taken."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.area_pictures import Share, around, mean_length
from windfell.engine.core import Engine
from windfell.engine.frame_areas import frame_mask
from windfell.engine.sources import Opened
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe.areas import Area, Point
from windfell.recipe.model import Frame, Project

F32 = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class FrameSheet:
    """One frame; `lens`: its size, and what its lens correction undoes."""

    engine: Engine
    opened: Opened
    lens: Lens

    def points(self, shares: Sequence[Share], job: Job) -> tuple[Point, ...]:
        px = np.array(shares, float).reshape(-1, 2) * [self.lens.width, self.lens.height] - 0.5
        found = px if self.lens.optics is None else self.lens.bent(px)
        return tuple((round(float(x), 2), round(float(y), 2)) for x, y in found)

    def length(self, share: Share, wide: float, job: Job) -> float:
        return mean_length(np.array(self.points(around(share, wide, (self.lens.width, self.lens.height)), job)))

    def picture(self, area: Area, side: int, job: Job) -> F32:
        mask = frame_mask(self.opened, area, self.engine.masks, self.engine.cache, job)
        if self.lens.optics is not None:
            mask = _looked_up(mask, self.lens, self.lens.bent)
        return mask.astype(np.float32) / np.float32(255)


def frame_sheet(engine: Engine, project: Project, frame: Frame, job: Job) -> FrameSheet:
    """The sheet of a frame. Raises WindfellError if it cannot be opened, or its lens not be corrected."""
    opened = engine.opened(project, frame, job)
    optics = engine.optics(opened, frame)
    bends = optics if optics is not None and optics.bends else None
    return FrameSheet(engine, opened, Lens(*opened.size, 1.0, optics=bends))


def _looked_up(mask: NDArray[np.uint8], lens: Lens, onto: Callable[[NDArray], NDArray]) -> NDArray[np.uint8]:
    """A mask whose px show what `mask` holds at `onto` of their place, px of the full size; 0 beyond it."""
    h, w = mask.shape
    grid = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1).astype(float)
    scale = np.array([lens.width / w, lens.height / h])
    with np.errstate(invalid="ignore"):
        there = (onto((grid + 0.5) * scale - 0.5) + 0.5) / scale - 0.5
    there = np.nan_to_num(there, nan=-10.0).astype(np.float32)
    return cv2.remap(mask, there, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
