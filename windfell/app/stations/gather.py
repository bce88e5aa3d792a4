"""Gather: sets in lanes, a folder browser, and what the chosen frames are and add."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtSvgWidgets import QSvgWidget
from PySide6.QtWidgets import (
    QApplication,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)
from shiboken6 import isValid

from windfell.app import theme
from windfell.app.readiness import Readiness
from windfell.app.session import Session
from windfell.app.stations.folder import FolderPage
from windfell.app.stations.lanes import Lanes
from windfell.app.stations.station import Station
from windfell.app.stations.trimmer import Trimmer
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.bars import Bars
from windfell.app.widgets.choice import Choice
from windfell.errors import WindfellError
from windfell.frames.metadata import said
from windfell.frames.still import metadata_of
from windfell.readiness.sharpness import softness
from windfell.recipe import edits
from windfell.recipe.model import Frame
from windfell.recipe.sources import FileSource, VideoInstant

PLOTS = (
    ("coverage", "Coverage", "What each frame adds to the picture"),
    ("sharpness", "Sharpness", "Compared on what the frames share"),
    ("times", "Times", "Seconds after the first frame"),
)
TITLES = {
    "coverage": "New picture that each frame adds, %", "sharpness": "Sharpness against its neighbours, 1 is as sharp",
    "times": "Taken so many seconds after the first",
}


class Wall(QStackedWidget):
    """The lanes, the folder browser, or what to do while there is nothing."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session = session
        self.demo = QPushButton("Open the demo")
        self.demo.setToolTip("Sets of an invented village, to try everything with")
        self.add = QPushButton("Add frames…")
        self.add.setToolTip("Choose pictures or videos; sets are proposed of them (Ctrl+I)")
        self.board = Lanes(session, thumbnails)
        self.folder = FolderPage(session, thumbnails)
        self.browsing = False
        self._nothing = self._empty()
        for page in (self._nothing, self.board, self.folder):
            self.addWidget(page)

    @property
    def lanes(self) -> list:
        return self.board.lanes

    def _empty(self) -> QWidget:
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.addStretch(1)
        mark = QSvgWidget(str(theme.ASSETS / "windfell.svg"))
        mark.setFixedSize(72, 72)
        layout.addWidget(mark, 0, Qt.AlignmentFlag.AlignCenter)
        layout.addSpacing(6)
        title = QLabel("Drop frames here")
        title.setProperty("role", "title")
        words = QLabel(
            "Pictures, raw files, videos, or a whole card. Overlapping frames become a panorama, frames of one\n"
            "view a stack; Windfell proposes which, and says what would go wrong. Nothing is ever written to them."
        )
        for part in (title, words):
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
            layout.addWidget(part)
        row = QHBoxLayout()
        row.addStretch(1)
        self.demo.setProperty("main", True)
        row.addWidget(self.demo)
        row.addWidget(self.add)
        row.addStretch(1)
        layout.addSpacing(10)
        layout.addLayout(row)
        layout.addStretch(1)
        return page

    def dressed(self) -> list[QWidget]:
        """Its parts that wear the theme, each by itself."""
        return [self._nothing, self.folder, self.board.verticalScrollBar(), *self.board.lanes]

    def refresh(self) -> None:
        self.board.refresh()
        page = 2 if self.browsing else 1 if self._session.project.sets else 0
        if page != self.currentIndex():
            held = self.isAncestorOf(QApplication.focusWidget()) if QApplication.focusWidget() else False
            self.setCurrentIndex(page)
            if held:
                # else it would go on into the first name, and the next key would write there
                self.currentWidget().setFocus()


class Gather(Station):
    """Controls: add, browse, vary, nest. Instrument: the frames' figures, or the video trimmer."""

    name = "gather"

    def __init__(self, session: Session, thumbnails: Thumbnails, readiness: Readiness) -> None:
        super().__init__(session)
        self._thumbnails, self._readiness = thumbnails, readiness
        self.page = Wall(session, thumbnails)
        self.page.folder.chosen.connect(self._gather_chosen)
        self.add = QPushButton("Add frames…")
        self.add.setToolTip("Choose pictures or videos; sets are proposed of them (Ctrl+I)")
        self.folder = QPushButton("Add a folder…")
        self.folder.setToolTip("All pictures and videos of a folder (Ctrl+Shift+I)")
        self.browse = QPushButton("Browse a folder", checkable=True)
        self.browse.setToolTip("Look through a folder with large thumbnails and choose from it")
        self.browse.toggled.connect(self._set_browsing)
        self.vary = QPushButton("Vary this set")
        self.vary.setToolTip("A second variant of the set in hand, sharing its frames")
        self.vary.clicked.connect(self._vary)
        self.nest = QPushButton("Use as a frame…")
        self.nest.setToolTip("Make the picture of another set a frame of the set in hand")
        self.behind = QPushButton("Lay behind…")
        self.behind.setToolTip("Lay another set, such as a night sky, behind this one along its skyline")
        self.watch = QPushButton("Watch a folder…")
        self.watch.setToolTip("What comes into it becomes sets by itself, made by a recipe if one is chosen")
        self.accept = QPushButton("Accept all")
        self.accept.setToolTip("All proposed sets are right; they stay changeable")
        self.accept.clicked.connect(self._accept_all)
        grid = QGridLayout()
        grid.setSpacing(6)
        for n, button in enumerate((
                self.add, self.folder, self.browse, self.watch, self.vary, self.nest, self.behind, self.accept)):
            grid.addWidget(button, n // 2, n % 2)
        self.column.addWidget(self.title("Gather"))
        self.column.addLayout(grid)
        self._count = self.quiet()
        self.column.addWidget(self._count)
        self.column.addStretch(1)
        self._build_instrument()
        readiness.arrived.connect(self._figures_arrived)

    def _build_instrument(self) -> None:
        self._facts = self.quiet()
        self.plot = Choice("", PLOTS)
        self.plot.picked.connect(self._show_plot)
        self.plot.set_value("coverage")
        self._plotted = "coverage"
        self.bars = Bars("", "")
        self.bars.picked.connect(self._pick)
        figures = QWidget()
        layout = QVBoxLayout(figures)
        layout.setContentsMargins(12, 8, 16, 8)
        layout.setSpacing(4)
        layout.addWidget(self._facts)
        layout.addWidget(self.plot)
        layout.addWidget(self.bars, 1)
        self.trimmer = Trimmer(self.session)
        self.instrument = QStackedWidget()
        self.instrument.addWidget(figures)
        self.instrument.addWidget(self.trimmer)

    @property
    def needed(self) -> list[QWidget]:
        return [self.add, self.browse, self.accept]

    def dressed(self) -> list[QWidget]:
        return [self.controls, self.instrument, *self.page.dressed()]

    def refresh(self) -> None:
        self._mark_problems()
        self.page.refresh()
        frame_set = self.session.frame_set
        for button in (self.vary, self.nest, self.behind):
            button.setEnabled(frame_set is not None)
        self.accept.setEnabled(bool(self._proposed()))
        sets = len(self.session.project.sets)
        total = sum(len(s.frames) for s in self.session.project.sets)
        self._count.setText(self._count_words(total, sets) if sets else "No frames yet")
        self._show_facts()
        self._show_plot(self._plotted)

    def _count_words(self, total: int, sets: int) -> str:
        words = f"{total} frames in {sets} set{'' if sets == 1 else 's'}"
        chosen = len(self.page.board.picks.ids)
        return f"{words}, {chosen} chosen together" if chosen > 1 else words

    @property
    def settled(self) -> bool:
        return self._thumbnails.settled and self.page.board.settled

    def _chosen(self) -> Frame | None:
        frame_set = self.session.frame_set
        return next((f for f in frame_set.frames if f.id == self.session.frame_id), None) if frame_set else None

    def _show_facts(self) -> None:
        frame = self._chosen()
        trims = frame is not None and isinstance(frame.source, VideoInstant) and not self.page.browsing
        if trims:
            trims = self.trimmer.show_instant(frame.source)
        self.instrument.setCurrentIndex(1 if trims else 0)
        if frame is None:
            self._facts.setText(
                "Choose a frame to see what it is; Shift and Ctrl choose several. Space keeps aside, drag moves.")
            return
        source = frame.source
        if isinstance(source, FileSource):
            try:
                self._facts.setText(said(source.path, metadata_of(source.path)))
            except WindfellError as error:
                self._facts.setText(str(error))
        elif not trims:
            self._facts.setText("This frame is the picture of another set.")

    def _figures_arrived(self) -> None:
        if self.session.station == self.name:
            self._mark_problems()
            # an answer may come when the window is being put away
        if isValid(self.page.board):
            self.page.board.mark()
            self._show_plot(self._plotted)

    def _mark_problems(self) -> None:
        """The lanes show what Readiness says of single frames."""
        problems: dict[str, str] = {}
        for finding in self._readiness.findings:
            if str(finding.weight) != "note":
                for i in finding.frames:
                    problems[i] = f"{problems[i]}\n{finding.title}" if i in problems else finding.title
        self.page.board.problems = problems

    def _show_plot(self, name: str) -> None:
        self._plotted = name
        frame_set = self.session.frame_set
        self.bars.title, self.bars.low_is_bad = TITLES[name], name == "sharpness"
        self.bars.unit = {"coverage": "%", "sharpness": "", "times": "s"}[name]
        if frame_set is None:
            self.bars.show_values([])
            return
        values = self._values(name)
        ids = [f.id for f in frame_set.frames]
        chosen = ids.index(self.session.frame_id) if self.session.frame_id in ids else None
        self.bars.show_values([values.get(i) for i in ids], chosen)

    def _values(self, name: str) -> dict[str, float | None]:
        survey = self._readiness.survey
        if survey is None:
            return {}
        ids = [f.id for f in survey.frames]
        if name == "coverage":
            if survey.coverage is None:
                self.bars.title = "A stack's frames all show the same; nothing is added"
                return {}
            return {i: None if a is None else 100 * a for i, a in zip(ids, survey.coverage.added, strict=True)}
        if name == "sharpness":
            return {i: 2.0**-s for i, s in zip(ids, softness(survey.frames, survey.pairs), strict=True)}
        times = [f.taken for f in survey.frames]
        known = [t for t in times if t is not None]
        if not known:
            self.bars.title = "The frames do not say when they were taken"
            return {}
        first = min(known)
        return {i: None if t is None else (t - first).total_seconds() for i, t in zip(ids, times, strict=True)}

    def _pick(self, n: int) -> None:
        self.session.select_frame(self.session.frame_set.frames[n].id)

    def _vary(self) -> None:
        s = self.session
        s.edit(edits.vary(s.project, s.set_id))
        s.select_set(s.project.sets[-1].id)

    def _proposed(self) -> list[str]:
        return [s.id for s in self.session.project.sets if s.proposed]

    def _accept_all(self) -> None:
        s = self.session
        s.edit(edits.accept_sets(s.project, self._proposed()))

    def _set_browsing(self, on: bool) -> None:
        self.page.browsing = on
        self.refresh()

    def _gather_chosen(self, paths: list[str]) -> None:
        self.browse.setChecked(False)
        self.session.add_files(paths)
