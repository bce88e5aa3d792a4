"""The engine: asked for a set's picture, it walks the stages and keeps what they gave."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import cv2
import numpy as np
from threadpoolctl import threadpool_limits

from windfell.align.features import Features, grey_features, quick_features
from windfell.cache import Cache, key_of, total_memory_bytes
from windfell.develop.developer import DevelopedSheet, is_plain
from windfell.develop.dust import DustlessSheet
from windfell.develop.lens import Taken, optics_of
from windfell.develop.local import GUIDE_SIDE, Guide
from windfell.engine.frame_areas import frame_mask
from windfell.engine.greys import small_grey
from windfell.engine.panorama import PanoramaStages
from windfell.engine.picture import Draft, Picture
from windfell.engine.settings import cache_folder, read_or_shipped
from windfell.engine.sources import Opened, canonical_scale, grey_of, open_source
from windfell.engine.stack_pile import PileStages
from windfell.engine.stage import Detail
from windfell.errors import BadRequest, CannotJoin
from windfell.geometry.optics import Optics
from windfell.job import Job
from windfell.pixels.resample import shrunk
from windfell.pixels.sheet import Sheet
from windfell.pixels.tiles import Region, scaled_size, tiled
from windfell.recipe.model import Frame, FrameSet, Kind, Project
from windfell.recipe.project_file import Masks

FEATURES = {  # how they are found, on a longest side of so many px (small frames enlarged at most so much), how many
    Detail.QUICK: (quick_features, 980, 2.0, 1500), Detail.FINE: (grey_features, 800, 1.0, 3000)}
GREY_BYTES = 640 * 2**20
TILE = 1024
PREVIEW_TILE = 256


class Engine:
    """Pictures from recipes. Safe to ask from several threads."""

    def __init__(self, cache_folder: Path | None = None, budget_bytes: int | None = None) -> None:
        # frames and tiles are shared among the cores, not their loops
        cv2.setNumThreads(1)
        threadpool_limits(1)
        self.cache = Cache(budget_bytes or total_memory_bytes() // 3, cache_folder)
        self.greys = Cache(min(GREY_BYTES, total_memory_bytes() // 12), None, largest_first=True)
        self.masks: Masks = {}

    @classmethod
    def by_settings(cls) -> Engine:
        """An engine with the cache and the memory that the settings say; as shipped if they cannot be read."""
        return cls(cache_folder(), read_or_shipped()[0].memory_bytes)

    def opened(self, project: Project, frame: Frame, job: Job) -> Opened:
        return open_source(frame.source, self.cache, lambda s: NestedSet(self, project, s, job))

    def opened_all(self, project: Project, frame_set: FrameSet, job: Job) -> list[Opened]:
        """All frames in use, opened. Raises CannotJoin for a set without frames."""
        if not frame_set.used:
            raise CannotJoin(f"{frame_set.name} has no frames in use; add some or switch them on.")
        return [self.opened(project, f, job) for f in frame_set.used]

    def stages(self, project: Project, set_id: str) -> PanoramaStages | PileStages:
        """The stages of a set as the project has it now."""
        frame_set = project.set(set_id)
        kind = PanoramaStages if frame_set.kind is Kind.PANORAMA else PileStages
        return kind(self, project, frame_set)

    def look_again(self, project: Project, set_id: str, job: Job) -> None:
        """Keep nothing in memory if a frame of the set could not be read: a share may have come back."""
        if not self.stages(project, set_id).lasting(job):
            self.cache.clear()

    def features(self, opened: Opened, frame: Frame, job: Job, detail: Detail = Detail.QUICK) -> Features:
        """Features of a frame, found once for its content and its ignored areas."""
        find_in, side, enlarged, most = FEATURES[detail]

        def find() -> Features:
            job.check()
            size = scaled_size(opened.size, min(enlarged, side / max(opened.size)))
            grey = small_grey(self.greys, opened, size, job)
            return find_in(grey, *opened.size, self.ignored(opened, frame, job), most)

        key = key_of("features", opened.identity, frame.ignored or (), detail, side, most)
        return self.cache.get(key, find, on_disk=True)

    def owning(self, frame: Frame, purpose: str) -> np.ndarray | None:
        """Where a frame must ("keep") or must not ("never") own the picture, or what its dust leaves of the light
        ("dust"), as a mask (any size), or None.
        """
        names = (m.name for m in frame.masks if m.purpose == purpose)
        masks = [self.masks[n] for n in names if n in self.masks]
        return None if not masks else np.maximum.reduce(masks)

    def ignored(self, opened: Opened, frame: Frame, job: Job) -> np.ndarray | None:
        """The frame's ignored area as a mask (any size), 255 inside, or None."""
        if frame.ignored is None or frame.ignored.empty:
            return None
        return frame_mask(opened, frame.ignored, self.masks, self.cache, job)

    def optics(self, opened: Opened, frame: Frame) -> Optics | None:
        """What the frame's lens correction undoes, or None. Raises BadRequest if it cannot."""
        try:
            return optics_of(frame.lens, opened.taken)
        except ValueError as error:
            name = getattr(frame.source, "path", "The nested set")
            raise BadRequest(f"{name}: {error}.") from error

    def developed(self, opened: Opened, frame: Frame, scale: float, job: Job) -> Sheet | DevelopedSheet:
        """A frame's pixels at about a scale, developed; as they are where nothing is to be done."""
        sheet, dust = opened.sheet(scale, job), self.owning(frame, "dust")
        if dust is not None:
            sheet = DustlessSheet(sheet, dust)
        optics = self.optics(opened, frame)
        lit = optics is not None and bool(optics.light)
        if is_plain(frame.development) and not lit:
            return sheet

        def proxy() -> np.ndarray:
            small = opened.sheet(min(1.0, GUIDE_SIDE / max(opened.size)), job)
            size = scaled_size(opened.size, min(1.0, GUIDE_SIDE / max(opened.size)))
            return shrunk(small.light(0, 0, small.width, small.height), *size)

        def keep(parts: tuple, make: Callable[[], Guide]) -> Guide:
            return self.cache.get(key_of("guide", opened.identity, parts), make)

        return DevelopedSheet(sheet, frame.development, optics, opened.size[0], proxy, keep)

    def size(self, project: Project, set_id: str, job: Job) -> tuple[int, int]:
        """(width, height) in px of the set's picture at full size."""
        return self.stages(project, set_id).size(job)

    def picture(
        self, project: Project, set_id: str, scale: float, job: Job, region: Region | None = None
    ) -> Picture:
        """The picture, or a region of it in px of that scale. scale 1 is the full size."""
        stages = self.stages(project, set_id)
        width, height = scaled_size(stages.size(job), scale)
        region = region or Region(0, 0, width, height)
        stages.prepare(scale, job)
        side = PREVIEW_TILE if scale < 0.75 else TILE
        rows = tiled(region.width, region.height, side, side)
        tiles = [tile for row in rows for tile in row]
        light = np.empty((region.height, region.width, 3), np.float32)
        covered = np.empty((region.height, region.width), bool)

        def one(tile: Region) -> Picture:
            moved = Region(tile.left + region.left, tile.top + region.top, tile.width, tile.height)
            return stages.render(moved, scale, job)

        for n, part in job.stream(one, tiles, "making the picture", ordered=False):
            t = tiles[n]
            at = np.s_[t.top : t.top + t.height, t.left : t.left + t.width]
            light[at], covered[at] = part.light, part.covered
        return Picture(light, covered)

    def draft(self, project: Project, set_id: str, side: int, job: Job) -> Draft:
        """The set's picture at about `side` px a side, as quickly as it can be: for while a hand moves."""
        stages = self.stages(project, set_id)
        if isinstance(stages, PanoramaStages):
            canvas, pixels = stages.draft(side, job)
            choice = stages.choice(job)
            return Draft(canvas.width, canvas.height, pixels, choice.projection, choice.reason, canvas.px_per_unit)
        return Draft(*stages.size(job), stages.draft(side, job))

    def strips(
        self, project: Project, set_id: str, scale: float, job: Job,
        finish: Callable[[Picture], np.ndarray],
    ) -> Iterator[np.ndarray]:
        """The whole picture as full-width strips from the top, never all at once.

        `finish` makes the wanted pixels (h, w, c) of each piece, on the working threads.
        """
        stages = self.stages(project, set_id)
        width, height = scaled_size(stages.size(job), scale)
        stages.prepare(scale, job)
        rows = tiled(width, height, *stages.export_tile(width))
        tiles = [tile for row in rows for tile in row]
        band: np.ndarray | None = None
        done = 0
        for n, part in job.stream(
            lambda t: finish(stages.render(t, scale, job)), tiles, "making the full-size picture"
        ):
            tile = tiles[n]
            if band is None:
                band = np.empty((tile.height, width, part.shape[2]), part.dtype)
            band[:, tile.left : tile.left + tile.width] = part
            done += tile.width
            if done == width:
                yield band
                band, done = None, 0


class NestedSet:
    """Another set's picture as a frame: the engine asks itself."""

    def __init__(self, engine: Engine, project: Project, set_id: str, job: Job) -> None:
        self._engine, self._project, self._set_id = engine, project, set_id
        stages = engine.stages(project, set_id)
        self.identity = stages.key(job)
        self.size = stages.size(job)
        self.focal_px = stages.focal_px(job)
        # what a stack shows is where its reference shows it: that is looked at without making the stack
        self._seen = stages.seen_alone(job)
        self.quick = self._seen is not None and self._seen.quick
        self.lens_key = (*sorted(self.size), "set", self.focal_px and round(self.focal_px, 1))
        self.taken = Taken(*self.size)

    def sheet(self, scale: float, job: Job) -> Sheet:
        kept = canonical_scale(scale)

        def make() -> Sheet:
            picture = self._engine.picture(self._project, self._set_id, kept, job)
            if kept == 1.0:
                # its frames have said what they had to say
                for opened in self._engine.opened_all(self._project, self._project.set(self._set_id), job):
                    self._engine.cache.forget(key_of("sheet", opened.identity, kept))
            return Sheet(picture.light.astype(np.float16), None, None if picture.covered.all() else picture.covered)

        return self._engine.cache.get(key_of("nested sheet", self.identity, kept), make)

    def shown(self, _: Job) -> np.ndarray | None:
        return None

    def grey(self, longest: int, job: Job) -> np.ndarray:
        if self._seen is not None:
            return self._seen.grey(longest, job)
        return grey_of(self.sheet(min(1.0, longest / max(self.size)), job))

    def grey_side(self, longest: int) -> int:
        if self._seen is not None:
            return self._seen.grey_side(longest)
        return round(max(self.size) * canonical_scale(min(1.0, longest / max(self.size))))
