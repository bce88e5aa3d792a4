"""A picture file opened: its size, its light at any scale."""

from __future__ import annotations

import os
import warnings
from functools import lru_cache

import cv2
import numpy as np
import tifffile
from numpy.typing import NDArray

from windfell.errors import FrameUnreadable
from windfell.frames.metadata import Metadata, read_metadata
from windfell.frames.tiff import tiff_pixels
from windfell.pixels.profiles import Linearizer, linearizer
from windfell.pixels.resample import shrunk

F32 = NDArray[np.float32]
REDUCED = {
    1: cv2.IMREAD_COLOR, 2: cv2.IMREAD_REDUCED_COLOR_2,
    4: cv2.IMREAD_REDUCED_COLOR_4, 8: cv2.IMREAD_REDUCED_COLOR_8,
}


def identity(path: str) -> str:
    """What a file is for the cache: its place, size and time of change."""
    try:
        stat = os.stat(path)
    except OSError:
        return f"{path}:missing"
    return f"{path}:{stat.st_size}:{stat.st_mtime_ns}"


@lru_cache(maxsize=4096)
def _metadata_of(path: str, _identity: str) -> Metadata:
    return read_metadata(path)


def metadata_of(path: str) -> Metadata:
    """Metadata of a picture file, read once while the file stays as it is."""
    return _metadata_of(path, identity(path))


class StillFrame:
    """A picture file. Raises FrameUnreadable, on opening or on decoding, in the user's words."""

    def __init__(self, path: str) -> None:
        self.path = path
        self.metadata = metadata_of(path)
        self.identity = identity(path)

    @property
    def size(self) -> tuple[int, int]:
        return self.metadata.width, self.metadata.height

    @property
    def focal_px(self) -> float | None:
        return self.metadata.focal_px

    @property
    def lens_key(self) -> tuple:
        return self.metadata.lens_key

    def encoded(self, reduce: int = 1) -> NDArray:
        """Upright encoded pixels (h, w, 3) RGB: uint8, uint16 or float32.

        `reduce` 2, 4 or 8 lets the JPEG decoder answer a picture that much smaller.
        """
        reader = {"jpeg": self._jpeg, "png": self._png, "tiff": self._tiff}
        try:
            pixels = reader[self.metadata.format](reduce)
        except FrameUnreadable:
            raise
        except MemoryError:
            raise
        except FileNotFoundError as error:
            raise FrameUnreadable(self.path, "the file is gone; point to it again.") from error
        except (OSError, ValueError, RuntimeError, cv2.error) as error:
            why = str(error).strip() or "its content is damaged"
            raise FrameUnreadable(self.path, f"it cannot be decoded ({why}).") from error
        return upright(pixels, self.metadata.orientation)

    def linearizer(self) -> Linearizer:
        try:
            return linearizer(self._usable_profile(), self._is_float())
        except ValueError as error:
            raise FrameUnreadable(self.path, f"{error}.") from error

    def linear(self, width: int, height: int) -> F32:
        """Working-space light (height, width, 3) of the frame averaged down to that size."""
        fraction = max(width / self.size[0], height / self.size[1])
        reduce = max((r for r in REDUCED if r * fraction <= 1.0), default=1)
        return shrunk(self.linearizer()(self.encoded(reduce)), width, height)

    def _is_float(self) -> bool:
        if self.metadata.format != "tiff":
            return False
        with tifffile.TiffFile(self.path) as file:
            return file.pages[0].dtype is not None and file.pages[0].dtype.kind == "f"

    def _usable_profile(self) -> bytes | None:
        profile = self.metadata.profile
        return profile if profile and profile[16:20] == b"RGB " else None

    def _jpeg(self, reduce: int) -> NDArray:
        with open(self.path, "rb") as file:
            data = file.read()
        if not jpeg_is_whole(data):
            raise FrameUnreadable(self.path, "the file is cut short; copy it from the card again.")
        return _opencv(data, REDUCED[reduce])

    def _png(self, _reduce: int) -> NDArray:
        with open(self.path, "rb") as file:
            data = file.read()
        if b"IEND" not in data[-64:]:
            raise FrameUnreadable(self.path, "the file is cut short; copy it from the card again.")
        return _opencv(data, cv2.IMREAD_COLOR | cv2.IMREAD_ANYDEPTH)

    def _tiff(self, _reduce: int) -> NDArray:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return tiff_pixels(self.path)


def _opencv(data: bytes, flags: int) -> NDArray:
    pixels = cv2.imdecode(np.frombuffer(data, np.uint8), flags | cv2.IMREAD_IGNORE_ORIENTATION)
    if pixels is None:
        raise ValueError("its content is damaged")
    return cv2.cvtColor(pixels, cv2.COLOR_BGR2RGB, dst=pixels)


def jpeg_is_whole(data: bytes) -> bool:
    """Whether the main picture's scan is closed by an end-of-image marker (ITU-T T.81, B.2)."""
    at = 2
    while at + 4 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if marker == 0xDA:
            return data.find(b"\xff\xd9", at) >= 0
        if marker == 0xFF:
            at += 1
            continue
        at += 2 + int.from_bytes(data[at + 2 : at + 4], "big")
    return False


def upright(pixels: NDArray, orientation: int) -> NDArray:
    """Pixels turned as the EXIF orientation 1..8 says (CIPA DC-008, 4.6.4)."""
    if orientation >= 5:
        pixels = pixels.transpose(1, 0, 2)
    if orientation in (2, 3, 6, 7):
        pixels = pixels[:, ::-1]
    if orientation in (3, 4, 7, 8):
        pixels = pixels[::-1]
    return np.ascontiguousarray(pixels)
