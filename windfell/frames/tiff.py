"""TIFF files: header and pixels."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from windfell.frames.see_through import is_clear, unlaid
from windfell.later import Later
from windfell.pixels.sheet import real_light

tifffile = Later("tifffile")

ICC_TAG, EXIF_TAG = 34675, 34665
# PlanarConfiguration (TIFF 6.0, section 8); a file without the tag has a px's samples together
PLANES_APART = 2
EXIF_NAMES = {
    "ExposureTime": 33434, "FNumber": 33437, "ISOSpeedRatings": 34855,
    "PhotographicSensitivity": 34855, "DateTimeOriginal": 36867, "FocalLength": 37386,
    "FocalLengthIn35mmFilm": 41989, "LensModel": 42036,
}


def tiff_header(path: str) -> tuple[int, int, dict[int, Any], bytes | None, bool]:
    """(width, height, EXIF values by tag, ICC profile or None, inks) of the file's first picture.

    `inks` says that it holds ink values, not light.
    """
    with tifffile.TiffFile(path) as file:
        page = file.pages[0]
        tags = {t.code: t.value for t in page.tags if t.code in (271, 272, 274, 305, 306)}
        inner = page.tags.get(EXIF_TAG)
        if inner is not None and isinstance(inner.value, dict):
            tags.update({EXIF_NAMES[k]: v for k, v in inner.value.items() if k in EXIF_NAMES})
        icc = page.tags.get(ICC_TAG)
        orientation = tags.get(274, 1)
        tags[274] = int(orientation)
        profile = None if icc is None else bytes(icc.value)
        return page.imagewidth, page.imagelength, tags, profile, _kind(page) == "SEPARATED"


def _kind(page: tifffile.TiffPage) -> str:
    return getattr(page.photometric, "name", str(page.photometric))


def tiff_inks(path: str) -> NDArray[np.uint8]:
    """Ink values (h, w, 4), 255 full ink. Raises ValueError for other inks than the usual four."""
    with tifffile.TiffFile(path) as file:
        page = file.pages[0]
        inks = page.asarray()
        if page.planarconfig == PLANES_APART and inks.ndim == 3:
            inks = np.moveaxis(inks, 0, -1)
    if inks.dtype == np.uint16:
        inks = (inks >> 8).astype(np.uint8)
    if inks.ndim != 3 or inks.shape[2] != 4 or inks.dtype != np.uint8:
        raise ValueError("its inks are not the usual four in 8 or 16 bit")
    return np.ascontiguousarray(inks)


def tiff_pixels(path: str) -> NDArray:
    """Pixels (h, w, 3): uint8, uint16 or float32, not yet turned upright.

    Raises ValueError in words for kinds of TIFF that are not read.
    """
    with tifffile.TiffFile(path) as file:
        page = file.pages[0]
        if _kind(page) not in ("RGB", "MINISBLACK", "MINISWHITE", "YCBCR", "PALETTE"):
            raise ValueError(f"its colours are stored as {_kind(page).lower()}")
        pixels = page.asarray()
        if _kind(page) == "PALETTE":
            return np.ascontiguousarray(np.moveaxis(page.colormap, 0, -1)[pixels])
        if page.planarconfig == PLANES_APART and pixels.ndim == 3:
            pixels = np.moveaxis(pixels, 0, -1)
        if _kind(page) == "MINISWHITE":
            pixels = (1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max) - pixels
        over = any(str(getattr(x, "name", x)) == "ASSOCALPHA" for x in page.extrasamples)
    return as_colours(pixels, over)


def as_colours(pixels: NDArray, over: bool = False) -> NDArray:
    """Grey repeated, alpha dropped unless parts are transparent (h, w, 4); the sample kind made uint8, uint16 or
    float32, what is no number 0. `over`: the colours hold their share of light only, as of a picture laid over black.
    """
    if pixels.dtype == np.bool_:
        pixels = pixels.astype(np.uint8) * 255
    if pixels.dtype == np.uint32:
        pixels = (pixels >> 16).astype(np.uint16)
    if pixels.dtype.kind == "f":
        pixels = real_light(pixels)
    if pixels.dtype not in (np.uint8, np.uint16, np.float32):
        raise ValueError(f"its samples are of kind {pixels.dtype}")
    if pixels.ndim == 2:
        pixels = pixels[..., None]
    if pixels.ndim != 3 or pixels.shape[2] < 1:
        raise ValueError("it is not one flat picture")
    alpha = pixels[..., -1:] if pixels.shape[2] in (2, 4) else None
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    colours = np.ascontiguousarray(pixels[..., :3])
    # a fourth float plane beyond 0 to 1 is something else
    if alpha is None or not is_clear(alpha) or (alpha.dtype.kind == "f" and not 0 <= alpha.min() <= alpha.max() <= 1):
        return colours
    if over:
        colours = unlaid(colours, alpha[..., 0])
    return np.concatenate([colours, alpha], axis=2)
