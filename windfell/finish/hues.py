"""Hue by hue: bands turned, saturated, lightened; weak colours raised; tints; black and white.

Bands lie around the circle of Oklab's hue; between two neighbours values pass over linearly.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import SRGB_TO_WORKING, luminance
from windfell.pixels.easing import eased
from windfell.pixels.lookup import Table
from windfell.pixels.oklab import from_oklab, oklab_planes, to_oklab
from windfell.pixels.planes import thrice, times
from windfell.recipe.finishing import Hues, Mono, Tinting

F32 = NDArray[np.float32]

# the hues, in degrees of Oklab, of these colours of sRGB
_COLOURS = ((1, 0, 0), (1, 0.35, 0), (1, 1, 0), (0, 1, 0), (0, 1, 1), (0, 0.1, 1), (0.35, 0, 1), (1, 0, 1))
FAINT = np.float32(0.04)
STRONG, SKIN_DEG, SKIN_WIDE, SKIN_SPARED = np.float32(0.22), 52.0, 28.0, 0.65
LIGHTER_EV = np.float32(1.5)
TINT_CHROMA, TINT_STEPS = 0.12, 4097


def _band_hues() -> NDArray[np.float64]:
    lab = to_oklab((np.array([_COLOURS], np.float64) @ SRGB_TO_WORKING.T).astype(np.float32))[0]
    found = np.degrees(np.arctan2(lab[:, 2], lab[:, 1])) % 360
    return found


BAND_HUES = _band_hues()
_ORDER = np.argsort(BAND_HUES)


def at_hues(values: Sequence[float], hue_deg: F32) -> F32:
    """The value of each hue (degrees from 0 to 360), between those of the bands; around the circle."""
    return _around(tuple(map(float, values)))(hue_deg)


@lru_cache(maxsize=16)
def _around(values: tuple[float, ...]) -> Table:
    knots = BAND_HUES[_ORDER]
    own = np.asarray(values, float)[_ORDER]
    circle = np.concatenate([[knots[-1] - 360], knots, [knots[0] + 360]])
    table = np.interp(np.arange(0, 361), circle, np.concatenate([own[-1:], own, own[:1]]))
    return Table(table)


def polar(a: F32, b: F32) -> tuple[F32, F32]:
    """(chroma, hue in degrees from 0 to 360) of Oklab's a and b (h, w)."""
    hue = np.arctan2(b, a)
    hue *= np.float32(180 / np.pi)
    hue += np.float32(360) * (hue < 0)
    return cv2.sqrt(a * a + b * b), hue


def hues_changed(light: F32, v: Hues) -> F32:
    deep, a, b = oklab_planes(light)
    chroma, hue = polar(a, b)
    telling = np.minimum(chroma * (1 / FAINT), 1)  # of grey there is no hue
    if any(v.saturation_pct):
        stronger = np.maximum(1 + at_hues(np.divide(v.saturation_pct, 100), hue) * telling, 0)
        a, b = a * stronger, b * stronger
    if any(v.turn_deg):
        turn = at_hues(np.radians(v.turn_deg), hue) * telling
        c, s = np.cos(turn), np.sin(turn)
        a, b = c * a - s * b, s * a + c * b
    out = from_oklab(cv2.merge((deep, a, b)))
    if any(v.lightness_pct):
        out = times(out, np.exp2(at_hues(LIGHTER_EV / 100 * np.asarray(v.lightness_pct), hue) * telling))
    return out


def weak_raised(light: F32, weak_pct: float) -> F32:
    """Chroma raised, the more the weaker it is; hues of skin less."""
    deep, a, b = oklab_planes(light)
    chroma, hue = polar(a, b)
    gain = np.clip(1 - chroma * (1 / STRONG), 0, 1)
    gain *= _raised_by_hue(weak_pct)(hue)
    gain += 1
    np.maximum(gain, 0, out=gain)
    a *= gain
    b *= gain
    return from_oklab(cv2.merge((deep, a, b)))


@lru_cache(maxsize=16)
def _raised_by_hue(weak_pct: float) -> Table:
    """How much chroma of each hue, in degrees, is raised."""
    off = np.abs(np.arange(361) - SKIN_DEG)
    skin = SKIN_SPARED * np.clip(1 - off / SKIN_WIDE, 0, 1)
    return Table(weak_pct / 100 * (1 - skin))


def tinted(light: F32, v: Tinting) -> F32:
    deep, a, b = oklab_planes(light)
    depth = np.clip(deep, 0, 1)
    depth *= np.float32(TINT_STEPS - 1)
    parts = ((v.shadows_hue, v.shadows_pct), (v.middle_hue, v.middle_pct), (v.highlights_hue, v.highlights_pct))
    for plane, table in zip((a, b), _tints(parts, v.balance_pct), strict=True):
        plane += table(depth)
    return from_oklab(cv2.merge((deep, a, b)))


@lru_cache(maxsize=16)
def _tints(parts: tuple[tuple[float, float], ...], balance_pct: float) -> tuple[Table, Table]:
    """What is added to Oklab's a and b at each lightness from 0 to 1; (hue, %) of shadows, middle, highlights."""
    depth = np.linspace(0, 1, TINT_STEPS)
    mid = 0.5 - 0.3 * balance_pct / 100
    bright, dark = eased((depth - mid) * 2), eased((mid - depth) * 2)
    # black and white stay what they are
    room = np.clip(4 * depth * (1.15 - depth), 0, 1)
    a, b = np.zeros((2, TINT_STEPS))
    for share, (hue, pct) in zip((dark, 1 - bright - dark, bright), parts, strict=True):
        amount = TINT_CHROMA * pct / 100 * share * room
        a += amount * np.cos(np.radians(hue))
        b += amount * np.sin(np.radians(hue))
    return Table(a), Table(b)


def greyed(light: F32, v: Mono) -> F32:
    grey = luminance(light)
    if any(v.weight_pct):
        _, a, b = oklab_planes(light)
        chroma, hue = polar(a, b)
        weight = at_hues(2 * LIGHTER_EV / 100 * np.asarray(v.weight_pct), hue)
        grey = grey * np.exp2(weight * np.minimum(chroma * (1 / STRONG), 1))
    out = thrice(grey)
    if v.amount_pct != 100:
        out *= np.float32(v.amount_pct / 100)
        out += np.float32(1 - v.amount_pct / 100) * light
    return out
