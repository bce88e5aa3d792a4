"""Tone: global curves on light, each pixel by itself."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import LUMINANCE, luminance, srgb_decoded, srgb_encoded
from windfell.pixels.lookup import Table
from windfell.pixels.planes import times
from windfell.recipe.model import Development

F32 = NDArray[np.float32]

MID_GREY = 0.18
STEPS = 4096
TOP = 4.0


def levels(light: F32, development: Development) -> F32:
    """White and black point moved: light scaled so that the new points become 1 and 0.

    White +100 % halves the white, -100 % doubles it; black +100 % lifts the black by 0.02
    of the light, -100 % cuts as much off.
    """
    white = 2.0 ** (-development.white_pct / 100)
    black = -0.02 * development.black_pct / 100
    if white == 1.0 and black == 0.0:
        return light
    return (light - np.float32(black)) * np.float32(1.0 / (white - black))


def contrast_factor(luminance_: NDArray[np.float64], contrast_pct: float) -> NDArray[np.float64]:
    """What light of each luminance is multiplied by, in the luminance's shape.

    A logistic S through black, middle grey and white of the sRGB-encoded value: its slope at
    middle grey is 2 to the power of contrast / 100; light beyond white is left as it is.
    """
    steep = 2.0 ** (contrast_pct / 100)
    v = np.clip(srgb_encoded(luminance_), 1e-6, 1 - 1e-6)
    pivot = float(srgb_encoded(np.array(MID_GREY)))
    logit = lambda x: np.log(x / (1 - x))  # noqa: E731
    bent = 1 / (1 + np.exp(-(steep * (logit(v) - logit(pivot)) + logit(pivot))))
    factor = srgb_decoded(bent) / np.maximum(srgb_decoded(v), 1e-12)
    return np.where(luminance_ >= 1.0, 1.0, factor)


def contrast_curve(contrast_pct: float) -> NDArray[np.float64]:
    """`contrast_factor` at each step of sqrt(light / TOP), (STEPS,)."""
    factor = contrast_factor(np.linspace(0, 1, STEPS) ** 2 * TOP, contrast_pct)
    factor[0] = factor[1]
    return factor


@lru_cache(maxsize=16)
def _contrast_table(contrast_pct: float) -> Table:
    return Table(contrast_curve(contrast_pct))


class ContrastTable:
    """The contrast curve ready for pictures; it acts on luminance, so that hues stay."""

    def __init__(self, contrast_pct: float) -> None:
        self._table = _contrast_table(contrast_pct)

    def __call__(self, light: F32) -> F32:
        y = cv2.sqrt(np.clip(luminance(light), 0.0, TOP) * np.float32(1 / TOP))
        return times(light, self._table(y * np.float32(STEPS - 1)))


def saturated(light: F32, saturation_pct: float) -> F32:
    """Distance from grey of equal luminance scaled: -100 % is grey, +100 % doubles it."""
    if saturation_pct == 0.0:
        return light
    k = 1 + saturation_pct / 100
    turned = k * np.eye(3) + (1 - k) * np.ones((3, 1)) * LUMINANCE
    return cv2.max(cv2.transform(light, turned.astype(np.float32)), 0.0)
