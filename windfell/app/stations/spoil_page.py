"""Combine's frames: which of them spoil the picture and why, left out by one press; what one more would gain."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.combine.spoiling import Spoiled
from windfell.engine.stack_core import next_gain_db, spoiling
from windfell.job import Job
from windfell.recipe import edits
from windfell.recipe.model import Project, picture_parts

LIST_WIDE = 460


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
        self.list.setAccessibleName("Frames and what is wrong with them")
        self.list.setToolTip("Frames and what is wrong with them; a press chooses one")
        self.list.itemClicked.connect(lambda item: session.select_frame(item.data(Qt.ItemDataRole.UserRole)))
        self.words = Station.quiet("")
        self.leave = QPushButton("Leave those out")
        self.leave.setToolTip("Keep the marked frames aside; they stay in the set")
        self.leave.clicked.connect(self.leave_out)
        right = QVBoxLayout()
        right.addWidget(self.words)
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
            item = QListWidgetItem(f"{mark}  frame {numbers[frame_id]}: {why}")
            item.setData(Qt.ItemDataRole.UserRole, frame_id)
            self.list.addItem(item)
        bad, count = sum(bool(v.why) for v in found.values()), len(found)
        said = "None of them spoils the picture." if not bad else (
            "One spoils the picture." if bad == 1 else f"{bad} of them spoil the picture.")
        self.words.setText(f"{count} frames are combined. {said} One frame more would gain a mean "
                           f"{next_gain_db(count):.1f} dB of noise, twice as many 3.0 dB.")
        self.leave.setEnabled(bool(bad))

    def leave_out(self) -> None:
        """The frames that spoil the picture are kept aside."""
        s = self.session
        bad = [i for i, v in self.found.items() if v.why]
        if bad and s.frame_set is not None:
            s.edit(edits.switch_frames(s.project, s.set_id, bad, False), True)
