"""The demo's pictures as files: EXIF of an invented camera, a thumbnail inside, as cameras write."""

from __future__ import annotations

import io
import struct
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import ExifTags, Image
from PIL.TiffImagePlugin import IFDRational

from windfell.demo.photograph import Shot

THUMBNAIL_SIDE = 160


@dataclass(frozen=True)
class Camera:
    """Words and settings in the EXIF. `crop` is the crop factor; exposure is 1 / `speed` s."""

    make: str = "Brannock"
    model: str = "Fell Camera One"
    lens: str = "Fell 16-45"
    crop: float = 1.5
    speed: float = 400.0
    aperture: float = 8.0
    iso: int = 200
    focal_mm: float | None = None


def exif_bytes(shot: Shot, taken: datetime, camera: Camera | None = None) -> bytes:
    """EXIF: time, exposure, lens, focal length and its 35 mm equivalent."""
    c = camera or Camera()
    lens = shot.lens
    equivalent = lens.focal_px / np.hypot(lens.width, lens.height) * np.hypot(36, 24)
    exif = Image.Exif()
    exif[ExifTags.Base.Make] = c.make
    exif[ExifTags.Base.Model] = c.model
    exif[ExifTags.Base.Software] = "Windfell demo"
    stamp = taken.strftime("%Y:%m:%d %H:%M:%S")
    exif[ExifTags.Base.DateTime] = stamp
    inner = exif.get_ifd(ExifTags.IFD.Exif)
    inner[ExifTags.Base.DateTimeOriginal] = stamp
    inner[ExifTags.Base.ExposureTime] = IFDRational(10, round(10 * c.speed))
    inner[ExifTags.Base.FNumber] = IFDRational(round(c.aperture * 10), 10)
    inner[ExifTags.Base.ISOSpeedRatings] = c.iso
    focal = c.focal_mm or equivalent / c.crop
    inner[ExifTags.Base.FocalLength] = IFDRational(round(focal * 10), 10)
    inner[ExifTags.Base.FocalLengthIn35mmFilm] = round(focal * c.crop)
    inner[ExifTags.Base.LensModel] = c.lens
    return exif.tobytes()


def with_thumbnail(exif: bytes, pixels: NDArray[np.uint8]) -> bytes:
    """EXIF with a JPEG thumbnail in a second directory (CIPA DC-008, 4.5.5)."""
    k = THUMBNAIL_SIDE / max(pixels.shape[:2])
    size = (max(1, round(pixels.shape[1] * k)), max(1, round(pixels.shape[0] * k)))
    out = io.BytesIO()
    Image.fromarray(cv2.resize(pixels, size, interpolation=cv2.INTER_AREA)).save(out, "JPEG", quality=85)
    head, tiff = exif[:6], bytearray(exif[6:])
    order = "<" if tiff[:2] == b"II" else ">"
    first = struct.unpack(order + "I", tiff[4:8])[0]
    count = struct.unpack(order + "H", tiff[first : first + 2])[0]
    at = first + 2 + 12 * count
    start = len(tiff) + len(tiff) % 2
    tiff += bytes(start - len(tiff))
    tiff[at : at + 4] = struct.pack(order + "I", start)
    data = out.getvalue()
    place = start + 2 + 3 * 12 + 4
    entries = ((0x0103, 3, 1, struct.pack(order + "HH", 6, 0)), (0x0201, 4, 1, struct.pack(order + "I", place)),
               (0x0202, 4, 1, struct.pack(order + "I", len(data))))
    tiff += struct.pack(order + "H", len(entries))
    for tag, kind, n, value in entries:
        tiff += struct.pack(order + "HHI", tag, kind, n) + value
    return head + bytes(tiff) + bytes(4) + data


def write_jpeg(path: Path, pixels: NDArray[np.uint8], exif: bytes = b"", quality: int = 95) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    if exif and max(pixels.shape[:2]) > 2 * THUMBNAIL_SIDE:
        exif = with_thumbnail(exif, pixels)
    Image.fromarray(pixels).save(path, quality=quality, exif=exif, subsampling=0)
