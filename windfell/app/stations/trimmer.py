"""The video trimmer: scrub, trim, and choose the instants that become frames."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import (
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.picture.images import draw_fitted, image_of_rgb
from windfell.app.session import Session
from windfell.app.widgets.film import FilmStrip
from windfell.engine.instants import chosen_times, write_instants
from windfell.errors import WindfellError
from windfell.frames.video import instant, last_time, strip, video_facts
from windfell.pixels.resample import shrunk
from windfell.recipe import edits
from windfell.recipe.sources import VideoInstant

PICTURES, STRIP_SIDE, SHOWN_SIDE = 12, 120, 420


class Shown(QWidget):
    """The picture under the playhead."""

    def __init__(self) -> None:
        super().__init__()
        self.image: QImage | None = None
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setFixedWidth(264)
        self.setAccessibleName("The picture under the playhead")

    def sizeHint(self) -> QSize:
        return QSize(264, 160)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.fillRect(self.rect(), theme.colour("surround"))
        if self.image is not None:
            draw_fitted(p, self.image, QRectF(self.rect()).adjusted(3, 3, -3, -3))


class Trimmer(QWidget):
    """Works on the video of the chosen frame, in the set in hand."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.path: str | None = None
        self._trims: dict[str, tuple[float, float]] = {}
        self._strips: dict[str, list] = {}
        self._asked: set[str] = set()
        self.film = FilmStrip()
        self.film.scrubbed.connect(self._show_instant)
        self.film.trimmed.connect(self._keep_trim)
        self.shown = Shown()
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 10, 16, 8)
        row.setSpacing(12)
        column = QVBoxLayout()
        column.addWidget(self.film)
        column.addLayout(self._buttons())
        column.addStretch(1)
        row.addLayout(column, 1)
        row.addWidget(self.shown)

    def _buttons(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setSpacing(6)
        self.take = self._button("Take this instant", "The picture under the playhead becomes a frame", self._take)
        self.drop = self._button("Drop the chosen", "The chosen frame is taken out of the set", self._drop)
        self.number = QSpinBox()
        self.number.setRange(1, 999)
        self.number.setValue(9)
        self.number.setPrefix("n = ")
        self.number.setMinimumHeight(30)
        self.number.setToolTip("How many are taken, or every how many; arrow keys step it")
        self.number.setAccessibleName("How many, or every how many")
        self.evenly = self._button("Take so many, evenly", "Spread between start and end", self._evenly)
        self.nth = self._button("Take every n-th", "Every so many frames between start and end", self._nth)
        self.differ = self._button("Those that differ", "Frames that differ enough from the one before", self._differ)
        self.write = QToolButton(text="Write out as…")
        self.write.setToolTip("Write the set's instants as picture files")
        self.write.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.write)
        for kind, words in (("png", "PNG"), ("tiff", "TIFF"), ("jpeg", "JPEG")):
            menu.addAction(words, lambda k=kind: self._write(k))
        self.write.setMenu(menu)
        for n, part in enumerate((self.take, self.drop, self.write, self.evenly, self.nth, self.number, self.differ)):
            grid.addWidget(part, n // 3, n % 3)
        return grid

    def _button(self, words: str, tip: str, act: Callable[[], None]) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.clicked.connect(act)
        return button

    def show_instant(self, source: VideoInstant) -> bool:
        """Show the video of a frame, playhead at its time. False if it cannot be read."""
        try:
            facts = video_facts(source.path)
        except WindfellError as error:
            self._session.say(str(error), "wrong")
            return False
        moved = self.path != source.path
        self.path = source.path
        start, end = self._trims.get(source.path, (0.0, last_time(facts)))
        self.film.show_video(facts.duration_s, facts.step_s, start, end)
        frame_set = self._session.frame_set
        self.film.instants = [
            (f.source.time_s, f.on) for f in frame_set.frames
            if isinstance(f.source, VideoInstant) and f.source.path == source.path]
        if moved or abs(self.film.at_s - source.time_s) > 1e-3:
            self.film.go(source.time_s)
        self._want_strip(source.path)
        self.film.update()
        return True

    def _want_strip(self, path: str) -> None:
        self.film.pictures = self._strips.get(path, [])
        if path in self._strips or path in self._asked:
            return
        self._asked.add(path)

        def done(found) -> None:
            self._asked.discard(path)
            self._strips[path] = [(t, image_of_rgb(p)) for t, p in found]
            if path == self.path:
                self.film.pictures = self._strips[path]
                self.film.update()

        self._session.desk.ask(
            "film strip", lambda job: strip(path, PICTURES, STRIP_SIDE, job), done,
            stopped=lambda: self._asked.discard(path), quiet=True)

    def _show_instant(self, time_s: float) -> None:
        path = self.path

        def look(job):
            pixels = instant(path, time_s)
            k = min(1.0, SHOWN_SIDE / max(pixels.shape[:2]))
            if pixels.dtype.itemsize == 2:
                pixels = (pixels >> 8).astype("uint8")
            return shrunk(pixels, max(1, round(pixels.shape[1] * k)), max(1, round(pixels.shape[0] * k)))

        def done(pixels) -> None:
            self.shown.image = image_of_rgb(pixels)
            self.shown.update()

        if path is not None:
            self._session.desk.ask("scrub", look, done, quiet=True)

    def _keep_trim(self) -> None:
        self._trims[self.path] = (self.film.start_s, self.film.end_s)

    def _times(self) -> list[float]:
        return [t for t, _ in self.film.instants]

    def _set(self, times: list[float], words: str) -> None:
        s = self._session
        if not times:
            s.say("A set of a video keeps at least one instant.", "wrong")
            return
        s.edit(edits.set_instants(s.project, s.set_id, self.path, times, words), True)

    def _take(self) -> None:
        self._set([*self._times(), self.film.at_s], f"take the instant at {self.film.at_s:.2f} s")

    def _drop(self) -> None:
        frame_set, chosen = self._session.frame_set, self._session.frame_id
        gone = next((f.source.time_s for f in frame_set.frames if f.id == chosen), None)
        if gone is not None:
            self._set([t for t in self._times() if abs(t - gone) > 1e-4], f"drop the instant at {gone:.2f} s")

    def _choose(self, words: str, **way) -> None:
        path, film = self.path, self.film
        self._session.desk.ask(
            "instants", lambda job: chosen_times(path, film.start_s, film.end_s, job, **way),
            lambda times: self._set(times, f"{words}: {len(times)} instants") if path == self.path else None)

    def _evenly(self) -> None:
        self._choose("take evenly", count=self.number.value())

    def _nth(self) -> None:
        self._choose(f"take every {self.number.value()}th frame", every=self.number.value())

    def _differ(self) -> None:
        self._choose("take those that differ")

    def _write(self, kind: str) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Write the instants into a folder")
        if folder:
            self.write_into(folder, kind)

    def write_into(self, folder: str, kind: str) -> None:
        """Write the instants in use as pictures of a format."""
        path = self.path
        times = [t for t, on in self.film.instants if on]
        self._session.desk.ask(
            "write instants", lambda job: write_instants(path, times, Path(folder), kind, job),
            lambda made: self._session.say(f"{len(made)} pictures written to {folder}", "good"))
