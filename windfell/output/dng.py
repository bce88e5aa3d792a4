"""Linear DNG (Adobe DNG 1.4): the light as a camera saw it, its white balance still open."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.output.metadata import SOFTWARE, stamp
from windfell.output.sheet import LINEAR, ROWS_PER_STRIP, Sheet, rows
from windfell.output.tiff import with_exif
from windfell.output.xmp import xmp_of
from windfell.pixels.colour import BT709, WORKING, rgb_to_xyz

tifffile = Later("tifffile")

LINEAR_RAW, D65_ILLUMINANT = 34892, 21
VERSION, BACK_TO = bytes([1, 4, 0, 0]), bytes([1, 4, 0, 0])
WHITE = 65535
MOST_HEADROOM_EV = 12


@dataclass(frozen=True)
class RawLook:
    """The camera whose light a DNG holds: XYZ to camera (3, 3), its neutral (3,), and its names. `headroom_ev`: how
    far beyond white the light may go.
    """

    matrix: tuple[tuple[float, float, float], ...]
    neutral: tuple[float, float, float]
    make: str = "Windfell"
    camera: str = "Linear picture"
    headroom_ev: int = 0

    def from_working(self) -> NDArray[np.float32]:
        """(3, 3) from working light to the camera's, 1 the limit of what the file holds.

        As raw libraries go from camera to light: rows of the camera's answer to neutral light add up to one, times
        what the neutral says.
        """
        camera = np.array(self.matrix) @ rgb_to_xyz(BT709)
        balanced = camera / camera.sum(axis=1, keepdims=True)
        to_709 = np.linalg.solve(rgb_to_xyz(BT709), rgb_to_xyz(WORKING))
        found = np.diag(self.neutral) @ balanced @ to_709
        return (found / 2.0**self.headroom_ev).astype(np.float32)


# a camera that sees the working space itself
PLAIN_LOOK = RawLook(tuple(map(tuple, np.linalg.inv(rgb_to_xyz(WORKING)).tolist())), (1.0, 1.0, 1.0))


class DngWriter:
    """Linear DNG, three samples a px, 16-bit integers or half floats; read by any raw developer as a raw file."""

    title, suffix, depths, alpha, linear = "DNG", ".dng", (16, LINEAR), False, (16, LINEAR)

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        """`strips`: camera light, 0..1, float32 (h, w, 3)."""
        half = sheet.depth == LINEAR
        with tifffile.TiffWriter(path, bigtiff=False) as file:
            file.write(
                (_coded(s, half).tobytes() for s in rows(strips, ROWS_PER_STRIP)),
                shape=(sheet.height, sheet.width, 3), dtype=np.float16 if half else np.uint16,
                photometric=LINEAR_RAW, planarconfig="contig", rowsperstrip=ROWS_PER_STRIP, metadata=None,
                software=SOFTWARE, datetime=stamp(sheet.carried.taken), subfiletype=0, extratags=_tags(sheet, half))
        with_exif(path, False, sheet.carried)


def _coded(strip: NDArray, half: bool) -> NDArray:
    if half:
        return strip.astype(np.float16)
    return np.rint(np.clip(strip, 0, 1) * WHITE).astype(np.uint16)


def _tags(sheet: Sheet, half: bool) -> list[tuple]:
    look = sheet.raw or PLAIN_LOOK
    model = f"{look.make} {look.camera}".strip()
    xmp = xmp_of(sheet.carried)
    tags = [
        (50706, "B", 4, VERSION, True), (50707, "B", 4, BACK_TO, True), (50708, "s", 0, model, True),
        (271, "s", 0, look.make, True), (272, "s", 0, look.camera, True), (274, "H", 1, 1, True),
        (50714, "H", 3, (0, 0, 0), True), (50717, "I", 3, (1, 1, 1) if half else (WHITE,) * 3, True),
        (50721, "2i", 9, _rationals(look.matrix), True), (50728, "2I", 3, _rationals(look.neutral), True),
        (50730, "2i", 1, _rationals([look.headroom_ev]), True), (50778, "H", 1, D65_ILLUMINANT, True),
        (700, "B", len(xmp), xmp, True)]
    return [t for t in tags if t[3] not in (b"", "")]


def _rationals(values) -> list[int]:
    return [part for v in np.ravel(values) for part in (round(float(v) * 1_000_000), 1_000_000)]
