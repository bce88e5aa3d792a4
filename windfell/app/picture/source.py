"""What the picture view shows: asks for a set's picture, coarse first, then sharper, then tiles."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass, replace

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from windfell.app.picture.images import to_image
from windfell.app.session import Session
from windfell.engine.core import Engine, scaled_size
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.model import Kind, Project, picture_parts

COARSE, SHARP = 480, 1600
TILE = 512
TILES_KEPT = 160
SETTLE_MS = 160
STOPPED = "Stopped. Press R to go on."


@dataclass(frozen=True)
class Shown:
    """A picture to show: its size at full scale, an image of all of it, what it is made of."""

    width: int
    height: int
    image: QImage
    project: Project
    set_id: str
    projection: str = ""
    reason: str = ""
    px_per_unit: float = 1000.0


class PictureSource(QObject):
    """Asks the engine whenever the recipe changes; `arrived` when there is something newer."""

    arrived = Signal()
    tile_arrived = Signal()
    refused = Signal(str)

    def __init__(self, session: Session, channel: str) -> None:
        super().__init__()
        self._session, self._channel = session, channel
        self.shown: Shown | None = None
        self.error: str | None = None
        self.sharp = False
        self._tiles: OrderedDict[tuple, QImage] = OrderedDict()
        self._wanted: tuple[Project, str] | None = None
        self._parts: tuple | None = None
        self._sharpen = QTimer(self, singleShot=True, interval=SETTLE_MS)
        self._sharpen.timeout.connect(self._ask_sharp)

    def show(self, project: Project, set_id: str | None) -> None:
        """Show this set of this project, unless it is what is shown already."""
        if set_id is None or not project.set(set_id).used:
            self.clear()
            return
        parts = (set_id, picture_parts(project, set_id))
        if parts == self._parts:
            return
        self._parts = parts
        if self.shown and self.shown.set_id != set_id:
            self.shown = None
        self._wanted, self.sharp, self.error = (project, set_id), False, None
        self._tiles.clear()
        self._session.desk.drop(self._channel + " tiles")
        self._ask(COARSE, self._have_coarse, draft=self.shown is None)

    def is_of(self, project: Project, set_id: str) -> bool:
        """Whether what is shown, or being made, is this set's picture as the project has it."""
        return self._parts == (set_id, picture_parts(project, set_id))

    def again(self) -> None:
        """Ask anew for what was stopped or refused."""
        wanted, self._parts = self._wanted, None
        if wanted is not None:
            self.show(*wanted)

    def clear(self) -> None:
        self._wanted, self._parts, self.shown = None, None, None
        self.error, self.sharp = None, True
        self._session.desk.drop(self._channel)
        self._tiles.clear()
        self.arrived.emit()

    @property
    def settled(self) -> bool:
        """Whether the best picture for now is shown, or the reason why there is none."""
        return self.sharp or self.error is not None

    def _ask(self, side: int, done, draft: bool = False) -> None:
        project, set_id = self._wanted
        engine = self._session.engine
        if draft:
            project = draft_project(project, set_id)

        def make(job: Job) -> Shown:
            width, height = engine.size(project, set_id, job)
            scale = min(1.0, side / max(width, height))
            picture = engine.picture(project, set_id, scale, job)
            more = _projection(engine, project, set_id, job)
            return Shown(width, height, to_image(picture), project, set_id, *more)

        self._session.desk.ask(self._channel, make, done, self._failed, self._stopped)

    def _have_coarse(self, shown: Shown) -> None:
        self.shown = shown
        self.arrived.emit()
        self._sharpen.start()

    def _ask_sharp(self) -> None:
        if self._wanted is not None:
            self._ask(SHARP, self._have_sharp)

    def _have_sharp(self, shown: Shown) -> None:
        self.shown, self.sharp = shown, True
        self.arrived.emit()

    def _failed(self, sentence: str) -> None:
        self.shown, self.error = None, sentence
        self.refused.emit(sentence)
        self.arrived.emit()

    def _stopped(self) -> None:
        """Keep what is shown; the same recipe may be asked for again."""
        self._parts = None
        self._sharpen.stop()
        if self.shown is None:
            self._failed(STOPPED)
        self.sharp = self.shown is not None

    def tile(self, level: int, column: int, row: int) -> QImage | None:
        """A tile of the picture at scale 2^-level, if it is here."""
        image = self._tiles.get((level, column, row))
        if image is not None:
            self._tiles.move_to_end((level, column, row))
        return image

    def want_tiles(self, level: int, wanted: list[tuple[int, int]]) -> None:
        """Have these (column, row) tiles made; what was wanted before and isn't now is dropped."""
        missing = [t for t in wanted if (level, *t) not in self._tiles]
        if not missing or self._wanted is None or not self.sharp:
            return
        project, set_id = self._wanted
        engine, scale = self._session.engine, 2.0**-level
        size = scaled_size((self.shown.width, self.shown.height), scale)
        column, row = missing[0]
        left, top = column * TILE, row * TILE
        region = Region(left, top, min(TILE, size[0] - left), min(TILE, size[1] - top))

        def make(job: Job) -> QImage:
            return to_image(engine.picture(project, set_id, scale, job, region))

        def done(image: QImage) -> None:
            self._tiles[level, column, row] = image
            while len(self._tiles) > TILES_KEPT:
                self._tiles.popitem(last=False)
            self.tile_arrived.emit()

        self._session.desk.ask(self._channel + " tiles", make, done, quiet=True)


def draft_project(project: Project, set_id: str) -> Project:
    """The project for a first, quick picture: no seams are cut yet."""
    frame_set = project.set(set_id)
    quick = replace(frame_set.joining, cut_seams=False, blend_pct=min(10.0, frame_set.joining.blend_pct))
    return project.with_set(replace(frame_set, joining=quick))


def _projection(engine: Engine, project: Project, set_id: str, job: Job) -> tuple:
    """(projection, why, px per unit of its plane) of a panorama; nothing for a stack."""
    stages = engine.stages(project, set_id)
    if stages.kind is not Kind.PANORAMA:
        return ()
    choice = stages.choice(job)
    return choice.projection, choice.reason, stages.canvas(job).px_per_unit
