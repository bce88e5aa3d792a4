"""Tone by neighbourhood: highlights, shadows, local contrast and haze, from a small guide.

The guide is a small picture of the whole frame. Its edge-preserving base comes as two
coefficient maps (the guided filter, He, Sun & Tang 2013; at small size as in He & Sun 2015), so
a pixel of any region at any scale finds the same base, and preview and export agree.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import luminance
from windfell.pixels.easing import eased
from windfell.pixels.planes import least, thrice, times
from windfell.recipe.model import Development

F32 = NDArray[np.float32]

GUIDE_SIDE = 512
DARKEST = 2.0**-10
RADIUS = 0.03
EDGE_EV2 = 0.35
MOST_EV = 1.6
HAZE_KEPT = 0.92
LEAST_CLEAR = 0.15
EDGE_FROM, EDGE_TO = np.float32(0.42), np.float32(0.8)


@dataclass(frozen=True)
class Guide:
    """(h, w) maps of the whole frame: base = a * log2(light) + b; how clear the air is, None if nobody asks; the
    colour of the air (3,).
    """

    a: F32
    b: F32
    clear: F32 | None
    air: F32 | None

    def exposed(self, ev: float) -> Guide:
        """The guide of the same frame lit by so many EV more."""
        air = None if self.air is None else self.air * np.float32(2.0**ev)
        return replace(self, b=self.b + np.float32(ev) * (1 - self.a), air=air)

    @cached_property
    def giving_way(self) -> tuple[F32, F32]:
        """a and b, so that beside edges so strong that they would glow the base is the px itself."""
        kept = 1 - eased((self.a - EDGE_FROM) / (EDGE_TO - EDGE_FROM))
        return 1 + kept * (self.a - 1), kept * self.b


def made_guide(light: F32, with_haze: bool = True) -> Guide:
    """The guide of a small picture of the whole frame, working-space light (h, w, 3)."""
    log = log_luminance(light)
    radius = max(2, round(RADIUS * max(log.shape)))
    size = (2 * radius + 1, 2 * radius + 1)
    mean = cv2.blur(log, size)
    spread = np.maximum(cv2.blur(log * log, size) - mean * mean, 0)
    a = spread / (spread + np.float32(EDGE_EV2))
    b = (1 - a) * mean
    clear, air = _haze(light, radius) if with_haze else (None, None)
    return Guide(cv2.blur(a, size), cv2.blur(b, size), clear, air)


def _haze(light: F32, radius: int) -> tuple[F32, F32]:
    """Clearness 0..1 (h, w) and the air's light (3,) by the dark channel (He, Sun & Tang 2009)."""
    kernel = np.ones((radius | 1, radius | 1), np.uint8)
    lowest = cv2.erode(least(light), kernel)
    top = np.quantile(lowest, 0.995)
    air = np.median(light[lowest >= top].reshape(-1, 3), axis=0).astype(np.float32)
    air = np.maximum(air, np.float32(0.05))
    share = cv2.erode(least(light / air), kernel)
    clear = 1 - HAZE_KEPT * np.clip(share, 0, 1)
    grey = log_luminance(light)
    size = (4 * radius + 1, 4 * radius + 1)
    mg, mc = cv2.blur(grey, size), cv2.blur(clear, size)
    cov = cv2.blur(grey * clear, size) - mg * mc
    k = cov / (np.maximum(cv2.blur(grey * grey, size) - mg * mg, 0) + np.float32(0.05))
    smooth = cv2.blur(k, size) * grey + cv2.blur(mc - k * mg, size)
    return np.clip(smooth, LEAST_CLEAR, 1).astype(np.float32), air


def log_luminance(light: F32) -> F32:
    """log2 of luminance (h, w), held above a thousandth."""
    return np.log2(np.maximum(luminance(light), np.float32(DARKEST)))


def wants_guide(d: Development) -> bool:
    return any((d.highlights_pct, d.shadows_pct, d.local_contrast_pct, d.haze_pct))


def at_box(values: F32, box: tuple[float, float, float, float], width: int, height: int) -> F32:
    """A guide's map over a box (left, top, right, bottom, fractions of the frame) at width x height."""
    h, w = values.shape
    left, top, right, bottom = box
    kx, ky = (right - left) * w / width, (bottom - top) * h / height
    turn = np.array([[kx, 0, left * w + 0.5 * kx - 0.5], [0, ky, top * h + 0.5 * ky - 0.5]], np.float32)
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    return cv2.warpAffine(values, turn, (width, height), flags=flags, borderMode=cv2.BORDER_REPLICATE)


def locally_toned(light: F32, d: Development, guide: Guide, box: tuple[float, float, float, float]) -> F32:
    """Light of a box of the frame with haze, highlights, shadows and local contrast applied."""
    height, width = light.shape[:2]
    if d.haze_pct:
        light = _cleared(light, d.haze_pct / 100, at_box(guide.clear, box, width, height), guide.air)
    if not (d.highlights_pct or d.shadows_pct or d.local_contrast_pct):
        return light
    log = log_luminance(light)
    base = at_box(guide.a, box, width, height) * log + at_box(guide.b, box, width, height)
    gain = np.float32(d.local_contrast_pct / 100) * (log - base)
    gain += ends_gain(base, d.highlights_pct, d.shadows_pct)
    return times(light, np.exp2(gain))


def ends_gain(base: F32, highlights_pct: float, shadows_pct: float) -> F32:
    """What highlights and shadows are raised by, in EV, where the base (log2 of light) is so bright."""
    bright, dark = _ramp(base, -2.5, 0.0), 1 - _ramp(base, -6.0, -2.2)
    return np.float32(MOST_EV * highlights_pct / 100) * bright + np.float32(MOST_EV * shadows_pct / 100) * dark


def _cleared(light: F32, strength: float, clear: F32, air: F32) -> F32:
    """Haze taken away (strength above 0) or laid on: light = scene * t + air * (1 - t)."""
    if strength > 0:
        t = 1 - np.float32(strength) * (1 - clear)
        return np.maximum((light - air) * thrice(1 / t) + air, np.float32(0))
    t = 1 + np.float32(strength * 0.7) * (1 - clear)
    return (light - air) * thrice(t) + air


def _ramp(x: F32, low: float, high: float) -> F32:
    return eased((x - np.float32(low)) * np.float32(1 / (high - low)))
