"""Export: what the file is, what will be written, the queue."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QApplication, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from windfell.app.export_queue import ExportQueue, State
from windfell.app.picture.sampled import striped
from windfell.app.screen import draw_picture
from windfell.app.session import Session
from windfell.app.stations.export_pages import OutputPages
from windfell.app.stations.outputs import OutputsButton, RecipeButton
from windfell.app.stations.station import Station
from windfell.app.widgets.queue_list import QueueList
from windfell.cli.progress import in_words
from windfell.engine.checklist import Plan, Weight, in_bytes, planned
from windfell.engine.export import Written, sheet_depth
from windfell.engine.output_pixels import is_linear
from windfell.engine.places import Place, looked_at
from windfell.engine.soft_proof import soft_proof
from windfell.job import Job
from windfell.output.writers import STORED_BITS, WRITERS
from windfell.pixels.colour import SPACES
from windfell.recipe.model import FrameSet, Kind
from windfell.recipe.output import Format, Output

PROOF_SIDE = 1600
MARKS = {Weight.GOOD: "✓", Weight.NOTE: "○", Weight.WRONG: "▲"}


class Export(Station):
    """Controls at the left; at the right the place, what was checked before the wait, and the queue."""

    name = "export"

    def __init__(self, session: Session, view) -> None:
        super().__init__(session)
        self._view = view
        self._plan: Plan | None = None
        # what the disk said of which place, last asked for which project
        self._place, self._place_of = Place(), None
        self._asked = None
        self._rate: float | None = None
        self._proof: tuple[QImage, QImage | None] | None = None
        self._proof_of = None
        self.written: Written | None = None
        self.folder = Path.home()
        self._place_by_hand: dict[str, str] = {}
        self.queue = ExportQueue(session)
        self.queue.changed.connect(self._show_queue)
        self.queue.written.connect(self._done)
        self.queue.ended.connect(self._all_done)
        self.pages = OutputPages(session)
        self.pages.proof_changed.connect(self._ask_proof)
        for name in ("format", "bits", "packing", "quality", "space", "size_words"):
            setattr(self, name, getattr(self.pages, name))
        self.column.addWidget(self.pages, 1)
        self._build_instrument()

    def _build_instrument(self) -> None:
        self.place = QLineEdit()
        self.place.setAccessibleName("File to write")
        self.place.setToolTip("Where the picture is written; its ending follows the format")
        self.place.textEdited.connect(self._place_typed)
        self.browse = QPushButton("Choose…")
        self.browse.setToolTip("Choose folder and name of the file")
        self.outputs = OutputsButton(self.session, self._say_plan)
        self.recipe = RecipeButton(self.session)
        self.later = QPushButton("Add to queue")
        self.later.setToolTip("Put this set, as it is now, at the end of the queue without beginning it here and now")
        self.later.clicked.connect(self.add)
        self.write = QPushButton("Write picture")
        self.write.setProperty("main", True)
        self.write.setToolTip("Write the picture to the file now (Ctrl+E)")
        self.write.clicked.connect(self.start)
        self.check, self.lines = self.quiet(), self.quiet()
        self.lines.setTextFormat(Qt.TextFormat.RichText)
        self.result = QLabel()
        self.result.setWordWrap(True)
        self.instrument = QWidget()
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(12, 14, 16, 10)
        layout.setSpacing(8)
        row = QHBoxLayout()
        row.addWidget(self.place, 1)
        for part in (self.browse, self.outputs, self.recipe, self.later, self.write):
            row.addWidget(part)
        layout.addLayout(row)
        below = QHBoxLayout()
        below.setSpacing(20)
        left = QVBoxLayout()
        left.setSpacing(6)
        for part in (self.check, self.lines, self.result):
            left.addWidget(part)
        left.addStretch(1)
        below.addLayout(left, 1)
        below.addWidget(self._queue_part(), 1)
        layout.addLayout(below, 1)

    def _queue_part(self) -> QWidget:
        part = QWidget()
        column = QVBoxLayout(part)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        self.queue_title = QLabel("Queue")
        self.queue_title.setProperty("role", "title")
        self.hold = QPushButton("Hold", checkable=True)
        self.hold.setToolTip("Begin nothing more; what is being written is finished")
        self.hold.toggled.connect(self.queue.hold)
        self.clear = QPushButton("Clear done")
        self.clear.setToolTip("Take what is written off the list; the files stay")
        self.clear.clicked.connect(self.queue.clear_done)
        row.addWidget(self.queue_title, 1)
        row.addWidget(self.hold)
        row.addWidget(self.clear)
        column.addLayout(row)
        self.list = QueueList()
        self.list.removed.connect(self.queue.remove)
        self.list.again.connect(self.queue.again)
        column.addWidget(self.list, 1)
        return part

    @property
    def needed(self) -> list[QWidget]:
        return [self.place, self.browse, self.later, self.write]

    @property
    def settled(self) -> bool:
        plan = self._plan is not None or bool(self.check.text())
        return plan and not self.session.desk.runs("plan") and not self.session.desk.runs("proof")

    def entered(self) -> None:
        self._view.overlay = self.paint_over
        self._ask_proof()

    def left(self) -> None:
        self._view.overlay = None
        self.session.desk.drop("plan")
        if self._plan is None:
            self._asked = None

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        on = frame_set is not None and bool(frame_set.used)
        for part in (self.write, self.later, self.outputs, self.recipe, self.pages):
            part.setEnabled(on)
        if frame_set is None:
            return
        self.pages.refresh(frame_set)
        self.place.setText(_short(self.place_for(frame_set)))
        self._ask_plan(frame_set)
        self._ask_proof()
        self._say_plan()
        self._show_queue()

    def place_for(self, frame_set: FrameSet, output: Output | None = None, name: str = "") -> Path:
        """Where the set will be written: beside its project, or where the user said; `name` of an output as well."""
        suffix = WRITERS[str((output or frame_set.output).format)].suffix
        chosen = self._place_by_hand.get(frame_set.id)
        if chosen:
            path = Path(chosen).expanduser()
            known = {w.suffix for w in WRITERS.values()} | {".tiff", ".jpeg"}
            path = path.with_suffix(suffix) if path.suffix.lower() in known else path
        else:
            folder = Path(self.session.path).parent if self.session.path else self.folder
            path = folder / (frame_set.name.replace("/", "-") + suffix)
        return path.with_name(f"{path.stem} {name.lower()}{suffix}") if name else path

    def set_place(self, path: str) -> None:
        self._place_by_hand[self.session.set_id] = path
        self.refresh()

    def _place_typed(self, text: str) -> None:
        self._place_by_hand[self.session.set_id] = text
        self._say_plan()

    # -- the plan

    def _ask_plan(self, frame_set: FrameSet) -> None:
        project, engine = self.session.project, self.session.engine
        if self._asked == frame_set:
            return
        self._asked, self._plan = frame_set, None
        path = self.place_for(frame_set)
        self.session.desk.ask(
            "plan", lambda job: planned(engine, project, frame_set.id, path, job, self._rate), self._have_plan,
            self._no_plan, self._forget_plan, quiet=True)

    def _have_plan(self, found: Plan) -> None:
        self._plan = found
        self._say_plan()

    def _forget_plan(self) -> None:
        self._asked = None

    def _no_plan(self, sentence: str) -> None:
        _show(self.check, sentence, "wrong")
        self.lines.setText("")

    def _say_plan(self) -> None:
        """One look at what will be written, before the wait."""
        frame_set = self.session.frame_set
        path = Path(self.place.text() or ".").expanduser()
        self.lines.setText("")
        trouble = self._trouble_at(path)
        if trouble:
            _show(self.check, trouble, "wrong")
            return
        plan = self._plan
        if plan is None:
            _show(self.check, "Working out the size…", "quiet")
            return
        _show(self.check, self._told(frame_set, plan, path), "quiet")
        self.lines.setText("<br>".join(f"{MARKS[x.weight]}&nbsp;&nbsp;{x.words}" for x in plan.lines))

    def _trouble_at(self, path: Path) -> str:
        """Why nothing can be written there, as far as is known: the disk is asked aside, since on a network each look
        takes a while.
        """
        project = self.session.project
        if self._place_of is None or self._place_of[0] is not project or self._place_of[1] != path:
            if self._place_of is not None and self._place_of[1] != path:
                self._place = Place()
            self._place_of = asked = project, path

            def done(found: Place) -> None:
                if self._place_of is asked:
                    self._place = found
                    self._say_plan()

            self.session.desk.follow("place", lambda _: looked_at(project, path), done, None, None, True)
        return self._place.trouble

    def _told(self, frame_set: FrameSet, plan: Plan, path: Path) -> str:
        o = frame_set.output
        writer, depth = WRITERS[str(o.format)], sheet_depth(o)
        alpha = frame_set.kind is Kind.PANORAMA and writer.alpha
        colours = SPACES[str(o.space)].title if o.profile is None else Path(o.profile).name
        if is_linear(o, depth):
            colours = "the camera's light" if o.format is Format.DNG else "linear light"
        bits = "float" if depth == 32 else f"{STORED_BITS.get((str(o.format), depth), depth)} bit"
        words = (
            f"{plan.width} x {plan.height} px ({plan.width * plan.height / 1e6:.1f} megapixels), {writer.title} "
            f"{bits}, {colours}, {'transparent where no frame covers, ' if alpha else ''}"
            f"about {in_bytes(plan.nbytes)}, {in_words(max(1.0, plan.seconds))}. "
            "Time, camera and focal length are carried over"
            f"{', and the place' if o.words.location else '; no place, no serial numbers'}.")
        ratio = plan.width / plan.full[0]
        if abs(ratio - 1) > 1e-6:
            how = {0.5: "Half", 0.25: "A quarter"}.get(round(ratio, 3), f"{ratio:.2g} times")
            words += f" {how} as fine as the frames."
        if o.print_mm is not None and ratio > 1:
            words += " The print asks for more than the frames show."
        as_well = self.outputs.wanted()
        if as_well:
            words += f" Written as well: {', '.join(as_well)}."
        return words + (" The file exists and will be replaced." if self._place.taken else "")

    # -- the proof

    def _ask_proof(self) -> None:
        wanted = self.pages.proof.isChecked() or self.pages.beyond.isChecked()
        frame_set = self.session.frame_set
        if not wanted or frame_set is None or self.session.station != self.name:
            self._proof = self._proof_of = None
            self._view.update()
            return
        if self._proof_of == frame_set:
            self._view.update()
            return
        self._proof_of = frame_set
        project, engine = self.session.project, self.session.engine

        def look(job: Job) -> tuple:
            k = min(1.0, PROOF_SIDE / max(engine.size(project, frame_set.id, job)))
            picture = engine.picture(project, frame_set.id, k, job)
            seen, beyond = soft_proof(picture.light, frame_set.output)
            return seen, beyond & picture.covered, picture.covered

        self.session.desk.ask("proof", look, self._have_proof, quiet=True)

    def _have_proof(self, found: tuple) -> None:
        seen, beyond, covered = found
        h, w = covered.shape
        whole = np.ascontiguousarray(np.dstack([seen, 255 * covered.astype(np.uint8)]))
        image = QImage(whole.data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()
        self._proof = image, striped(beyond, "#d4380d") if beyond.any() else None
        share = 100 * float(beyond.mean())
        self.session.say(f"{share:.1f} % of the picture lies beyond the file's colours." if beyond.any() else
                         "All colours of the picture fit into the file's.", "quiet")
        self._view.update()

    def paint_over(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """The picture in the file's colours, and stripes where these cannot hold it."""
        if self._proof is None:
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        image, stripes = self._proof
        if self.pages.proof.isChecked():
            draw_picture(painter, rect, image)
        if self.pages.beyond.isChecked() and stripes is not None:
            painter.drawImage(rect, stripes)

    # -- writing

    def start(self) -> None:
        """Write the picture in the background, and the named outputs that are ticked with it."""
        if self.hold.isChecked():
            self.hold.setChecked(False)
        if self._queued():
            _show(self.result, f"Writing {Path(self.place.text()).name}…", "quiet")

    def add(self) -> None:
        """Put the set into the queue, which is held if nothing is being written."""
        if self.queue.running is None:
            self.hold.setChecked(True)
        if self._queued():
            self.session.say("In the queue; “Go on” lets it begin.", "good")

    def _queued(self) -> bool:
        frame_set = self.session.frame_set
        if frame_set is None or not self.write.isEnabled():
            return False
        path = Path(self.place.text()).expanduser()
        trouble = looked_at(self.session.project, path).trouble
        if trouble:
            self._failed(trouble)
            return False
        self.written = None
        self.queue.add(self.session.project, frame_set.id, frame_set.output, path)
        for name, output in self.outputs.wanted().items():
            said = output.words if output.words != Output().words else frame_set.output.words
            self.queue.add(self.session.project, frame_set.id, _with_words(output, said),
                           self.place_for(frame_set, output, name))
        return True

    def _done(self, written: Written) -> None:
        self.written = written
        entry = next((e for e in reversed(self.queue.entries)
                      if e.state is State.DONE and e.path == written.path), None)
        if entry is not None and entry.seconds > 0.5:
            self._rate = written.width * written.height / 1e6 / entry.seconds
        size = os.path.getsize(written.path)
        words = f"Written: {written.path}, {written.width} x {written.height} px, {in_bytes(size)}."
        _show(self.result, words, "good")
        self.session.say(words, "good")
        self._place_of = None
        self._say_plan()

    def _all_done(self, good: int, bad: int) -> None:
        """A notification where several were written: the window asks for attention."""
        if good + bad > 1:
            failed = f"; {bad} could not be" if bad else ""
            self.session.say(f"The queue is done: {good} written{failed}.", "wrong" if bad else "good")
            QApplication.alert(self.window())

    def _show_queue(self) -> None:
        entries = self.queue.entries
        self.list.show_entries(entries)
        waiting = sum(e.state in (State.WAITING, State.WRITING) for e in entries)
        self.queue_title.setText(f"Queue, {waiting} to do" if waiting else "Queue")
        if self.hold.isChecked() != self.queue.held:
            self.hold.setChecked(self.queue.held)
        self.hold.setText("Go on" if self.queue.held else "Hold")
        wrong = next((e for e in reversed(entries) if e.state in (State.FAILED, State.STOPPED)), None)
        if wrong is not None and self.queue.running is None and entries[-1] is wrong:
            self._failed(wrong.words, wrong.state is State.STOPPED)

    def _failed(self, sentence: str, stopped: bool = False) -> None:
        if self.result.text() != sentence:
            _show(self.result, sentence, "quiet" if stopped else "wrong")
            if not stopped:
                self.session.say(sentence, "wrong")


def _with_words(output: Output, words) -> Output:
    return replace(output, words=words)


def _show(label: QLabel, words: str, role: str) -> None:
    label.setText(words)
    label.setProperty("role", role)
    label.style().unpolish(label)
    label.style().polish(label)


def _short(path: Path) -> str:
    """The path with the home folder as ~."""
    try:
        return str(Path("~") / path.relative_to(Path.home()))
    except ValueError:
        return str(path)
