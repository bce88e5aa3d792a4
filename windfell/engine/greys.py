"""A frame's encoded grey light, on which it is registered: at several sizes, each half the one before."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.view import GreyView
from windfell.cache import Cache, key_of
from windfell.engine.sources import Opened
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.job import Job
from windfell.recipe.model import Frame

WHOLE_SIDE, CLOSE_SIDE, FIRST_SIDE = 5600, 2800, 1400
FARTHER, LEAST_SIDE = 2, 160


class Host(Protocol):
    """The engine, as far as greys need it."""

    greys: Cache

    def optics(self, opened: Opened, frame: Frame) -> Optics | None: ...


def small_grey(cache: Cache, opened: Opened, size: tuple[int, int], job: Job) -> NDArray[np.uint8]:
    """A frame's encoded grey (h, w) of a size (width, height) of less than FIRST_SIDE; larger ones are kept for a
    while.
    """
    return resized(_halved(cache, opened, _halvings(opened, FIRST_SIDE), job), size)


def close_view(host: Host, opened: Opened, frame: Frame, job: Job) -> GreyView:
    """A frame's close grey in the px of an ideal lens."""
    return _view(host, opened, frame, job, _halvings(opened, CLOSE_SIDE))


class UnreadView:
    """A view that is read, or found among the latest, whenever it is looked at: `read` gives it."""

    def __init__(self, scale: float, read: Callable[[], GreyView], closer: UnreadView | None) -> None:
        self.scale, self.closer, self.farther = scale, closer, None
        self._read = read
        if closer is not None:
            closer.farther = self

    def at(self, points: NDArray[np.float64]) -> NDArray[np.float32]:
        return self._read().at(points)


def ever_closer(host: Host, opened: Opened, frame: Frame, job: Job, most: int = WHOLE_SIDE) -> UnreadView:
    """A frame's grey at FIRST_SIDE px or more, and the closer views that follow, in the px of an ideal lens: up to
    the whole size, or half of what is huge or a raw, but those of more than twice `most` px. Farther ones lie behind
    it, for frames that are not sharp.
    """
    longest, first = opened.grey_side(_first_side(opened)), _halvings(opened, FIRST_SIDE)
    views: list[UnreadView] = []
    for times in range(min(first, _halvings(opened, most)), first + FARTHER + 1):
        if times > first and longest >> times < LEAST_SIDE:
            break
        scale = (longest >> times) / max(opened.size)
        views.append(UnreadView(
            scale, partial(_view, host, opened, frame, job, times), views[-1] if views else None))
    return next(v for v in views if v.scale <= (longest >> first) / max(opened.size))


def _view(host: Host, opened: Opened, frame: Frame, job: Job, times: int) -> GreyView:
    grey, optics = _halved(host.greys, opened, times, job), host.optics(opened, frame)
    if optics is None or not optics.bends:
        return GreyView(grey, opened.size)
    lens = Lens(*opened.size, 1.0)
    return GreyView(grey, opened.size, lambda p: optics.seen(p, lens.centre, lens.half_diagonal))


def _first_side(opened: Opened) -> int:
    # where the whole takes longer to read than the half
    return WHOLE_SIDE if opened.quick else CLOSE_SIDE


def _halvings(opened: Opened, least: int) -> int:
    longest, times = opened.grey_side(_first_side(opened)), 0
    while longest // 2 >= least:
        longest, times = longest // 2, times + 1
    return times


def _halved(cache: Cache, opened: Opened, times: int, job: Job) -> NDArray[np.uint8]:
    def look() -> NDArray[np.uint8]:
        if times:
            larger = _halved(cache, opened, times - 1, job)
            return resized(larger, (larger.shape[1] // 2, larger.shape[0] // 2))
        grey = opened.grey(_first_side(opened), job)
        return grey if grey.dtype == np.uint8 else np.clip(np.rint(grey), 0, 255).astype(np.uint8)

    return cache.get(key_of("grey", opened.identity, times), look)


def resized(grey: NDArray[np.uint8], size: tuple[int, int]) -> NDArray[np.uint8]:
    """Grey (h, w) at another size (width, height): halved as often as it can be, then bent to measure."""
    while grey.shape[1] >= 2 * size[0] and grey.shape[0] >= 2 * size[1]:
        # means of 2 x 2 px, which by area are quick for even sides only
        way = cv2.INTER_LINEAR if grey.shape[0] % 2 or grey.shape[1] % 2 else cv2.INTER_AREA
        grey = cv2.resize(grey, (grey.shape[1] // 2, grey.shape[0] // 2), interpolation=way)
    return cv2.resize(grey, size, interpolation=cv2.INTER_LINEAR)
