"""Camera raw files: what their header says, their light, the preview they carry."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import cv2
import exifread
import numpy as np
from numpy.typing import NDArray

from windfell.errors import FrameUnreadable, border
from windfell.later import Later
from windfell.pixels.colour import BT709, rgb_to_xyz

rawpy = Later("rawpy")

RAW_ENDINGS = (
    ".dng", ".cr2", ".cr3", ".nef", ".nrw", ".arw", ".sr2", ".raf", ".orf", ".rw2", ".rwl", ".pef",
    ".srw", ".3fr", ".fff", ".iiq", ".erf", ".kdc", ".dcr", ".mef", ".mos", ".mrw", ".crw", ".x3f",
)
logging.getLogger("exifread").setLevel(logging.CRITICAL)


@dataclass(frozen=True)
class RawHeader:
    """Width and height are of the upright picture; what the file does not say is None."""

    width: int
    height: int
    taken: datetime | None = None
    exposure_s: float | None = None
    aperture: float | None = None
    iso: float | None = None
    focal_mm: float | None = None
    focal35_mm: float | None = None
    make: str | None = None
    camera: str | None = None
    lens: str | None = None
    gps: tuple[float, float] | None = None


def raw_header(path: str) -> RawHeader:
    """Size and exposure without decoding the picture. Raises FrameUnreadable."""
    with border(path, "the raw file cannot be read"), rawpy.RawPy() as raw:
        raw.open_file(path)
        sizes, other, lens = raw.sizes, raw.other, raw.lens
    width, height = sizes.iwidth or sizes.width, sizes.iheight or sizes.height
    if sizes.flip in (5, 6):
        width, height = height, width
    tags = _tags(path)
    taken = _time(tags.get("EXIF DateTimeOriginal") or tags.get("Image DateTime")) or (
        other.timestamp if other.timestamp and other.timestamp.year > 1990 else None)
    return RawHeader(
        width, height, taken,
        _float(tags.get("EXIF ExposureTime")) or other.shutter_speed or None,
        _float(tags.get("EXIF FNumber")) or other.aperture or None,
        _float(tags.get("EXIF ISOSpeedRatings")) or other.iso_speed or None,
        _float(tags.get("EXIF FocalLength")) or other.focal_length or None,
        _float(tags.get("EXIF FocalLengthIn35mmFilm")),
        _words(tags.get("Image Make")), _words(tags.get("Image Model")),
        _words(tags.get("EXIF LensModel")) or lens.model or None, _place(tags),
    )


def _tags(path: str) -> dict[str, Any]:
    try:
        with open(path, "rb") as file:
            return exifread.process_file(file, details=False, extract_thumbnail=False)
    except Exception:  # noqa: BLE001 (a tag reader's surprise must not cost the picture)
        return {}


def _float(tag: Any) -> float | None:
    try:
        return float(tag.values[0])
    except (AttributeError, IndexError, TypeError, ValueError, ZeroDivisionError):
        return None


def _words(tag: Any) -> str | None:
    return str(tag).strip() or None if tag is not None else None


def _time(tag: Any) -> datetime | None:
    try:
        return datetime.strptime(str(tag), "%Y:%m:%d %H:%M:%S")
    except ValueError:
        return None


def _place(tags: dict[str, Any]) -> tuple[float, float] | None:
    try:
        found = exifread.utils.get_gps_coords(tags)
    except (AttributeError, TypeError, ValueError, KeyError, ZeroDivisionError):
        return None
    return tuple(float(v) for v in found) if found else None


def raw_pixels(path: str, reduce: int = 1) -> NDArray[np.uint16]:
    """Linear BT.2020 pixels (h, w, 3), upright, in steps of `raw_step(path)`.

    Camera white balance, black and white levels of the file; no automatic brightening. Light
    stays linear up to the limit of each channel's own sensor cells; only where a cell was
    full is its colour made up from the others. `reduce` 2 or more answers half the size,
    without interpolating colours.
    """
    with border(path, "the raw file cannot be decoded"), rawpy.imread(path) as raw:
        half = reduce > 1
        quality = rawpy.DemosaicAlgorithm.LINEAR if half else rawpy.DemosaicAlgorithm.AHD
        full = _full_cells(raw)
        pixels = raw.postprocess(
            output_color=rawpy.ColorSpace.Rec2020, gamma=(1, 1), no_auto_bright=True,
            use_camera_wb=True, output_bps=16, half_size=half, demosaic_algorithm=quality,
            adjust_maximum_thr=0.0, highlight_mode=rawpy.HighlightMode.Ignore,
        )
        if pixels.shape[2] == 1:  # a sensor without colours
            return np.repeat(pixels, 3, axis=2)
        return pixels if full is None else _without_magenta(pixels, *full, raw.sizes.flip)


FULL = 0.985
TURNS = {3: 2, 5: 1, 6: 3}
Mask = NDArray[np.uint8]


def _full_cells(raw: rawpy.RawPy) -> tuple[Mask, Mask] | None:
    """Where cells are full: of any colour, and of others than green; None where no cell is."""
    cells = raw.raw_image_visible
    if cells is None or cells.ndim != 2:
        return None
    black = float(np.mean(raw.black_level_per_channel or [0]))
    over = (cells >= black + FULL * (raw.white_level - black)).astype(np.uint8)
    if not over.any():
        return None
    letters = raw.color_desc.decode(errors="replace")
    green = np.isin(raw.raw_colors_visible, [n for n, c in enumerate(letters) if c == "G"])
    near = np.ones((5, 5), np.uint8)
    return cv2.dilate(over, near), cv2.dilate(over * ~green, near)


def _without_magenta(pixels: NDArray[np.uint16], some: Mask, more: Mask, flip: int) -> NDArray[np.uint16]:
    """Where green cells are full, green at least between the others; grey where more are."""
    size = (pixels.shape[1], pixels.shape[0])
    some, more = (
        cv2.resize(np.ascontiguousarray(np.rot90(m, TURNS.get(flip, 0))), size, interpolation=cv2.INTER_NEAREST) > 0
        for m in (some, more)
    )
    red, green, blue = (pixels[..., c][some].astype(np.int32) for c in range(3))
    between = (red + blue) // 2
    found = np.stack([red, np.maximum(green, between), blue], axis=-1)
    grey = more[some] & (green <= between)
    found[grey] = found[grey].mean(axis=-1, keepdims=True)
    out = pixels.copy()
    out[some] = found.astype(np.uint16)
    return out


def raw_step(path: str) -> float:
    """The light that pixel value 65535 stands for, where 1.0 is the first channel's limit."""
    with border(path, "the raw file cannot be read"), rawpy.RawPy() as raw:
        raw.open_file(path)
        balance = [v for v in raw.camera_whitebalance if v > 0] or [1.0]
    return max(balance[:3]) / min(balance[:3])


@dataclass(frozen=True)
class RawColours:
    """XYZ to camera (3, 3), and the camera's answer to light that it took for neutral, the greatest 1."""

    matrix: tuple[tuple[float, float, float], ...]
    neutral: tuple[float, float, float]


def raw_colours(path: str) -> RawColours | None:
    """How the raw's camera sees colours, as `raw_pixels` undoes it; None where the file does not say."""
    with border(path, "the raw file cannot be read"), rawpy.imread(path) as raw:
        own, balance = np.array(raw.rgb_xyz_matrix[:3], float), np.array(raw.camera_whitebalance[:3], float)
        to_709 = np.array(raw.color_matrix, float)[:3, :3]
    if np.any(balance <= 0) or abs(np.linalg.det(to_709)) < 1e-6:
        return None
    neutral = balance.min() / balance
    if not np.any(own):
        own = _told_matrix(path)
    # the rows' sizes say how the camera answers to daylight: as told, or as if it had been taken by it
    sizes = neutral if own is None else (own @ rgb_to_xyz(BT709)).sum(axis=1)
    matrix = np.diag(sizes) @ np.linalg.inv(to_709) @ np.linalg.inv(rgb_to_xyz(BT709))
    return RawColours(tuple(map(tuple, matrix.tolist())), tuple(neutral.tolist()))


def _told_matrix(path: str) -> NDArray[np.float64] | None:
    """XYZ to camera (3, 3) as a DNG says it, for daylight if it knows two."""
    tags = _tags(path)
    for name in ("Image Tag 0xC622", "Image Tag 0xC621"):
        values = getattr(tags.get(name), "values", ())
        if len(values) == 9:
            return np.array([float(v) for v in values]).reshape(3, 3)
    return None


def raw_preview(path: str) -> NDArray[np.uint8] | None:
    """The JPEG preview in the file as RGB (h, w, 3), upright, or None."""
    try:
        with border(path, "its preview is damaged"), rawpy.RawPy() as raw:
            raw.open_file(path)
            thumb, flip = raw.extract_thumb(), raw.sizes.flip
    except FrameUnreadable:
        return None
    if thumb.format == rawpy.ThumbFormat.BITMAP:
        return turned_up(np.asarray(thumb.data), flip)
    found = cv2.imdecode(np.frombuffer(thumb.data, np.uint8), cv2.IMREAD_COLOR | cv2.IMREAD_IGNORE_ORIENTATION)
    return None if found is None else turned_up(cv2.cvtColor(found, cv2.COLOR_BGR2RGB), flip)


def turned_up(preview: NDArray[np.uint8], flip: int) -> NDArray[np.uint8]:
    """A preview turned as the raw library turns pictures: 3 by half a turn, 5 a quarter anticlockwise, 6 clockwise.
    One that stands already, though the sensor lay, stays as it is.
    """
    stands = flip in (5, 6) and preview.shape[0] > preview.shape[1]
    return np.ascontiguousarray(np.rot90(preview, 0 if stands else {3: 2, 5: 1, 6: 3}.get(flip, 0)))
