"""What each set will give, small and coarse, for the ends of the lanes: made while nothing else is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from windfell.app.picture.images import image_of
from windfell.app.session import Session
from windfell.job import Job
from windfell.recipe.model import FrameSet, picture_parts

SIDE = 480
CHANNEL, BEFORE = "set pictures", ("gather", "registration", "readiness", "thumbnails 1", "thumbnails 2")
WAIT_MS = 150


@dataclass(frozen=True)
class SetPicture:
    """A set's picture, or why there is none; of which recipe; None for both while it is to be made."""

    image: QImage | None = None
    problem: str = ""
    parts: tuple = ()


class SetPictures(QObject):
    """Ask `of(set_id)`; `arrived` tells of a set's that there is something newer.

    One is made at a time, at the station where they are seen, when the hand rests and what was asked for is done.
    """

    arrived = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._kept: dict[str, SetPicture] = {}
        self._making: str | None = None
        self._timer = QTimer(self, singleShot=True, interval=WAIT_MS)
        self._timer.timeout.connect(self._next)
        session.changed.connect(self.consider)
        session.station_changed.connect(self.consider)

    def of(self, set_id: str) -> SetPicture:
        return self._kept.get(set_id, SetPicture())

    def is_newest(self, set_id: str) -> bool:
        return self.of(set_id).parts == picture_parts(self._session.project, set_id)

    @property
    def settled(self) -> bool:
        return self._session.station != "gather" or (self._making is None and not self._timer.isActive())

    def consider(self) -> None:
        """Make what is missing or of another recipe, once there is time; what is on its way may be of no use now."""
        ids = {s.id for s in self._session.project.sets}
        self._kept = {i: p for i, p in self._kept.items() if i in ids}
        if self._making is not None and (self._session.station != "gather" or self._making not in ids):
            self._session.desk.drop(CHANNEL)
            self._making = None
        self._timer.start()

    def _wanted(self) -> Iterator[FrameSet]:
        """Sets whose picture is to be made: that in hand first."""
        s = self._session
        for frame_set in sorted(s.project.sets, key=lambda x: x.id != s.set_id):
            if frame_set.used and not self.is_newest(frame_set.id):
                yield frame_set

    def _next(self) -> None:
        s = self._session
        if s.station != "gather" or self._making is not None:
            return
        frame_set = next(self._wanted(), None)
        if frame_set is None:
            return
        if s.moving or any(s.desk.runs(c) for c in BEFORE):
            self._timer.start()
            return
        project, engine, set_id = s.project, s.engine, frame_set.id
        parts = picture_parts(project, set_id)
        self._making = set_id

        def make(job: Job) -> QImage:
            return image_of(engine.draft(project, set_id, SIDE, job).pixels)

        s.desk.ask(CHANNEL, make, lambda image: self._have(set_id, SetPicture(image, "", parts)),
                   lambda sentence: self._have(set_id, SetPicture(None, sentence, parts)), self._stopped, quiet=True)

    def _have(self, set_id: str, found: SetPicture) -> None:
        self._making = None
        self._kept[set_id] = found
        self.arrived.emit(set_id)
        self._timer.start()

    def _stopped(self) -> None:
        """Made again with the next change."""
        self._making = None
