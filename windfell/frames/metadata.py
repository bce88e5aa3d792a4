"""What a picture file says about itself: size, orientation, time, exposure, lens."""

from __future__ import annotations

import os
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from PIL import ExifTags, Image, UnidentifiedImageError

from windfell.errors import FrameUnreadable
from windfell.frames.tiff import tiff_header
from windfell.geometry.camera import focal_px_from_35mm

Image.MAX_IMAGE_PIXELS = None
MAX_PIXELS = 1_000_000_000

MAGIC = {
    b"\xff\xd8\xff": "jpeg",
    b"\x89PNG\r\n\x1a\n": "png",
    b"II*\x00": "tiff",
    b"MM\x00*": "tiff",
    b"II+\x00": "tiff",
    b"MM\x00+": "tiff",
}


@dataclass(frozen=True)
class Metadata:
    """Width and height are of the upright picture; what the file does not say is None."""

    format: str
    width: int
    height: int
    orientation: int = 1
    profile: bytes | None = None
    taken: datetime | None = None
    exposure_s: float | None = None
    aperture: float | None = None
    iso: int | None = None
    focal_mm: float | None = None
    focal35_mm: float | None = None
    make: str | None = None
    camera: str | None = None
    lens: str | None = None

    @property
    def focal_px(self) -> float | None:
        """Focal length in px by the 35 mm equivalent, or None."""
        if not self.focal35_mm:
            return None
        return focal_px_from_35mm(self.focal35_mm, self.width, self.height)

    @property
    def lens_key(self) -> tuple:
        """Frames with equal keys were taken through the same lens at the same setting."""
        sides = sorted((self.width, self.height))
        return (*sides, self.camera, self.focal_mm and round(self.focal_mm, 1))


def sniffed(path: str) -> str:
    """The format by the file's first bytes. Raises FrameUnreadable in the user's words."""
    try:
        with open(path, "rb") as file:
            head = file.read(16)
    except FileNotFoundError:
        raise FrameUnreadable(path, "the file does not exist.") from None
    except IsADirectoryError:
        raise FrameUnreadable(path, "it is a folder, not a picture.") from None
    except OSError as error:
        raise FrameUnreadable(path, f"the file cannot be opened ({error.strerror}).") from error
    if not head:
        raise FrameUnreadable(path, "the file is empty; copy it from the card again.")
    for magic, name in MAGIC.items():
        if head.startswith(magic):
            return name
    raise FrameUnreadable(path, "it is not a JPEG, PNG or TIFF picture; leave it out.")


def read_metadata(path: str) -> Metadata:
    """Raises FrameUnreadable if the file is no picture or claims an absurd size."""
    kind = sniffed(path)
    try:
        if kind == "tiff":
            width, height, exif, profile = tiff_header(path)
        else:
            with Image.open(path) as image:
                (width, height), exif = image.size, _exif(image)
                profile = image.info.get("icc_profile")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, KeyError) as error:
        raise FrameUnreadable(path, "its header is damaged; copy it from the card again.") from error
    if width * height > MAX_PIXELS:
        raise FrameUnreadable(path, f"it claims to be {width} x {height} px, more than is read.")
    return _metadata(kind, width, height, exif, profile)


def _exif(image: Image.Image) -> dict[int, Any]:
    """EXIF values by tag, without decoding the picture to look for more behind it."""
    exif = Image.Exif()
    exif.load(image.info.get("exif", b""))
    return {**dict(exif), **dict(exif.get_ifd(ExifTags.IFD.Exif))}


def _metadata(kind: str, width: int, height: int, exif: dict, profile: bytes | None) -> Metadata:
    orientation = exif.get(ExifTags.Base.Orientation, 1)
    orientation = orientation if orientation in range(1, 9) else 1
    if orientation >= 5:
        width, height = height, width
    tag = ExifTags.Base
    return Metadata(
        kind, width, height, orientation, profile or None,
        taken=_time(exif.get(tag.DateTimeOriginal) or exif.get(tag.DateTime)),
        exposure_s=_number(exif.get(tag.ExposureTime)),
        aperture=_number(exif.get(tag.FNumber)),
        iso=_whole(exif.get(tag.ISOSpeedRatings)),
        focal_mm=_number(exif.get(tag.FocalLength)),
        focal35_mm=_number(exif.get(tag.FocalLengthIn35mmFilm)),
        make=_text(exif.get(tag.Make)),
        camera=_text(exif.get(tag.Model)),
        lens=_text(exif.get(tag.LensModel)),
    )


def _number(value: Any) -> float | None:
    if isinstance(value, tuple):
        value = value[0] / value[1] if len(value) == 2 and value[1] else None
    try:
        number = float(value)
    except (TypeError, ValueError, ZeroDivisionError):
        return None
    return number if 0 < number < 1e9 else None


def _whole(value: Any) -> int | None:
    number = _number(value[0] if isinstance(value, tuple) and value else value)
    return None if number is None else round(number)


def _text(value: Any) -> str | None:
    return str(value).strip("\0 ") or None if value else None


def _time(value: Any) -> datetime | None:
    try:
        return datetime.strptime(str(value).strip("\0 "), "%Y:%m:%d %H:%M:%S")
    except ValueError:
        return None


def said(path: str, data: Metadata) -> str:
    """One line for people: size, exposure, lens."""
    parts = [f"{data.width} x {data.height} px"]
    if data.exposure_s:
        fast = data.exposure_s < 0.3
        parts.append(f"1/{1 / data.exposure_s:.0f} s" if fast else f"{data.exposure_s:g} s")
    if data.aperture:
        parts.append(f"f/{data.aperture:g}")
    if data.iso:
        parts.append(f"ISO {data.iso}")
    if data.focal_mm:
        parts.append(f"{data.focal_mm:g} mm")
    return f"{os.path.basename(path)}: " + ", ".join(parts)
