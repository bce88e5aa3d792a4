"""Curves through knots on the encoded scale."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.pixels.colour import srgb_decoded, srgb_encoded
from windfell.pixels.lookup import Table
from windfell.recipe.finishing import STRAIGHT, Curve, Knots

interpolate = Later("scipy.interpolate")

F32 = NDArray[np.float32]

STEPS = 8192
LEAST_APART = 1e-3


def curve_values(knots: Knots, at: NDArray[np.float64]) -> NDArray[np.float64]:
    """What a curve makes of encoded values: monotone cubics through the knots (Fritsch & Carlson 1980), level before
    the first and after the last.
    """
    found = sorted(dict(knots).items())
    x = [found[0][0]]
    y = [found[0][1]]
    for a, b in found[1:]:
        if a - x[-1] >= LEAST_APART:
            x.append(a)
            y.append(b)
    if len(x) < 2:
        return np.full_like(at, y[0])
    return interpolate.PchipInterpolator(x, y)(np.clip(at, x[0], x[-1]))


@lru_cache(maxsize=16)
def _table(knots: Knots) -> tuple[Table, float]:
    """What light becomes, at steps of its root from 0 to 1; and what white becomes."""
    light = np.linspace(0, 1, STEPS) ** 2
    out = srgb_decoded(np.clip(curve_values(knots, srgb_encoded(light)), 0, 1))
    return Table(out), float(out[-1])


def _bent(light: F32, knots: Knots) -> F32:
    table, white = _table(knots)
    at = cv2.sqrt(np.clip(light, 0, 1))
    at *= np.float32(STEPS - 1)
    out = table(at)
    # beyond white it goes on as white is, below black as black
    low, high, *_ = cv2.minMaxLoc(light)
    if high > 1:
        out += np.maximum(light - 1, 0) * max(white, 0.0)
    if low < 0:
        out += np.minimum(light, 0)
    return out


def curved(light: F32, v: Curve) -> F32:
    """Light (h, w, 3) through the channels' curves and then that of all."""
    own = v.red, v.green, v.blue
    if any(knots != STRAIGHT for knots in own):
        light = cv2.merge([p if knots == STRAIGHT else _bent(p, knots)
                           for p, knots in zip(cv2.split(light), own, strict=True)])
    if v.every != STRAIGHT:
        h, w = light.shape[:2]
        light = _bent(light.reshape(h, 3 * w), v.every).reshape(h, w, 3)
    return light
