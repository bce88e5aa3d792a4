"""OpenEXR files: size, and their linear light."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.frames.see_through import unlaid
from windfell.later import Later
from windfell.pixels.colour import BT709, rgb_to_xyz
from windfell.pixels.sheet import real_light

OpenEXR = Later("OpenEXR")


def exr_size(path: str) -> tuple[int, int]:
    """(width, height) of the data window. Raises ValueError or OSError for a damaged file."""
    header = OpenEXR.File(path, header_only=True).header()
    low, high = header["dataWindow"]
    return int(high[0] - low[0] + 1), int(high[1] - low[1] + 1)


def exr_pixels(path: str) -> NDArray[np.float32]:
    """Linear light (h, w, 3) with BT.709 primaries, float32; with alpha (h, w, 4) where parts are transparent.

    Raises ValueError in words for files without red, green and blue or one luminance.
    """
    file = OpenEXR.File(path, separate_channels=True)
    channels = {name: c.pixels for name, c in file.channels().items()}
    if {"R", "G", "B"} <= channels.keys():
        planes = [channels[c] for c in "RGB"]
    elif "Y" in channels and channels.keys() <= {"Y", "A"}:
        planes = [channels["Y"]] * 3
    else:
        raise ValueError(f"its channels are {', '.join(sorted(channels))}, not red, green and blue")
    light = real_light(np.dstack(planes))
    found = file.header().get("chromaticities")
    if found is None:
        return _with_alpha(light, channels.get("A"))
    r, g, b, white = (tuple(float(v) for v in found[n : n + 2]) for n in (0, 2, 4, 6))
    if any(abs(x - y) > 2e-3 for p, q in zip((r, g, b), BT709, strict=True) for x, y in zip(p, q, strict=True)):
        turn = np.linalg.solve(rgb_to_xyz(BT709), rgb_to_xyz((r, g, b), white))
        light = np.ascontiguousarray(light @ turn.T.astype(np.float32))
    return _with_alpha(light, channels.get("A"))


def _with_alpha(light: NDArray[np.float32], alpha: NDArray | None) -> NDArray[np.float32]:
    if alpha is None or alpha.shape != light.shape[:2] or not alpha.min() < 1:
        return light
    share = np.clip(np.nan_to_num(alpha), 0, 1).astype(np.float32)
    return np.dstack([unlaid(light, share), share])
