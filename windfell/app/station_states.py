"""How far each station is, as the ridge line shows it."""

from __future__ import annotations

import time

from windfell.app.picture.source import PictureSource
from windfell.app.readiness import Readiness
from windfell.app.registrations import Registrations
from windfell.app.ridge_line import RidgeLine
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.recipe.project_file import missing_files

FILES_ASKED_EVERY_S = 4.0


class StationStates:
    """Asks who knows, and tells the ridge line: made, anew (it is being made), findings, far."""

    def __init__(
        self, session: Session, ridge: RidgeLine, source: PictureSource, readiness: Readiness,
        registrations: Registrations, stations: dict[str, Station],
    ) -> None:
        self._session, self._ridge, self._source = session, ridge, source
        self._readiness, self._registrations, self._stations = readiness, registrations, stations
        self._asked_for, self._asked_at, self._missing = None, 0.0, False

    def show(self) -> None:
        s = self._session
        self._look_for_files()
        any_frames = s.frame_set is not None and bool(s.frame_set.used)
        self._ridge.show_stations(
            s.stations, s.station, {name: self._of(name) if any_frames else "far" for name in s.stations})

    def _of(self, name: str) -> str:
        s, source = self._session, self._source
        if name == "gather":
            return "findings" if self._missing else "made"
        if name == "prepare":
            return "findings" if self._readiness.faults else "anew" if self._readiness.waiting else "made"
        if name == "align":
            found = self._registrations
            return "anew" if found.waiting else "findings" if found.findings else "made"
        if name == "export":
            written = self._stations["export"].written
            return "made" if written and written.path.exists() else "far"
        if source.error or source.shown is None:
            return "far"
        shown = source.is_of(self._stations[s.station].picture_of(s.project), s.set_id)
        return "made" if shown and source.settled else "anew"

    def _look_for_files(self) -> None:
        """Whether all files are there, every few seconds: thousands of them may lie on a slow disk."""
        project, now = self._session.project, time.monotonic()
        recent = self._asked_for is project.sets and now - self._asked_at < FILES_ASKED_EVERY_S
        if self._session.moving or recent:
            return
        self._asked_for, self._asked_at = project.sets, now

        def done(found: list[str]) -> None:
            if self._missing != bool(found):
                self._missing = bool(found)
                self.show()

        self._session.desk.ask("files", lambda _: missing_files(project), done, quiet=True)
