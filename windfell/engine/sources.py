"""Whatever a frame's source is - a file, a video's instant, another set - opened alike."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import Cache, key_of
from windfell.develop.lens import Taken
from windfell.frames.files import identity
from windfell.frames.see_through import shrunk_mask
from windfell.frames.still import REDUCED, StillFrame
from windfell.frames.video import instant, video_facts
from windfell.job import Job
from windfell.pixels.colour import luminance
from windfell.pixels.profiles import linearizer
from windfell.pixels.resample import shrunk
from windfell.pixels.sheet import Sheet
from windfell.recipe.sources import FileSource, Source, VideoInstant

BASE_SIDE = 1280
FULL_FROM = 0.75
ROWS = 512
# what else may be transparent than what its head says is
WITH_ALPHA = ("tiff", "webp", "avif", "heif", "jxl", "exr")


class Opened(Protocol):
    """A frame that can be asked for its pixels. `identity` changes when its content may have; `quick`: its grey is
    read as quickly whole as smaller.
    """

    size: tuple[int, int]
    focal_px: float | None
    lens_key: tuple
    identity: str
    taken: Taken
    quick: bool

    def sheet(self, scale: float, job: Job) -> Sheet: ...

    def grey(self, longest: int, job: Job) -> NDArray[np.uint8] | NDArray[np.float32]: ...

    def grey_side(self, longest: int) -> int: ...

    def shown(self, job: Job) -> NDArray[np.bool_] | None:
        """Where the frame is not transparent, small (h, w); None for everywhere."""


def canonical_scale(scale: float) -> float:
    """The scale at which pixels are kept for a wish: 1, or the next power of sqrt(1/2) above."""
    if scale > FULL_FROM:
        return 1.0
    return float(2.0 ** (-np.floor(-2 * np.log2(max(scale, 1e-4)) + 1e-6) / 2))


def grey_of(sheet: Sheet) -> NDArray[np.float32]:
    """Grey (h, w) as the eye weighs it: integers as they are encoded, light by its square root."""
    pixels = sheet.pixels
    if pixels.dtype == np.uint8:
        return cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY).astype(np.float32)
    out = np.empty((sheet.height, sheet.width), np.float32)
    for top in range(0, sheet.height, ROWS):
        light = sheet.light(0, top, sheet.width, min(sheet.height, top + ROWS))
        out[top : top + ROWS] = 255 * np.sqrt(np.maximum(luminance(light), 0))
    return out


def open_source(source: Source, cache: Cache, nested: Callable[[str], Opened]) -> Opened:
    """Raises FrameUnreadable for what cannot be opened."""
    if isinstance(source, FileSource):
        return OpenedFile(StillFrame(source.path), cache)
    if isinstance(source, VideoInstant):
        return OpenedInstant(source.path, source.time_s, cache)
    return nested(source.set)


class _Kept:
    """What a frame of its own pixels shares: they are kept in the cache by scale."""

    size: tuple[int, int]
    identity: str
    quick = True
    _cache: Cache

    def sheet(self, scale: float, job: Job) -> Sheet:
        job.check()
        kept = canonical_scale(scale)
        key = key_of("sheet", self.identity, kept)
        if kept == 1.0:
            return self._cache.get(key, self._full)
        base = canonical_scale(min(1.0, BASE_SIDE / max(self.size)))
        if kept < base:
            return self._cache.get(key, lambda: self._smaller(self.sheet(base, job), kept))
        return self._cache.get(key, lambda: self._proxy(kept), on_disk=kept == base)

    def grey(self, longest: int, job: Job) -> NDArray[np.uint8] | NDArray[np.float32]:
        """Encoded grey (h, w) of about `longest` px or more, not kept."""
        job.check()
        return grey_of(self._full())

    def grey_side(self, longest: int) -> int:
        """How long the longer side of that grey is."""
        return max(self.size)

    def shown(self, job: Job) -> NDArray[np.bool_] | None:
        return None

    def _full(self) -> Sheet:
        raise NotImplementedError

    def _proxy(self, scale: float) -> Sheet:
        raise NotImplementedError

    def _smaller(self, base: Sheet, scale: float) -> Sheet:
        """Made from the base proxy, so that the file is decoded but once for all small sizes."""
        light, size = base.light(0, 0, base.width, base.height), self._size(scale)
        return Sheet(shrunk(light, *size).astype(np.float16), None, shrunk_mask(base.covered, *size))

    def _size(self, scale: float) -> tuple[int, int]:
        return max(1, round(self.size[0] * scale)), max(1, round(self.size[1] * scale))


class OpenedFile(_Kept):
    """A picture file."""

    def __init__(self, still: StillFrame, cache: Cache) -> None:
        self.still = still
        self.size = still.size
        self.focal_px = still.focal_px
        self.lens_key = still.lens_key
        self.identity = still.identity
        # the colours of a raw's full size have to be made up first
        self.quick = still.metadata.format != "raw"
        self._cache = cache
        m = still.metadata
        self.taken = Taken(
            *still.size, m.make, m.camera, m.lens, m.focal_mm, m.focal35_mm, m.aperture)

    def grey(self, longest: int, job: Job) -> NDArray[np.uint8] | NDArray[np.float32]:
        job.check()
        reduce = self._reduced(longest)
        luma = self.still.luma(reduce)
        if luma is not None:
            return luma
        return grey_of(Sheet(self.still.encoded(reduce), self.still.linearizer()))

    def grey_side(self, longest: int) -> int:
        return max(self.size) // self._reduced(longest)

    def shown(self, job: Job) -> NDArray[np.bool_] | None:
        may = self.still.metadata.alpha or self.still.metadata.format in WITH_ALPHA
        return self.sheet(BASE_SIDE / max(self.size), job).covered if may else None

    def _reduced(self, longest: int) -> int:
        most = {"jpeg": max(REDUCED), "raw": 2}.get(self.still.metadata.format, 1)
        return max((r for r in REDUCED if r <= most and max(self.size) / r >= longest), default=1)

    def _full(self) -> Sheet:
        pixels, there = self.still.shown()
        return Sheet(pixels, self.still.linearizer(), there)

    def _proxy(self, scale: float) -> Sheet:
        light, there = self.still.small(*self._size(scale))
        return Sheet(light.astype(np.float16), None, there)


class OpenedInstant(_Kept):
    """A video's picture at a time."""

    def __init__(self, path: str, time_s: float, cache: Cache) -> None:
        facts = video_facts(path)
        self.size = (facts.width, facts.height)
        self.focal_px = None
        self.lens_key = (*sorted(self.size), "video", path)
        self.identity = f"{identity(path)}@{time_s:.4f}"
        self.taken = Taken(*self.size)
        self._path, self._time_s, self._cache = path, time_s, cache

    def _full(self) -> Sheet:
        return Sheet(instant(self._path, self._time_s), linearizer(None))

    def _proxy(self, scale: float) -> Sheet:
        full = self._full()
        light = full.light(0, 0, full.width, full.height)
        return Sheet(shrunk(light, *self._size(scale)).astype(np.float16))
