"""How often each value occurs in a picture, and how much of it is clipped; values that suit it."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import luminance, srgb_encoded
from windfell.recipe.finishing import Light

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]

BLACK, WHITE = 0, 255
MOST_EV, MOST_PCT = 1.0, 40.0
WANTED, DARKEST, BRIGHTEST = 0.46, 0.005, 0.995


@dataclass(frozen=True, eq=False)
class Histogram:
    """`counts` (3, 256) of sRGB-encoded channels; shares of the picture black, and white, in each of them."""

    counts: NDArray[np.int64]
    black: tuple[float, float, float]
    white: tuple[float, float, float]


def histogram_of(pixels: U8, covered: NDArray[np.bool_] | None = None) -> Histogram:
    """Of sRGB pixels (h, w, 3), where they are covered."""
    mask = None if covered is None else covered.astype(np.uint8)
    counts = np.stack([cv2.calcHist([np.ascontiguousarray(pixels[..., k])], [0], mask, [256], [0, 256]).ravel()
                       for k in range(3)]).astype(np.int64)
    total = np.maximum(counts.sum(axis=1), 1)
    return Histogram(counts, tuple((counts[:, BLACK] / total).tolist()), tuple((counts[:, WHITE] / total).tolist()))


def clipped(pixels: U8) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where any channel is black, and where any is white, (h, w)."""
    return (pixels == BLACK).any(axis=2), (pixels == WHITE).any(axis=2)


def modest_light(light: F32) -> Light:
    """Values that bring a small picture's middle to a middle grey and its ends near black and white, but no further
    than a little.
    """
    y = srgb_encoded(np.clip(luminance(light), 0, None)).ravel()
    middle = float(np.median(y))
    ev = float(np.clip(2.2 * np.log2(WANTED / max(middle, 0.02)), -MOST_EV, MOST_EV))
    low, high = np.quantile(np.maximum(luminance(light), 0).ravel(), (DARKEST, BRIGHTEST)) * 2.0**ev
    white = float(np.clip(-100 * np.log2(max(high, 1e-3)), -MOST_PCT, MOST_PCT))
    black = float(np.clip(-100 * low / 0.02, -MOST_PCT, 0))
    return Light(round(ev, 2), white_pct=round(white, 0), black_pct=round(black, 0))
