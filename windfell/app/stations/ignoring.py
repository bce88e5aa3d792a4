"""Areas of frames in which no points are taken, drawn on two frames side by side by the hand that draws all areas.

What is drawn lies in the px of the frame as it was taken, since that is where features are looked for; frames are
shown with their lens corrected.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QObject, Signal

from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.picture.point_pane import PointPane, hatched
from windfell.app.session import Session
from windfell.app.widgets.area_bar import AreaBar
from windfell.engine.frame_sheet import frame_sheet
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.areas import Area
from windfell.recipe.model import Frame, Project

HATCH_SIDE = 1024


class Ignoring(QObject):
    """A hand for each pane; the one over whose pane the pointer is has the area in hand. `ended` when neither has."""

    ended = Signal()

    def __init__(self, session: Session, panes: Sequence[PointPane], bar: AreaBar) -> None:
        super().__init__()
        self._session, self._panes = session, panes
        self.hands = [AreaHand(session, pane, bar, f" {n}") for n, pane in enumerate(panes)]
        self._passing = False
        self._frames: list[Frame] = []
        self._hatched: list[tuple | None] = [None, None]
        for hand in self.hands:
            hand.taken.connect(self._tell)

    @property
    def side(self) -> int | None:
        """The pane on which the area is in hand."""
        return next((n for n, hand in enumerate(self.hands) if hand.target is not None), None)

    def take(self, side: int) -> None:
        """The area of this pane's frame is drawn on from now on."""
        if self.side == side or side >= len(self._frames):
            return
        self._passing = True
        self.put_away()
        self._passing = False
        s, frame_id, set_id = self._session, self._frames[side].id, self._session.set_id
        number = [f.id for f in s.frame_set.frames].index(frame_id) + 1

        def read(project: Project) -> Area | None:
            found = _frame(project, set_id, frame_id)
            return None if found is None else found.ignored or Area()

        def write(project: Project, area: Area) -> Project:
            return edits.ignore_area(project, set_id, [frame_id], area if area != Area() else None).project

        self.hands[side].take(AreaTarget(
            set_id, f"Ignored in frame {number}", read, write,
            on=lambda engine, project, job: frame_sheet(engine, project, _frame(project, set_id, frame_id), job)))
        self.show(self._frames)

    def put_away(self) -> None:
        for hand in self.hands:
            hand.put_away()

    def _tell(self) -> None:
        if self.side is None and not self._passing:
            self.show(self._frames)
            self.ended.emit()

    def in_all(self, frame: Frame) -> None:
        """The frame's ignored area counts in all frames of the set."""
        s = self._session
        if frame.ignored is None:
            s.say("This frame has no ignored area yet; paint or outline one.", "info")
            return
        s.edit(edits.ignore_area(s.project, s.set_id, [f.id for f in s.frame_set.frames], frame.ignored), True)

    def show(self, frames: Sequence[Frame]) -> None:
        """What is ignored in the frames of both panes is hatched; what is in hand the hand itself shows."""
        held = self.side
        if held is not None and [f.id for f in frames] != [f.id for f in self._frames]:
            self._passing = True
            self.put_away()
            self._passing = False
            self._frames = list(frames)
            self.take(held)
            return
        self._frames = list(frames)
        for side, frame in enumerate(frames):
            self._hatch(side, frame)

    def _hatch(self, side: int, frame: Frame) -> None:
        s, pane = self._session, self._panes[side]
        nothing = frame.ignored is None or frame.ignored.empty or self.side == side
        key = None if nothing else (frame.source, frame.lens, frame.ignored)
        if key == self._hatched[side]:
            return
        self._hatched[side] = key
        channel = f"ignored {side}"
        if key is None:
            s.desk.drop(channel)
            pane.ignored = None
            pane.update()
            return
        engine, project = s.engine, s.project

        def make(job: Job) -> np.ndarray:
            share = frame_sheet(engine, project, frame, job).picture(frame.ignored, HATCH_SIDE, job)
            return (255 * share + 0.5).astype(np.uint8)

        def done(mask: np.ndarray) -> None:
            if self._hatched[side] == key:
                pane.ignored = hatched(mask)
                pane.update()

        def failed(*_) -> None:
            self._hatched[side] = None

        s.desk.ask(channel, make, done, failed, failed, quiet=True)


def _frame(project: Project, set_id: str, frame_id: str) -> Frame | None:
    own = next((s for s in project.sets if s.id == set_id), None)
    return None if own is None else next((f for f in own.frames if f.id == frame_id), None)
