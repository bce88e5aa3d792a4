"""EXIF for what is written: program, date, camera and focal length carried over."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from PIL import ExifTags, Image
from PIL.TiffImagePlugin import IFDRational

from windfell import __version__

SOFTWARE = f"Windfell {__version__}"


@dataclass(frozen=True)
class Carried:
    """What a result inherits from its frames."""

    taken: datetime | None = None
    focal_mm: float | None = None
    focal35_mm: float | None = None
    make: str | None = None
    camera: str | None = None
    lens: str | None = None


def stamp(time: datetime | None) -> str | None:
    return None if time is None else time.strftime("%Y:%m:%d %H:%M:%S")


def exif_of(carried: Carried) -> Image.Exif:
    """The EXIF block of a result (CIPA DC-008)."""
    exif = Image.Exif()
    tag = ExifTags.Base
    exif[tag.Software] = SOFTWARE
    for name, value in ((tag.Make, carried.make), (tag.Model, carried.camera),
                        (tag.DateTime, stamp(carried.taken))):
        if value:
            exif[name] = value
    inner = exif.get_ifd(ExifTags.IFD.Exif)
    if carried.taken:
        inner[tag.DateTimeOriginal] = stamp(carried.taken)
    if carried.focal_mm:
        inner[tag.FocalLength] = IFDRational(round(carried.focal_mm * 100), 100)
    if carried.focal35_mm:
        inner[tag.FocalLengthIn35mmFilm] = round(carried.focal35_mm)
    if carried.lens:
        inner[tag.LensModel] = carried.lens
    return exif
