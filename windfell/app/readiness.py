"""Readiness of the set in hand, looked at in the background as soon as frames arrive."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QObject, QTimer, Signal

from windfell.align.registration import PanoramaRegistration
from windfell.app.registrations import Registrations
from windfell.app.session import Session
from windfell.engine.measured import with_measured
from windfell.engine.mend import mended
from windfell.engine.survey import surveyed
from windfell.readiness.checks import findings
from windfell.readiness.findings import Finding, Weight
from windfell.readiness.survey import PairLook, Survey
from windfell.recipe.model import FrameSet

CALM_MS = 500


class Readiness(QObject):
    """`arrived` when there is something newer. Ask `findings_of(set)` of any set looked at."""

    arrived = Signal()

    def __init__(self, session: Session, registrations: Registrations) -> None:
        super().__init__()
        self._session, self._registrations = session, registrations
        self._looked: Survey | None = None
        self.survey: Survey | None = None
        self.findings: list[Finding] = []
        self.frame_set: FrameSet | None = None
        self.error: str | None = None
        self.waiting = False
        self._asked: tuple | None = None
        self._with: tuple = ()
        self._timer = QTimer(self, singleShot=True, interval=CALM_MS)
        self._timer.timeout.connect(self._ask)
        session.changed.connect(self.consider)
        registrations.arrived.connect(self._measured)

    def consider(self) -> None:
        """Look again if what the set is made of has changed."""
        frame_set = self._session.frame_set
        if frame_set is None or not frame_set.used:
            self._asked, self._looked, self.survey, self.findings, self.frame_set = None, None, None, [], None
            self._with = ()
            self.waiting, self.error = False, None
            self._timer.stop()
            self._session.desk.drop("readiness")
            self.arrived.emit()
            return
        wanted = (frame_set.id, frame_set.kind, frame_set.used, frame_set.numbers, frame_set.proposed,
                  frame_set.registration.align)
        if wanted == self._asked:
            return
        if self.frame_set is None or self.frame_set.id != frame_set.id:
            self._looked, self.survey, self.findings, self.error, self._with = None, None, [], None, ()
        self._asked, self.waiting = wanted, True
        self._session.desk.drop("readiness")
        self._timer.start()

    def _ask(self) -> None:
        frame_set, project, engine = self._session.frame_set, self._session.project, self._session.engine
        if frame_set is None:
            return
        self._session.desk.ask(
            "readiness", lambda job: surveyed(engine, project, frame_set.id, job),
            lambda survey: self._have(survey, frame_set), self._failed, self._stopped,
        )
        self.arrived.emit()

    def _have(self, survey: Survey, frame_set: FrameSet) -> None:
        self._looked, self.frame_set, self.waiting, self.error = survey, frame_set, False, None
        self._with = ()
        self._measured()
        if not self._with:
            self._judge(survey)

    def _judge(self, survey: Survey) -> None:
        self.survey, self.findings = survey, findings(survey)
        self.arrived.emit()

    def _measured(self) -> None:
        """Align knows more: what it measured replaces what the quick look guessed."""
        r, own, looked = self._registrations, self.frame_set, self._looked
        if looked is None or own is None:
            return
        found, more = r.taken if r.found is not None else None, (r.coverage, r.depth, r.lights)
        same = r.frame_set is not None and r.frame_set.id == own.id and _bare(r.frame_set) == _bare(own)
        if not same or not isinstance(found, PanoramaRegistration) or r.coverage is None or r.depth is None:
            if self._with:
                self._with = ()
                self._judge(looked)
            return
        alike = [f.development for f in r.frame_set.used] == [f.development for f in own.used]
        known = looked, *more, alike
        if len(known) == len(self._with) and all(a is b for a, b in zip(known, self._with, strict=True)):
            return
        self._with = known
        ids = [f.id for f in r.frame_set.used]

        def done(survey: Survey) -> None:
            if self._with is known:
                self._judge(survey)

        self._session.desk.ask(
            "readiness, measured",
            lambda _: with_measured(looked, ids, found, *more[:2], more[2] if alike else None), done, quiet=True)

    def _failed(self, sentence: str) -> None:
        self._looked, self.survey, self.findings, self.waiting, self.error = None, None, [], False, sentence
        self._with = ()
        self.arrived.emit()

    def _stopped(self) -> None:
        self._asked = None
        self._failed("Stopped. Press R to look again.")

    def again(self) -> None:
        self._asked = None
        self.consider()

    def mend(self, chosen: Sequence[Finding]) -> None:
        """Mend findings in one edit that can be undone, and say what was done."""
        s = self._session
        project, set_id, engine = s.project, s.set_id, s.engine
        if not chosen or set_id is None:
            return

        def done(edit) -> None:
            if s.project != project:
                s.say("The recipe changed meanwhile; nothing was mended.", "wrong")
                return
            s.edit(edit, True)
            s.say(f"Mended: {edit.words}. It can be undone.", "good")

        s.desk.ask("mend", lambda job: mended(engine, project, set_id, chosen, job), done)

    @property
    def faults(self) -> list[Finding]:
        """Findings that are more than good to know."""
        return [f for f in self.findings if f.weight is not Weight.NOTE]

    @property
    def safe(self) -> list[Finding]:
        return [f for f in self.findings if f.safe]

    def place(self, frame_id: str) -> int | None:
        """The frame's place in the survey."""
        ids = [f.id for f in self.survey.frames] if self.survey else []
        return ids.index(frame_id) if frame_id in ids else None

    def pair(self, a: str, b: str) -> PairLook | None:
        """What two frames share, as seen from `a`; only if they were linked directly."""
        if self.survey is None:
            return None
        p, q = self.place(a), self.place(b)
        return next((k for k in self.survey.pairs if (k.a, k.b) == (p, q)), None)

    def note(self, frame_id: str) -> tuple[str, bool]:
        """One line on a frame's light against the set's middle."""
        at = self.place(frame_id)
        drift = self.survey.drifts[at] if at is not None and at < len(self.survey.drifts) else None
        bad = any(frame_id in f.frames and str(f.weight) == "wrong" for f in self.findings)
        if drift is None:
            return "", bad
        return f"{round(drift.ev, 2) + 0.0:+.2f} EV {round(drift.mired):+d} mired", bad


def _bare(frame_set: FrameSet) -> tuple:
    """What a registration and a look must have in common to speak of the same."""
    return frame_set.kind, tuple((f.id, f.source, f.lens) for f in frame_set.used)
