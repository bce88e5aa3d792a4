"""Thumbnails of frames, made in the background, kept by the frame's source."""

from __future__ import annotations

import cv2
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from windfell.app.picture.images import to_image
from windfell.app.session import Session
from windfell.engine.picture import Picture
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.pixels.colour import luminance
from windfell.recipe.model import Frame, Project, Source

SIDE = 360


class Thumbnail:
    """A small image of a frame, its sharpness and mean light; or why there is none."""

    def __init__(self, image: QImage | None, sharpness: float | None, problem: str = "") -> None:
        self.image, self.sharpness, self.problem = image, sharpness, problem


class Thumbnails(QObject):
    """Ask `of(frame)`; None means not yet, and `arrived` will tell."""

    arrived = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._kept: dict[Source, Thumbnail] = {}
        self._waiting: list[Frame] = []
        self._busy = False

    def of(self, frame: Frame) -> Thumbnail | None:
        found = self._kept.get(frame.source)
        if found is None and frame not in self._waiting:
            self._waiting.append(frame)
            self._next()
        return found

    def forget(self) -> None:
        self._kept.clear()

    @property
    def settled(self) -> bool:
        return not self._busy and not self._waiting

    def _next(self) -> None:
        if self._busy or not self._waiting:
            return
        frame, project = self._waiting[0], self._session.project
        self._busy = True
        engine = self._session.engine

        def made(thumbnail: Thumbnail) -> None:
            self._busy = False
            self._waiting = [f for f in self._waiting if f.source != frame.source]
            self._kept[frame.source] = thumbnail
            self.arrived.emit()
            self._next()

        self._session.desk.ask(
            "thumbnails", lambda job: _make(engine, project, frame, job), made,
            stopped=self._stopped, quiet=True,
        )

    def _stopped(self) -> None:
        """Whoever draws a thumbnail next asks for it again."""
        self._busy = False
        self._waiting.clear()


def _make(engine, project: Project, frame: Frame, job: Job) -> Thumbnail:
    try:
        opened = engine.opened(project, frame, job)
        scale = min(1.0, SIDE / max(opened.size))
        sheet = opened.sheet(scale, job)
        light = sheet.light(0, 0, sheet.width, sheet.height)
    except WindfellError as error:
        return Thumbnail(None, None, str(error))
    grey = cv2.sqrt(luminance(cv2.max(light, 0.0)))
    detail = cv2.Laplacian(grey, cv2.CV_32F)
    image = to_image(Picture(light, grey >= 0))
    return Thumbnail(image, float(detail.std() / max(1e-3, float(grey.mean()))))
