"""Stars found as such and taken down: nebula and ground stay."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.finish.scene import Scene
from windfell.pixels.colour import luminance
from windfell.recipe.finishing import Stars

F32 = NDArray[np.float32]

BEYOND = 6.0
SPREAD_OF_MAD = 1.4826
LEAST_RADIUS = 1.0
TOUCHING, MOST_TOUCHING = 2.0, 4


def stars_reach(v: Stars, scale: float) -> int:
    return int(np.ceil(2.5 * max(LEAST_RADIUS, v.largest_px / 2 * scale))) + 3


def stars_less(light: F32, v: Stars, scene: Scene) -> F32:
    """Light with the light of stars taken off as far as is asked for."""
    radius = max(LEAST_RADIUS, v.largest_px / 2 * scene.scale)
    found = star_light(light, radius, scene.keep(("calm", round(radius, 2)), lambda: calm_of(scene, radius)))
    return light - np.float32(v.less_pct / 100) * found


def calm_of(scene: Scene, radius: float) -> float:
    """What of the root of light stands out as a star might, where there is none: its spread."""
    out = _standing_out(_root(scene.sample()), radius)
    return float(np.median(out) + SPREAD_OF_MAD * np.median(np.abs(out - np.median(out)))) + 1e-4


def star_light(light: F32, radius: float, calm: float) -> F32:
    """The light (h, w, 3) of stars: what rises above the ground around, at spots that are bright, small and round."""
    out = _standing_out(_root(light), radius)
    core = (out > BEYOND * calm).astype(np.uint8)
    core = _small_ones(core, out, radius)
    if not core.any():
        return np.zeros_like(light)
    grown = cv2.dilate(core, _disc(max(1, round(0.5 * radius))))
    free = (1 - grown).astype(np.float32)
    sigma = 1.2 * radius
    near = cv2.GaussianBlur(free, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)[..., None]
    ground = cv2.GaussianBlur(light * free[..., None], (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
    ground = ground / np.maximum(near, np.float32(1e-3))
    share = cv2.GaussianBlur(grown.astype(np.float32), (0, 0), max(0.6, 0.15 * radius))
    share = np.maximum(np.clip(2 * share - 1, 0, 1), core.astype(np.float32))[..., None]
    share = np.where(near > 0.02, share, 0)
    return np.maximum(light - ground, 0) * share


def _root(light: F32) -> F32:
    return np.sqrt(np.maximum(luminance(np.ascontiguousarray(light, np.float32)), 0))


def _standing_out(root: F32, radius: float) -> F32:
    """The white top-hat: what an opening by a disc as large as a star takes away."""
    return root - cv2.morphologyEx(root, cv2.MORPH_OPEN, _disc(max(1, int(np.ceil(radius)))))


def _small_ones(mask: NDArray[np.uint8], out: F32, radius: float) -> NDArray[np.uint8]:
    """Spots no wider than a star, and not drawn out as an edge or a wire is; or a few such that touch."""
    count, parts, stats, _ = cv2.connectedComponentsWithStats(mask, connectivity=8)
    wide, high, area = (stats[:, k].astype(float) for k in (cv2.CC_STAT_WIDTH, cv2.CC_STAT_HEIGHT, cv2.CC_STAT_AREA))
    most = 2 * radius + 2
    longest = np.maximum(wide, high)
    good = (longest <= most) & (longest <= 2.5 * np.minimum(wide, high) + 1) & (area >= 0.35 * wide * high)
    peaks = (out == cv2.dilate(out, _disc(max(1, round(0.6 * radius))))) & (mask > 0)
    many = np.bincount(parts[peaks], minlength=count)
    near = cv2.distanceTransform((~peaks).astype(np.uint8), cv2.DIST_L2, 3) <= 0.9 * radius
    covered = np.bincount(parts[near & (mask > 0)], minlength=count) / np.maximum(area, 1)
    good |= (longest <= TOUCHING * most) & (many >= 2) & (many <= MOST_TOUCHING) & (covered > 0.9)
    good[0] = False
    return good[parts].astype(np.uint8)


def _disc(radius: int) -> NDArray[np.uint8]:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))
