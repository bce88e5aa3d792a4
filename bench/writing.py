"""Large files: how quickly pictures of hundreds of megapixels are written, and within how much memory.

The shipped sweep is joined to pictures of so many megapixels, file to file through the command line with an empty
cache: TIFF as it is and packed, tiled with smaller copies, PNG. Wanted of a gigapixel TIFF: at least 18 megapixels a
second on 2 cores, within 2 GB. Every TIFF is opened again. With --all every other format is written too, as large as
it can be, read by a library, and what it shows held against a TIFF.

Usage: writing.py [MEGAPIXELS] [--all] [--tiny]: 400 if nothing is said; 1000 for the gigapixel.
"""

from __future__ import annotations

import base64
import os
import re
import zipfile
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import imagecodecs
import numpy as np
import OpenEXR
import pillow_heif
import rawpy
import tifffile
from common import ROOT, limited, parser_of, windfell
from PIL import Image

from windfell.pixels.colour import srgb_encoded

WAYS = (("TIFF", "a.tif", ()), ("TIFF, Deflate", "b.tif", ("--compression", "deflate")),
        ("TIFF, Zstandard, tiled", "c.tif", ("--compression", "zstd", "--tiled")), ("PNG", "d.png", ()))
MP_S, MB = 18, 2000
TINY_MP, SMALL = 2, 1200
# px that a side may have at most, and the file's ending
OTHERS = ((".jpg", 65_535), (".jxl", 65_535), (".exr", 10**6), (".hdr", 10**6), (".dng", 10**6), (".ora", 10**6),
          (".html", 65_535), (".webp", 16_383), (".avif", 16_384), (".heic", 16_384))
# how far a px, made small, may lie from the TIFF's on the mean, of 255: with loss, as DNG shows it, else
CLOSE = {".dng": 12.0, ".html": 4.0}
LIKE = 1.5


def small(picture: np.ndarray, width: int = SMALL) -> np.ndarray:
    """A picture of any kind as uint8 (h, w, 3), small: what it shows over black; light as sRGB."""
    high = round(width * picture.shape[0] / picture.shape[1])
    out = cv2.resize(picture, (width, high), interpolation=cv2.INTER_AREA).astype(np.float32)
    if picture.dtype in (np.float32, np.float16):
        out = 255 * srgb_encoded(np.clip(out, 0, 1))
    elif picture.dtype == np.uint16:
        out /= 257
    if out.shape[2] == 4:
        out = out[..., :3] * (out[..., 3:] / 255)
    return np.rint(out[..., :3]).astype(np.uint8)


def of_openexr(path: str) -> np.ndarray:
    with OpenEXR.File(path) as file:
        own = file.channels()
        return next(iter(own.values())).pixels.astype(np.float32)


def of_raw(path: str) -> np.ndarray:
    with rawpy.imread(path) as raw:
        return raw.postprocess(use_camera_wb=True, no_auto_bright=True, user_flip=0)


def of_openraster(path: str) -> np.ndarray:
    with zipfile.ZipFile(path) as file:
        whole = cv2.imdecode(np.frombuffer(file.read("mergedimage.png"), np.uint8), cv2.IMREAD_UNCHANGED)
        return whole[..., [2, 1, 0, 3]]


def of_page(path: str) -> np.ndarray | None:
    """None: its pictures are all there, but they are tiles."""
    found = re.findall(r'"jpeg": ?"([A-Za-z0-9+/=]+)"', Path(path).read_text())
    assert found, "no pictures"
    for data in found:
        assert cv2.imdecode(np.frombuffer(base64.b64decode(data), np.uint8), cv2.IMREAD_COLOR) is not None
    return None


READERS: dict[str, Callable[[str], np.ndarray | None]] = {
    ".jxl": lambda p: imagecodecs.jpegxl_decode(Path(p).read_bytes()), ".exr": of_openexr, ".dng": of_raw,
    ".hdr": lambda p: cv2.imread(p, cv2.IMREAD_UNCHANGED)[..., ::-1], ".ora": of_openraster, ".html": of_page,
    ".heic": lambda p: np.asarray(pillow_heif.open_heif(p, convert_hdr_to_8bit=True))}


def held_against(path: Path, whole: np.ndarray) -> str:
    """What is said of a file: read by a library, and as the TIFF."""
    Image.MAX_IMAGE_PIXELS = None
    picture = READERS.get(path.suffix, lambda p: np.asarray(Image.open(p)))(str(path))
    if picture is None:
        return "its pictures are read"
    off = float(np.abs(small(picture).astype(float) - cv2.resize(whole, small(picture).shape[1::-1])).mean())
    assert off < CLOSE.get(path.suffix, LIKE), (path.suffix, off)
    return f"read, {picture.shape[1]} x {picture.shape[0]} px, {off:.2f} of 255 from the TIFF on the mean"


def said(title: str, megapixels: float, seconds: float, mb: float, out: Path, more: str) -> None:
    print(f"{title:<24} {megapixels:5.0f} MP in {seconds:6.1f} s: {megapixels / seconds:5.1f} MP/s, {mb:5.0f} MB of "
          f"memory, {os.path.getsize(out) / 1e6:7.0f} MB on the disk{more}", flush=True)


def every_other(frames: list[str], megapixels: float, tiny: bool) -> None:
    with TemporaryDirectory() as folder:
        first = Path(folder) / "whole.tif"
        windfell("panorama", *frames, "--size", f"{min(megapixels, 40)}MP", "--out", str(first))
        whole = small(tifffile.imread(first))
        shape = tifffile.imread(first).shape
        for ending, most in OTHERS[:1] if tiny else OTHERS:
            out = Path(folder) / f"a{ending}"
            largest = most * most * shape[0] / shape[1] / 1e6
            own = round(min(megapixels, 0.99 * largest), 2)
            seconds, mb = windfell("panorama", *frames, "--size", f"{own}MP", "--out", str(out))
            said(ending, own, seconds, mb, out, f"; {held_against(out, whole)}")
            out.unlink()


def main() -> None:
    parser = parser_of(__doc__, "megapixels", 400)
    parser.add_argument("--all", action="store_true")
    options = parser.parse_args()
    tiny = options.tiny
    limited(240 if tiny else 3600)
    megapixels = TINY_MP if tiny else options.megapixels
    frames = sorted(str(p) for p in (ROOT / "windfell" / "demo" / "frames" / "ridge-sweep").glob("*.jpg"))
    for title, name, words in WAYS[2:3] if tiny else WAYS:
        with TemporaryDirectory() as folder:
            out = Path(folder) / name
            seconds, mb = windfell("panorama", *frames, "--size", f"{megapixels}MP", "--out", str(out), *words)
            if name.endswith(".tif"):
                with tifffile.TiffFile(out) as file:
                    page = file.pages[0]
                    made = page.imagewidth * page.imagelength / 1e6
                    levels = len(file.series[0].levels)
                assert abs(made / megapixels - 1) < 0.02, (made, megapixels)
                assert levels > 1 or "--tiled" not in words
            rate = megapixels / seconds
            good = ""
            if title == "TIFF" and not tiny:
                good = f"  wanted {MP_S} MP/s within {MB} MB: {'met' if rate >= MP_S and mb <= MB else 'NOT MET'}"
            said(title, megapixels, seconds, mb, out, good)
    if tiny or options.all:
        every_other(frames, megapixels, tiny)


if __name__ == "__main__":
    main()
