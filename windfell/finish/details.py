"""Detail: local contrast, texture, sharpening, noise. Lengths are px of the full-size picture.

Nothing overshoots: what texture and sharpening make stays between the least and most of its neighbourhood, but for
3 %.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.develop.local import Guide, log_luminance
from windfell.finish.neighbourhood import base_of, wide_guide
from windfell.finish.noise import noise_of, noise_reach, sunk
from windfell.finish.scene import Scene
from windfell.finish.tones import guide_of
from windfell.pixels.planes import thrice, times
from windfell.recipe.finishing import Detail

F32 = NDArray[np.float32]

WIDE_SIDE, WIDE_SHARE = 128, 0.12
FINE_PX, COARSE_PX = 1.5, 6.0
OVERSHOOT = np.float32(np.log2(1.03))
LEAST_SIGMA, SEEN_SIGMA = 0.3, 0.7
SHARPEST, MOST_TEXTURE = np.float32(1.6), np.float32(1.2)
THRESHOLD_EV, SEEN_EV = 0.25, 0.05


def detail_reach(v: Detail, scale: float) -> int:
    """How many px around it a spot's result hangs on."""
    reach = 0
    if v.texture_pct:
        reach = max(reach, int(np.ceil(4 * COARSE_PX * scale)) + 2)
    if v.sharpen_pct or v.alone:
        reach += int(np.ceil(6 * v.radius_px * scale)) + 2
    if v.noise_pct or v.colour_noise_pct:
        reach += noise_reach(scale)
    return reach


def detailed(light: F32, v: Detail, scene: Scene) -> F32:
    if v.noise_pct or v.colour_noise_pct:
        light = noise_sunk(light, v, scene)
    if v.local_pct or v.wide_pct:
        light = _contrasted(light, v, scene)
    if v.texture_pct:
        light = _textured(light, v, scene.scale)
    if v.sharpen_pct or v.alone:
        light = sharpened(light, v, scene.scale)
    return light


def noise_sunk(light: F32, v: Detail, scene: Scene) -> F32:
    """Noise in luminance and in colour sunk by what a part of the picture at full size has."""
    level = scene.keep(("noise",), lambda: noise_of(scene.sample()))
    return sunk(light, level, v.noise_pct / 100, v.colour_noise_pct / 100, scene.scale)


def _contrasted(light: F32, v: Detail, scene: Scene) -> F32:
    gain = np.zeros(light.shape[:2], np.float32)
    for pct, guide in ((v.local_pct, lambda: guide_of(scene, False)), (v.wide_pct, lambda: _wide_guide(scene))):
        if pct:
            log, base = base_of(light, guide(), scene)
            gain += np.float32(pct / 100) * (log - base)
    return times(light, np.exp2(gain))


def _wide_guide(scene: Scene) -> Guide:
    return scene.keep(("wide guide",), lambda: wide_guide(scene.small(), WIDE_SIDE, WIDE_SHARE))


def _textured(light: F32, v: Detail, scale: float) -> F32:
    """What lies between fine and coarse raised or calmed."""
    fine, coarse = FINE_PX * scale, COARSE_PX * scale
    if coarse < 2 * LEAST_SIGMA:
        return light
    log = log_luminance(light)
    inner = _blurred(log, fine) if fine >= LEAST_SIGMA else log
    band = inner - _blurred(log, coarse)
    return _within(light, log, MOST_TEXTURE * np.float32(v.texture_pct / 100) * band, coarse)


def sharpened(light: F32, v: Detail, scale: float) -> F32:
    """Edges raised on luminance where they stand out beyond the threshold."""
    sigma = v.radius_px * scale
    if v.alone:
        sigma = max(sigma, SEEN_SIGMA)
    if sigma < LEAST_SIGMA:
        return light
    log = log_luminance(light)
    fine = log - _blurred(log, sigma)
    if v.alone:
        # as bright to the eye as its share
        share = np.square(shares_told(fine, v)) * np.minimum(np.abs(fine) / np.float32(SEEN_EV), 1)
        return thrice(share)
    return _within(light, log, SHARPEST * np.float32(v.sharpen_pct / 100) * told_apart(fine, v), sigma)


def told_apart(fine: F32, v: Detail) -> F32:
    """What of fine differences (EV) is sharpened: passing over around the threshold."""
    return fine * shares_told(fine, v) if v.threshold_pct else fine


def shares_told(fine: F32, v: Detail) -> F32:
    """How much of each fine difference (EV) is sharpened, 0..1."""
    limit = np.float32(THRESHOLD_EV * (v.threshold_pct / 100) ** 2)
    return np.square(fine) / np.maximum(np.square(fine) + np.square(limit), np.float32(1e-12))


def _within(light: F32, log: F32, gain: F32, sigma: float) -> F32:
    """Light with a gain (EV), held between the least and most of its neighbourhood."""
    side = 2 * int(np.ceil(2 * sigma)) + 1
    kernel = np.ones((side, side), np.uint8)
    wanted = np.clip(log + gain, cv2.erode(log, kernel) - OVERSHOOT, cv2.dilate(log, kernel) + OVERSHOOT)
    return times(light, np.exp2(wanted - log))


def _blurred(values: F32, sigma: float) -> F32:
    return cv2.GaussianBlur(values, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
