"""The controls of an output: the file, its colours, what is said in it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QSpinBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.engine.export import sheet_depth
from windfell.engine.output_pixels import chosen_profile
from windfell.errors import WindfellError
from windfell.output.writers import LAYERED, WRITERS
from windfell.pixels.colour import SPACES
from windfell.recipe.model import FrameSet
from windfell.recipe.output import ColourSpace, Compression, Format, Intent
from windfell.recipe.sizes import FIELDS, size_from_words, size_in_words

LABEL = 62
WITH_QUALITY = (Format.JPEG, Format.JXL, Format.WEBP, Format.AVIF, Format.HEIF, Format.HTML)
PACKINGS = {Compression.NONE: "None", Compression.DEFLATE: "Deflate", Compression.LZW: "LZW",
            Compression.ZSTD: "Zstandard"}
OWN_PROFILE = "profile"
CHROMA = (("chroma auto", None), ("chroma full", True), ("chroma half", False))


class Pick(QWidget):
    """A choice among many words: `picked(value)` when another is chosen."""

    picked = Signal(str)

    def __init__(self, name: str, options: Sequence[tuple[str, str]], label: str = "", tip: str = "") -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        words = QLabel(label or name)
        words.setFixedWidth(LABEL)
        row.addWidget(words)
        self.box = QComboBox()
        self.box.setAccessibleName(name)
        self.box.setToolTip(tip or name)
        for value, title in options:
            self.box.addItem(title, value)
        self.box.activated.connect(lambda n: self.picked.emit(self.box.itemData(n)))
        row.addWidget(self.box, 1)

    def set_value(self, value: str) -> None:
        """Show a value without sending it."""
        self.box.setCurrentIndex(self.box.findData(value))

    def press(self, value: str) -> None:
        self.set_value(value)
        self.picked.emit(value)


class OutputPages(QWidget):
    """Three pages of controls over the output of the set in hand. `proof_changed` when another proof is wanted."""

    proof_changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.pages = Choice("", (
            ("file", "File", "Format, depth, size"), ("colour", "Colour", "Space, proof, sharpening"),
            ("words", "Words", "Title, rights and what else is said in the file")))
        self.pages.picked.connect(self.open_page)
        head = QHBoxLayout()
        head.addWidget(Station.title("Export"), 1)
        head.addWidget(self.pages)
        column.addLayout(head)
        self.stack = QStackedWidget()
        column.addWidget(self.stack)
        self._build_file()
        self._build_colour()
        self._build_words()
        self.pages.set_value("file")

    def open_page(self, name: str) -> None:
        self.pages.set_value(name)
        self.stack.setCurrentIndex(("file", "colour", "words").index(name))

    # -- the file

    def _build_file(self) -> None:
        page, change = Station.page_of(self.stack, 6), self._session.change
        self.format = Pick("Format", [(n, w.title) for n, w in WRITERS.items()], tip="What kind of file is written")
        self.format.picked.connect(lambda v: change("output.format", Format(v), True))
        self.bits = Choice("Depth", (
            ("8", "8 bit", "256 steps a channel"),
            ("16", "16 bit", "65,536 steps a channel: for work that goes on"),
            ("32", "Float", "Linear light, beyond white too")))
        self.bits.picked.connect(lambda v: change("output.depth", int(v), True))
        self.packing = Pick("Packing", [(str(c), title) for c, title in PACKINGS.items()],
                            tip="How a TIFF is packed, without loss")
        self.packing.picked.connect(lambda v: change("output.compression", Compression(v), True))
        self.quality = QSpinBox(minimum=1, maximum=100, suffix=" %", accessibleName="Quality")
        self.quality.setToolTip("Of what packs with loss; 100 % of JPEG XL and WebP is without loss")
        self.quality.valueChanged.connect(lambda v: change("output.quality", v))
        self.most = QSpinBox(minimum=0, maximum=4_000_000, suffix=" kB", accessibleName="Largest file, kB")
        self.most.setSpecialValueText("any size")
        self.most.setToolTip("The quality is lowered until the file is not larger")
        self.most.editingFinished.connect(self._most_set)
        self.chroma = QComboBox(accessibleName="Fineness of colour")
        self.chroma.setToolTip("Whether colour is as fine as brightness: by the quality, always, or half as fine")
        for words, value in CHROMA:
            self.chroma.addItem(words, value)
        self.chroma.activated.connect(lambda n: change("output.full_chroma", CHROMA[n][1], True))
        # the words of the list need the room more
        self.quality.setMaximumWidth(70)
        self.most.setMaximumWidth(86)
        self._quality_row = _row("Quality", self.quality, self.most, self.chroma)
        self.size_words = QLineEdit()
        self.size_words.setFont(theme.numbers_font())
        self.size_words.setPlaceholderText("full size")
        self.size_words.setAccessibleName("Size of the file's picture")
        self.size_words.setToolTip(
            "50%, a width such as 4000x, a height such as x3000, megapixels such as 24MP, 2400 long for the longer "
            "side, or a print's width such as 60cm")
        self.size_words.editingFinished.connect(self._width_typed)
        self.dpi = QSpinBox(minimum=0, maximum=2400, suffix=" px/in", accessibleName="Px per inch")
        self.dpi.setSpecialValueText("no dpi")
        self.dpi.setToolTip("Px per inch, said in the file; a print's size is made of it, 300 if it is not said")
        self.dpi.editingFinished.connect(self._dpi_set)
        self._size_row = _row("Size", self.size_words, self.dpi)
        self.tiled = self._check("Tiles", "tiled", "TIFF in tiles, with smaller copies of the picture inside")
        self.layered = self._check("Layers", "layered", "Each frame or layer in its place, with its own mask")
        self.progressive = self._check("Progressive", "progressive", "A JPEG that appears coarse first")
        self._checks = QWidget()
        row = QHBoxLayout(self._checks)
        row.setContentsMargins(LABEL + 4, 0, 0, 0)
        for part in (self.tiled, self.layered, self.progressive):
            row.addWidget(part)
        row.addStretch(1)
        for part in (self.format, self.bits, self.packing, self._quality_row, self._size_row, self._checks):
            page.addWidget(part)
        page.addStretch(1)

    def _check(self, words: str, field: str, tip: str) -> QCheckBox:
        box = QCheckBox(words)
        box.setToolTip(tip)
        box.clicked.connect(lambda on: self._session.change(f"output.{field}", bool(on), True))
        return box

    def _most_set(self) -> None:
        wanted = self.most.value() or None
        wanted = wanted if wanted is None else max(4, wanted)
        if wanted != self._session.frame_set.output.most_kb:
            self._session.change("output.most_kb", wanted, True)

    def _dpi_set(self) -> None:
        wanted = float(self.dpi.value()) or None
        wanted = wanted if wanted is None else max(10.0, wanted)
        if wanted != self._session.frame_set.output.dpi:
            self._session.change("output.dpi", wanted, True)

    def _width_typed(self) -> None:
        text = self.size_words.text().strip()
        full = not text or text == "full size"
        found = dict.fromkeys(FIELDS) if full else size_from_words(text)
        if found is None:
            self._session.say(f"{text}: no size; say 50%, 4000x, x3000, 24MP, 2400 long or 60cm, or nothing for full "
                              "size.", "wrong")
            self.refresh(self._session.frame_set)
            return
        now = self._session.frame_set.output
        if any(getattr(now, name) != value for name, value in found.items()):
            self._session.change_all({f"output.{name}": value for name, value in found.items()}, True)

    # -- its colours

    def _build_colour(self) -> None:
        page, change = Station.page_of(self.stack, 6), self._session.change
        spaces = [(name, space.title) for name, space in SPACES.items()]
        self.space = Pick("Colour space", [*spaces, (OWN_PROFILE, "ICC profile…")], "Colour",
                          "The colours that the file can hold, named by its profile")
        self.space.picked.connect(self._space_picked)
        self.intent = Pick("Intent", [(str(i), str(i).capitalize()) for i in Intent],
                           tip="How colours beyond the profile's are brought into it")
        self.intent.setToolTip("How colours beyond a profile's gamut are brought into it")
        self.intent.picked.connect(lambda v: change("output.intent", Intent(v), True))
        self.dither = self._check("Dither 8 bit", "dither", "Values are spread so that soft slopes show no bands")
        self.sharpen = Ruler("Sharpen", 0.0, 100.0, 0.0, "%", 1.0)
        self.sharpen.setToolTip("For the size at which the picture is written")
        self.sharpen.changed.connect(lambda v, final: change("output.sharpen_pct", v, final))
        self.proof = QCheckBox("Proof")
        self.proof.setToolTip("Show the picture in the colours of the file")
        self.beyond = QCheckBox("Beyond the gamut")
        self.beyond.setToolTip("Stripes where the file's colours cannot hold the picture's")
        for box in (self.proof, self.beyond):
            box.clicked.connect(self.proof_changed)
        looks = QWidget()
        row = QHBoxLayout(looks)
        row.setContentsMargins(LABEL + 4, 0, 0, 0)
        for box in (self.proof, self.beyond):
            row.addWidget(box)
        row.addStretch(1)
        for part in (self.space, self.intent, _row("", self.dither), self.sharpen, looks):
            page.addWidget(part)
        page.addStretch(1)

    def _space_picked(self, value: str) -> None:
        if value != OWN_PROFILE:
            self._session.change_all({"output.space": ColourSpace(value), "output.profile": None}, True)
            return
        path, _ = QFileDialog.getOpenFileName(self, "Colours of which profile?", "", "ICC profiles (*.icc *.icm)")
        if path:
            self.use_profile(path)
        self.refresh(self._session.frame_set)

    def use_profile(self, path: str) -> None:
        """Write in the colours of a profile; a sentence if it cannot be used."""
        try:
            chosen_profile(path)
        except WindfellError as error:
            self._session.say(str(error), "wrong")
            return
        self._session.change("output.profile", path, True)

    # -- what is said in it

    def _build_words(self) -> None:
        page = Station.page_of(self.stack, 4)
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self.words: dict[str, QLineEdit] = {}
        for n, (field, title, tip) in enumerate((
                ("title", "Title", "What the picture is called"),
                ("caption", "Caption", "What it shows"), ("keywords", "Keywords", "Parted by commas"),
                ("creator", "Creator", "Who made it"), ("rights", "Rights", "Such as © 2026 and a name"))):
            line = QLineEdit()
            line.setAccessibleName(title)
            line.setToolTip(tip)
            line.editingFinished.connect(lambda f=field: self._word_typed(f))
            label = QLabel(title)
            label.setFixedWidth(LABEL)
            grid.addWidget(label, n, 0)
            grid.addWidget(line, n, 1)
            self.words[field] = line
        page.addLayout(grid)
        self.location = QCheckBox("Keep where the frames were taken")
        self.location.setToolTip("Left out otherwise; serial numbers are never written")
        self.location.clicked.connect(lambda on: self._session.change("output.words.location", bool(on), True))
        page.addWidget(_row("", self.location))
        page.addStretch(1)

    def _word_typed(self, field: str) -> None:
        text = self.words[field].text().strip()
        value = tuple(k.strip() for k in text.split(",") if k.strip()) if field == "keywords" else text
        if value != getattr(self._session.frame_set.output.words, field):
            self._session.change(f"output.words.{field}", value, True)

    # -- all of it

    def refresh(self, frame_set: FrameSet) -> None:
        """Show the set's output."""
        o = frame_set.output
        writer = WRITERS[str(o.format)]
        self.format.set_value(str(o.format))
        self.bits.set_value(str(sheet_depth(o)))
        for bits in (8, 16, 32):
            self.bits.set_enabled(str(bits), bits in writer.depths)
        self.packing.set_value(str(o.compression))
        self.packing.setVisible(o.format is Format.TIFF)
        self._quality_row.setVisible(o.format in WITH_QUALITY)
        self.most.setVisible(o.format in WITH_QUALITY and o.format is not Format.HTML)
        self.chroma.setVisible(o.format in (Format.JPEG, Format.AVIF, Format.HEIF))
        self.chroma.setCurrentIndex([v for _, v in CHROMA].index(o.full_chroma))
        _silently(self.quality, o.quality)
        _silently(self.most, o.most_kb or 0)
        _silently(self.dpi, round(o.dpi or 0))
        if not self.size_words.hasFocus():
            self.size_words.setText(size_in_words(o))
        for box, on in ((self.tiled, o.tiled), (self.layered, o.layered or o.format is Format.ORA),
                        (self.progressive, o.progressive), (self.dither, o.dither),
                        (self.location, o.words.location)):
            box.setChecked(on)
        self.tiled.setVisible(o.format is Format.TIFF)
        self.layered.setVisible(str(o.format) in LAYERED)
        self.layered.setEnabled(o.format is not Format.ORA)
        self.progressive.setVisible(o.format is Format.JPEG)
        self.space.box.setItemText(self.space.box.count() - 1,
                                   "ICC profile…" if o.profile is None else _file_name(o.profile))
        self.space.set_value(str(o.space) if o.profile is None else OWN_PROFILE)
        self.intent.setEnabled(o.profile is not None)
        self.intent.set_value(str(o.intent))
        self.dither.setEnabled(sheet_depth(o) == 8)
        self.sharpen.set_value(o.sharpen_pct)
        for field, line in self.words.items():
            if not line.hasFocus():
                value = getattr(o.words, field)
                line.setText(", ".join(value) if isinstance(value, tuple) else value)


def _row(words: str, *parts: QWidget) -> QWidget:
    out = QWidget()
    row = QHBoxLayout(out)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(4)
    label = QLabel(words)
    label.setFixedWidth(LABEL)
    row.addWidget(label)
    for part in parts:
        row.addWidget(part)
    row.addStretch(1)
    return out


def _silently(box: QSpinBox, value: int) -> None:
    box.blockSignals(True)
    box.setValue(value)
    box.blockSignals(False)


def _file_name(path: str) -> str:
    return path.rsplit("/", 1)[-1]
