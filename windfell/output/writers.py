"""File formats. Each writer takes strips of encoded pixels from the top; a new one is one class
and one line in WRITERS.
"""

from __future__ import annotations

import os
import struct
import zlib
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import cv2
import imagecodecs
import numpy as np
from numpy.typing import NDArray
from PIL import ExifTags

from windfell.errors import OutputFailed
from windfell.job import CORES
from windfell.later import Later
from windfell.output.metadata import SOFTWARE, Carried, exif_of, stamp

tifffile = Later("tifffile")
OpenEXR = Later("OpenEXR")

BIG_TIFF_BYTES = 3_900_000_000
JPEG_SIDE = 65_500
ROWS_PER_STRIP = 64
DTYPES = {8: np.uint8, 16: np.uint16, 32: np.float32}


@dataclass(frozen=True)
class Sheet:
    """What will be written: size, channels (3, or 4 with straight alpha), depth (32: linear float) and tags."""

    width: int
    height: int
    channels: int
    depth: int
    icc: bytes
    carried: Carried
    deflate: bool = True
    quality: int = 92

    @property
    def nbytes(self) -> int:
        return self.width * self.height * self.channels * self.depth // 8


class TiffWriter:
    """TIFF 6.0 (BigTIFF from 3.9 GB), strips, Deflate with the horizontal predictor or none."""

    title, suffix, depths, alpha = "TIFF", ".tif", (8, 16, 32), True

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        carried, predicted = sheet.carried, sheet.deflate and sheet.depth != 32
        tags = [(271, "s", 0, carried.make, True), (272, "s", 0, carried.camera, True)]
        with tifffile.TiffWriter(path, bigtiff=sheet.nbytes > BIG_TIFF_BYTES) as file:
            file.write(
                _packed(_rows(strips, ROWS_PER_STRIP), sheet.deflate, predicted),
                shape=(sheet.height, sheet.width, sheet.channels),
                dtype=DTYPES[sheet.depth],
                photometric="rgb",
                extrasamples=["unassalpha"] if sheet.channels == 4 else None,
                rowsperstrip=ROWS_PER_STRIP,
                compression="adobe_deflate" if sheet.deflate else None,
                predictor=predicted,
                iccprofile=sheet.icc,
                software=SOFTWARE,
                datetime=stamp(carried.taken),
                metadata=None,
                extratags=[t for t in tags if t[3]],
            )
        with open(path, "r+b") as file:
            _append_exif(file, sheet.nbytes > BIG_TIFF_BYTES, carried)


def _packed(pieces: Iterator[NDArray], deflate: bool, predicted: bool) -> Iterator[bytes]:
    """Strips as they stand in the file, compressed on all cores a few ahead."""
    def pack(piece: NDArray) -> bytes:
        if not deflate:
            return piece.tobytes()
        if not predicted:
            return imagecodecs.deflate_encode(piece, level=1)
        differences = imagecodecs.delta_encode(piece, axis=-2)
        return imagecodecs.deflate_encode(differences, level=1)

    with ThreadPoolExecutor(CORES) as pool:
        ahead: deque[Future] = deque()
        for piece in pieces:
            ahead.append(pool.submit(pack, piece))
            if len(ahead) > 2 * CORES:
                yield ahead.popleft().result()
        while ahead:
            yield ahead.popleft().result()


def _rows(strips: Iterator[NDArray], count: int) -> Iterator[NDArray]:
    """The same rows in pieces of exactly `count`, the last one shorter."""
    held: list[NDArray] = []
    have = 0
    for strip in strips:
        at = 0
        while at < len(strip):
            part = strip[at : at + count - have]
            held.append(part)
            have += len(part)
            at += len(part)
            if have == count:
                yield _whole(held)
                held, have = [], 0
    if held:
        yield _whole(held)


def _whole(parts: list[NDArray]) -> NDArray:
    return np.ascontiguousarray(parts[0] if len(parts) == 1 else np.concatenate(parts))


def _append_exif(file: BinaryIO, big: bool, carried: Carried) -> None:
    """Write the EXIF directory at the file's end, and the main directory anew with its tag."""
    form = _TiffForm(big)
    file.seek(form.first_at)
    first = form.offset.unpack(file.read(form.offset.size))[0]
    file.seek(first)
    count = form.count.unpack(file.read(form.count.size))[0]
    entries = [file.read(form.entry) for _ in range(count)]
    inner_at = file.seek(0, 2)
    inner_at += inner_at % 2
    file.seek(inner_at)
    inner = _directory(_exif_entries(carried), inner_at, form)
    file.write(inner)
    tag = struct.pack("<HH", int(ExifTags.IFD.Exif), 18 if big else 4) + form.offset.pack(1)
    entries.append(tag + form.offset.pack(inner_at))
    entries.sort(key=lambda e: struct.unpack("<H", e[:2]))
    main_at = inner_at + len(inner)
    file.write(form.count.pack(len(entries)) + b"".join(entries) + form.offset.pack(0))
    file.seek(form.first_at)
    file.write(form.offset.pack(main_at))


class _TiffForm:
    """Field sizes of a little-endian TIFF or BigTIFF directory (TIFF 6.0, section 2)."""

    def __init__(self, big: bool) -> None:
        self.first_at = 8 if big else 4
        self.count = struct.Struct("<Q" if big else "<H")
        self.offset = struct.Struct("<Q" if big else "<I")
        self.entry = 20 if big else 12


def _exif_entries(carried: Carried) -> list[tuple[int, int, int, bytes]]:
    """(tag, type, count, data), little-endian, sorted by tag."""
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
    return entries


def _directory(entries: list[tuple[int, int, int, bytes]], start: int, form: _TiffForm) -> bytes:
    """A directory that will stand at `start`, its longer values behind it."""
    head = form.count.pack(len(entries))
    behind = start + len(head) + form.entry * len(entries) + form.offset.size
    body, values = b"", b""
    for code, kind, count, data in entries:
        body += struct.pack("<HH", code, kind) + form.offset.pack(count)
        if len(data) <= form.offset.size:
            body += data.ljust(form.offset.size, b"\0")
        else:
            body += form.offset.pack(behind + len(values))
            values += data + b"\0" * (len(data) % 2)
    return head + body + form.offset.pack(0) + values


class PngWriter:
    """PNG (ISO/IEC 15948), 8 or 16 bits, written as it comes, rows filtered by difference."""

    title, suffix, depths, alpha = "PNG", ".png", (8, 16), True

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        colour_type = 6 if sheet.channels == 4 else 2
        squeeze = zlib.compressobj(3)
        with open(path, "wb") as file:
            file.write(b"\x89PNG\r\n\x1a\n")
            size = struct.pack(">II", sheet.width, sheet.height)
            file.write(_chunk(b"IHDR", size + bytes([sheet.depth, colour_type, 0, 0, 0])))
            file.write(_chunk(b"iCCP", b"profile\0\0" + zlib.compress(sheet.icc)))
            file.write(_chunk(b"eXIf", exif_of(sheet.carried).tobytes()[6:]))
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


class JpegWriter:
    """JPEG (ITU-T T.81), 8 bits, no alpha: what no frame covers is black."""

    title, suffix, depths, alpha = "JPEG", ".jpg", (8,), False

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        if max(sheet.width, sheet.height) > JPEG_SIDE:
            raise OutputFailed(
                path, f"a JPEG may be {JPEG_SIDE} px wide at most, this picture is "
                f"{max(sheet.width, sheet.height)}; choose TIFF or a smaller width.",
            )
        whole = np.empty((sheet.height, sheet.width, 3), np.uint8)
        at = 0
        for strip in strips:
            whole[at : at + len(strip)] = strip[..., :3]
            at += len(strip)
        subsampling = "444" if sheet.quality >= 90 else "420"
        data = imagecodecs.jpeg8_encode(whole, level=sheet.quality, subsampling=subsampling)
        with open(path, "wb") as file:
            file.write(data[:2])
            file.write(_segment(0xE1, exif_of(sheet.carried).tobytes()))
            file.write(_segment(0xE2, b"ICC_PROFILE\0\x01\x01" + sheet.icc))
            file.write(data[2:])


def _segment(marker: int, data: bytes) -> bytes:
    return bytes([0xFF, marker]) + struct.pack(">H", len(data) + 2) + data


class ExrWriter:
    """OpenEXR, float, linear light with BT.709 primaries: R, G, B, and A, 0 where no frame covers."""

    title, suffix, depths, alpha = "EXR", ".exr", (32,), True

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        whole = _gathered(sheet, strips)
        planes = {"RGBA"[n]: np.ascontiguousarray(whole[..., n]) for n in range(sheet.channels)}
        if "A" not in planes:
            planes["A"] = np.ones(whole.shape[:2], np.float32)
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, "software": SOFTWARE}
        # the library tells the kind of file by its name
        named = path.with_name(path.name + ".exr")
        try:
            OpenEXR.File(header, planes).write(str(named))
            os.replace(named, path)
        finally:
            named.unlink(missing_ok=True)


class HdrWriter:
    """Radiance RGBE (Ward 1991), linear light with BT.709 primaries, run lengths as its readers expect them."""

    title, suffix, depths, alpha = "HDR", ".hdr", (32,), False

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        whole = np.maximum(_gathered(sheet, strips)[..., :3], 0)
        done, data = cv2.imencode(".hdr", np.ascontiguousarray(whole[..., ::-1]))
        if not done:
            raise OutputFailed(path, "the picture cannot be packed; choose another format.")
        with open(path, "wb") as file:
            file.write(data.tobytes())


def _gathered(sheet: Sheet, strips: Iterator[NDArray]) -> NDArray[np.float32]:
    whole = np.empty((sheet.height, sheet.width, sheet.channels), np.float32)
    at = 0
    for strip in strips:
        whole[at : at + len(strip)] = strip
        at += len(strip)
    return whole


WRITERS = {"tiff": TiffWriter(), "png": PngWriter(), "jpeg": JpegWriter(), "exr": ExrWriter(), "hdr": HdrWriter()}


def writer_for(path: Path) -> str | None:
    """The format by a file name's ending, or None."""
    endings = {".tif": "tiff", ".tiff": "tiff", ".png": "png", ".jpg": "jpeg", ".jpeg": "jpeg", ".exr": "exr",
               ".hdr": "hdr"}
    return endings.get(Path(path).suffix.lower())


