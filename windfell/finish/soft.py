"""Softness: a glow of what is bright, a blur, a blur along a direction."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.develop.local import at_box
from windfell.finish.scene import Scene
from windfell.recipe.finishing import Softness

F32 = NDArray[np.float32]

GLOW_SIDE, GLOW_SHARE = 256, 0.02
LEAST_PX = 0.25


def soft_reach(v: Softness, scale: float) -> int:
    reach = int(np.ceil(4 * v.blur_px * scale)) + 1 if v.blur_px else 0
    return reach + (int(np.ceil(v.along_px * scale / 2)) + 2 if v.along_px else 0)


def softened(light: F32, v: Softness, scene: Scene) -> F32:
    if v.blur_px * scene.scale > LEAST_PX:
        light = cv2.GaussianBlur(light, (0, 0), v.blur_px * scene.scale, borderType=cv2.BORDER_REFLECT_101)
    if v.along_px * scene.scale > LEAST_PX:
        light = cv2.filter2D(light, -1, line_kernel(v.along_px * scene.scale, v.along_deg),
                             borderType=cv2.BORDER_REFLECT_101)
    if v.glow_pct:
        glow = scene.keep(("glow",), lambda: _glow(scene.small()))
        height, width = light.shape[:2]
        planes = (np.ascontiguousarray(glow[..., k]) for k in range(3))
        around = np.stack([at_box(p, scene.box, width, height) for p in planes], -1)
        # light that is laid over as a second exposure would be
        k = np.float32(0.6 * v.glow_pct / 100)
        light = light + k * np.maximum(around - light * np.float32(0.25), 0)
    return light


def _glow(small: F32) -> F32:
    k = GLOW_SIDE / max(small.shape[:2])
    size = max(8, round(small.shape[1] * k)), max(8, round(small.shape[0] * k))
    less = cv2.resize(small, size, interpolation=cv2.INTER_AREA)
    return cv2.GaussianBlur(less, (0, 0), GLOW_SHARE * GLOW_SIDE, borderType=cv2.BORDER_REFLECT_101)


def line_kernel(length: float, degrees: float) -> F32:
    """What a px is spread over by a movement of so many px: a line through the middle, its sum 1."""
    half = max(1, int(np.ceil(length / 2)) + 1)
    x, y = np.meshgrid(np.arange(-half, half + 1), np.arange(-half, half + 1))
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    along, across = np.abs(x * c + y * s), np.abs(-x * s + y * c)
    kernel = np.clip(length / 2 + 0.5 - along, 0, 1) * np.clip(1 - across, 0, 1)
    return (kernel / kernel.sum()).astype(np.float32)
