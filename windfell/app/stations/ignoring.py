"""Areas of frames in which no points are taken: outlined or painted, on frames whose lens is corrected.

What is drawn lies in the px of an ideal lens, since that is how frames are shown; masks lie in the px of the frame as
it was taken, since that is where features are looked for.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage

from windfell.app.picture.point_pane import hatched
from windfell.app.session import Session
from windfell.errors import WindfellError
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.model import Frame
from windfell.recipe.project_file import mask_name

MASK_SIDE = 1024
Mask = NDArray[np.uint8]


class Ignoring:
    """Sends the edits; `hatch` shows what is ignored."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def outline(self, frame: Frame, points: Sequence[tuple[float, float]]) -> None:
        """What lies within an outline (ideal px of the full size) joins what is ignored in the frame."""
        def draw(drawn: Mask, k: float) -> None:
            cv2.fillPoly(drawn, [_spots(points, k)], 255)

        self._drawn(frame, draw, False)

    def brush(self, frame: Frame, points: Sequence[tuple[float, float]], radius_px: float, erase: bool) -> None:
        """What a stroke covers joins, or leaves, what is ignored in the frame."""
        def draw(drawn: Mask, k: float) -> None:
            width = max(1, round(2 * radius_px * k))
            spots = _spots(points, k)
            cv2.polylines(drawn, [spots], False, 255, width)
            for end in (spots[0], spots[-1]):
                cv2.circle(drawn, tuple(int(v) for v in end), width // 2, 255, -1)

        self._drawn(frame, draw, erase)

    def in_all(self, frame: Frame) -> None:
        """The frame's ignored area counts in all frames of the set."""
        s = self._session
        names = [m.name for m in frame.masks if m.purpose == "ignore"]
        if not names:
            s.say("The chosen frame has no ignored area yet; draw around one or paint it.", "info")
            return
        s.edit(edits.ignore_area(s.project, s.set_id, [f.id for f in s.frame_set.frames], names[-1]), True)

    def clear(self, frame: Frame) -> None:
        s = self._session
        if any(m.purpose == "ignore" for m in frame.masks):
            s.edit(edits.ignore_area(s.project, s.set_id, [frame.id], None), True)

    def hatch(self, frame: Frame) -> QImage | None:
        """The ignored area as it lies on the frame shown, hatched; None for none."""
        mask = self._session.engine.ignored(frame)
        if mask is None:
            return None
        lens = self._lens(frame)
        if lens is None or lens.optics is None:
            return hatched(mask)
        return hatched(_looked_up(mask, lens, lens.bent))

    def _lens(self, frame: Frame) -> Lens | None:
        """The frame's size and what its lens correction undoes; None if it cannot be opened."""
        engine = self._session.engine
        try:
            opened = engine.opened(self._session.project, frame, Job())
            optics = engine.optics(opened, frame)
        except WindfellError:
            return None
        return Lens(*opened.size, 1.0, optics=optics if optics is not None and optics.bends else None)

    def _drawn(self, frame: Frame, draw, erase: bool) -> None:
        lens = self._lens(frame)
        if lens is None:
            return
        s = self._session
        k = min(1.0, MASK_SIDE / max(lens.width, lens.height))
        drawn = np.zeros((max(1, round(lens.height * k)), max(1, round(lens.width * k))), np.uint8)
        draw(drawn, k)
        if lens.optics is not None:
            drawn = _looked_up(drawn, lens, lens.ideal)
        old = s.engine.ignored(frame)
        if old is not None:
            old = cv2.resize(old, drawn.shape[::-1], interpolation=cv2.INTER_NEAREST)
            drawn = np.where(drawn > 127, 0, old).astype(np.uint8) if erase else np.maximum(drawn, old)
        elif erase:
            return
        name = mask_name(drawn) if drawn.any() else None
        if name is not None:
            s.engine.masks[name] = drawn
        s.edit(edits.ignore_area(s.project, s.set_id, [frame.id], name), True)


def _spots(points: Sequence[tuple[float, float]], k: float) -> NDArray[np.int32]:
    return np.rint((np.array(points, float) + 0.5) * k - 0.5).astype(np.int32)


def _looked_up(mask: Mask, lens: Lens, onto) -> Mask:
    """A mask whose px show what `mask` holds at `onto` of their place, px of the full size; 0 beyond it."""
    h, w = mask.shape
    grid = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1).astype(float)
    scale = np.array([lens.width / w, lens.height / h])
    with np.errstate(invalid="ignore"):
        there = (onto((grid + 0.5) * scale - 0.5) + 0.5) / scale - 0.5
    there = np.nan_to_num(there, nan=-10.0).astype(np.float32)
    return cv2.remap(mask, there, None, cv2.INTER_NEAREST, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
