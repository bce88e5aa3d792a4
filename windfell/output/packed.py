"""Formats that pack a picture for the screen: JPEG, JPEG XL, WebP, AVIF, HEIF."""

from __future__ import annotations

import io
import struct
from collections.abc import Callable, Iterator
from pathlib import Path

import cv2
import imagecodecs
import numpy as np
import pillow_heif
from numpy.typing import NDArray
from PIL import Image

from windfell.errors import OutputFailed
from windfell.output.metadata import exif_of
from windfell.output.sheet import Sheet, gathered
from windfell.output.xmp import xmp_of
from windfell.recipe.output import ColourSpace

JPEG_SIDE, WEBP_SIDE, FLAT_SIDE = 65_500, 16_383, 32_768
JPEG_MOST_XMP = 65_000
LOWEST = 5
FULL_CHROMA_FROM = 90
XMP_HEAD = b"http://ns.adobe.com/xap/1.0/\0"


def _within(path: Path, sheet: Sheet, most: int, title: str) -> None:
    """Raises OutputFailed for a picture too large for its format."""
    side = max(sheet.width, sheet.height)
    if side > most:
        raise OutputFailed(
            path, f"a {title} may be {most} px wide at most, this picture is {side}; choose TIFF or a smaller size.")


def _fitted(sheet: Sheet, path: Path, packed: Callable[[int], bytes], beside: int = 0) -> bytes:
    """The picture packed at its quality, or at the best one at which the file, with so many bytes `beside` it, is no
    larger than is asked for.
    """
    quality, most = sheet.output.quality, sheet.output.most_kb
    data = packed(quality)
    if most is None or len(data) + beside <= 1000 * most:
        return data
    low, high, best = LOWEST, quality - 1, None
    while low <= high:
        middle = (low + high) // 2
        data = packed(middle)
        if len(data) + beside <= 1000 * most:
            best, low = data, middle + 1
        else:
            high = middle - 1
    if best is None:
        raise OutputFailed(path, f"it does not fit into {most} kB even at the lowest quality; choose a smaller size.")
    return best


def _full_chroma(sheet: Sheet, quality: int) -> bool:
    asked = sheet.output.full_chroma
    return quality >= FULL_CHROMA_FROM if asked is None else asked


class JpegWriter:
    """JPEG (ITU-T T.81), 8 bits, no alpha: what no frame covers is black."""

    title, suffix, depths, alpha, linear = "JPEG", ".jpg", (8,), False, ()

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        _within(path, sheet, JPEG_SIDE, self.title)
        whole = gathered(sheet, strips)

        def packed(quality: int) -> bytes:
            full = _full_chroma(sheet, quality)
            if not sheet.output.progressive:
                return imagecodecs.jpeg8_encode(whole, level=quality, subsampling="444" if full else "420")
            chroma = cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444 if full else cv2.IMWRITE_JPEG_SAMPLING_FACTOR_420
            done, found = cv2.imencode(".jpg", whole[..., ::-1], [
                cv2.IMWRITE_JPEG_QUALITY, quality, cv2.IMWRITE_JPEG_PROGRESSIVE, 1,
                cv2.IMWRITE_JPEG_SAMPLING_FACTOR, chroma])
            if not done:
                raise OutputFailed(path, "the picture cannot be packed; choose another format.")
            return found.tobytes()

        xmp, parts = xmp_of(sheet.carried), _icc_parts(sheet.icc)
        head = _segment(0xE1, exif_of(sheet.carried).tobytes())
        if 0 < len(xmp) <= JPEG_MOST_XMP:
            head += _segment(0xE1, XMP_HEAD + xmp)
        for n, part in enumerate(parts):
            head += _segment(0xE2, b"ICC_PROFILE\0" + bytes([n + 1, len(parts)]) + part)
        data = _fitted(sheet, path, packed, len(head))
        with open(path, "wb") as file:
            file.write(data[:2])
            file.write(head)
            file.write(_with_density(data[2:], sheet.output.dpi))


def _icc_parts(icc: bytes, most: int = 65_500) -> list[bytes]:
    return [icc[k : k + most] for k in range(0, len(icc), most)]


def _segment(marker: int, data: bytes) -> bytes:
    return bytes([0xFF, marker]) + struct.pack(">H", len(data) + 2) + data


def _with_density(data: bytes, dpi: float | None) -> bytes:
    """A JPEG's segments with its px per inch in the first (JFIF 1.02)."""
    if dpi is None or data[:2] != b"\xff\xe0" or data[4:9] != b"JFIF\0":
        return data
    return data[:11] + struct.pack(">BHH", 1, round(dpi), round(dpi)) + data[16:]


class JxlWriter:
    """JPEG XL (ISO/IEC 18181), 8 or 16 bits; quality 100 is without loss. In sRGB, as its library packs it."""

    title, suffix, depths, alpha, linear = "JPEG XL", ".jxl", (8, 16), True, ()

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        if sheet.output.space is not ColourSpace.SRGB or sheet.output.profile:
            raise OutputFailed(path, "JPEG XL is written in sRGB alone; choose that space or another format.")
        whole = gathered(sheet, strips)

        def packed(quality: int) -> bytes:
            if quality >= 100:
                return imagecodecs.jpegxl_encode(whole, lossless=True, usecontainer=True)
            return imagecodecs.jpegxl_encode(whole, level=quality, usecontainer=True)

        with open(path, "wb") as file:
            file.write(_fitted(sheet, path, packed))
            file.write(_box(b"Exif", bytes(4) + exif_of(sheet.carried).tobytes()[6:]))
            xmp = xmp_of(sheet.carried)
            if xmp:
                file.write(_box(b"xml ", xmp))


def _box(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data) + 8) + kind + data


class _PillowWriter:
    """A format that the picture library packs, with profile and metadata."""

    title, suffix, alpha = "", "", True
    depths, linear = (8,), ()
    form, most = "", FLAT_SIDE

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        _within(path, sheet, self.most, self.title)
        image = self._image(gathered(sheet, strips))
        more = {"icc_profile": sheet.icc, "exif": exif_of(sheet.carried).tobytes()}
        xmp = xmp_of(sheet.carried)
        if xmp:
            more["xmp"] = xmp

        def packed(quality: int) -> bytes:
            out = io.BytesIO()
            image.save(out, format=self.form, **self._how(quality, _full_chroma(sheet, quality)), **more)
            return out.getvalue()

        with open(path, "wb") as file:
            file.write(_fitted(sheet, path, packed))

    def _image(self, whole: NDArray) -> object:
        """The picture as what its library saves."""
        return Image.fromarray(whole)

    def _how(self, quality: int, full_chroma: bool) -> dict:
        raise NotImplementedError


class WebpWriter(_PillowWriter):
    """WebP (RFC 9649), 8 bits; quality 100 is without loss."""

    title, suffix, form, most = "WebP", ".webp", "WEBP", WEBP_SIDE

    def _how(self, quality: int, full_chroma: bool) -> dict:
        return {"lossless": True, "quality": 60, "exact": True} if quality >= 100 else {"quality": quality}


class AvifWriter(_PillowWriter):
    """AVIF (AOMedia 2022), 8 bits."""

    title, suffix, form = "AVIF", ".avif", "AVIF"

    def _how(self, quality: int, full_chroma: bool) -> dict:
        return {"quality": quality, "subsampling": "4:4:4" if full_chroma else "4:2:0", "speed": 6}


class HeifWriter(_PillowWriter):
    """HEIF with HEVC (ISO/IEC 23008-12), 8 bits, or as many as its Main 10 profile holds for 16."""

    title, suffix, form, most = "HEIF", ".heic", "HEIF", 16_384
    depths = (8, 16)

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        pillow_heif.register_heif_opener()
        super().write(path, sheet, strips)

    def _image(self, whole: NDArray) -> object:
        if whole.dtype == np.uint8:
            return super()._image(whole)
        mode = "RGBA;16" if whole.shape[2] == 4 else "RGB;16"
        # the nearest of 10 bits, where the library looks for them: in the highest of 16
        nearest = np.rint(np.arange(2**16) * (1023 / 65535)).astype(np.uint16) << 6
        return pillow_heif.from_bytes(mode, whole.shape[1::-1], nearest[whole].tobytes())

    def _how(self, quality: int, full_chroma: bool) -> dict:
        return {"quality": quality, "chroma": 444 if full_chroma else 420}
