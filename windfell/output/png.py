"""PNG, written as it comes."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.output.metadata import exif_of
from windfell.output.sheet import Sheet
from windfell.output.xmp import xmp_of

INCH_M = 0.0254


class PngWriter:
    """PNG (ISO/IEC 15948), 8 or 16 bits, written as it comes, rows filtered by difference."""

    title, suffix, depths, alpha, linear = "PNG", ".png", (8, 16), True, ()

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        colour_type = 6 if sheet.channels == 4 else 2
        squeeze = zlib.compressobj(3)
        with open(path, "wb") as file:
            file.write(b"\x89PNG\r\n\x1a\n")
            size = struct.pack(">II", sheet.width, sheet.height)
            file.write(_chunk(b"IHDR", size + bytes([sheet.depth, colour_type, 0, 0, 0])))
            file.write(_chunk(b"iCCP", b"profile\0\0" + zlib.compress(sheet.icc)))
            file.write(_chunk(b"eXIf", exif_of(sheet.carried).tobytes()[6:]))
            xmp = xmp_of(sheet.carried)
            if xmp:
                file.write(_chunk(b"iTXt", b"XML:com.adobe.xmp\0\0\0\0\0" + xmp))
            if sheet.output.dpi:
                file.write(_chunk(b"pHYs", struct.pack(">IIB", *[round(sheet.output.dpi / INCH_M)] * 2, 1)))
            above = None
            for strip in strips:
                rows, above = _filtered(strip, above)
                data = squeeze.compress(rows)
                if data:
                    file.write(_chunk(b"IDAT", data))
            file.write(_chunk(b"IDAT", squeeze.flush()))
            file.write(_chunk(b"IEND", b""))


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def _filtered(strip: NDArray, above: NDArray | None) -> tuple[bytes, NDArray]:
    """The strip's rows with PNG's Up filter (type 2), and its last row for the next."""
    rows = strip.astype(">u2").view(np.uint8) if strip.dtype == np.uint16 else strip
    rows = rows.reshape(len(strip), -1)
    previous = np.vstack([np.zeros_like(rows[:1]) if above is None else above, rows[:-1]])
    out = np.empty((len(rows), rows.shape[1] + 1), np.uint8)
    out[:, 0] = 2
    np.subtract(rows, previous, out=out[:, 1:])
    return out.tobytes(), rows[-1:]
