"""A glimpse of a frame: what a quick look needs of it, found once and kept on disk."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features, find_features
from windfell.cache import key_of
from windfell.engine.sources import Opened, OpenedFile
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.resample import shrunk
from windfell.pixels.sheet import Sheet
from windfell.readiness.sharpness import burnt_blocks, detail_blocks

FEATURE_SIDE, SMALL_SIDE, DETAIL_SIDE = 640, 192, 3200
FEATURES = 900
HEAD = 256 * 1024


@dataclass(frozen=True)
class Glimpse:
    """Features in full-size px; `small` light (h, w, 3) float16; detail and burnt blocks; the
    name of the file's content, empty for what is no file.
    """

    features: Features
    small: NDArray[np.float16]
    fine: NDArray[np.float32]
    burnt: NDArray[np.float32]
    digest: str


def glimpse_of(cache, opened: Opened, job: Job) -> Glimpse:
    """The glimpse of an opened frame. Raises FrameUnreadable."""
    job.check()
    key = key_of("glimpse", opened.identity, FEATURE_SIDE, SMALL_SIDE, DETAIL_SIDE)
    return cache.get(key, lambda: _glimpse(opened, job), on_disk=True)


def _glimpse(opened: Opened, job: Job) -> Glimpse:
    width, height = opened.size
    light, encoded = _looked_at(opened, job)
    k = min(1.0, FEATURE_SIDE / max(width, height))
    size = (max(1, round(width * k)), max(1, round(height * k)))
    middle = light(size)
    small_k = min(1.0, SMALL_SIDE / max(width, height))
    small = shrunk(middle, max(1, round(width * small_k)), max(1, round(height * small_k)))
    grey = cv2.cvtColor(encoded, cv2.COLOR_RGB2GRAY)
    return Glimpse(
        find_features(middle, width, height, most=FEATURES), small.astype(np.float16),
        detail_blocks(grey), burnt_blocks(encoded), _digest(opened),
    )


def _looked_at(opened: Opened, job: Job):
    """(light at a size, uint8 sRGB-like pixels of at most about DETAIL_SIDE px)."""
    longest = max(opened.size)
    if isinstance(opened, OpenedFile):
        reduce = next((r for r in (1, 2, 4) if longest / r <= DETAIL_SIDE), 8)
        pixels = opened.still.encoded(reduce)
        linearizer = opened.still.linearizer()
    else:
        sheet = opened.sheet(min(1.0, DETAIL_SIDE / longest), job)
        pixels, linearizer = sheet.pixels, sheet.linearizer

    def light(size: tuple[int, int]) -> NDArray[np.float32]:
        less = shrunk(pixels if pixels.dtype != np.float16 else pixels.astype(np.float32), *size)
        less = np.ascontiguousarray(less)
        return Sheet(less, linearizer).light(0, 0, *size) if linearizer else less

    if pixels.dtype == np.uint8:
        return light, pixels
    if linearizer is None:
        return light, to_view(pixels.astype(np.float32))
    return light, to_view(linearizer(pixels))


def _digest(opened: Opened) -> str:
    if not isinstance(opened, OpenedFile):
        return opened.identity
    with open(opened.still.path, "rb") as file:
        head = file.read(HEAD)
        file.seek(0, 2)
        length = file.tell()
        file.seek(max(0, length - HEAD))
        tail = file.read(HEAD)
    return hashlib.sha256(head + tail + str(length).encode()).hexdigest()[:24]
