"""File formats. Each writer takes strips of encoded pixels from the top; a new one is one class and one line here."""

from __future__ import annotations

from pathlib import Path

from windfell.output.dng import DngWriter
from windfell.output.openraster import OraWriter
from windfell.output.packed import AvifWriter, HeifWriter, JpegWriter, JxlWriter, WebpWriter
from windfell.output.page import PageWriter
from windfell.output.png import PngWriter
from windfell.output.radiance import ExrWriter, HdrWriter
from windfell.output.tiff import TiffWriter

WRITERS = {
    "tiff": TiffWriter(), "png": PngWriter(), "jpeg": JpegWriter(), "jxl": JxlWriter(), "webp": WebpWriter(),
    "avif": AvifWriter(), "heif": HeifWriter(), "exr": ExrWriter(), "hdr": HdrWriter(), "dng": DngWriter(),
    "ora": OraWriter(), "html": PageWriter()}
LAYERED = ("tiff", "exr", "ora")
# where a format holds other bits a channel than it is given: (format, depth)
STORED_BITS = {("heif", 16): 10}
ENDINGS = {
    ".tif": "tiff", ".tiff": "tiff", ".png": "png", ".jpg": "jpeg", ".jpeg": "jpeg", ".jxl": "jxl", ".webp": "webp",
    ".avif": "avif", ".heic": "heif", ".heif": "heif", ".exr": "exr", ".hdr": "hdr", ".dng": "dng", ".ora": "ora",
    ".html": "html", ".htm": "html"}


def writer_for(path: Path) -> str | None:
    """The format by a file name's ending, or None."""
    return ENDINGS.get(Path(path).suffix.lower())
