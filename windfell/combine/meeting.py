"""How a layer meets what lies below it: each way one function of linear light, in one table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import luminance
from windfell.pixels.easing import eased

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Meeting:
    """`met(below, layer)` of light (h, w, 3) each; `title` and `suits` in words."""

    name: str
    title: str
    suits: str
    met: Callable[[F32, F32], F32]


def _screened(below: F32, layer: F32) -> F32:
    """What both leave of white is left; what is beyond white stays."""
    return below + layer * (1 - np.clip(below, 0, 1))


def _chosen(below: F32, layer: F32, takes_layer: NDArray[np.bool_]) -> F32:
    return np.where(takes_layer[..., None], layer, below)


MEETINGS = {m.name: m for m in (
    Meeting("replace", "Replaces", "is seen instead of what is below", lambda below, layer: layer),
    Meeting("add", "Adds light", "its light joins the light below", lambda below, layer: below + layer),
    Meeting("screen", "Screens", "adds light that never burns out", _screened),
    Meeting("lighter", "Keeps the lighter", "of both the one with more light, its colour whole",
            lambda below, layer: _chosen(below, layer, luminance(layer) > luminance(below))),
    Meeting("darker", "Keeps the darker", "of both the one with less light, its colour whole",
            lambda below, layer: _chosen(below, layer, luminance(layer) < luminance(below))),
)}


def laid_over(below: F32, layer: F32, share: F32, way: str) -> F32:
    """The light (h, w, 3) of a layer laid over what is below, as far as its share (h, w), 0..1, says."""
    met = MEETINGS[way].met(below, layer)
    return below + share[..., None] * (met - below)


def own_gain(exposure_ev: float, warmth: float, tint: float = 0.0) -> F32:
    """What a layer's light is multiplied by, (3,): exposure; warmth, an EV between red and blue at 100; tint, half an
    EV less green at 100.
    """
    lean = warmth / 200
    return np.float32(2.0**exposure_ev * np.array([2.0**lean, 2.0 ** (-tint / 200), 2.0**-lean]))


def as_layer_light(gain: tuple[float, float, float]) -> tuple[float, float, float]:
    """(exposure in EV, warmth, tint) that multiply light by a gain of each channel, as near as these go."""
    red, green, blue = (float(np.log2(max(g, 1e-6))) for g in gain)
    ev = float(np.clip((red + blue) / 2, -10, 10))
    warmth, tint = (float(np.clip(v, -100, 100)) for v in (100 * (red - blue), 200 * (ev - green)))
    return round(ev, 4), round(warmth, 2), round(tint, 2)


def edge_share(covered: NDArray[np.bool_] | None, shape: tuple[int, int], soft_px: float) -> F32:
    """How much a frame shows of each px (h, w) where its own edge passes over within so many px."""
    if covered is None:
        return np.ones(shape, np.float32)
    if soft_px < 1:
        return covered.astype(np.float32)
    far = cv2.distanceTransform(np.pad(covered, 1, mode="edge").astype(np.uint8), cv2.DIST_L2, 5)[1:-1, 1:-1]
    return eased(far / np.float32(soft_px))
