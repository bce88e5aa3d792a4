"""What a picture file says about itself: size, orientation, time, exposure, lens."""

from __future__ import annotations

import contextlib
import math
import os
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import exifread
import pillow_heif
from PIL import ExifTags, Image

from windfell.errors import FrameUnreadable, border
from windfell.frames.exr import exr_size
from windfell.frames.jpegxl import CODESTREAM, CONTAINER, jxl_header
from windfell.frames.radiance import hdr_size
from windfell.frames.raw import RAW_ENDINGS, RawHeader, raw_header
from windfell.frames.tiff import tiff_header
from windfell.geometry.camera import focal_px_from_35mm

Image.MAX_IMAGE_PIXELS = None
MAX_PIXELS = 1_000_000_000
pillow_heif.register_heif_opener()

MAGIC = {
    b"\xff\xd8\xff": "jpeg",
    b"\x89PNG\r\n\x1a\n": "png",
    b"II*\x00": "tiff",
    b"MM\x00*": "tiff",
    b"II+\x00": "tiff",
    b"MM\x00+": "tiff",
    b"v/1\x01": "exr",
    CODESTREAM: "jxl",
    CONTAINER: "jxl",
    b"#?RADIANCE": "hdr",
    b"#?RGBE": "hdr",
}
BRANDS = {
    b"avif": "avif", b"avis": "avif", b"heic": "heif", b"heix": "heif", b"heim": "heif",
    b"heis": "heif", b"hevc": "heif", b"mif1": "heif", b"msf1": "heif",
}
ENDINGS = (
    ".jpg", ".jpeg", ".png", ".tif", ".tiff", ".webp", ".avif", ".heic", ".heif", ".jxl", ".exr", ".hdr",
    *RAW_ENDINGS,
)


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
    gps: tuple[float, float] | None = None
    inks: bool = False
    alpha: bool = False

    @property
    def exposure_value(self) -> float | None:
        """log2 of the light gathered: of exposure time x sensitivity / aperture^2, or None."""
        if not self.exposure_s:
            return None
        gathered = self.exposure_s * (self.iso or 100) / 100 / (self.aperture or 1.0) ** 2
        return math.log2(gathered)

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
        return (*sides, self.camera, self.lens, self.focal_mm and round(self.focal_mm, 1))


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
    if path.lower().endswith(RAW_ENDINGS):
        return "raw"
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "webp"
    if head[4:8] == b"ftyp" and head[8:12] in BRANDS:
        return BRANDS[head[8:12]]
    for magic, name in MAGIC.items():
        if head.startswith(magic):
            return name
    raise FrameUnreadable(path, "it is not a picture of a kind that is read; leave it out.")


def read_metadata(path: str) -> Metadata:
    """Raises FrameUnreadable if the file is no picture or claims an absurd size."""
    with border(path, "its header is damaged"):
        return _checked(path, _read_metadata(path, sniffed(path)))


def _read_metadata(path: str, kind: str) -> Metadata:
    if kind == "raw":
        return _of_raw(raw_header(path))
    inks = alpha = False
    if kind == "exr":
        (width, height), exif, profile = exr_size(path), {}, None
    elif kind == "hdr":
        (width, height), exif, profile = hdr_size(path), {}, None
    elif kind == "jxl":
        width, height, own = jxl_header(path)
        exif, profile = _values(own), None
    elif kind == "tiff":
        width, height, exif, profile, inks = tiff_header(path)
    else:
        with Image.open(path) as image:
            (width, height), exif = image.size, _exif(image)
            profile = image.info.get("icc_profile")
            inks, alpha = image.mode == "CMYK", image.mode in ("RGBA", "LA") or "transparency" in image.info
    return replace(_metadata(kind, width, height, exif, profile), inks=inks, alpha=alpha)


def _checked(path: str, found: Metadata) -> Metadata:
    if found.width < 1 or found.height < 1:
        raise FrameUnreadable(path, "it claims to have no size; leave it out or copy it again.")
    if found.width * found.height > MAX_PIXELS:
        raise FrameUnreadable(
            path, f"it claims to be {found.width} x {found.height} px, more than is read; leave it out."
        )
    return found


def _of_raw(header: RawHeader) -> Metadata:
    return Metadata(
        "raw", header.width, header.height, taken=header.taken,
        exposure_s=_number(header.exposure_s), aperture=_number(header.aperture),
        iso=_whole(header.iso), focal_mm=_number(header.focal_mm),
        focal35_mm=_number(header.focal35_mm), make=_text(header.make), camera=_text(header.camera),
        lens=_text(header.lens), gps=header.gps,
    )


def _exif(image: Image.Image) -> dict[int, Any]:
    """EXIF values by tag, without decoding the picture to look for more behind it."""
    exif = Image.Exif()
    with contextlib.suppress(Exception):
        exif.load(image.info.get("exif") or b"")
    return _values(exif)


def _values(exif: Image.Exif) -> dict[int, Any]:
    try:
        gps = exif.get_ifd(ExifTags.IFD.GPSInfo)
        return {**dict(exif), **dict(exif.get_ifd(ExifTags.IFD.Exif)), "gps": dict(gps)}
    except Exception:  # noqa: BLE001 (a tag reader's surprise must not cost the picture)
        return {}


def _place(gps: dict) -> tuple[float, float] | None:
    """(latitude, longitude) in degrees north and east (CIPA DC-008, 4.6.6), or None."""
    try:
        degrees = []
        for side, value in (("S", gps[2]), ("W", gps[4])):
            d, m, s = (float(v) for v in value)
            sign = -1 if str(gps[1 if side == "S" else 3]).startswith(side) else 1
            degrees.append(sign * (d + m / 60 + s / 3600))
    except (KeyError, TypeError, ValueError, ZeroDivisionError):
        return None
    return (degrees[0], degrees[1]) if all(math.isfinite(d) for d in degrees) else None


def heading_of(path: str) -> float | None:
    """Where a file says that its camera looked, degrees from true or magnetic north, or None."""
    try:
        with open(path, "rb") as file:
            value = exifread.process_file(file, details=False, extract_thumbnail=False).get("GPS GPSImgDirection")
        heading = None if value is None else float(value.values[0])
    except Exception:  # noqa: BLE001 (a tag reader's surprise must not cost the picture)
        return None
    return heading % 360 if heading is not None and math.isfinite(heading) else None


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
        gps=_place(exif.get("gps") or {}),
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
    if data.lens or data.camera:
        parts.append(data.lens or data.camera)
    if data.taken:
        parts.append(f"{data.taken:%Y-%m-%d %H:%M:%S}")
    if data.gps:
        parts.append(f"{data.gps[0]:.4f}°, {data.gps[1]:.4f}°")
    return f"{os.path.basename(path)}: " + ", ".join(parts)
