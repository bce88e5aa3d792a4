"""The development's controls: three pages of rulers, whom they change, what is copied and kept."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QInputDialog, QMenu, QPushButton, QToolButton, QVBoxLayout, QWidget

from windfell.app.picture.pair_view import PairView
from windfell.app.readiness import Readiness
from windfell.app.session import Session
from windfell.app.widgets.ruler import Ruler
from windfell.develop.white_balance import AS_SHOT_K, grey_guess, neutralising
from windfell.engine.folders import state_folder
from windfell.engine.survey import matched_set
from windfell.errors import WindfellError
from windfell.recipe import developing
from windfell.recipe.developing import DEVELOPMENT_WORDS
from windfell.recipe.kept import Kept
from windfell.recipe.model import Development, Frame

LABEL_WIDE = 86
PAGES = (
    (("Temperature", "temperature_k", 2000, 14000, 50), ("Tint", "tint", -100, 100, 1),
     ("Exposure", "exposure_ev", -5, 5, 0.01)),
    (("Contrast", "contrast_pct", -100, 100, 1), ("Highlights", "highlights_pct", -100, 100, 1),
     ("Shadows", "shadows_pct", -100, 100, 1), ("White point", "white_pct", -100, 100, 1),
     ("Black point", "black_pct", -100, 100, 1), ("Saturation", "saturation_pct", -100, 100, 1)),
    (("Local contr.", "local_contrast_pct", -100, 100, 1), ("Haze", "haze_pct", -100, 100, 1),
     ("Noise", "noise_pct", 0, 100, 1), ("Sharpening", "sharpen_pct", 0, 100, 1)),
)
UNITS = {"temperature_k": "K", "tint": "", "exposure_ev": "EV"}
PROBE_PX = 9


class DevelopmentControls:
    """Pages of rulers for the chosen frame, or for all frames of the set at once."""

    def __init__(
        self, session: Session, readiness: Readiness, view: PairView, frame: Callable[[], Frame | None]
    ) -> None:
        self._session, self._readiness, self._view, self._frame = session, readiness, view, frame
        self.rulers: dict[str, Ruler] = {}
        self.for_all = QPushButton("All frames", checkable=True)
        self.for_all.setToolTip("Pressed: the rulers change every frame of the set. Else only the chosen one")
        self.copied = set(DEVELOPMENT_WORDS)
        self.pages = [self._page(n, rows) for n, rows in enumerate(PAGES)]
        view.spot_picked.connect(self._picked)

    def _page(self, number: int, rows) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0 if len(rows) > 5 else 3)
        for words, name, low, high, step in rows:
            rest = AS_SHOT_K if name == "temperature_k" else 0.0
            rest = round(rest / step) * step if name == "temperature_k" else rest
            ruler = Ruler(words, low, high, rest, UNITS.get(name, "%"), step, LABEL_WIDE)
            ruler.changed.connect(lambda v, first, k=name: self._change(k, v, first))
            self.rulers[name] = ruler
            column.addWidget(ruler)
        if number == 0:
            column.addLayout(self._balance_row())
        column.addStretch(1)
        if len(rows) < 6:
            column.addLayout(self._more_row())
        return page

    def _balance_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(4)
        self.as_shot = QPushButton("As shot")
        self.as_shot.setToolTip("White balance as the camera had it")
        self.as_shot.clicked.connect(lambda: self._apply({"temperature_k": None, "tint": 0.0}))
        self.automatic = QPushButton("Auto")
        self.automatic.setToolTip("White balance guessed from the frame's own colours")
        self.automatic.clicked.connect(self._guess)
        self.pick = QPushButton("Pick grey", checkable=True)
        self.pick.setToolTip("Then click something in the chosen frame that is grey or white")
        self.pick.toggled.connect(self._set_picking)
        self.match = QPushButton("Match")
        self.match.setToolTip(
            "Bring exposure and white balance of all frames to the chosen one's, by what they share")
        self.match.clicked.connect(self.match_all)
        for part in (self.as_shot, self.automatic, self.pick, self.match):
            row.addWidget(part)
        row.addStretch(1)
        return row

    def _more_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        more = QToolButton(text="Copy, keep…")
        more.setToolTip("Copy the development, keep it under a name, use a kept one")
        more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(more)
        menu.aboutToShow.connect(lambda m=menu: self.fill_menu(m))
        more.setMenu(menu)
        row.addWidget(more)
        row.addStretch(1)
        return row

    def fill_menu(self, menu: QMenu) -> None:
        """What can be done with the chosen frame's development as a whole."""
        menu.clear()
        menu.addAction("Copy to all frames", self.copy_to_all)
        to_next = menu.addMenu("Copy to frame")
        frame_set = self._session.frame_set
        for n, f in enumerate(frame_set.frames if frame_set else ()):
            to_next.addAction(f"{n + 1}", lambda i=f.id: self._copy([i]))
        what = menu.addMenu("What is copied")
        for name, words in DEVELOPMENT_WORDS.items():
            action = what.addAction(words)
            action.setCheckable(True)
            action.setChecked(name in self.copied)
            action.toggled.connect(lambda on, k=name: self.copied.add(k) if on else self.copied.discard(k))
        menu.addAction("Reset", lambda: self._use(Development(), "reset the development of"))
        menu.addSeparator()
        menu.addAction("Keep under a name…", self.keep)
        for name, development in self.shelf.all().items():
            menu.addAction(f"Use: {name}", lambda d=development, n=name: self._use(d, f"use {n} for"))
        forget = menu.addMenu("Forget")
        for name in self.shelf.all():
            forget.addAction(name, lambda n=name: self.shelf.drop(n))
        forget.setEnabled(bool(self.shelf.all()))

    @property
    def shelf(self) -> Kept[Development]:
        return Kept(state_folder() / "developments.json", Development)

    def _ids(self) -> list[str]:
        frame, frame_set = self._frame(), self._session.frame_set
        if frame is None:
            return []
        return [f.id for f in frame_set.frames] if self.for_all.isChecked() else [frame.id]

    def refresh(self) -> None:
        """Show the chosen frame's development."""
        frame = self._frame()
        if frame is None:
            return
        for name, ruler in self.rulers.items():
            value = getattr(frame.development, name)
            ruler.set_value(AS_SHOT_K if value is None else value)

    def _change(self, name: str, value: float, first: bool) -> None:
        ids = self._ids()
        if ids:
            s = self._session
            s.edit(developing.develop(s.project, s.set_id, ids, {name: float(value)}), first)

    def _apply(self, values: dict) -> None:
        ids = self._ids()
        if ids:
            s = self._session
            s.edit(developing.develop(s.project, s.set_id, ids, values), True)

    def _copy(self, ids: list[str]) -> None:
        frame, s = self._frame(), self._session
        if frame and self.copied:
            s.edit(developing.copy_development(s.project, s.set_id, frame.id, ids, sorted(self.copied)), True)

    def copy_to_all(self) -> None:
        self._copy([f.id for f in self._session.frame_set.frames])

    def _use(self, development: Development, words: str) -> None:
        s = self._session
        s.edit(developing.use_development(s.project, s.set_id, self._ids(), development, None, words), True)

    def keep(self) -> None:
        """Ask for a name and keep the development under it."""
        name, ok = QInputDialog.getText(None, "Keep the development", "Its name:")
        if ok and name.strip() and self._frame():
            self.keep_as(name.strip())

    def keep_as(self, name: str) -> None:
        try:
            self.shelf.keep(name, self._frame().development)
            self._session.say(f"Kept as {name}.", "good")
        except WindfellError as error:
            self._session.say(str(error), "wrong")

    def _set_picking(self, on: bool) -> None:
        self._view.picking = on
        if on:
            self._session.say("Click something grey or white in the chosen frame.")

    def stop_picking(self) -> None:
        self.pick.setChecked(False)

    def _from_light(self, find: Callable[[np.ndarray], tuple[float, float]], wrong: str, side: int = 512) -> None:
        """Take the temperature and tint that are found in the chosen frame's light before development, small."""
        frame, s = self._frame(), self._session
        project, engine = s.project, s.engine

        def look(job):
            opened = engine.opened(project, frame, job)
            sheet = opened.sheet(min(1.0, side / max(opened.size)), job)
            try:
                return find(sheet.light(0, 0, sheet.width, sheet.height)), ""
            except ValueError as error:
                return None, f"{wrong}: {error}."

        def done(answer: tuple[tuple[float, float] | None, str]) -> None:
            found, words = answer
            if found is None:
                s.say(words, "wrong")
            else:
                self._apply({"temperature_k": round(found[0], 1), "tint": round(found[1], 1)})

        if frame is not None:
            s.desk.ask("white balance", look, done)

    def _guess(self) -> None:
        self._from_light(grey_guess, "No white balance was found")

    def _picked(self, fx: float, fy: float) -> None:
        self.stop_picking()
        if not (0 <= fx < 1 and 0 <= fy < 1):
            self._session.say("That spot is outside the chosen frame.", "wrong")
            return

        def find(light: np.ndarray) -> tuple[float, float]:
            h, w = light.shape[:2]
            x, y, r = int(fx * w), int(fy * h), PROBE_PX // 2
            spot = light[max(0, y - r) : y + r + 1, max(0, x - r) : x + r + 1].reshape(-1, 3)
            return neutralising(np.median(spot, axis=0))

        self._from_light(find, "That spot gives no white balance", 1280)

    def match_all(self) -> None:
        """Match all frames in use to the chosen one, and say what it changed."""
        s, frame = self._session, self._frame()
        if frame is None:
            return
        project, set_id, engine = s.project, s.set_id, s.engine
        reference = frame.id if s.frame_id else None

        def done(answer) -> None:
            found, ids = answer
            if s.project != project:
                return
            known = [d for d in found.drifts if d is not None]
            ev = max(abs(d.ev) for d in known)
            mired = max(abs(d.mired) for d in known)
            tone = max(abs(d.contrast_pct) for d in known)
            developments = dict(zip(ids, found.developments, strict=True))
            words = "match exposure, white balance and tone"
            s.edit(developing.develop_each(project, set_id, developments, words), True)
            left = len(ids) - len(known)
            more = f" {left} share nothing with it and are as they were." if left else ""
            off = f"they were off by up to {ev:.2f} EV, {mired:.0f} mired and {tone:.0f} % contrast"
            s.say(f"Matched {len(known)} frames; {off}.{more}", "good")

        s.desk.ask("match", lambda job: matched_set(engine, project, set_id, reference, job), done)
