"""Settings: few, each acting at once; they stay whatever the project."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.cache import total_memory_bytes
from windfell.engine.settings import MB, Look, Settings, cache_bytes, cache_folder, clear_cache
from windfell.job import Job
from windfell.recipe.limits import limits_of
from windfell.recipe.output import Output
from windfell.recipe.sizes import output_in_words

WIDE = 620


class SettingsWindow(QDialog):
    """It stays open beside the window; what is changed is kept and done at once."""

    def __init__(self, parent: QWidget, session: Session) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Settings")
        self.setMinimumWidth(WIDE)
        self.theme = Choice("", [(n.lower(), n, tip) for n, tip in (
            ("Limestone", "Light, calm, near-neutral"), ("Peat", "Dark, for work at night"))])
        self.theme.picked.connect(lambda v: self._use(theme=Look(v)))
        self.surround = Ruler("Grey", 0, 255, 120, "", 1, 40)
        self.surround.setToolTip("Grey around the picture, 0 black to 255 white. Double click: the theme's own")
        self.surround.changed.connect(
            lambda v, _: self._use(surround=None if v == self.surround._line.rest else int(v)))
        self.memory = self._amount("memory_mb", f"a third of the machine's ({total_memory_bytes() // 3 // MB} MB)")
        self.memory.setToolTip("What may be kept in memory, so that it need not be made again, in MB")
        self.disk = self._amount("disk_mb")
        self.disk.setToolTip("What may be kept on the disk between sessions, in MB; the longest unused goes first")
        self.held = QLabel()
        self.clear = self._button("Clear", "Remove all that is kept; it is made again when it is needed", self._clear)
        self.place = QLabel()
        self.place.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.other_place = self._button("Choose…", "Another folder, from the next start on", self._choose_place)
        self.usual_place = self._button("Usual", "The usual folder again, from the next start on",
                                        lambda: self._use(cache_place=None))
        self.screen_words = QLabel()
        self.profile = self._button("Choose…", "The ICC profile of this screen, as a calibration made it; pictures "
                                    "are shown through it", self._choose_profile)
        self.no_profile = self._button("None", "The screen shows sRGB", lambda: self._use(screen_profile=None))
        self.output = QLabel()
        self.output.setWordWrap(True)
        self.as_here = self._button("As this set", "New sets are written as the set in hand is: format, depth, "
                                    "colour, size", self._as_here)
        self.as_shipped = self._button("As shipped", "New sets are written as 16-bit TIFF in sRGB, at full size",
                                       lambda: self._use(output=Output()))
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.setVerticalSpacing(12)
        form.setHorizontalSpacing(18)
        for words, parts in (
                ("Theme", (self.theme,)), ("Surround", (self.surround,)), ("Memory", (self.memory,)),
                ("Disk", (self.disk, self.held, self.clear)),
                ("Kept in", (self.place, self.other_place, self.usual_place)),
                ("Screen's colour", (self.screen_words, self.profile, self.no_profile)),
                ("New sets", (self.output, self.as_here, self.as_shipped))):
            form.addRow(words, self._row(parts))
        self.shut = self._button("Close", "Everything is kept already", self.close)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(self.shut)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 14)
        layout.setSpacing(16)
        layout.addLayout(form)
        layout.addStretch(1)
        layout.addLayout(foot)
        session.set_up.connect(self.refresh)

    @staticmethod
    def _row(parts: tuple[QWidget, ...]) -> QWidget:
        row = QWidget()
        inner = QHBoxLayout(row)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(8)
        for n, part in enumerate(parts):
            inner.addWidget(part, 1 if n == 0 else 0)
        return row

    @staticmethod
    def _button(words: str, tip: str, deed) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        button.clicked.connect(lambda _=False: deed())
        return button

    def _amount(self, field: str, automatic: str = "") -> QSpinBox:
        """A field of MB; `automatic`: what its least value says instead."""
        limits = limits_of(Settings, field)
        box = QSpinBox(suffix=" MB", singleStep=256)
        box.setRange(int(limits["low"]) - bool(automatic), int(limits["high"]))
        box.setAccessibleName(f"{field.partition('_')[0].capitalize()} in MB")
        box.setKeyboardTracking(False)
        box.setMinimumHeight(30)
        if automatic:
            box.setSpecialValueText(automatic)
        box.valueChanged.connect(lambda v: self._use(
            **{field: None if automatic and v == box.minimum() else int(v)}))
        return box

    def open_here(self) -> None:
        """Show it, dressed as the window is."""
        self.refresh()
        self.show()
        self.raise_()
        self.activateWindow()

    def refresh(self) -> None:
        s = self.session.settings
        theme.dress(self)
        self.theme.set_value(s.theme)
        own = QColor(theme.current().surround).red()
        self.surround._line.rest = own
        self.surround.set_value(own if s.surround is None else s.surround)
        for box, value in ((self.memory, s.memory_mb), (self.disk, s.disk_mb)):
            box.blockSignals(True)
            box.setValue(box.minimum() if value is None else value)
            box.blockSignals(False)
        self.place.setText(str(cache_folder()))
        self.usual_place.setEnabled(s.cache_place is not None)
        self.screen_words.setText(s.screen_profile or "sRGB; no profile")
        self.no_profile.setEnabled(s.screen_profile is not None)
        self.output.setText(output_in_words(s.output))
        self.as_here.setEnabled(self.session.frame_set is not None)
        self.as_shipped.setEnabled(s.output != Output())
        self._count()

    def _use(self, **parts) -> None:
        self.session.use_settings(replace(self.session.settings, **parts))

    def _count(self) -> None:
        folder = cache_folder()
        self.session.desk.ask("cache size", lambda _: cache_bytes(folder),
                              lambda n: self.held.setText(f"{n / MB:,.0f} MB kept"), quiet=True)

    def _clear(self) -> None:
        folder, engine = cache_folder(), self.session.engine

        def work(_: Job) -> None:
            clear_cache(folder)
            engine.cache.clear()

        self.session.desk.ask("cache clearing", work, lambda _: self._count())

    def _choose_place(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Where is to be kept what can be made again?")
        if folder:
            self._use(cache_place=folder)

    def _choose_profile(self) -> None:
        kinds = "ICC profiles (*.icc *.icm);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self, "The screen's profile", "", kinds)
        if path:
            self._use(screen_profile=path)

    def _as_here(self) -> None:
        own = self.session.frame_set
        if own is not None:
            # words of one picture, and a layer's wish, are not for others
            plain = Output()
            self._use(output=replace(own.output, words=replace(
                own.output.words, title=plain.words.title, caption=plain.words.caption)))
