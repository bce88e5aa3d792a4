"""Hue by hue: bands turned, saturated, lightened; weak colours raised; tints; black and white.

Bands lie around the circle of Oklab's hue; between two neighbours values pass over linearly.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import SRGB_TO_WORKING, luminance
from windfell.pixels.easing import eased
from windfell.pixels.lookup import looked_up
from windfell.pixels.oklab import from_oklab, to_oklab
from windfell.recipe.finishing import Hues, Mono, Tinting

F32 = NDArray[np.float32]

# the hues, in degrees of Oklab, of these colours of sRGB
_COLOURS = ((1, 0, 0), (1, 0.35, 0), (1, 1, 0), (0, 1, 0), (0, 1, 1), (0, 0.1, 1), (0.35, 0, 1), (1, 0, 1))
FAINT = np.float32(0.04)
STRONG, SKIN_DEG, SKIN_WIDE = np.float32(0.22), 52.0, 28.0
LIGHTER_EV = np.float32(1.5)
TINT_CHROMA = np.float32(0.12)


def _band_hues() -> NDArray[np.float64]:
    lab = to_oklab((np.array([_COLOURS], np.float64) @ SRGB_TO_WORKING.T).astype(np.float32))[0]
    found = np.degrees(np.arctan2(lab[:, 2], lab[:, 1])) % 360
    return found


BAND_HUES = _band_hues()
_ORDER = np.argsort(BAND_HUES)


def at_hues(values: Sequence[float], hue_deg: F32) -> F32:
    """The value of each hue (degrees), between those of the bands; around the circle."""
    knots = BAND_HUES[_ORDER]
    own = np.asarray(values, float)[_ORDER]
    circle = np.concatenate([[knots[-1] - 360], knots, [knots[0] + 360]])
    table = np.interp(np.arange(0, 361), circle, np.concatenate([own[-1:], own, own[:1]])).astype(np.float32)
    at = np.where(hue_deg < 0, hue_deg + np.float32(360), hue_deg)
    return looked_up(at, table)


def polar(lab: F32) -> tuple[F32, F32]:
    """(chroma, hue in degrees) of Oklab."""
    a, b = lab[..., 1], lab[..., 2]
    return np.sqrt(a * a + b * b), np.degrees(np.arctan2(b, a))


def hues_changed(light: F32, v: Hues) -> F32:
    lab = to_oklab(light)
    chroma, hue = polar(lab)
    telling = np.minimum(chroma / FAINT, 1)  # of grey there is no hue
    turned = np.radians(hue + at_hues(v.turn_deg, hue) * telling)
    stronger = np.maximum(1 + at_hues(v.saturation_pct, hue) * telling / 100, 0) * chroma
    out = np.stack([lab[..., 0], stronger * np.cos(turned), stronger * np.sin(turned)], -1)
    lighter = at_hues(v.lightness_pct, hue) / 100 * telling
    return from_oklab(out) * np.exp2(LIGHTER_EV * lighter)[..., None]


def weak_raised(light: F32, weak_pct: float) -> F32:
    """Chroma raised, the more the weaker it is; hues of skin less."""
    lab = to_oklab(light)
    chroma, hue = polar(lab)
    weak = np.clip(1 - chroma / STRONG, 0, 1)
    off = np.abs((hue - SKIN_DEG + 180) % 360 - 180)
    skin = np.float32(0.65) * np.clip(1 - off / SKIN_WIDE, 0, 1).astype(np.float32)
    gain = np.maximum(1 + np.float32(weak_pct / 100) * weak * (1 - skin), 0)
    out = lab.copy()
    out[..., 1:] *= gain[..., None]
    return from_oklab(out)


def tinted(light: F32, v: Tinting) -> F32:
    lab = to_oklab(light)
    mid = np.float32(0.5 - 0.3 * v.balance_pct / 100)
    depth = np.clip(lab[..., 0], 0, 1)
    bright = eased((depth - mid) / np.float32(0.5))
    dark = eased((mid - depth) / np.float32(0.5))
    between = 1 - bright - dark
    # black and white stay what they are
    room = np.clip(4 * depth * (np.float32(1.15) - depth), 0, 1)
    for share, hue, pct in ((dark, v.shadows_hue, v.shadows_pct), (between, v.middle_hue, v.middle_pct),
                            (bright, v.highlights_hue, v.highlights_pct)):
        if pct:
            amount = TINT_CHROMA * np.float32(pct / 100) * share * room
            lab[..., 1] += amount * np.float32(np.cos(np.radians(hue)))
            lab[..., 2] += amount * np.float32(np.sin(np.radians(hue)))
    return from_oklab(lab)


def greyed(light: F32, v: Mono) -> F32:
    chroma, hue = polar(to_oklab(light))
    gain = np.exp2(2 * LIGHTER_EV * at_hues(v.weight_pct, hue) / 100 * np.minimum(chroma / STRONG, 1))
    grey = (luminance(light) * gain)[..., None]
    return light + np.float32(v.amount_pct / 100) * (grey - light)
