"""How the set in hand is registered, asked for whenever the recipe changes."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from windfell.align.doubt import doubts_in_words
from windfell.align.parallax import Depth, depth_of
from windfell.align.registration import PanoramaRegistration, Placed
from windfell.align.series import Onto
from windfell.app.picture.source import STOPPED
from windfell.app.session import Session
from windfell.engine.stack import StackRegistration
from windfell.engine.survey import registered_coverage
from windfell.job import Job
from windfell.join.light import FrameLight
from windfell.readiness.survey import Coverage
from windfell.recipe.model import Development, FrameSet, Project

MUCH_PARALLAX_PX = 1.5


class Registrations(QObject):
    """`found` is the newest registration of the set in hand; `error` says why there is none."""

    arrived = Signal()
    looked_again = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.found: PanoramaRegistration | StackRegistration | None = None
        self.doubts: dict[int, str] = {}
        self.taken: PanoramaRegistration | None = None
        self.coverage: Coverage | None = None
        self.depth: Depth | None = None
        self.lights: list[FrameLight] | None = None
        self.frame_set: FrameSet | None = None
        self.error: str | None = None
        self.waiting = False
        self._asked: tuple | None = None
        self._more_of: PanoramaRegistration | None = None
        session.changed.connect(self.ask)
        session.rested.connect(self._ask_more)

    def ask(self, again: bool = False) -> None:
        """Have the set in hand registered, unless that is under way or done."""
        frame_set = self._session.frame_set
        if frame_set is None or not frame_set.used:
            self._asked, self.found, self.error, self.waiting = None, None, None, False
            self._session.desk.drop("registration")
            self.arrived.emit()
            return
        # where frames lie does not hang on how they are developed
        bare = tuple(replace(f, development=Development()) for f in frame_set.used)
        wanted = (frame_set.id, frame_set.kind, bare, frame_set.registration)
        if wanted == self._asked and not again:
            return
        if self.frame_set is None or self.frame_set.id != frame_set.id:
            self.found, self.error = None, None
        project: Project = self._session.project
        engine = self._session.engine

        def work(job: Job) -> tuple[PanoramaRegistration | StackRegistration, dict[int, str]]:
            if again:
                engine.look_again(project, frame_set.id, job)
            found = engine.stages(project, frame_set.id).registration(job)
            return found, doubts_in_words(found, frame_set.numbers) if isinstance(found, PanoramaRegistration) else {}

        def have(answer: tuple[PanoramaRegistration | StackRegistration, dict[int, str]]) -> None:
            self._have(*answer, frame_set)
            if again:
                self.looked_again.emit()

        same = self._asked is not None and self._asked[:3] == wanted[:3]
        self._asked, self.waiting = wanted, True
        # the same frames with other help: what is on its way is worth seeing, as while a point is dragged
        desk = self._session.desk
        desk.drop("registration, more")
        (desk.follow if same else desk.ask)("registration", work, have, self._failed, self._stopped)
        if again:
            self.arrived.emit()

    def _have(
        self, found: PanoramaRegistration | StackRegistration, doubts: dict[int, str], frame_set: FrameSet
    ) -> None:
        desk = self._session.desk
        if self.frame_set is None or _ids(self.frame_set) != _ids(frame_set):
            # what was measured of other frames counts by other numbers
            self.taken = self.coverage = self.depth = self.lights = None
        self.found, self.frame_set, self.error, self.waiting = found, frame_set, None, desk.runs("registration")
        self._more_of = None
        self.doubts = doubts
        if not isinstance(found, PanoramaRegistration):
            self.taken = self.coverage = self.depth = self.lights = None
        elif not self._session.moving:
            self._ask_more()
        self.arrived.emit()

    def _ask_more(self) -> None:
        """What follows from where the frames lie; while a hand moves it waits."""
        found, frame_set, desk = self.found, self.frame_set, self._session.desk
        if not isinstance(found, PanoramaRegistration) or self._more_of is found or desk.runs("registration"):
            return
        self._more_of = found
        longest = max(found.frames[n].lens.width for n in found.placed)
        rating = max(MUCH_PARALLAX_PX, longest / 1500)
        project, engine = self._session.project, self._session.engine

        def more(job: Job) -> tuple[PanoramaRegistration, Coverage, Depth, list[FrameLight]]:
            stages = engine.stages(project, frame_set.id)
            lights, taken = stages.fitted_lights(job), stages.as_taken(job)
            return taken, registered_coverage(taken), depth_of(found, rating), lights

        desk.ask("registration, more", more, self._have_more, self._have_no_more, quiet=True)

    def _have_more(self, more: tuple[PanoramaRegistration, Coverage, Depth, list[FrameLight]]) -> None:
        """What follows from where the frames lie: what each adds, parallax, and how their light differs."""
        self.taken, self.coverage, self.depth, self.lights = more
        self.arrived.emit()

    def _have_no_more(self, sentence: str) -> None:
        """A frame that cannot be read any more is told of where its picture is made."""

    def _stopped(self) -> None:
        """It can be asked for again."""
        self._asked = None
        self._failed(STOPPED)

    def _failed(self, sentence: str) -> None:
        self.doubts = {}
        self.found, self.error, self.waiting = None, sentence, False
        self.arrived.emit()

    def note(self, frame_id: str) -> tuple[str, bool]:
        """One line on a frame's registration, and whether something is wrong."""
        if self.found is None or self.frame_set is None:
            return "", False
        ids = [f.id for f in self.frame_set.used]
        if frame_id not in ids or len(self.found.frames) != len(ids):
            return "", False
        place = self.found.frames[ids.index(frame_id)]
        if isinstance(place, Placed):
            return f"{place.rms_px:.2f} px", False
        if isinstance(place, Onto):
            return ("in place" if place.still else f"{place.rms_px:.2f} px"), False
        return "not placed", True

    @property
    def findings(self) -> bool:
        """Whether a frame could not be placed."""
        if self.error:
            return True
        good = (Placed, Onto)
        return bool(self.doubts) or (
            self.found is not None and any(not isinstance(f, good) for f in self.found.frames))


def _ids(frame_set: FrameSet) -> tuple[str, ...]:
    return frame_set.id, *(f.id for f in frame_set.used)
