"""Prepare: lens and development of the frames, seen at their overlaps; Readiness."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QStackedWidget, QWidget

from windfell.app.picture.pair_view import PairView
from windfell.app.picture.source import PictureSource
from windfell.app.readiness import Readiness
from windfell.app.session import Session
from windfell.app.single import single_frame
from windfell.app.stations.development import DevelopmentControls
from windfell.app.stations.lens import LensControls
from windfell.app.stations.station import Station
from windfell.app.widgets.bar import bar_above
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.findings import FindingsList
from windfell.recipe.model import Align, Frame, Kind

PAGES = (
    ("light", "Light", "White balance and exposure"), ("tone", "Tone", "Contrast, highlights, shadows"),
    ("detail", "Detail", "Local contrast, haze, noise, sharpening"), ("lens", "Lens", "Distortion, edges, fringing"),
)


class Prepare(Station):
    """The pair of neighbouring frames in the picture area; tabs of controls; Readiness."""

    name = "prepare"

    def __init__(self, session: Session, readiness: Readiness) -> None:
        super().__init__(session)
        self.found = readiness
        self.first = PictureSource(session, "pair first")
        self.second = PictureSource(session, "pair second")
        self.view = PairView(self.first, self.second)
        self.view.set_compare("divide")
        self._pair: tuple | None = None
        self._centred: tuple | None = None
        self._build_page()
        self._build_controls()
        self.instrument = FindingsList()
        self.instrument.shown.connect(lambda f: session.select_frame(f.frames[0]))
        self.instrument.mended.connect(lambda f: readiness.mend([f]))
        self.instrument.all_safe.connect(lambda: readiness.mend(readiness.safe))
        readiness.arrived.connect(self._readiness_arrived)
        self.first.arrived.connect(self._centre)

    def _build_page(self) -> None:
        self.page = QWidget()
        column, row = bar_above(self.page)
        self.way = Choice("", (
            ("divide", "Halves", "One frame on each side of a line that moves"),
            ("blink", "Blink", "One frame, then the other"),
            ("ghost", "Ghost", "Both at once, half each"),
            ("off", "One", "Only the chosen frame")))
        self.way.set_value("divide")
        self.way.picked.connect(self._set_way)
        self.clipping = QPushButton("Show clipping", checkable=True)
        self.clipping.setToolTip("Burnt-out spots in red, blocked-up black ones in blue")
        self.clipping.toggled.connect(self._set_clipping)
        self.whole = QPushButton("Overlap")
        self.whole.setToolTip("Centre on what both frames show")
        self.whole.clicked.connect(self.view.show_overlap)
        self.words = self.quiet()
        row.addWidget(self.way)
        row.addWidget(self.whole)
        row.addWidget(self.clipping)
        row.addWidget(self.words, 1)
        column.addWidget(self.view, 1)

    def _build_controls(self) -> None:
        self.column.setContentsMargins(16, 6, 12, 4)
        self.column.setSpacing(3)
        self.tabs = Choice("", PAGES)
        self.tabs.picked.connect(self.open_tab)
        self.development = DevelopmentControls(self.session, self.found, self.view, lambda: self.frame)
        self.lens = LensControls(self.session, lambda: self.frame)
        self.stack = QStackedWidget()
        for page in (*self.development.pages, self.lens):
            self.stack.addWidget(page)
        row = QHBoxLayout()
        row.addWidget(self.tabs, 1)
        row.addWidget(self.development.for_all)
        self.column.addLayout(row)
        self.column.addWidget(self.stack, 1)
        self.tabs.set_value("light")

    @property
    def needed(self) -> list[QWidget]:
        d = self.development
        return [d.rulers["temperature_k"], d.rulers["exposure_ev"], d.match, d.for_all]

    @property
    def frame(self) -> Frame | None:
        """The chosen frame, or the first in use."""
        frame_set = self.session.frame_set
        if frame_set is None or not frame_set.frames:
            return None
        chosen = [f for f in frame_set.frames if f.id == self.session.frame_id]
        return chosen[0] if chosen else (frame_set.used or frame_set.frames)[0]

    @property
    def neighbour(self) -> Frame | None:
        """The frame beside the chosen one: the next in use, or the one before the last."""
        frame_set, frame = self.session.frame_set, self.frame
        others = [f for f in frame_set.used if f.id != frame.id] if frame else []
        if not others:
            return None
        ids = [f.id for f in frame_set.frames]
        later = [f for f in others if ids.index(f.id) > ids.index(frame.id)]
        linked = [f for f in (*later, *reversed(others)) if self._onto(frame.id, f.id) is not None]
        return (linked or later or others[-1:])[0]

    def _onto(self, a: str, b: str):
        frame_set = self.session.frame_set
        if frame_set.kind is Kind.STACK and frame_set.registration.align is Align.NONE:
            return np.eye(3)
        pair = self.found.pair(a, b)
        if pair is not None:
            return pair.onto
        pair = self.found.pair(b, a)
        if pair is None:
            return None
        return np.linalg.inv(pair.onto)

    @property
    def settled(self) -> bool:
        return self.first.settled and self.second.settled and not self.found.waiting

    def open_tab(self, name: str) -> None:
        self.tabs.set_value(name)
        self.stack.setCurrentIndex([p[0] for p in PAGES].index(name))

    def entered(self) -> None:
        self.found.consider()

    def left(self) -> None:
        self.development.stop_picking()

    def refresh(self) -> None:
        frame_set, frame = self.session.frame_set, self.frame
        if frame_set is None or frame is None:
            self.first.clear()
            self.second.clear()
            self.view.teach = "Nothing here yet. Gather frames first (key 1)."
            self.instrument.show_findings([], "")
            return
        self._show_pair(frame, self.neighbour)
        self.development.refresh()
        self.lens.refresh()
        self._show_findings()

    def _show_pair(self, frame: Frame, other: Frame | None) -> None:
        s = self.session
        self.first.show(*single_frame(s.project, s.set_id, frame))
        if other is None:
            self.second.clear()
            self.view.onto = None
        else:
            self.second.show(*single_frame(s.project, s.set_id, other))
            self.view.onto = self._onto(frame.id, other.id)
        ids = [f.id for f in s.frame_set.frames]
        number = ids.index(frame.id) + 1
        pair = (frame.id, other and other.id, self.view.onto is not None)
        if pair != self._pair:
            self._pair, self._centred = pair, None
        if other is None:
            self.words.setText(f"Frame {number}. There is no other to compare it with.")
        else:
            beside = ids.index(other.id) + 1
            self.view.tags = (f"frame {beside}", f"frame {number}")
            linked = "" if self.view.onto is not None else ", laid over each other: no overlap is known yet"
            self.words.setText(f"Frame {number} and frame {beside}{linked}. N goes on to the next.")
        self._centre()

    def _centre(self) -> None:
        """Once for each pair, when its first frame is there."""
        shown = self.first.shown
        if shown is not None and self._centred != self._pair and self._pair and shown.set_id.endswith(self._pair[0]):
            self._centred = self._pair
            self.view.show_overlap()
        self.view.update()

    def _readiness_arrived(self) -> None:
        if self.session.station == self.name:
            self.refresh()

    def _show_findings(self) -> None:
        found = self.found
        if found.error:
            self.instrument.show_findings([], found.error, True)
            return
        if found.survey is None:
            self.instrument.show_findings([], "Looking at the frames…")
            return
        count = len(found.findings)
        words = "Nothing was found that would spoil it." if not count else (
            f"{count} finding{'' if count == 1 else 's'}, {len(found.safe)} of them safe to fix")
        self.instrument.show_findings(found.findings, words + (" · looking again…" if found.waiting else ""))

    def _set_way(self, way: str) -> None:
        self.view.set_compare(way)

    def _set_clipping(self, on: bool) -> None:
        self.view.clipping = on
        self.view.update()


