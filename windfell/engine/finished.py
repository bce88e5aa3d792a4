"""A set's picture finished: its adjustments over what was joined or stacked, region by region, at any scale.

What an adjustment is told of the whole picture comes from a small one, which went through all adjustments before it,
so that previews, tiles and files agree.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import groupby
from threading import RLock
from typing import Any, Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import Cache, key_of
from windfell.develop.local import GUIDE_SIDE
from windfell.engine.picture import Picture
from windfell.finish.kinds import Step, reach_of, stepped
from windfell.finish.scene import Scene
from windfell.job import Job
from windfell.pixels.colour import from_view, to_view
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.areas import Area
from windfell.recipe.finishing import Adjustment
from windfell.recipe.model import FrameSet

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]

SAMPLE_SIDE = 384
KEPT_PX = 640 * 640
EDGE_SIDE = 64
DRAFT_GUIDE_SIDE = 256
LEAST_SHARED_PX = 120_000  # of less, a second core takes longer to ask than to help


class Unfinished(Protocol):
    """A set's stages, as the finish sees them."""

    set: FrameSet
    cache: Cache

    def base_key(self, job: Job) -> str: ...

    def size(self, job: Job) -> tuple[int, int]: ...

    def prepare(self, scale: float, job: Job) -> None: ...

    def unfinished(self, region: Region, scale: float, job: Job) -> Picture: ...

    def goes_around(self, job: Job) -> bool: ...

    def finish_share(self, area: Area, region: Region, scale: float, job: Job) -> F32: ...


@dataclass(frozen=True, eq=False)
class _Whole:
    """A set's adjustments, and what their scenes are made of."""

    stages: Unfinished
    job: Job

    @property
    def active(self) -> tuple[Adjustment, ...]:
        return self.stages.set.finish.active

    def kept(self, name: str, n: int, what: Any, make: Callable[[], Any]) -> Any:
        """Something of the picture before adjustment `n`."""
        key = key_of(name, self.stages.base_key(self.job), self.active[:n], what)
        return self.stages.cache.get(key, make)

    def scene(self, n: int, region: Region, scale: float, size: tuple[int, int]) -> Scene:
        return Scene(region, scale, size, lambda: self.small(n), lambda: self.sample(n),
                     lambda what, make: self.kept("finish", n, what, make))

    def share(self, n: int, region: Region, scale: float) -> F32 | None:
        area = self.active[n].area
        return None if area is None else self.stages.finish_share(area, region, scale, self.job)

    def small(self, n: int) -> F32:
        """All of the picture small, before adjustment `n`."""
        full = self.stages.size(self.job)
        scale = min(1.0, GUIDE_SIDE / max(full))
        whole = Region(0, 0, *scaled_size(full, scale))

        def make() -> F32:
            if n == 0:
                return self.base(whole, scale).light
            step = self.step(n - 1, whole, scale, (whole.width, whole.height))
            return stepped(self.small(n - 1), (step,))

        return self.kept("finish small", n, scale, make)

    def sample(self, n: int) -> F32:
        """A part of the picture at full size, before adjustment `n`."""
        width, height = self.stages.size(self.job)
        side = Region(max(0, (width - SAMPLE_SIDE) // 2), max(0, (height - SAMPLE_SIDE) // 2),
                      min(width, SAMPLE_SIDE), min(height, SAMPLE_SIDE))

        def make() -> F32:
            if n == 0:
                self.stages.prepare(1.0, self.job)
                return self.stages.unfinished(side, 1.0, self.job).light
            return stepped(self.sample(n - 1), (self.step(n - 1, side, 1.0, (width, height)),))

        return self.kept("finish sample", n, (), make)

    def step(self, n: int, region: Region, scale: float, size: tuple[int, int]) -> Step:
        return Step(self.active[n], self.share(n, region, scale), self.scene(n, region, scale, size))

    def base(self, region: Region, scale: float) -> Picture:
        """The picture without its finish; that of previews is kept, since the finish changes and it does not."""
        def make() -> Picture:
            if scale < 1:
                self.stages.prepare(scale, self.job)
            return self.stages.unfinished(region, scale, self.job)

        if region.width * region.height > KEPT_PX and scale >= 0.75:
            return make()
        return self.stages.cache.get(key_of("unfinished", self.stages.base_key(self.job), region, scale), make)


def finished(stages: Unfinished, region: Region, scale: float, job: Job) -> Picture:
    """A region of the finished picture, px at a scale."""
    whole = _Whole(stages, job)
    active = whole.active
    if not active:
        return stages.unfinished(region, scale, job)
    size = scaled_size(stages.size(job), scale)
    reach = reach_of(active, scale)
    # of a picture that goes around what lies beyond its edge is told by its other side
    beyond = reach if stages.goes_around(job) else 0
    wide = region.grown(reach).shared(Region(-beyond, 0, size[0] + 2 * beyond, size[1])) or region
    picture = whole.base(wide, scale)
    steps = [whole.step(n, wide, scale, size) for n in range(len(active))]
    light = stepped(filled(picture), steps, job.check)
    at = region.within(wide)
    covered = picture.covered[at]
    light = np.ascontiguousarray(light[at], np.float32)
    return Picture(light if covered.all() else np.where(covered[..., None], light, np.float32(0)), covered)


def filled(picture: Picture) -> F32:
    """The light, beyond what is covered as it is at the rim, so that nothing dark is drawn in from there."""
    if picture.covered.all() or not picture.covered.any():
        return picture.light
    k = min(1.0, EDGE_SIDE / max(picture.covered.shape))
    there = picture.covered.astype(np.float32)
    small = [cv2.resize(v, None, fx=k, fy=k, interpolation=cv2.INTER_AREA) for v in (there, picture.light)]
    share, light = small[0], small[1]
    for _ in range(EDGE_SIDE):
        if share.min() > 0.01:
            break
        share, light = (cv2.blur(v, (3, 3), borderType=cv2.BORDER_REPLICATE) for v in (share, light))
    around = light / np.maximum(share, np.float32(1e-3))[..., None]
    height, width = picture.covered.shape
    around = cv2.resize(around, (width, height), interpolation=cv2.INTER_LINEAR)
    return np.where(picture.covered[..., None], picture.light, around).astype(np.float32)


def finished_draft(stages: Unfinished, light: F32, scale: float, job: Job) -> F32:
    """The whole picture (h, w, 3) at a scale with its finish, as quickly as it can be: it tells itself what it is."""
    if light.shape[0] * light.shape[1] < LEAST_SHARED_PX:
        return _little_draft(_Whole(stages, job), light, scale)
    steps = _draft_steps(_Whole(stages, job), light, scale)
    for around, run in groupby((s for s in steps if not s.adjustment.idle), lambda s: s.looks_around):
        run = tuple(run)
        light = stepped(light, run) if around else _in_halves(light, run, job)
    return light


def _little_draft(whole: _Whole, light: F32, scale: float) -> F32:
    """A draft whose steps are told what lies there before each of them, shrunk: no smaller picture goes along."""
    for n in range(len(whole.active)):
        whole.job.check()
        light = stepped(light, (_told_step(whole, n, light, scale),))
    return light


def _told_step(whole: _Whole, n: int, light: F32, scale: float) -> Step:
    """The n-th step of a draft, told the light before it."""
    height, width = light.shape[:2]
    region, size = Region(0, 0, width, height), _guide_size(width, height)[1]
    known: dict[Any, Any] = {}

    def once(what: Any, make: Callable[[], Any]) -> Any:
        if what not in known:
            known[what] = make()
        return known[what]

    def small() -> F32:
        return once("small", lambda: cv2.resize(light, size, interpolation=cv2.INTER_AREA))

    scene = Scene(region, scale, (width, height), small, small, once)
    return Step(whole.active[n], whole.share(n, region, scale), scene)


def _guide_size(width: int, height: int) -> tuple[float, tuple[int, int]]:
    """By how much a draft is shrunk for what its steps are told of it, and the size (width, height) then."""
    k = min(0.5, DRAFT_GUIDE_SIDE / max(width, height))
    return k, (max(1, round(width * k)), max(1, round(height * k)))


def _draft_steps(whole: _Whole, light: F32, scale: float) -> list[Step]:
    """The steps of a draft; what they are told of the picture is a smaller one that goes through the same steps, as
    far as anybody asks.
    """
    height, width = light.shape[:2]
    k, size = _guide_size(width, height)
    lock = RLock()
    known: dict[Any, Any] = {}

    def once(what: Any, make: Callable[[], Any]) -> Any:
        with lock:  # both halves of the picture ask for it
            if what not in known:
                known[what] = make()
            return known[what]

    def small(n: int) -> F32:
        if n == 0:
            return once("small", lambda: cv2.resize(light, size, interpolation=cv2.INTER_AREA))
        return once(("small", n), lambda: stepped(small(n - 1), (step(n - 1, *size, scale * k),)))

    def step(n: int, w: int, h: int, at: float) -> Step:
        region, own = Region(0, 0, w, h), partial(small, n)
        scene = Scene(region, at, (w, h), own, own, lambda what, make: once((n, what), make))
        return Step(whole.active[n], whole.share(n, region, at), scene)

    return [step(n, width, height, scale) for n in range(len(whole.active))]


def _in_halves(light: F32, steps: Sequence[Step], job: Job) -> F32:
    """A whole picture adjusted, where no px looks around itself, by both cores."""
    height = light.shape[0]
    middle = height // 2

    def half(rows: tuple[int, int]) -> F32:
        return stepped(light[slice(*rows)], [s.rows(*rows) for s in steps])

    return np.concatenate(list(job.map(half, [(0, middle), (middle, height)], "finishing")))


def finished_view(stages: Unfinished, pixels: U8, scale: float, job: Job) -> U8:
    """A draft as a screen shows it, sRGB times its opacity, uint8 (h, w, 4), with the finish."""
    if not stages.set.finish.active:
        return pixels
    light = from_view(pixels[..., :3])
    out = np.empty_like(pixels)
    shown = pixels[..., 3:] > 0
    out[..., :3] = to_view(np.ascontiguousarray(finished_draft(stages, light, scale, job), np.float32)) * shown
    out[..., 3] = pixels[..., 3]
    return out
