"""Export: format, size, profile, and what will be written."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.engine.export import Written, export, planned_size
from windfell.engine.places import check_place, refuse_frames
from windfell.engine.survey import registered_coverage
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.output.writers import WRITERS
from windfell.pixels.colour import SPACES
from windfell.recipe.model import FrameSet, Kind
from windfell.recipe.output import ColourSpace, Compression, Format
from windfell.recipe.sizes import FIELDS, size_from_words, size_in_words


class Export(Station):
    """Controls at the left; at the right the place, the size and the check before writing."""

    name = "export"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._size: tuple[int, int] | None = None
        self._caps: tuple[tuple[str, float], ...] = ()
        self._full: tuple[int, int] | None = None
        self._asked = None
        self.written: Written | None = None
        self.folder = Path.home()
        self._place_by_hand: dict[str, str] = {}
        change = session.change
        self.format = Choice("Format", [(n, w.title, f"{w.title} file") for n, w in WRITERS.items()])
        self.format.picked.connect(lambda v: change("output.format", Format(v), True))
        self.depth = Choice("Depth", (
            ("8", "8 bit", ""), ("16", "16 bit", ""), ("32", "Float", "Linear light, beyond white too")))
        self.depth.picked.connect(lambda v: change("output.depth", int(v), True))
        self.packing = Choice("Packing", (
            ("deflate", "Deflate", "Smaller, without loss"), ("none", "None", "Faster, larger")))
        self.packing.picked.connect(lambda v: change("output.compression", Compression(v), True))
        self.quality = QSpinBox(minimum=1, maximum=100, suffix=" %", accessibleName="JPEG quality")
        self.quality.valueChanged.connect(self._quality_set)
        self.space = QComboBox()
        self.space.setAccessibleName("Colour space")
        for name, space in SPACES.items():
            self.space.addItem(space.title, name)
        self.space.activated.connect(
            lambda n: change("output.space", ColourSpace(self.space.itemData(n)), True))
        self.width = QLineEdit()
        self.width.setFont(theme.numbers_font())
        self.width.setPlaceholderText("full size")
        self.width.setAccessibleName("Size of the file's picture")
        self.width.setToolTip("50%, a width such as 4000x, a height such as x3000, or megapixels such as 24MP")
        self.width.editingFinished.connect(self._width_typed)
        self._build_controls()
        self._build_instrument()

    def _build_controls(self) -> None:
        self.column.addWidget(self.title("Export"))
        self.column.addWidget(self.format)
        self._packing_row = QWidget()
        rows = QVBoxLayout(self._packing_row)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        rows.addWidget(self.depth)
        rows.addWidget(self.packing)
        self.column.addWidget(self._packing_row)
        self._quality_row = QWidget()
        row = QHBoxLayout(self._quality_row)
        row.setContentsMargins(0, 0, 0, 0)
        label = QLabel("Quality")
        label.setFixedWidth(62)
        row.addWidget(label)
        row.addWidget(self.quality)
        row.addStretch(1)
        self.column.addWidget(self._quality_row)
        grid = QGridLayout()
        for n, (words, field) in enumerate((("Colour", self.space), ("Size", self.width))):
            label = QLabel(words)
            label.setFixedWidth(62)
            grid.addWidget(label, 0, 2 * n)
            grid.addWidget(field, 0, 2 * n + 1)
        self.column.addLayout(grid)
        self.column.addStretch(1)

    def _build_instrument(self) -> None:
        self.place = QLineEdit()
        self.place.setAccessibleName("File to write")
        self.place.textEdited.connect(self._place_typed)
        self.browse = QPushButton("Choose…")
        self.write = QPushButton("Write picture")
        self.write.setProperty("main", True)
        self.write.setToolTip("Ctrl+E")
        self.write.clicked.connect(self.start)
        self.check = self.quiet()
        self.result = QLabel()
        self.result.setWordWrap(True)
        self.instrument = QWidget()
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(12, 14, 16, 10)
        layout.setSpacing(8)
        row = QHBoxLayout()
        row.addWidget(self.place, 1)
        row.addWidget(self.browse)
        row.addWidget(self.write)
        layout.addLayout(row)
        layout.addWidget(self.check)
        layout.addWidget(self.result)
        layout.addStretch(1)

    @property
    def needed(self) -> list[QWidget]:
        return [self.format, self.place, self.browse, self.write]

    @property
    def settled(self) -> bool:
        return self._size is not None or bool(self.check.text())

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        self.write.setEnabled(frame_set is not None and bool(frame_set.used))
        if frame_set is None:
            return
        o = frame_set.output
        writer = WRITERS[str(o.format)]
        self.format.set_value(str(o.format))
        self.depth.set_value(str(o.depth if o.depth in writer.depths else writer.depths[0]))
        for bits in (8, 16, 32):
            self.depth.set_enabled(str(bits), bits in writer.depths)
        self.packing.set_value(str(o.compression))
        self.packing.setEnabled(o.format is Format.TIFF)
        self._packing_row.setVisible(o.format is not Format.JPEG)
        self._quality_row.setVisible(o.format is Format.JPEG)
        self.quality.blockSignals(True)
        self.quality.setValue(o.quality)
        self.quality.blockSignals(False)
        self.space.setCurrentIndex(self.space.findData(str(o.space)))
        if not self.width.hasFocus():
            self.width.setText(size_in_words(o))
        self.place.setText(_short(self.place_for(frame_set)))
        self._ask_size(frame_set)
        self._say_plan()

    def place_for(self, frame_set: FrameSet) -> Path:
        """Where the set will be written: beside its project, or where the user said."""
        suffix = WRITERS[str(frame_set.output.format)].suffix
        chosen = self._place_by_hand.get(frame_set.id)
        if chosen:
            path = Path(chosen).expanduser()
            known = {w.suffix for w in WRITERS.values()} | {".tiff", ".jpeg"}
            return path.with_suffix(suffix) if path.suffix.lower() in known else path
        folder = Path(self.session.path).parent if self.session.path else self.folder
        return folder / (frame_set.name.replace("/", "-") + suffix)

    def set_place(self, path: str) -> None:
        self._place_by_hand[self.session.set_id] = path
        self.refresh()

    def _place_typed(self, text: str) -> None:
        self._place_by_hand[self.session.set_id] = text
        self._say_plan()

    def _ask_size(self, frame_set: FrameSet) -> None:
        project, engine = self.session.project, self.session.engine
        if self._asked == frame_set:
            return
        self._asked, self._size = frame_set, None

        def look(job: Job) -> tuple:
            sizes = planned_size(engine, project, frame_set.id, job), engine.size(project, frame_set.id, job)
            stages = engine.stages(project, frame_set.id)
            sphere = frame_set.kind is Kind.PANORAMA and frame_set.view.full_sphere
            return *sizes, registered_coverage(stages.registration(job)).caps if sphere else ()

        self.session.desk.ask("plan", look, self._have_size, self._no_size, self._forget_size, quiet=True)

    def _have_size(self, found: tuple) -> None:
        self._size, self._full, self._caps = found
        self._say_plan()

    def _forget_size(self) -> None:
        self._asked = None

    def _no_size(self, sentence: str) -> None:
        self._show(self.check, sentence, "wrong")

    def _say_plan(self) -> None:
        """One look at what will be written, before the wait."""
        frame_set = self.session.frame_set
        path = Path(self.place.text() or ".").expanduser()
        try:
            refuse_frames(self.session.project, path)
            check_place(path)
        except WindfellError as error:
            self._show(self.check, str(error), "wrong")
            return
        if self._size is None:
            self._show(self.check, "Working out the size…", "quiet")
            return
        o = frame_set.output
        writer = WRITERS[str(o.format)]
        depth = o.depth if o.depth in writer.depths else writer.depths[0]
        alpha = frame_set.kind is Kind.PANORAMA and writer.alpha
        width, height = self._size
        plain = width * height * (4 if alpha else 3) * depth / 8e6
        words = (
            f"{width} x {height} px ({width * height / 1e6:.1f} megapixels), {writer.title} {depth} bit, "
            f"{SPACES[str(o.space)].title}, {'transparent where no frame covers, ' if alpha else ''}"
            f"{'at most ' if o.format is not Format.JPEG else ''}{plain:.0f} MB"
            f"{' before packing' if o.format is Format.JPEG else ''}. Time, camera and focal length are carried over."
        )
        words += self._fineness()
        if self._caps and not frame_set.repairs:
            words += " " + " and ".join(f"the {name} is open, about {wide:.0f}° wide" for name, wide in self._caps)\
                .capitalize() + ": close it at Join (Mend)."
        if path.exists():
            words += " The file exists and will be replaced."
        self._show(self.check, words, "quiet")

    def _fineness(self) -> str:
        """What the size means beside the frames' own."""
        shown = self._full
        if shown is None or not self._size or shown[0] == self._size[0]:
            return ""
        ratio = self._size[0] / shown[0]
        how = {0.5: "Half", 0.25: "A quarter"}.get(round(ratio, 3), f"{ratio:.2g} times")
        return f" {how} as fine as the frames."

    def start(self) -> None:
        """Write the picture in the background."""
        frame_set = self.session.frame_set
        if frame_set is None or not self.write.isEnabled():
            return
        path = Path(self.place.text()).expanduser()
        project, engine = self.session.project, self.session.engine
        self._show(self.result, f"Writing {path.name}…", "quiet")
        self.session.desk.ask(
            "export", lambda job: export(engine, project, frame_set.id, path, job),
            self._done, self._failed, self._stopped,
        )

    def _done(self, written: Written) -> None:
        self.written = written
        size = os.path.getsize(written.path) / 1e6
        words = f"Written: {written.path}, {written.width} x {written.height} px, {size:.1f} MB."
        self._show(self.result, words, "good")
        self.session.say(words, "good")
        self._say_plan()

    def _failed(self, sentence: str) -> None:
        self._show(self.result, sentence, "wrong")
        self.session.say(sentence, "wrong")

    def _stopped(self) -> None:
        self._show(self.result, "Stopped; nothing was written.", "quiet")

    @staticmethod
    def _show(label: QLabel, words: str, role: str) -> None:
        label.setText(words)
        label.setProperty("role", role)
        label.style().unpolish(label)
        label.style().polish(label)

    def _quality_set(self, value: int) -> None:
        self.session.change("output.quality", value)

    def _width_typed(self) -> None:
        text = self.width.text().strip()
        full = not text or text == "full size"
        found = dict.fromkeys(FIELDS) if full else size_from_words(text)
        if found is None:
            self.session.say(f"{text}: no size; say 50%, 4000x, x3000 or 24MP, or nothing for full size.", "wrong")
            self.refresh()
            return
        now = self.session.frame_set.output
        if any(getattr(now, name) != value for name, value in found.items()):
            self.session.change_all({f"output.{name}": value for name, value in found.items()}, True)


def _short(path: Path) -> str:
    """The path with the home folder as ~."""
    try:
        return str(Path("~") / path.relative_to(Path.home()))
    except ValueError:
        return str(path)
