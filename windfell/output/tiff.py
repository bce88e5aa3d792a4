"""TIFF and BigTIFF: strips, or tiles with smaller copies; each frame as a page of its own if that is asked for."""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path
from typing import Any, BinaryIO

import cv2
import imagecodecs
import numpy as np
from numpy.typing import NDArray
from PIL import ExifTags

from windfell.job import CORES
from windfell.later import Later
from windfell.output.metadata import SOFTWARE, Carried, exif_entries, stamp
from windfell.output.sheet import DTYPES, LINEAR, ROWS_PER_STRIP, Sheet, rows
from windfell.output.xmp import xmp_of
from windfell.recipe.output import Compression
from windfell.recipe.written import folder_beside

tifffile = Later("tifffile")

BIG_TIFF_BYTES = 3_900_000_000
TILE, SMALLEST = 512, 1024
XMP_TAG, PAGE_NAME = 700, 285
LAYERS = Sequence[tuple[str, Iterator[NDArray]]]

PACKERS: dict[Compression, tuple[str | None, Callable]] = {
    Compression.NONE: (None, lambda p: p.tobytes()),
    Compression.DEFLATE: ("adobe_deflate", lambda p: imagecodecs.deflate_encode(p, level=1)),
    Compression.LZW: ("lzw", lambda p: imagecodecs.lzw_encode(p.tobytes())),
    Compression.ZSTD: ("zstd", lambda p: imagecodecs.zstd_encode(p.tobytes(), level=3)),
}


class TiffWriter:
    """TIFF 6.0 (BigTIFF from 3.9 GB): packed strips with the horizontal predictor, or tiles with a pyramid."""

    title, suffix, depths, alpha, linear = "TIFF", ".tif", (8, 16, 32), True, (LINEAR,)

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray], layers: LAYERS = ()) -> None:
        """`layers`: (name, strips) of pages behind the whole, of its size, with alpha."""
        big = sheet.nbytes * (1 + len(layers)) * (4 / 3 if sheet.output.tiled else 1) > BIG_TIFF_BYTES
        with tifffile.TiffWriter(path, bigtiff=big) as file:
            if sheet.output.tiled:
                _write_tiled(file, path, sheet, strips)
            else:
                _write_page(file, sheet, strips, **_about(sheet), **_resolution(sheet))
            for name, part in layers:
                _write_page(file, sheet, part, channels=4, iccprofile=sheet.icc,
                            extratags=[(PAGE_NAME, "s", 0, name.encode(), True)])
        with_exif(path, big, sheet.carried)


def _about(sheet: Sheet) -> dict[str, Any]:
    carried = sheet.carried
    xmp = xmp_of(carried)
    tags = [(271, "s", 0, carried.make, True), (272, "s", 0, carried.camera, True),
            (315, "s", 0, carried.words.creator.encode(), True), (33432, "s", 0, carried.words.rights.encode(), True),
            (XMP_TAG, "B", len(xmp), xmp, True)]
    return {"iccprofile": sheet.icc, "software": SOFTWARE, "datetime": stamp(carried.taken),
            "extratags": [t for t in tags if t[3]]}


def _resolution(sheet: Sheet) -> dict[str, Any]:
    dpi = sheet.output.dpi
    return {} if dpi is None else {"resolution": (dpi, dpi), "resolutionunit": "INCH"}


def _form(sheet: Sheet, channels: int) -> dict[str, Any]:
    """What all pages of a file share."""
    return {"dtype": DTYPES[sheet.depth], "photometric": "rgb",
            "extrasamples": ["unassalpha"] if channels == 4 else None, "metadata": None,
            "compression": PACKERS[sheet.output.compression][0], "predictor": _predicted(sheet)}


def _predicted(sheet: Sheet) -> bool:
    return sheet.output.compression is not Compression.NONE and sheet.depth != LINEAR


def _write_page(file: Any, sheet: Sheet, strips: Iterator[NDArray], channels: int | None = None, **more: Any) -> None:
    channels = channels or sheet.channels
    file.write(
        _packed(rows(strips, ROWS_PER_STRIP), sheet), shape=(sheet.height, sheet.width, channels),
        rowsperstrip=ROWS_PER_STRIP, **_form(sheet, channels), **more)


def _write_tiled(file: Any, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
    """Tiles, and behind them copies half as large each, in the same form (TIFF tech note 1, sub-directories)."""
    sizes, size = [], (sheet.width, sheet.height)
    while max(size) > SMALLEST:
        size = (size[0] + 1) // 2, (size[1] + 1) // 2
        sizes.append(size)
    form = {**_form(sheet, sheet.channels), "tile": (TILE, TILE)}
    with folder_beside(path) as folder:
        copies = [np.memmap(folder / f"{n}", DTYPES[sheet.depth], "w+", shape=(h, w, sheet.channels))
                  for n, (w, h) in enumerate(sizes)]
        file.write(_packed(_tiles(_halved_into(strips, copies), sheet.width), sheet), subifds=len(sizes),
                   shape=(sheet.height, sheet.width, sheet.channels), **form, **_about(sheet), **_resolution(sheet))
        for copy in copies:
            file.write(_packed(_tiles(iter([copy]), copy.shape[1]), sheet), shape=copy.shape, subfiletype=1, **form)


def _halved_into(strips: Iterator[NDArray], copies: Sequence[NDArray]) -> Iterator[NDArray]:
    """The strips as they come, each halved into the first copy; that is halved into the others at the end."""
    at = 0
    for strip in rows(strips, TILE):
        yield strip
        if copies:
            part = _half(strip)
            copies[0][at : at + len(part)] = part
            at += len(part)
    for larger, smaller in pairwise(copies):
        for top in range(0, larger.shape[0], TILE):
            part = _half(larger[top : top + TILE])
            smaller[top // 2 : top // 2 + len(part)] = part


def _half(part: NDArray) -> NDArray:
    """Half as many px each way, the mean of four; an odd last one stands for two."""
    h, w = part.shape[:2]
    even = cv2.copyMakeBorder(np.asarray(part), 0, h % 2, 0, w % 2, cv2.BORDER_REPLICATE)
    out = cv2.resize(even, ((w + 1) // 2, (h + 1) // 2), interpolation=cv2.INTER_AREA)
    return out.reshape(*out.shape[:2], part.shape[2])


def _tiles(strips: Iterator[NDArray], width: int) -> Iterator[NDArray]:
    """TILE x TILE pieces, row by row, filled with 0 beyond the picture."""
    for strip in rows(strips, TILE):
        for left in range(0, width, TILE):
            part = strip[:, left : left + TILE]
            tile = np.zeros((TILE, TILE, strip.shape[2]), strip.dtype)
            tile[: part.shape[0], : part.shape[1]] = part
            yield tile


def _packed(pieces: Iterator[NDArray], sheet: Sheet) -> Iterator[bytes]:
    """Pieces as they stand in the file, compressed on all cores a few ahead."""
    pack, predicted = PACKERS[sheet.output.compression][1], _predicted(sheet)

    def one(piece: NDArray) -> bytes:
        return pack(imagecodecs.delta_encode(piece, axis=-2) if predicted else piece)

    with ThreadPoolExecutor(CORES) as pool:
        ahead: deque[Future] = deque()
        for piece in pieces:
            ahead.append(pool.submit(one, piece))
            if len(ahead) > 2 * CORES:
                yield ahead.popleft().result()
        while ahead:
            yield ahead.popleft().result()


def with_exif(path: Path, big: bool, carried: Carried) -> None:
    """Put the EXIF directory into a TIFF file."""
    with open(path, "r+b") as file:
        _append_exif(file, big, carried)


def _append_exif(file: BinaryIO, big: bool, carried: Carried) -> None:
    """Write the EXIF directory at the file's end, and the main directory anew with its tag."""
    form = _TiffForm(big)
    file.seek(form.first_at)
    first = form.offset.unpack(file.read(form.offset.size))[0]
    file.seek(first)
    count = form.count.unpack(file.read(form.count.size))[0]
    entries = [file.read(form.entry) for _ in range(count)]
    following = file.read(form.offset.size)
    inner_at = file.seek(0, 2)
    inner_at += inner_at % 2
    file.seek(inner_at)
    inner = _directory(exif_entries(carried), inner_at, form)
    file.write(inner)
    tag = struct.pack("<HH", int(ExifTags.IFD.Exif), 18 if big else 4) + form.offset.pack(1)
    entries.append(tag + form.offset.pack(inner_at))
    entries.sort(key=lambda e: struct.unpack("<H", e[:2]))
    main_at = inner_at + len(inner)
    file.write(form.count.pack(len(entries)) + b"".join(entries) + following)
    file.seek(form.first_at)
    file.write(form.offset.pack(main_at))


class _TiffForm:
    """Field sizes of a little-endian TIFF or BigTIFF directory (TIFF 6.0, section 2)."""

    def __init__(self, big: bool) -> None:
        self.first_at = 8 if big else 4
        self.count = struct.Struct("<Q" if big else "<H")
        self.offset = struct.Struct("<Q" if big else "<I")
        self.entry = 20 if big else 12


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


