"""Neighbourhoods without halos: the base of a picture that gives way to the px itself beside strong edges."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.develop.local import EDGE_EV2, HAZE_KEPT, Guide, at_box, log_luminance
from windfell.finish.scene import Scene
from windfell.pixels.planes import least, thrice

F32 = NDArray[np.float32]

HAZE_AIR = np.float32(0.7)


def base_of(light: F32, guide: Guide, scene: Scene) -> tuple[F32, F32]:
    """(log2 of luminance, its base), (h, w): the guided filter's base, but beside edges so strong that it would glow
    the px itself.
    """
    log = log_luminance(light)
    height, width = log.shape
    a, b = guide.giving_way
    base = at_box(a, scene.box, width, height)
    base *= log
    base += at_box(b, scene.box, width, height)
    return log, base


def wide_guide(small: F32, side: int, share: float) -> Guide:
    """The guide of neighbourhoods as wide as a share of the picture, made at `side` px (the guided filter)."""
    k = side / max(small.shape[:2])
    size = max(8, round(small.shape[1] * k)), max(8, round(small.shape[0] * k))
    log = log_luminance(cv2.resize(small, size, interpolation=cv2.INTER_AREA))
    radius = max(2, round(share * side))
    window = (2 * radius + 1, 2 * radius + 1)
    mean = cv2.blur(log, window)
    spread = np.maximum(cv2.blur(log * log, window) - mean * mean, 0)
    a = spread / (spread + np.float32(EDGE_EV2))
    return Guide(cv2.blur(a, window), cv2.blur((1 - a) * mean, window), None, None)


def haze_changed(light: F32, strength: float, guide: Guide, scene: Scene) -> F32:
    """Haze taken away (strength above 0) or laid on: light = scene * t + air * (1 - t) (He, Sun & Tang 2009). No px
    has more haze than light.
    """
    height, width = light.shape[:2]
    clear = at_box(guide.clear, scene.box, width, height)
    air = guide.air
    if strength > 0:
        lightest = np.clip(least(light * (1 / air)), 0, 1)
        clear = np.maximum(clear, 1 - np.float32(HAZE_KEPT) * lightest)
        t = 1 / (1 - np.float32(strength) * (1 - clear))
    else:
        t = 1 + np.float32(strength) * HAZE_AIR * (1 - clear)
    # around the light of the air, which stays
    out = light - air
    out *= thrice(t)
    out += air
    return out
