"""DNG files of the demo's invented camera, for raw and JPEG doubles and for tests."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.pixels.colour import BT709, rgb_to_xyz

tifffile = Later("tifffile")

BLACK, WHITE = 512, 15872
NEUTRAL = (0.52, 1.0, 0.64)
BAYER = bytes([0, 1, 1, 2])


def write_dng(
    path: Path, light: NDArray[np.float32], taken: datetime | None = None,
    exposure_s: tuple[int, int] = (1, 400), orientation: int = 1,
) -> None:
    """A Bayer raw (DNG 1.4) whose white is the sensor's limit in green.

    `light` is linear with BT.709 primaries (h, w, 3), even sides, 0..1.
    """
    camera = np.clip(light * np.array(NEUTRAL, np.float32), 0, 1)
    code = np.rint(BLACK + camera * (WHITE - BLACK)).astype(np.uint16)
    h, w = code.shape[:2]
    mosaic = np.empty((h, w), np.uint16)
    for n, c in enumerate(BAYER):
        mosaic[n // 2 :: 2, n % 2 :: 2] = code[n // 2 :: 2, n % 2 :: 2, c]
    to_camera = np.diag(NEUTRAL) @ np.linalg.inv(rgb_to_xyz(BT709))
    tags = [
        (50706, "B", 4, bytes([1, 4, 0, 0]), True), (50707, "B", 4, bytes([1, 1, 0, 0]), True),
        (50708, "s", 0, "Fell Camera One", True), (271, "s", 0, "Brannock", True),
        (272, "s", 0, "Fell Camera One", True), (274, "H", 1, orientation, True),
        (33421, "H", 2, (2, 2), True), (33422, "B", 4, BAYER, True),
        (50714, "H", 1, BLACK, True), (50717, "I", 1, WHITE, True),
        (50721, "2i", 9, _rationals(to_camera), True), (50728, "2I", 3, _rationals(NEUTRAL), True),
        (50778, "H", 1, 21, True), (33434, "2I", 1, exposure_s, True),
    ]
    if taken is not None:
        tags.append((306, "s", 0, taken.strftime("%Y:%m:%d %H:%M:%S"), True))
    tifffile.imwrite(path, mosaic, photometric=32803, extratags=tags, metadata=None)


def _rationals(values) -> list[int]:
    return [part for v in np.ravel(values) for part in (round(float(v) * 10_000), 10_000)]
