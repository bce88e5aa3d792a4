"""EXIF for what is written: program, date, camera and focal length carried over, how many frames it was made of."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from datetime import datetime

from PIL import ExifTags, Image
from PIL.TiffImagePlugin import IFDRational

from windfell import __version__
from windfell.recipe.output import Words

SOFTWARE = f"Windfell {__version__}"
# CIPA DC-008-2019, 4.6.6: a composite image, and the numbers of frames given and used
COMPOSITE, SOURCES, GENERAL_COMPOSITE = 0xA460, 0xA461, 2


@dataclass(frozen=True)
class Pano:
    """Where the picture lies on the whole equirectangular sphere, px; `heading_deg`: where its middle looks, from
    north.
    """

    full_width: int
    full_height: int
    left: int
    top: int
    heading_deg: float | None = None


@dataclass(frozen=True)
class Carried:
    """What a result inherits from its frames, taken from `taken` to `until`, and what is said about it.

    `gps`: latitude and longitude in degrees, only if that is to be kept.
    """

    taken: datetime | None = None
    focal_mm: float | None = None
    focal35_mm: float | None = None
    make: str | None = None
    camera: str | None = None
    lens: str | None = None
    until: datetime | None = None
    given: int = 1
    used: int = 1
    gps: tuple[float, float] | None = None
    words: Words = Words()
    pano: Pano | None = None


def stamp(time: datetime | None) -> str | None:
    return None if time is None else time.strftime("%Y:%m:%d %H:%M:%S")


def exif_of(carried: Carried) -> Image.Exif:
    """The EXIF block of a result (CIPA DC-008)."""
    exif = Image.Exif()
    tag = ExifTags.Base
    exif[tag.Software] = SOFTWARE
    words = carried.words
    for name, value in ((tag.Make, carried.make), (tag.Model, carried.camera), (tag.DateTime, stamp(carried.taken)),
                        (tag.Artist, words.creator), (tag.Copyright, words.rights),
                        (tag.ImageDescription, words.caption)):
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
    if carried.given > 1:
        inner[COMPOSITE] = GENERAL_COMPOSITE
        inner[SOURCES] = (carried.given, carried.used)
    if carried.gps is not None:
        _place_in(exif.get_ifd(ExifTags.IFD.GPSInfo), *carried.gps)
    return exif


def _place_in(gps: dict, latitude: float, longitude: float) -> None:
    gps[ExifTags.GPS.GPSVersionID] = b"\2\3\0\0"
    for value, words, ref, tag in ((latitude, "NS", ExifTags.GPS.GPSLatitudeRef, ExifTags.GPS.GPSLatitude),
                                   (longitude, "EW", ExifTags.GPS.GPSLongitudeRef, ExifTags.GPS.GPSLongitude)):
        size = abs(value)
        gps[ref] = words[value < 0]
        gps[tag] = (IFDRational(int(size)), IFDRational(int(size * 60) % 60),
                    IFDRational(round(size * 3600 % 60 * 10_000), 10_000))


def exif_entries(carried: Carried) -> list[tuple[int, int, int, bytes]]:
    """(tag, type, count, data) of an EXIF directory, little-endian, sorted by tag."""
    def text(code: int, value: str) -> tuple[int, int, int, bytes]:
        data = value.encode("ascii", "replace") + b"\0"
        return code, 2, len(data), data

    entries = [(36864, 7, 4, b"0232")]
    if carried.taken:
        entries.append(text(36867, stamp(carried.taken)))
    if carried.focal_mm:
        entries.append((37386, 5, 1, struct.pack("<II", round(carried.focal_mm * 100), 100)))
    if carried.focal35_mm:
        entries.append((41989, 3, 1, struct.pack("<H", round(carried.focal35_mm))))
    if carried.lens:
        entries.append(text(42036, carried.lens))
    if carried.given > 1:
        entries.append((COMPOSITE, 3, 1, struct.pack("<H", GENERAL_COMPOSITE)))
        entries.append((SOURCES, 3, 2, struct.pack("<HH", carried.given, carried.used)))
    return entries
