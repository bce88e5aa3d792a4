"""A picture file opened: its size, its light at any scale."""

from __future__ import annotations

import warnings
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.errors import FrameUnreadable, border
from windfell.frames.exr import exr_pixels
from windfell.frames.files import identity
from windfell.frames.jpegxl import jxl_pixels
from windfell.frames.metadata import Metadata, read_metadata
from windfell.frames.pillow import avif_pixels, heif_pixels, ink_light, jpeg_inks, library_pixels
from windfell.frames.radiance import hdr_pixels
from windfell.frames.raw import raw_pixels, raw_preview, raw_step
from windfell.frames.see_through import is_clear, parted, shrunk_mask
from windfell.frames.tiff import tiff_inks, tiff_pixels
from windfell.later import Later
from windfell.pixels.profiles import Linearizer, linear_steps, linearizer, working_light
from windfell.pixels.resample import shrunk

tifffile = Later("tifffile")

F32 = NDArray[np.float32]
REDUCED = {
    1: cv2.IMREAD_COLOR, 2: cv2.IMREAD_REDUCED_COLOR_2,
    4: cv2.IMREAD_REDUCED_COLOR_4, 8: cv2.IMREAD_REDUCED_COLOR_8,
}
REDUCED_LUMA = {
    1: cv2.IMREAD_GRAYSCALE, 2: cv2.IMREAD_REDUCED_GRAYSCALE_2,
    4: cv2.IMREAD_REDUCED_GRAYSCALE_4, 8: cv2.IMREAD_REDUCED_GRAYSCALE_8,
}


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
        return self.shown(reduce)[0]

    def shown(self, reduce: int = 1) -> tuple[NDArray, NDArray[np.bool_] | None]:
        """As `encoded`, and where the picture is to be seen (h, w); None for everywhere."""
        with border(self.path, "it cannot be decoded"):
            pixels = READERS[self.metadata.format](self, reduce)
            if pixels.ndim != 3 or 0 in pixels.shape:
                raise FrameUnreadable(self.path, "it holds no flat picture; leave it out.")
            pixels, there = parted(pixels)
        turn = self.metadata.orientation
        return upright(pixels, turn), None if there is None else upright(there, turn)

    def luma(self, reduce: int = 1) -> NDArray[np.uint8] | None:
        """The luma (h, w) that a JPEG holds beside its colours, upright; None for other formats."""
        if self.metadata.format != "jpeg" or self.has_inks:
            return None
        with border(self.path, "it cannot be decoded"):
            return upright(_jpeg_luma(self, reduce), self.metadata.orientation)

    def linearizer(self) -> Linearizer:
        m = self.metadata
        if m.format == "raw":
            return linear_steps(raw_step(self.path))
        if self.has_inks:
            return working_light()
        with border(self.path, "its colours cannot be read"):
            return linearizer(self._usable_profile(), self._is_float())

    @property
    def has_inks(self) -> bool:
        """Whether the file holds ink values, which its profile turns into light at once."""
        return self.metadata.inks

    def preview(self) -> NDArray[np.uint8] | None:
        """The small picture that the file carries, sRGB (h, w, 3), upright; None without one."""
        try:
            with border(self.path, "its preview is damaged"):
                return self._preview()
        except FrameUnreadable:
            return None

    def _preview(self) -> NDArray[np.uint8] | None:
        m = self.metadata
        if m.format == "raw":
            return raw_preview(self.path)
        if m.format != "jpeg":
            return None
        data = embedded_thumbnail(self.path)
        if data is None:
            return None
        return without_bars(upright(_opencv(data, cv2.IMREAD_COLOR), m.orientation), m.width / m.height)

    def linear(self, width: int, height: int) -> F32:
        """Working-space light (height, width, 3) of the frame averaged down to that size."""
        return self.small(width, height)[0]

    def small(self, width: int, height: int) -> tuple[F32, NDArray[np.bool_] | None]:
        """As `linear`, and where the picture is to be seen (height, width); None for everywhere."""
        fraction = max(width / self.size[0], height / self.size[1])
        reduce = max((r for r in REDUCED if r * fraction <= 1.0), default=1)
        pixels, there = self.shown(reduce)
        return shrunk(self.linearizer()(pixels), width, height), shrunk_mask(there, width, height)

    def _is_float(self) -> bool:
        if self.metadata.format in ("exr", "hdr"):
            return True
        if self.metadata.format != "tiff":
            return False
        with tifffile.TiffFile(self.path) as file:
            return file.pages[0].dtype is not None and file.pages[0].dtype.kind == "f"

    def _usable_profile(self) -> bytes | None:
        profile = self.metadata.profile
        return profile if profile and profile[16:20] in (b"RGB ", b"GRAY") else None


def _jpeg(still: StillFrame, reduce: int) -> NDArray:
    if still.has_inks:
        return ink_light(jpeg_inks(still.path), still.metadata.profile)
    return _as_wide(still, _opencv(_whole_jpeg(still), REDUCED[reduce]), reduce)


def _jpeg_luma(still: StillFrame, reduce: int) -> NDArray:
    return _as_wide(still, _decoded(_whole_jpeg(still), REDUCED_LUMA[reduce]), reduce)


def _whole_jpeg(still: StillFrame) -> bytes:
    with open(still.path, "rb") as file:
        data = file.read()
    if not jpeg_is_whole(data):
        raise FrameUnreadable(still.path, "the file is cut short; copy it from the card again.")
    return data


def _as_wide(still: StillFrame, pixels: NDArray, reduce: int) -> NDArray:
    width, height = still.size if still.metadata.orientation < 5 else still.size[::-1]
    return without_overhang(pixels, width / reduce, height / reduce)


def without_overhang(pixels: NDArray[np.uint8], width: float, height: float) -> NDArray[np.uint8]:
    """A picture that shows just width x height of its own px, stretched to its size.

    A decoder that makes a picture smaller rounds its sides up: the last column and row reach
    beyond the frame, and everything would lie up to a pixel of the frame aside.
    """
    h, w = pixels.shape[:2]
    if (w, h) == (width, height):
        return pixels
    kx, ky = width / w, height / h
    onto = np.array([[kx, 0, 0.5 * kx - 0.5], [0, ky, 0.5 * ky - 0.5]])
    return cv2.warpAffine(pixels, onto, (w, h), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
                          borderMode=cv2.BORDER_REPLICATE)


def _png(still: StillFrame, _reduce: int) -> NDArray:
    with open(still.path, "rb") as file:
        data = file.read()
    if b"IEND" not in data[-64:]:
        raise FrameUnreadable(still.path, "the file is cut short; copy it from the card again.")
    if still.metadata.alpha:
        whole = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
        if whole is not None and whole.ndim == 3 and whole.shape[2] == 4:
            return cv2.cvtColor(whole, cv2.COLOR_BGRA2RGBA if is_clear(whole) else cv2.COLOR_BGRA2RGB)
    return _opencv(data, cv2.IMREAD_COLOR | cv2.IMREAD_ANYDEPTH)


def _tiff(still: StillFrame, _reduce: int) -> NDArray:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        if still.has_inks:
            return ink_light(tiff_inks(still.path), still.metadata.profile)
        return tiff_pixels(still.path)


READERS = {
    "jpeg": _jpeg,
    "png": _png,
    "tiff": _tiff,
    "webp": lambda still, _: library_pixels(still.path),
    "avif": lambda still, _: avif_pixels(still.path),
    "heif": lambda still, _: heif_pixels(still.path),
    "exr": lambda still, _: exr_pixels(still.path),
    "hdr": lambda still, _: hdr_pixels(still.path),
    "jxl": lambda still, _: jxl_pixels(still.path),
    "raw": lambda still, reduce: raw_pixels(still.path, reduce),
}


def _opencv(data: bytes, flags: int) -> NDArray:
    pixels = _decoded(data, flags)
    return cv2.cvtColor(pixels, cv2.COLOR_BGR2RGB, dst=pixels)


def _decoded(data: bytes, flags: int) -> NDArray:
    pixels = cv2.imdecode(np.frombuffer(data, np.uint8), flags | cv2.IMREAD_IGNORE_ORIENTATION)
    if pixels is None:
        raise ValueError("its content is damaged")
    return pixels


def jpeg_is_whole(data: bytes) -> bool:
    """Whether the main picture's scan is closed by an end-of-image marker (ITU-T T.81, B.2)."""
    at = 2
    while at + 4 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if marker == 0xDA:
            return data.rfind(b"\xff\xd9", at) >= 0
        if marker == 0xFF:
            at += 1
            continue
        at += 2 + int.from_bytes(data[at + 2 : at + 4], "big")
    return False


def embedded_thumbnail(path: str) -> bytes | None:
    """The JPEG thumbnail of a JPEG's EXIF (CIPA DC-008, 4.5.5), read from the file's head."""
    with open(path, "rb") as file:
        head = file.read(160 * 1024)
    place = exif_segment(head)
    if place is None:
        return None
    start, limit = place
    at = head.find(b"\xff\xd8\xff", start, limit)
    end = head.rfind(b"\xff\xd9", at, limit)
    return head[at : end + 2] if 0 <= at < end else None


def exif_segment(head: bytes) -> tuple[int, int] | None:
    """(first, one past the last) byte of the EXIF in a JPEG's head, its identifier included."""
    at = 2
    while at + 4 <= len(head) and head[at] == 0xFF and head[at + 1] != 0xDA:
        length = int.from_bytes(head[at + 2 : at + 4], "big")
        if head[at + 1] == 0xE1 and head[at + 4 : at + 10] == b"Exif\0\0":
            return at + 4, at + 2 + length
        at += 2 + length
    return None


def without_bars(picture: NDArray[np.uint8], ratio: float) -> NDArray[np.uint8]:
    """The middle of a picture with the ratio of width to height asked for: cameras pad thumbnails."""
    h, w = picture.shape[:2]
    wide, high = min(w, round(h * ratio)), min(h, round(w / ratio))
    left, top = (w - wide) // 2, (h - high) // 2
    return np.ascontiguousarray(picture[top : top + high, left : left + wide])


def upright(pixels: NDArray, orientation: int) -> NDArray:
    """Pixels turned as the EXIF orientation 1..8 says (CIPA DC-008, 4.6.4)."""
    if orientation >= 5:
        pixels = pixels.swapaxes(0, 1)
    if orientation in (2, 3, 6, 7):
        pixels = pixels[:, ::-1]
    if orientation in (3, 4, 7, 8):
        pixels = pixels[::-1]
    return np.ascontiguousarray(pixels)
