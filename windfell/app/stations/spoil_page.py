"""Combine's frames: which of them spoil the picture and why, left out by one press; what one more would gain."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.ruler import Ruler
from windfell.combine.spoiling import MOST_WEIGHT, Spoiled
from windfell.engine.stack_core import next_gain_db, spoiling, weights_by_noise
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.limits import limits_of
from windfell.recipe.model import Frame, Project, picture_parts

LIST_WIDE = 356


class SpoilPage(QWidget):
    """A row for each frame in use; those that spoil the picture are marked and named first."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.open = False
        self.found: dict[str, Spoiled] = {}
        self._asked: tuple | None = None
        self.list = QListWidget()
        self.list.setFixedWidth(LIST_WIDE)
        self.list.setWordWrap(True)
        self.list.setAccessibleName("Frames and what is wrong with them")
        self.list.setToolTip("Frames and what is wrong with them; a press chooses one")
        self.list.itemClicked.connect(lambda item: session.select_frame(item.data(Qt.ItemDataRole.UserRole)))
        self.words = Station.quiet("")
        self.leave = QPushButton("Leave those out")
        self.leave.setToolTip("Keep the marked frames aside; they stay in the set")
        self.leave.clicked.connect(self.leave_out)
        limits = limits_of(Frame, "weight")
        self.weight = Ruler("Weight", limits["low"], MOST_WEIGHT, 1.0, "", 0.1)
        self.weight.setToolTip("How much the chosen frame counts in a mean; 1 is as much as usual")
        self.weight.changed.connect(self._weighed)
        self.by_noise, self.alike = QPushButton("By noise"), QPushButton("All alike")
        self.by_noise.setToolTip("The less noise a frame has, the more it counts in a mean")
        self.by_noise.clicked.connect(lambda: self.weigh_by_noise())
        self.alike.setToolTip("All frames count the same")
        self.alike.clicked.connect(lambda: self._weigh({f.id: 1.0 for f in self.session.frame_set.frames},
                                                       "all frames count alike"))
        weights = QHBoxLayout()
        for part, room in ((self.weight, 1), (self.by_noise, 0), (self.alike, 0)):
            weights.addWidget(part, room)
        right = QVBoxLayout()
        right.addWidget(self.words)
        right.addLayout(weights)
        row = QHBoxLayout()
        row.addWidget(self.leave)
        row.addStretch(1)
        right.addLayout(row)
        right.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.list)
        layout.addLayout(right, 1)

    def refresh(self) -> None:
        """Ask anew when the frames or the rule changed."""
        s, own = self.session, self.session.frame_set
        chosen = next((f for f in own.frames if f.id == s.frame_id), None) if own is not None else None
        self.weight.setEnabled(chosen is not None)
        self.weight.set_value(1.0 if chosen is None else chosen.weight)
        self.alike.setEnabled(own is not None and any(f.weight != 1 for f in own.frames))
        if own is None or not self.open or s.moving or len(own.used) < 3:
            self.leave.setEnabled(False)
            return
        key = own.id, picture_parts(s.project, own.id)
        if key == self._asked:
            return
        self._asked = key
        engine, project, set_id = s.engine, s.project, own.id

        def look(job: Job) -> dict[str, Spoiled]:
            stages = engine.stages(project, set_id)
            return {stages.set.used[n].id: v for n, v in spoiling(stages, job).items()}

        def forget(*_) -> None:
            self._asked = None

        s.desk.ask("spoiling", look, lambda found: self._show(project, set_id, found), forget, forget, quiet=True)

    def _show(self, project: Project, set_id: str, found: dict[str, Spoiled]) -> None:
        self.found = found
        own = project.set(set_id)
        self.list.clear()
        numbers = {f.id: n + 1 for n, f in enumerate(own.frames)}
        for frame_id, v in sorted(found.items(), key=lambda x: (not x[1].why, numbers[x[0]])):
            mark, why = ("▲", v.why) if v.why else ("·", f"light {v.ev:+.2f} EV, detail {100 * v.sharpness:.0f} %")
            if own.frame(frame_id).weight != 1:
                why += f", weight {own.frame(frame_id).weight:.2g}"
            item = QListWidgetItem(f"{mark}  frame {numbers[frame_id]}: {why}")
            item.setData(Qt.ItemDataRole.UserRole, frame_id)
            self.list.addItem(item)
        bad, count = sum(bool(v.why) for v in found.values()), len(found)
        said = "None of them spoils the picture." if not bad else (
            "One spoils the picture." if bad == 1 else f"{bad} of them spoil the picture.")
        self.words.setText(f"{count} frames are combined. {said} One frame more would gain a mean "
                           f"{next_gain_db(count):.1f} dB of noise, twice as many 3.0 dB.")
        self.leave.setEnabled(bool(bad))

    def _weigh(self, weights: Mapping[str, float], words: str, merge: str | None = None, starts: bool = True) -> None:
        s = self.session
        s.edit(edits.weigh_frames(s.project, s.set_id, weights, words, merge), starts)

    def _weighed(self, value: float, starts: bool) -> None:
        s, own = self.session, self.session.frame_set
        if own is not None and s.frame_id is not None:
            words = f"weight of frame {own.number_of(s.frame_id)} to {value:.2g}"
            self._weigh({s.frame_id: value}, words, f"weight {s.frame_id}", starts)

    def weigh_by_noise(self) -> None:
        """Each frame counts by its noise."""
        s = self.session
        engine, project, set_id = s.engine, s.project, s.set_id

        def done(weights: dict[str, float]) -> None:
            if s.project is project:
                self._weigh(weights, f"weigh {len(weights)} frames by their noise")
                s.say(f"Weights from {min(weights.values()):.2g} to {max(weights.values()):.2g}.", "good")

        s.desk.ask("noise weights", lambda job: weights_by_noise(engine.stages(project, set_id), job), done,
                   lambda words: s.say(words, "wrong"))

    def leave_out(self) -> None:
        """The frames that spoil the picture are kept aside."""
        s = self.session
        bad = [i for i, v in self.found.items() if v.why]
        if bad and s.frame_set is not None:
            s.edit(edits.switch_frames(s.project, s.set_id, bad, False), True)
