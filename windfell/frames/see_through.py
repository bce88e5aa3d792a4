"""Picture files that are transparent in parts: what they show, and where."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.pull_push import smoothly_filled

Mask = NDArray[np.bool_]

FILL_SIDE = 1024
SHOWN = 0.5


def parted(pixels: NDArray) -> tuple[NDArray, Mask | None]:
    """Pixels (h, w, 3) and where they are to be seen (h, w), None for everywhere, of pixels (h, w, 3 or 4).

    What lies under transparent parts is made up by whoever wrote the file: they go on smoothly as it is beside them,
    so that nothing of it comes in at their edge. Raises ValueError where nothing is to be seen.
    """
    if pixels.ndim != 3 or pixels.shape[2] != 4:
        return pixels, None
    alpha = pixels[..., 3] / np.float32(_top(pixels))
    shown = alpha >= SHOWN
    out = np.ascontiguousarray(pixels[..., :3])
    if shown.all():
        return out, None
    if not shown.any():
        raise ValueError("it is transparent all over")
    k = min(1.0, FILL_SIDE / max(shown.shape))
    size = max(1, round(shown.shape[1] * k)), max(1, round(shown.shape[0] * k))
    weight = cv2.resize(shown.astype(np.float32), size, interpolation=cv2.INTER_AREA)
    small = cv2.resize(out * shown[..., None].astype(out.dtype), size, interpolation=cv2.INTER_AREA)
    light = small.astype(np.float32) / np.maximum(weight, 1e-6)[..., None]
    filled = cv2.resize(smoothly_filled(light, weight > 0.02), shown.shape[::-1], interpolation=cv2.INTER_LINEAR)
    out[~shown] = filled[~shown].astype(out.dtype)
    return out, shown


def unlaid(colours: NDArray, alpha: NDArray) -> NDArray:
    """Colours (h, w, 3) of which a file holds only their share (h, w), as of a picture laid over black; they count
    where they are to be seen.
    """
    top = _top(colours)
    whole = np.minimum(colours / np.maximum(alpha / np.float32(top), SHOWN)[..., None],
                       top if colours.dtype.kind == "u" else np.inf)
    return whole.astype(colours.dtype)


def is_clear(pixels: NDArray) -> bool:
    """Whether pixels (..., 4) are transparent anywhere."""
    return bool(pixels[..., -1].min() < _top(pixels))


def shrunk_mask(shown: Mask | None, width: int, height: int) -> Mask | None:
    """Where a picture made smaller shows nothing but what is to be seen."""
    if shown is None:
        return None
    return cv2.resize(shown.astype(np.float32), (width, height), interpolation=cv2.INTER_AREA) > 0.98


def _top(pixels: NDArray) -> float:
    return float(np.iinfo(pixels.dtype).max) if pixels.dtype.kind == "u" else 1.0
