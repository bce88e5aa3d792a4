"""Areas of frames in which no points are taken: outlined or painted, on frames whose lens is corrected.

What is drawn lies in the px of an ideal lens, since that is how frames are shown; the area lies in the px of the
frame as it was taken, since that is where features are looked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage

from windfell.app.picture.point_pane import hatched
from windfell.app.session import Session
from windfell.engine.sources import Opened
from windfell.errors import WindfellError
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.areas import Area, Meets, Part, Patch, Point, Stroke
from windfell.recipe.model import Frame

Mask = NDArray[np.uint8]


class Ignoring:
    """Sends the edits; `hatch` shows what is ignored."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def outline(self, frame: Frame, points: Sequence[tuple[float, float]]) -> None:
        """What lies within an outline (ideal px of the full size) joins what is ignored in the frame."""
        lens = self._lens(frame)
        if lens is not None and len(points) > 2:
            self._with(frame, Patch(_as_taken(lens, points)))

    def brush(self, frame: Frame, points: Sequence[tuple[float, float]], radius_px: float, erase: bool) -> None:
        """What a stroke covers joins, or leaves, what is ignored in the frame."""
        lens = self._lens(frame)
        if lens is None or (erase and frame.ignored is None):
            return
        meets = Meets.TAKE if erase else Meets.ADD
        self._with(frame, Stroke(_as_taken(lens, points), round(2 * radius_px, 2), 0.0, meets=meets))

    def in_all(self, frame: Frame) -> None:
        """The frame's ignored area counts in all frames of the set."""
        s = self._session
        if frame.ignored is None:
            s.say("The chosen frame has no ignored area yet; draw around one or paint it.", "info")
            return
        s.edit(edits.ignore_area(s.project, s.set_id, [f.id for f in s.frame_set.frames], frame.ignored), True)

    def clear(self, frame: Frame) -> None:
        s = self._session
        if frame.ignored is not None:
            s.edit(edits.ignore_area(s.project, s.set_id, [frame.id], None), True)

    def hatch(self, frame: Frame) -> QImage | None:
        """The ignored area as it lies on the frame shown, hatched; None for none."""
        opened, lens = self._opened(frame), self._lens(frame)
        if opened is None or lens is None:
            return None
        try:
            mask = self._session.engine.ignored(opened, frame, Job())
        except WindfellError:
            return None
        if mask is None:
            return None
        return hatched(mask if lens.optics is None else _looked_up(mask, lens, lens.bent))

    def _opened(self, frame: Frame) -> Opened | None:
        try:
            return self._session.engine.opened(self._session.project, frame, Job())
        except WindfellError:
            return None

    def _lens(self, frame: Frame) -> Lens | None:
        """The frame's size and what its lens correction undoes; None if it cannot be opened."""
        opened = self._opened(frame)
        if opened is None:
            return None
        try:
            optics = self._session.engine.optics(opened, frame)
        except WindfellError:
            return None
        return Lens(*opened.size, 1.0, optics=optics if optics is not None and optics.bends else None)

    def _with(self, frame: Frame, part: Part) -> None:
        """The part joins what is ignored in the frame."""
        s, area = self._session, frame.ignored or Area()
        s.edit(edits.ignore_area(s.project, s.set_id, [frame.id], replace(area, parts=(*area.parts, part))), True)


def _as_taken(lens: Lens, points: Sequence[tuple[float, float]]) -> tuple[Point, ...]:
    """Ideal px in those of the frame as it was taken."""
    found = lens.bent(np.array(points, float)) if lens.optics is not None else np.array(points, float)
    return tuple((round(float(x), 2), round(float(y), 2)) for x, y in found[np.isfinite(found).all(axis=1)])


def _looked_up(mask: Mask, lens: Lens, onto) -> Mask:
    """A mask whose px show what `mask` holds at `onto` of their place, px of the full size; 0 beyond it."""
    h, w = mask.shape
    grid = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1).astype(float)
    scale = np.array([lens.width / w, lens.height / h])
    with np.errstate(invalid="ignore"):
        there = (onto((grid + 0.5) * scale - 0.5) + 0.5) / scale - 0.5
    there = np.nan_to_num(there, nan=-10.0).astype(np.float32)
    return cv2.remap(mask, there, None, cv2.INTER_NEAREST, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
