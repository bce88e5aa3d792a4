"""Light and colour of the whole: exposure, contrast, highlights, shadows, points, haze; balance and saturation."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.develop.local import Guide, ends_gain, log_luminance, made_guide
from windfell.develop.tone import ContrastTable, levels, saturated
from windfell.develop.white_balance import balance_matrix
from windfell.finish.hues import weak_raised
from windfell.finish.neighbourhood import base_of, haze_changed
from windfell.finish.scene import Scene
from windfell.pixels.easing import eased
from windfell.pixels.lookup import Table
from windfell.pixels.planes import times
from windfell.recipe.finishing import Colour, Dodge, Light
from windfell.recipe.model import Development

F32 = NDArray[np.float32]

MIDDLE_EV, TONE_EV = -2.4, 3.2
ENDS_EV, ENDS_STEPS = (-6.0, 0.0), 4097


def guide_of(scene: Scene, haze: bool, ev: float = 0.0) -> Guide:
    """The neighbourhoods of the picture as it is before the adjustment, lit by so many EV more."""
    if ev:
        return scene.keep(("guide", haze, ev), lambda: guide_of(scene, haze).exposed(ev))
    return scene.keep(("guide", haze), lambda: made_guide(scene.small(), haze))


def lit(light: F32, v: Light, scene: Scene) -> F32:
    if v.exposure_ev:
        light = light * np.float32(2.0**v.exposure_ev)
    if v.haze_pct:
        guide = guide_of(scene, True, v.exposure_ev)
        light = haze_changed(light, v.haze_pct / 100, guide, scene)
    if v.highlights_pct or v.shadows_pct:
        _, base = base_of(light, guide_of(scene, bool(v.haze_pct), v.exposure_ev), scene)
        base -= np.float32(ENDS_EV[0])
        base *= np.float32((ENDS_STEPS - 1) / (ENDS_EV[1] - ENDS_EV[0]))
        light = times(light, _ends(v.highlights_pct, v.shadows_pct)(base))
    light = levels(light, Development(white_pct=v.white_pct, black_pct=v.black_pct))
    if v.contrast_pct:
        light = scene.keep(("contrast", v.contrast_pct), lambda: ContrastTable(v.contrast_pct))(light)
    return light


@lru_cache(maxsize=16)
def _ends(highlights_pct: float, shadows_pct: float) -> Table:
    """What light is multiplied by where its base lies within `ENDS_EV`; beyond, as at the ends."""
    base = np.linspace(*ENDS_EV, ENDS_STEPS, dtype=np.float32)
    return Table(np.exp2(ends_gain(base, highlights_pct, shadows_pct)))


def dodged(light: F32, v: Dodge) -> F32:
    """Light with a gain by its own brightness: shadows, the middle and highlights pass over into each other over
    `TONE_EV`, so wide that no order of brightness is turned round.
    """
    tone = log_luminance(light) - np.float32(MIDDLE_EV)
    dark, bright = eased(-tone / TONE_EV), eased(tone / TONE_EV)
    gain = v.shadows_ev * dark + v.highlights_ev * bright + v.middle_ev * (1 - dark - bright)
    return times(light, np.exp2(gain.astype(np.float32)))


def coloured(light: F32, v: Colour) -> F32:
    if v.temperature_k is not None or v.tint:
        light = cv2.transform(light, balance_matrix(v.temperature_k, v.tint).astype(np.float32))
    light = saturated(light, v.saturation_pct)
    return weak_raised(light, v.weak_pct) if v.weak_pct else light
