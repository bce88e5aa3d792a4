"""JPEG XL files (ISO/IEC 18181-1, -2): size and metadata from the head, and their pixels."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

import imagecodecs
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from windfell.frames.tiff import as_colours

CODESTREAM, CONTAINER = b"\xff\x0a", b"\x00\x00\x00\x0cJXL \r\n\x87\n"
# of the shapes that the head may name instead of a width: width / height
RATIOS = {1: (1, 1), 2: (12, 10), 3: (4, 3), 4: (3, 2), 5: (16, 9), 6: (5, 4), 7: (2, 1)}


def jxl_header(path: str) -> tuple[int, int, Image.Exif]:
    """(width, height) upright, as the decoder gives it, and the EXIF. Raises ValueError or IndexError for damage."""
    with open(path, "rb") as file:
        return _header(file.read())


def _header(data: bytes) -> tuple[int, int, Image.Exif]:
    boxes = dict(_boxes(data))
    stream = data if data.startswith(CODESTREAM) else boxes.get(b"jxlc", boxes.get(b"jxlp", b"")[4:])
    if not stream.startswith(CODESTREAM):
        raise ValueError("it holds no picture")
    bits = _Bits(stream[2:64])
    small = bits.take(1)
    height = _side(bits, small)
    ratio = bits.take(3)
    width = height * RATIOS[ratio][0] // RATIOS[ratio][1] if ratio else _side(bits, small)
    # of what follows only the orientation: all is as usual, or there are more fields, of which it is the first
    turned = not bits.take(1) and bits.take(1) and bits.take(3) >= 4
    exif = Image.Exif()
    with contextlib.suppress(Exception):  # a tag reader's surprise must not cost the picture
        exif.load(boxes.get(b"Exif", bytes(4))[4:])
        exif.pop(0x112, None)  # the codestream's own holds, and is done by the decoder
    return (height, width, exif) if turned else (width, height, exif)


def jxl_pixels(path: str) -> NDArray:
    """Pixels (h, w, 3), uint8 or uint16, upright; with alpha (h, w, 4) where parts are transparent."""
    with open(path, "rb") as file:
        data = file.read()
    pixels = np.asarray(imagecodecs.jpegxl_decode(data))
    if pixels.dtype.kind == "f":
        pixels = np.rint(65535 * np.clip(np.nan_to_num(pixels), 0, 1)).astype(np.uint16)
    pixels = as_colours(pixels)
    if pixels.shape[1::-1] != _header(data)[:2]:
        raise ValueError("its size is not what its head says")
    return pixels


def _side(bits: _Bits, small: int) -> int:
    return 8 * (bits.take(5) + 1) if small else bits.take((9, 13, 18, 30)[bits.take(2)]) + 1


class _Bits:
    """Numbers taken from bytes, the lowest bits first."""

    def __init__(self, data: bytes) -> None:
        self._left = int.from_bytes(data, "little")

    def take(self, count: int) -> int:
        value = self._left & ((1 << count) - 1)
        self._left >>= count
        return value


def _boxes(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    """(kind, content) of each box; of those in parts the first."""
    at, parts = 0 if data.startswith(CONTAINER) else len(data), 0
    while at + 8 <= len(data):
        size, kind, head = int.from_bytes(data[at : at + 4], "big"), data[at + 4 : at + 8], 8
        if size == 1:
            size, head = int.from_bytes(data[at + 8 : at + 16], "big"), 16
        end = at + size if size else len(data)
        if end <= at:
            return
        parts += kind == b"jxlp"
        if kind != b"jxlp" or parts == 1:
            yield kind, data[at + head : end]
        at = end
