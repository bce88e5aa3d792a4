"""What the stages of both kinds of set share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from enum import StrEnum
from typing import Any, Protocol

import cv2
import numpy as np

from windfell.align.features import Features, unbent
from windfell.align.followed import followed
from windfell.align.glance import Glance, found_and_glanced
from windfell.align.stars import Stars, find_stars
from windfell.align.upright import LONGEST, blue_over_red, find_edges
from windfell.cache import Cache, key_of
from windfell.engine.greys import CLOSE_SIDE, small_grey
from windfell.engine.sources import Opened
from windfell.errors import FrameUnreadable
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.sheet import Sheet
from windfell.recipe.model import Frame, FrameSet, Kind, LensCorrection, Project
from windfell.recipe.project_file import Masks
from windfell.recipe.sources import SetSource


class Detail(StrEnum):
    """How closely features are looked for, in the words of the progress."""

    QUICK = "finding features"
    FINE = "looking for finer features"


class Host(Protocol):
    """The engine, as its stages see it."""

    cache: Cache
    greys: Cache
    masks: Masks

    def opened(self, project: Project, frame: Frame, job: Job) -> Opened: ...

    def opened_all(self, project: Project, frame_set: FrameSet, job: Job) -> list[Opened]: ...

    def stages(self, project: Project, set_id: str) -> Any: ...

    def ignored(self, opened: Opened, frame: Frame, job: Job) -> np.ndarray | None: ...

    def owning(self, frame: Frame, purpose: str) -> np.ndarray | None: ...

    def features(self, opened: Opened, frame: Frame, job: Job, detail: Detail = Detail.QUICK) -> Features: ...

    def optics(self, opened: Opened, frame: Frame) -> Optics | None: ...

    def developed(self, opened: Opened, frame: Frame, scale: float, job: Job) -> Sheet: ...


class Stages:
    """Base of a set's stages over one recipe: pure functions, whose results are kept as long as it stands."""

    def __init__(self, host: Host, project: Project, frame_set: FrameSet) -> None:
        self._host, self._project, self.set = host, project, frame_set
        self._known: dict[str, Any] = {}

    @property
    def cache(self) -> Cache:
        """What keeps results by what they depend on."""
        return self._host.cache

    @property
    def masks(self) -> Masks:
        """Masks by their names."""
        return self._host.masks

    def _once(self, name: str, make: Callable[[], Any]) -> Any:
        """What `make` gives, made once for this recipe."""
        if name not in self._known:
            self._known[name] = make()
        return self._known[name]

    def nested(self, n: int, job: Job) -> Any | None:
        """The stages of the stack that the n-th frame in use is; None for any other frame."""
        source = self.set.used[n].source
        if not isinstance(source, SetSource) or self._project.set(source.set).kind is not Kind.STACK:
            return None
        return self._host.stages(self._project, source.set)

    def seen_alone(self, job: Job) -> Opened | None:
        """The one frame whose places all of the picture keeps, if there is one."""
        return None

    def _opened(self, job: Job) -> list[Opened]:
        return self._once("opened", lambda: self._host.opened_all(self._project, self.set, job))


def ideal_features(
    host: Host, opened: list[Opened], frames: tuple[Frame, ...], job: Job, detail: Detail = Detail.QUICK,
) -> list[Features]:
    """Features of all frames, found on all cores, where a lens without distortion would have put them.

    Of a frame that cannot be decoded, none and why.
    """
    return job.map(_finder(host, opened, frames, job, detail), list(range(len(opened))), str(detail))


def glanced_features(
    host: Host, opened: list[Opened], frames: tuple[Frame, ...], job: Job
) -> tuple[list[Features], dict[tuple[int, int], Glance] | None]:
    """As `ideal_features`, and what pairs of a small set say at a glance."""
    return found_and_glanced(_finder(host, opened, frames, job, Detail.QUICK), len(opened), job, str(Detail.QUICK))


def _finder(
    host: Host, opened: list[Opened], frames: tuple[Frame, ...], job: Job, detail: Detail
) -> Callable[[int], Features]:
    def one(n: int) -> Features:
        try:
            return unbent(host.features(opened[n], frames[n], job, detail), host.optics(opened[n], frames[n]))
        except FrameUnreadable as error:
            return Features(np.zeros((0, 2)), np.zeros((0, 128), np.float32), *opened[n].size, str(error))

    return one


def all_stars(host: Host, opened: list[Opened], frames: tuple[Frame, ...], job: Job) -> list[Stars]:
    """Stars of all frames, where a lens without distortion would have put them."""
    def one(n: int) -> Stars:
        width, height = opened[n].size
        try:
            grey = opened[n].grey(CLOSE_SIDE, job).astype(np.float32)
        except FrameUnreadable as error:
            return Stars(np.zeros((0, 2)), np.zeros(0), width, height, str(error))
        found = find_stars(grey, width, height, host.ignored(opened[n], frames[n], job))
        optics = host.optics(opened[n], frames[n])
        if optics is None or not optics.bends:
            return found
        lens = Lens(width, height, 1.0)
        return replace(found, points=optics.ideal(found.points, lens.centre, lens.half_diagonal))

    return job.map(one, list(range(len(opened))), "finding stars")


def frame_edges(host: Host, opened: Opened, frame: Frame, job: Job) -> np.ndarray:
    """Straight edges (m, 4) that a frame shows in its light, in px of an ideal lens."""
    return _unbent(host, opened, frame, _edges_in_light(host, opened, job))


def long_edges(host: Host, opened: Opened, frame: Frame, job: Job) -> np.ndarray:
    """Straight edges (m, 4) as `frame_edges`, as far as they can be followed, with those that a frame shows in its
    colour alone: many that are plain to an eye are no brighter than what lies beside them.
    """
    def look() -> np.ndarray:
        size = _edge_size(opened)
        sheet = opened.sheet(size[0] / opened.size[0], job)
        seen = to_view(sheet.light(0, 0, sheet.width, sheet.height))
        colour = blue_over_red(cv2.resize(seen, size, interpolation=cv2.INTER_AREA))
        return np.concatenate([
            followed(small_grey(host.greys, opened, size, job), _edges_in_light(host, opened, job), *opened.size),
            followed(colour, find_edges(colour, *opened.size), *opened.size)])

    return _unbent(host, opened, frame, host.cache.get(key_of("long edges", opened.identity, LONGEST), look))


def _edges_in_light(host: Host, opened: Opened, job: Job) -> np.ndarray:
    """Straight edges (m, 4) in px of the frame as it is."""
    return host.cache.get(
        key_of("edges", opened.identity, LONGEST),
        lambda: find_edges(small_grey(host.greys, opened, _edge_size(opened), job), *opened.size))


def _edge_size(opened: Opened) -> tuple[int, int]:
    """The size (width, height) at which straight edges are looked for."""
    k = min(1.0, LONGEST / max(opened.size))
    return max(1, round(opened.size[0] * k)), max(1, round(opened.size[1] * k))


def _unbent(host: Host, opened: Opened, frame: Frame, edges: np.ndarray) -> np.ndarray:
    optics = host.optics(opened, frame)
    if optics is None or not optics.bends:
        return edges
    lens = Lens(*opened.size, 1.0)
    return optics.ideal(edges.reshape(-1, 2), lens.centre, lens.half_diagonal).reshape(-1, 4)


def content_key(opened: list[Opened], frames: tuple[Frame, ...]) -> tuple:
    """What the places of features depend on: pixels, ignored areas, the lens's bending."""
    return tuple((o.identity, f.ignored or (), bending(f.lens))
                 for o, f in zip(opened, frames, strict=True))


def bending(c: LensCorrection) -> tuple:
    """What of a lens correction moves what the frame shows."""
    if not c.distortion:
        return ()
    return c.profile, c.profile and (c.focal_mm, c.crop), c.k1, c.k2, c.k3


def development_key(frames: tuple[Frame, ...]) -> tuple:
    """What the frames' light and fine geometry depend on beside their pixels."""
    return tuple((f.development, f.lens, *(m for m in f.masks if m.purpose == "dust")) for f in frames)
