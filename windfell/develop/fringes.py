"""Fringing and edge darkening estimated from what the frames of a set share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.recipe.model import LensCorrection

optimize = Later("scipy.optimize")

Array = NDArray[np.float64]
PATCH = 24
LEAST_PATCHES = 12


def colour_sizes(pictures: Sequence[NDArray[np.float32]], seed: int = 0) -> tuple[float, float] | None:
    """(red, blue): those colours' size against green, from edges all over frames (h, w, 3).

    Each colour's shift against green, found patch by patch by phase correlation, grows
    with the distance from the middle; its slope, robustly fitted, is the size less one.
    None where too few patches hold edges.
    """
    out = []
    for c in (0, 2):
        offs, weights = [], []
        for picture in pictures:
            o, w = _shifts(picture[..., 1], picture[..., c])
            offs += o
            weights += w
        if len(offs) < LEAST_PATCHES:
            return None
        at = np.array([o[0] for o in offs])
        shift = np.array([o[1] for o in offs])

        def misfit(p: Array, at=at, shift=shift) -> Array:
            return (shift - p[0] * at - p[1:]).ravel()

        found = optimize.least_squares(misfit, np.zeros(3), loss="soft_l1", f_scale=0.05)
        out.append(1.0 + float(found.x[0]))
    return out[0], out[1]


def _shifts(green: NDArray[np.float32], other: NDArray[np.float32]):
    """(place from the middle, shift), both (2,) px, of patches with edges, and their strength."""
    h, w = green.shape
    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    window = cv2.createHanningWindow((2 * PATCH, 2 * PATCH), cv2.CV_32F)
    found, strength = [], []
    for y in range(0, h - 2 * PATCH, PATCH):
        for x in range(0, w - 2 * PATCH, PATCH):
            place = np.array([x + PATCH - 0.5, y + PATCH - 0.5]) - middle
            if np.hypot(*place) < 0.25 * np.hypot(w, h):
                continue
            a, b = (np.log(np.maximum(p[y : y + 2 * PATCH, x : x + 2 * PATCH], 2e-3)) for p in (green, other))
            if a.std() < 0.12 or np.corrcoef(a.ravel(), b.ravel())[0, 1] < 0.9:
                continue
            (dx, dy), response = cv2.phaseCorrelate(a - a.mean(), b - b.mean(), window)
            if response > 0.4 and np.hypot(dx, dy) < 4:
                found.append((place, np.array([dx, dy])))
                strength.append(response)
    return found, strength


def with_edge_light(correction: LensCorrection, falloff: Sequence[float]) -> LensCorrection:
    """The correction with the darkening that overlaps showed: log light kept = f . (r2, r4, r6)."""
    r2 = np.linspace(0, 1, 40)
    kept = np.exp(r2 * (falloff[0] + r2 * (falloff[1] + r2 * falloff[2])))
    basis = np.stack([r2, r2**2, r2**3], axis=1)
    v = np.linalg.lstsq(basis, kept - 1, rcond=None)[0]
    return replace(correction, v1=float(v[0]), v2=float(v[1]), v3=float(v[2]))
