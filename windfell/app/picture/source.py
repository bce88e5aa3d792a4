"""What the picture view shows: asks for a set's picture, coarse first, then sharper, then tiles."""

from __future__ import annotations

import time
from collections import OrderedDict
from dataclasses import dataclass, replace

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from windfell.app.picture.images import image_of, to_image
from windfell.app.session import Session
from windfell.engine.core import Engine
from windfell.job import Job
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.model import Development, FrameSet, Kind, Project, picture_parts

LEAST_SHARP, MOST_SHARP, SHARP_STEP = 800, 1600, 160
SIDES = (212, 300, 424, 600, 848)
FIRST_SIDE = 2
QUICK_S, SLOW_S, TOO_SLOW_S = 0.014, 0.040, 0.080
TILE = 512
TILES_KEPT = 160
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
    """Asks the engine whenever the recipe changes; `arrived` when there is something newer.

    While a hand moves: drafts, one being made and the newest waiting, as large as they come quickly. Once it
    rests: the sharp picture, which gives way at once when it moves again.
    """

    arrived = Signal()
    tile_arrived = Signal()
    refused = Signal(str)

    def __init__(self, session: Session, channel: str) -> None:
        super().__init__()
        self._session, self._channel = session, channel
        self.shown: Shown | None = None
        self.error: str | None = None
        self.sharp = False
        self.room = MOST_SHARP  # px of the screen that the whole picture may take
        self._tiles: OrderedDict[tuple, QImage] = OrderedDict()
        self._wanted: tuple[Project, str] | None = None
        self._parts: tuple | None = None
        self._shown_parts: tuple | None = None
        self._side = _Side()
        session.rested.connect(self._sharpen)

    def show(self, project: Project, set_id: str | None) -> None:
        """Show this set of this project, unless it is what is shown already."""
        if set_id is None or not project.set(set_id).used:
            self.clear()
            return
        parts = (set_id, picture_parts(project, set_id))
        if parts == self._parts:
            return
        follows = self._wanted is not None and _alike(self._wanted, (project, set_id))
        self._parts = parts
        if self.shown and self.shown.set_id != set_id:
            self.shown = None
        self._wanted, self.sharp, self.error = (project, set_id), False, None
        self._tiles.clear()
        for channel in ("tiles", "sharp"):
            self._session.desk.drop(f"{self._channel} {channel}")
        self._ask_draft(follows)

    def is_of(self, project: Project, set_id: str) -> bool:
        """Whether what is shown, or being made, is this set's picture as the project has it."""
        return self._parts == (set_id, picture_parts(project, set_id))

    def again(self) -> None:
        """Ask anew for what was stopped or refused."""
        wanted, self._parts = self._wanted, None
        if wanted is not None:
            self.show(*wanted)

    def clear(self) -> None:
        self._wanted, self._parts, self.shown, self._shown_parts = None, None, None, None
        self.error, self.sharp = None, True
        for channel in (self._channel, f"{self._channel} sharp", f"{self._channel} tiles"):
            self._session.desk.drop(channel)
        self._tiles.clear()
        self.arrived.emit()

    @property
    def settled(self) -> bool:
        """Whether the best picture for now is shown, or the reason why there is none."""
        return self.sharp or self.error is not None

    @property
    def newest(self) -> bool:
        """Whether what is shown is of the newest recipe, if coarse."""
        return self.shown is not None and self._shown_parts == self._parts

    def _ask_draft(self, follows: bool) -> None:
        project, set_id = self._wanted
        engine, parts, side = self._session.engine, self._parts, self._side.now
        if self.shown is None:
            project = draft_project(project, set_id)

        def make(job: Job) -> tuple[Shown, float]:
            begun = time.perf_counter()
            d = engine.draft(project, set_id, side, job)
            image = image_of(d.pixels)
            shown = Shown(d.width, d.height, image, project, set_id, d.projection, d.reason, d.px_per_unit)
            return shown, time.perf_counter() - begun

        def done(made: tuple[Shown, float]) -> None:
            if self._wanted is None or self._wanted[1] != set_id:
                return
            self.shown, self._shown_parts = made[0], parts
            self._side.took(side, made[1])
            self.arrived.emit()
            if not self._session.moving:
                self._sharpen()

        desk = self._session.desk
        (desk.follow if follows else desk.ask)(self._channel, make, done, self._failed, self._stopped)

    def _sharpen(self) -> None:
        """The sharp picture, now that the hand rests and a coarse one is there."""
        if self._wanted is None or self.sharp or not self.newest:
            return
        project, set_id = self._wanted
        engine = self._session.engine
        side = min(max(-(-self.room // SHARP_STEP) * SHARP_STEP, LEAST_SHARP), MOST_SHARP)

        def make(job: Job) -> Shown:
            width, height = engine.size(project, set_id, job)
            picture = engine.picture(project, set_id, min(1.0, side / max(width, height)), job)
            more = _projection(engine, project, set_id, job)
            return Shown(width, height, to_image(picture), project, set_id, *more)

        def done(shown: Shown) -> None:
            self.shown, self.sharp = shown, True
            self.arrived.emit()

        self._session.desk.ask(f"{self._channel} sharp", make, done, self._failed, self._stopped)

    def _failed(self, sentence: str) -> None:
        self.shown, self._shown_parts, self.error = None, None, sentence
        self.refused.emit(sentence)
        self.arrived.emit()

    def _stopped(self) -> None:
        """Keep what is shown; the same recipe may be asked for again."""
        self._parts = None
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
        if self._wanted is None or not self.sharp or not self.newest:
            return  # what was stopped is still shown as it was before, maybe of another size
        project, set_id = self._wanted
        engine, scale = self._session.engine, 2.0**-level
        size = scaled_size((self.shown.width, self.shown.height), scale)
        missing = [(c, r) for c, r in wanted if (level, c, r) not in self._tiles
                   and 0 <= c * TILE < size[0] and 0 <= r * TILE < size[1]]
        if not missing:
            return
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


class _Side:
    """How large drafts are: as large as they are made quickly."""

    def __init__(self) -> None:
        self._at, self._slow, self._quick, self._too_slow = FIRST_SIDE, 0, 0, 0

    @property
    def now(self) -> int:
        return SIDES[self._at]

    def took(self, side: int, seconds: float) -> None:
        """A draft of that side took so long. One that was slow may have had frames to make ready first."""
        if side != self.now:
            return
        self._slow = self._slow + 1 if seconds > SLOW_S else 0
        self._too_slow = self._too_slow + 1 if seconds > TOO_SLOW_S else 0
        self._quick = self._quick + 1 if seconds < QUICK_S else 0
        step = 1 if self._quick > 3 else -2 if self._too_slow > 1 else -1 if self._slow > 2 else 0
        if step:
            self._at = min(max(self._at + step, 0), len(SIDES) - 1)
            self._slow = self._quick = self._too_slow = 0


def _alike(before: tuple[Project, str], now: tuple[Project, str]) -> bool:
    """Whether two wishes are of the same frames, registered alike: then a draft on its way is worth seeing."""
    (a, one), (b, other) = before, now
    if one != other:
        return False
    first, second = a.set(one), b.set(other)
    if first.kind != second.kind or first.registration != second.registration:
        return False
    if first.frames is second.frames:
        return True

    def bare(frame_set: FrameSet) -> tuple:
        return tuple(replace(f, development=Development()) for f in frame_set.used)

    return bare(first) == bare(second)


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
