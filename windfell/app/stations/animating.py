"""Subjects' moving picture: how it is made, played in the picture area, written."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QCheckBox, QFileDialog, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from windfell.app.picture.images import image_of_rgb
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.engine.animated import animated, animation_size
from windfell.engine.places import check_place, refuse_frames
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.output.animations import foretold_bytes, write_animation
from windfell.recipe import pieces
from windfell.recipe.animation import SUFFIXES, Plan, Way, in_order
from windfell.recipe.model import Project, picture_parts
from windfell.recipe.written import written_whole

PLAYED_WIDE = 960
WORDS = {Way.SERIES: "Series", Way.SUBJECTS: "Subjects", Way.TRAILS: "Trails", Way.LIGHTS: "Lights"}
TIPS = {Way.SERIES: "The frames, aligned", Way.SUBJECTS: "The clean plate with each frame's movers in turn",
        Way.TRAILS: "With those of the frames before, fading",
        Way.LIGHTS: "The light of all frames so far gathered: trails that grow"}


class AnimatingPage(QWidget):
    """`now`: the picture that is played at this moment, None while nothing plays."""

    moved = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.open = False
        self.now: QImage | None = None
        self._pictures: list[QImage] = []
        self._made: tuple | None = None
        self._at = 0
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._step)
        self.way = Choice("", [(str(w), WORDS[w], TIPS[w]) for w in Way], 4)
        self.way.set_value("series")
        self._way = Way.SERIES
        self.way.picked.connect(self._way_picked)
        self.fps = Ruler("Rate", 1.0, 60.0, 10.0, "/s", 1.0)
        self.trail = Ruler("Trail", 1.0, 30.0, 4.0, "", 1.0)
        self.trail.setToolTip("Of so many frames before movers are still seen")
        self.width_px = Ruler("Width", 160.0, 3840.0, 1280.0, "px", 10.0)
        for ruler, value in ((self.fps, 10.0), (self.trail, 4.0), (self.width_px, 1280.0)):
            ruler.set_value(value)
            ruler.changed.connect(lambda *_: self._valued())
        self.back = QCheckBox("Back and forth")
        self.back.setToolTip("To the end and back again")
        self.back.clicked.connect(self._foretell)
        self.loops = QCheckBox("Loop")
        self.loops.setToolTip("A GIF or WebP, and the playing here, begin again at the end; else they end there")
        self.loops.setChecked(True)
        self.cropped = QCheckBox("As Combine cuts it")
        self.cropped.setToolTip("Straightened and cropped as at Combine; else all of the frames")
        self.cropped.clicked.connect(self._cut_changed)
        self.play, self.write = QPushButton("Play", checkable=True), QPushButton("Write it…")
        self.write.setToolTip("As GIF, WebP, MP4 or WebM, at the rate and size set here")
        self.play.setToolTip("In the picture area, at its rate")
        self.play.clicked.connect(lambda on: self.begin() if on else self.stop())
        self.write.clicked.connect(lambda: self.ask_write())
        self.words = Station.quiet()
        grid = QGridLayout()
        grid.addWidget(self.fps, 0, 0)
        grid.addWidget(self.width_px, 0, 1)
        grid.addWidget(self.trail, 1, 0)
        both = QHBoxLayout()
        both.addWidget(self.loops)
        both.addWidget(self.back)
        both.addWidget(self.cropped)
        both.addStretch(1)
        grid.addLayout(both, 1, 1)
        row = QHBoxLayout()
        row.addWidget(self.play)
        row.addWidget(self.write)
        row.addWidget(self.words, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.way)
        column.addLayout(grid)
        column.addLayout(row)
        column.addStretch(1)

    @property
    def plan(self) -> Plan:
        return Plan(self._way, int(self.trail.value), int(self.width_px.value))

    @property
    def settled(self) -> bool:
        return not self.session.desk.runs("moving picture")

    def _valued(self) -> None:
        if self._timer.isActive():
            self._timer.setInterval(round(1000 / self.fps.value))
        self._foretell()

    def _way_picked(self, way: str) -> None:
        self._way = Way(way)
        self.way.set_value(way)
        playing = self.play.isChecked()
        self.stop()
        self._foretell()
        if playing:
            self.play.setChecked(True)
            self.begin()

    def _cut_changed(self) -> None:
        if self.play.isChecked():
            self.begin()
        self._foretell()

    @property
    def _project(self) -> Project:
        """The project whose cut is shown."""
        s = self.session
        return s.project if self.cropped.isChecked() else pieces.whole_ground(s.project, s.set_id)

    def refresh(self) -> None:
        self.trail.setEnabled(self._way is Way.TRAILS)
        self._foretell()
        if not self.open:
            self.stop()

    def _foretell(self) -> None:
        """Duration and size of the file."""
        own = self.session.frame_set
        if own is None:
            return
        self.trail.setEnabled(self._way is Way.TRAILS)
        count = len(in_order(range(len(own.used)), self.back.isChecked()))
        seconds = count / self.fps.value
        width = int(self.width_px.value)
        sizes = ", ".join(f"{suffix[1:].upper() if suffix == '.gif' else suffix[1:]} about "
                          f"{foretold_bytes(suffix, count, width, round(width * 0.66)) / 1e6:.1f} MB"
                          for suffix in SUFFIXES[::2])
        self.words.setText(f"{count} pictures, {seconds:.1f} s; {sizes}.")

    # -- playing

    def begin(self) -> None:
        """Play it in the picture area; its pictures are made first."""
        s, own = self.session, self.session.frame_set
        if own is None:
            return
        ground = pieces.without_layers(s.project, own.id)
        plan = Plan(self.plan.way, self.plan.trail, min(PLAYED_WIDE, self.plan.width))
        cutting = self._project
        made = own.id, picture_parts(ground, own.id), picture_parts(cutting, own.id), plan
        if made == self._made and self._pictures:
            self._run()
            return
        engine, set_id = s.engine, own.id

        def make(job: Job) -> list[QImage]:
            cut = engine.stages(cutting, set_id).cut(job)
            return [image_of_rgb(p) for p in animated(engine.stages(ground, set_id), plan, job, cut)]

        def done(found: list[QImage]) -> None:
            self._pictures, self._made = found, made
            if self.play.isChecked():
                self._run()

        def failed(words: str = "") -> None:
            self.stop()
            if words:
                s.say(words, "wrong")

        s.desk.ask("moving picture", make, done, failed, failed)

    def _run(self) -> None:
        self._at = 0
        self._timer.start(round(1000 / self.fps.value))
        self._step()

    def _step(self) -> None:
        order = in_order(range(len(self._pictures)), self.back.isChecked())
        if order and self._at >= len(order) and not self.loops.isChecked():
            self.stop()
        elif order:
            self.now = self._pictures[order[self._at % len(order)]]
            self._at += 1
            self.moved.emit()

    def stop(self) -> None:
        self._timer.stop()
        self.play.setChecked(False)
        if self.now is not None:
            self.now = None
            self.moved.emit()

    # -- writing

    def ask_write(self) -> None:
        kinds = " ".join(f"*{x}" for x in SUFFIXES)
        title, form = "Write the moving picture", f"Moving pictures ({kinds})"
        path, _ = QFileDialog.getSaveFileName(self, title, "moving.gif", form)
        if path:
            self.write_to(Path(path))

    def write_to(self, path: Path) -> None:
        """Write it in the background."""
        s, own = self.session, self.session.frame_set
        suffix = path.suffix.lower()
        if suffix not in SUFFIXES:
            s.say(f"{path}: its ending names no moving picture; use {', '.join(SUFFIXES)}.", "wrong")
            return
        try:
            refuse_frames(s.project, path)
            check_place(path)
        except WindfellError as error:
            s.say(str(error), "wrong")
            return
        engine, set_id, plan, fps = s.engine, own.id, self.plan, self.fps.value
        ground, back, cutting = pieces.without_layers(s.project, own.id), self.back.isChecked(), self._project
        loops = self.loops.isChecked()

        def make(job: Job) -> str:
            stages = engine.stages(ground, set_id)
            cut = engine.stages(cutting, set_id).cut(job)
            width, height = animation_size(stages, plan.width, job, cut)
            with written_whole(path) as temporary:
                made = animated(stages, plan, job, cut)
                write_animation(temporary, suffix, iter(in_order(list(made), True)) if back else made, fps, loops)
            return f"Written: {path}, {width} x {height} px."

        s.desk.ask("write moving picture", make, s.say, lambda words: s.say(words, "wrong"))
