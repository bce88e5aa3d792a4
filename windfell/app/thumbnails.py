"""Thumbnails of frames and files, made in the background; previews inside the files come first."""

from __future__ import annotations

from collections import OrderedDict

import cv2
import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from windfell.app.picture.images import to_image
from windfell.app.session import Session
from windfell.engine.picture import Picture
from windfell.errors import WindfellError
from windfell.frames.still import StillFrame
from windfell.frames.video import instant, is_video
from windfell.job import Job
from windfell.pixels.resample import shrunk
from windfell.recipe.model import Frame, Project
from windfell.recipe.sources import FileSource, SetSource, Source, VideoInstant

SIDE = 300
ENOUGH = 100
KEPT = 3000
BATCH = 6
CHANNELS = ("thumbnails 1", "thumbnails 2")
TELL_MS = 60


class Thumbnail:
    """A small image of a frame; or why there is none."""

    def __init__(self, image: QImage | None, problem: str = "") -> None:
        self.image, self.problem = image, problem


class Thumbnails(QObject):
    """Ask `of(frame)`; None means not yet, and `arrived` will tell. The newest wish comes first."""

    arrived = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._kept: OrderedDict[Source, Thumbnail] = OrderedDict()
        self._waiting: OrderedDict[Source, None] = OrderedDict()
        self._busy: dict[str, list[Source]] = {}
        self._tell = QTimer(self, singleShot=True, interval=TELL_MS)
        self._tell.timeout.connect(self.arrived)

    def of(self, frame: Frame) -> Thumbnail | None:
        return self.of_source(frame.source)

    def of_source(self, source: Source) -> Thumbnail | None:
        found = self._kept.get(source)
        if found is None and source not in self._waiting and not any(source in b for b in self._busy.values()):
            self._waiting[source] = None
            self._next()
        return found

    def forget(self) -> None:
        self._kept.clear()

    def look_again(self) -> None:
        """At the frames that could not be read."""
        for source in [s for s, found in self._kept.items() if found.image is None]:
            del self._kept[source]
        self._tell.start()

    @property
    def settled(self) -> bool:
        return not self._busy and not self._waiting and not self._tell.isActive()

    def _next(self) -> None:
        for channel in CHANNELS:
            if channel in self._busy or not self._waiting:
                continue
            batch = [self._waiting.popitem()[0] for _ in range(min(BATCH, len(self._waiting)))]
            self._busy[channel] = batch
            project, engine = self._session.project, self._session.engine

            def work(job: Job, batch=batch, project=project, engine=engine) -> list[Thumbnail]:
                return [_make(engine, project, source, job) for source in batch]

            self._session.desk.ask(
                channel, work, lambda made, c=channel: self._made(c, made), stopped=self._stopped, quiet=True)

    def _made(self, channel: str, made: list[Thumbnail]) -> None:
        for source, thumbnail in zip(self._busy.pop(channel, []), made, strict=False):
            self._kept[source] = thumbnail
            while len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        if not self._tell.isActive():
            self._tell.start()
        self._next()

    def _stopped(self) -> None:
        """Whoever draws a thumbnail next asks for it again."""
        self._busy.clear()
        self._waiting.clear()


def _make(engine, project: Project, source: Source, job: Job) -> Thumbnail:
    job.check()
    try:
        if isinstance(source, SetSource):
            return Thumbnail(_of_set(engine, project, source, job))
        if isinstance(source, VideoInstant):
            return Thumbnail(_image(instant(source.path, source.time_s)))
        if is_video(source.path):
            return Thumbnail(_image(instant(source.path, 0.0)))
        return Thumbnail(_of_file(source))
    except WindfellError as error:
        return Thumbnail(None, str(error))


def _of_file(source: FileSource) -> QImage:
    still = StillFrame(source.path)
    preview = still.preview()
    if preview is not None and max(preview.shape[:2]) >= ENOUGH:
        return _image(preview)
    k = min(1.0, SIDE / max(still.size))
    size = (max(1, round(still.size[0] * k)), max(1, round(still.size[1] * k)))
    return _seen(*still.small(*size))


def _of_set(engine, project: Project, source: SetSource, job: Job) -> QImage:
    opened = engine.opened(project, Frame("thumbnail", source), job)
    sheet = opened.sheet(min(1.0, SIDE / max(opened.size)), job)
    return _seen(sheet.light(0, 0, sheet.width, sheet.height), sheet.covered)


def _seen(light: np.ndarray, there: np.ndarray | None) -> QImage:
    return to_image(Picture(light, np.ones(light.shape[:2], bool) if there is None else there))


def _image(pixels: np.ndarray) -> QImage:
    """A screen image of encoded pixels (h, w, 3), uint8 or uint16, no larger than SIDE."""
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    k = SIDE / max(pixels.shape[:2])
    if k < 1:
        pixels = shrunk(pixels, max(1, round(pixels.shape[1] * k)), max(1, round(pixels.shape[0] * k)))
    pixels = np.ascontiguousarray(cv2.cvtColor(pixels, cv2.COLOR_RGB2RGBA))
    h, w = pixels.shape[:2]
    return QImage(pixels.data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()
