"""The lens's controls: a profile found or searched, its parts on or off, numbers by hand."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QStringListModel, Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QCompleter,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from windfell.app.session import Session
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.app.widgets.typed import typed_number
from windfell.develop.lens import profile_names, remembered_key, searched, suggested_profile
from windfell.engine.folders import state_folder
from windfell.engine.lens_estimates import estimated_correction
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.recipe import developing
from windfell.recipe.model import Frame, LensCorrection
from windfell.recipe.written import written_whole

PARTS = (("distortion", "Distortion"), ("vignetting", "Edge darkening"), ("fringing", "Fringing"))
NUMBERS = {
    "bend": (("Bend k1", "k1", -0.3, 0.3, 0.001), ("Bend k2", "k2", -0.3, 0.3, 0.001),
             ("Bend k3", "k3", -0.3, 0.3, 0.001)),
    "edges": (("Edges v1", "v1", -1.0, 1.0, 0.01), ("Edges v2", "v2", -1.0, 1.0, 0.01),
              ("Edges v3", "v3", -1.0, 1.0, 0.01)),
    "fringes": (("Red size", "red", 0.995, 1.005, 0.0001), ("Blue size", "blue", 0.995, 1.005, 0.0001)),
}
TABS = (
    ("bend", "Bend", "Distortion by numbers"), ("edges", "Edges", "Edge darkening by numbers"),
    ("fringes", "Fringes", "The sizes of red and blue against green"),
)


class LensControls(QWidget):
    """They change the lens of every frame that was taken with the chosen frame's lens."""

    def __init__(self, session: Session, frame: Callable[[], Frame | None]) -> None:
        super().__init__()
        self._session, self._frame = session, frame
        self._suggested: dict[str, str | None] = {}
        self.tabs = Choice("", (("profile", "Profile", "What the lens database knows of the lens"), *TABS))
        self.tabs.set_value("profile")
        self._pages = QStackedWidget()
        self.rulers: dict[str, Ruler] = {}
        self._pages.addWidget(self._profile_page())
        for numbers in NUMBERS.values():
            self._pages.addWidget(self._numbers_page(numbers))
        self.tabs.picked.connect(self.open_page)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 3, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.tabs)
        column.addWidget(self._pages, 1)

    def open_page(self, name: str) -> None:
        """The profile, or numbers by hand."""
        self.tabs.set_value(name)
        self._pages.setCurrentIndex(("profile", *NUMBERS).index(name))

    def _profile_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search the lens database: maker, focal length…")
        self.search.setAccessibleName("Lens")
        self.search.setToolTip("The lens whose profile corrects the chosen frames; type to search")
        self._model = QStringListModel()
        completer = QCompleter(self._model, self)
        completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setMaxVisibleItems(9)
        completer.activated[str].connect(self.use_profile)
        self.search.setCompleter(completer)
        self.search.textEdited.connect(lambda words: self._model.setStringList(searched(words)))
        self.search.editingFinished.connect(self._typed)
        column.addWidget(self.search)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.found = QPushButton("Use what was found")
        self.found.setToolTip("The lens that the files' metadata name")
        self.found.clicked.connect(self._use_found)
        self.none = QPushButton("None")
        self.none.setToolTip("Correct no lens")
        self.none.clicked.connect(lambda: self.use_profile(None))
        self.estimate = QPushButton("Estimate")
        self.estimate.setToolTip("Edge darkening and fringing, measured from the frames of this set")
        self.estimate.clicked.connect(self._estimate)
        for part in (self.found, self.none, self.estimate):
            row.addWidget(part)
        row.addStretch(1)
        column.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(16)
        self.parts: dict[str, QCheckBox] = {}
        for name, words in PARTS:
            self.parts[name] = QCheckBox(words)
            self.parts[name].setToolTip(f"{words} is corrected")
            self.parts[name].clicked.connect(lambda on, k=name: self._change({k: on}, True))
            row.addWidget(self.parts[name])
        row.addStretch(1)
        column.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(QLabel("Focal length"))
        self.focal = QLineEdit()
        self.focal.setFixedWidth(130)
        self.focal.setAccessibleName("Focal length in mm")
        self.focal.setPlaceholderText("by metadata")
        self.focal.setToolTip("In mm, where the metadata have none or a wrong one")
        self.focal.editingFinished.connect(self._focal_typed)
        row.addWidget(self.focal)
        row.addStretch(1)
        column.addLayout(row)
        column.addStretch(1)
        return page

    def _numbers_page(self, numbers) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(5)
        for words, name, low, high, step in numbers:
            ruler = Ruler(words, low, high, 1.0 if name in ("red", "blue") else 0.0, "", step, 70)
            ruler.changed.connect(lambda v, first, k=name: self._change({k: float(v)}, first))
            self.rulers[name] = ruler
            column.addWidget(ruler)
        column.addStretch(1)
        return page

    def refresh(self) -> None:
        """Show the chosen frame's lens."""
        frame = self._frame()
        if frame is None:
            return
        lens = frame.lens
        if not self.search.hasFocus():
            self.search.setText((lens.profile or "").replace(" | ", ": ", 1))
        for name, box in self.parts.items():
            box.setChecked(getattr(lens, name))
        for name, ruler in self.rulers.items():
            ruler.set_value(getattr(lens, name))
        if not self.focal.hasFocus():
            self.focal.setText(f"{lens.focal_mm:g} mm" if lens.focal_mm else "")
        self._look_up(frame)
        suggested = self._suggested.get(frame.id)
        self.found.setEnabled(bool(suggested) and suggested != lens.profile)
        self.found.setText("Use what was found" if suggested else "Nothing found")
        self.found.setToolTip(
            f"Found by the frame's metadata: {suggested.partition(' | ')[2]}" if suggested else
            "The metadata name no lens of the database; choose it by hand if you know it")

    def _look_up(self, frame: Frame) -> None:
        """Ask what the metadata or an earlier choice for this body name; the database takes its time to be read."""
        if frame.id in self._suggested or self._session.desk.runs("lens suggestion"):
            return
        project, engine = self._session.project, self._session.engine

        def look(job: Job) -> str | None:
            try:
                taken = engine.opened(project, frame, job).taken
            except WindfellError:
                return None
            return suggested_profile(taken) or _remembered().get(remembered_key(taken))

        def done(found: str | None) -> None:
            self._suggested[frame.id] = found
            self.refresh()

        self._session.desk.ask("lens suggestion", look, done, failed=lambda _: done(None), quiet=True)

    def _taken(self, frame: Frame):
        try:
            return self._session.engine.opened(self._session.project, frame, Job()).taken
        except WindfellError:
            return None

    def _alike(self) -> list[str]:
        """Frames taken with the chosen frame's lens, itself among them."""
        frame, s = self._frame(), self._session
        own = self._taken(frame) if frame else None
        if own is None:
            return [frame.id] if frame else []
        key = (own.make, own.camera, own.lens, own.focal_mm)
        found = []
        for f in s.frame_set.frames:
            t = self._taken(f)
            if t is not None and (t.make, t.camera, t.lens, t.focal_mm) == key:
                found.append(f.id)
        return found

    def _change(self, values: dict, first: bool) -> None:
        ids = self._alike()
        if ids:
            s = self._session
            s.edit(developing.correct_lens(s.project, s.set_id, ids, values), first)

    def use_profile(self, name: str | None) -> None:
        """Take a profile for all frames of this lens, and remember it for this body and focal length."""
        frame = self._frame()
        if frame is None or name == frame.lens.profile:
            return
        self._change({"profile": name}, True)
        taken = self._taken(frame)
        if taken is not None and name:
            self._suggested.clear()
            _remember(remembered_key(taken), name, self._session)

    def _use_found(self) -> None:
        frame = self._frame()
        if frame is not None and self._suggested.get(frame.id):
            self.use_profile(self._suggested[frame.id])

    def _typed(self) -> None:
        words = self.search.text().strip()
        if not words:
            self.use_profile(None)
            return
        name = words.replace(": ", " | ", 1) if " | " not in words else words
        if name in profile_names():
            self.use_profile(name)
        elif not self.search.hasFocus():
            found = searched(words, 2)
            if len(found) == 1:
                self.use_profile(found[0])
            elif not found:
                self._session.say(f"{words}: no such lens in the database.", "wrong")
            self.refresh()

    def _focal_typed(self) -> None:
        text = self.focal.text().replace("mm", "").replace(",", ".").strip()
        value = typed_number(text)
        if text and value is None:
            self._session.say(f"{text}: not a focal length; give a number in mm, or nothing.", "wrong")
            self.refresh()
            return
        frame = self._frame()
        if frame is not None and value != frame.lens.focal_mm:
            self._change({"focal_mm": value}, True)

    def _estimate(self) -> None:
        s, frame = self._session, self._frame()
        if frame is None:
            return
        project, set_id, engine = s.project, s.set_id, s.engine

        def done(found: LensCorrection) -> None:
            if s.project != project:
                return
            values = {k: getattr(found, k) for k in ("v1", "v2", "v3", "red", "blue")}
            self._change(values, True)
            kept = float(np.clip(1 + found.v1 + found.v2 + found.v3, 0, 2))
            s.say(f"Estimated: the corners keep {100 * kept:.0f} % of the light, red {found.red:.5f}, "
                  f"blue {found.blue:.5f} of green's size.", "good")

        s.desk.ask("lens estimate", lambda job: estimated_correction(
            engine, project, set_id, replace(frame.lens), job), done)


def _remembered() -> dict[str, str]:
    try:
        found = json.loads((state_folder() / "lenses.json").read_text())
    except (OSError, ValueError):
        return {}
    return {k: v for k, v in found.items() if isinstance(v, str)} if isinstance(found, dict) else {}


def _remember(key: str, name: str, session: Session) -> None:
    path = state_folder() / "lenses.json"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with written_whole(path) as temporary:
            temporary.write_text(json.dumps({**_remembered(), key: name}, indent=1))
    except (WindfellError, OSError) as error:
        session.say(f"The lens could not be remembered: {error}", "wrong")
