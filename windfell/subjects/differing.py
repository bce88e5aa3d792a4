"""Where a frame differs from the clean plate beyond its noise, and where it only lies in a shadow or spilled light.

All is judged on the root of the light, on which noise is about the same everywhere.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.network import median
from windfell.pixels.channels import most_of

F32 = NDArray[np.float32]

LEAST_NOISE = np.float32(0.0045)
LEAST_OF_TWO, TWO_THINGS = 6, 0.4
SPREAD_OF_MAD = np.float32(1.4826)
POOL = 9
CALM_SIGMA = 0.8
CAST_WINDOW = 5
DARKEST_CAST, BRIGHTEST_CAST = 0.12, 4.0
COLOUR_KEPT = 0.16
PLAIN, SOFT_EDGE = np.float32(0.9), np.float32(0.05)


def rooted(light: F32) -> F32:
    return np.sqrt(np.maximum(light, 0))


class Spread:
    """What frames say of the noise, gathered rows after rows."""

    def __init__(self, plate: F32) -> None:
        """`plate`: the root of its light, (h, w, 3)."""
        self._plate = plate
        self._distances = np.empty_like(plate)
        self._own = np.empty_like(plate[::2, ::2])
        self._of_two = False

    def add(self, roots: Sequence[F32], rows: slice) -> None:
        """All frames' roots over some rows, the first of which is even."""
        plate = self._plate[rows]
        self._distances[rows] = median([cv2.absdiff(r, plate) for r in roots])
        self._of_two = len(roots) >= LEAST_OF_TWO
        if self._of_two:
            found = spread_of_one([r[::2, ::2] for r in roots])
            self._own[rows.start // 2 : rows.start // 2 + len(found)] = found

    def noise(self) -> F32:
        """How far frames that show the plate lie from it, (h, w, 3): the median of the distances, never less than
        what neighbours have; of grass that sways it is large, of what stands still small. Where frames show two
        things, each for long, it is that of either by itself.
        """
        pooled = cv2.blur(self._distances, (POOL, POOL), borderType=cv2.BORDER_REFLECT_101)
        noise = np.maximum(self._distances, pooled) * SPREAD_OF_MAD
        if self._of_two:
            h, w = self._plate.shape[:2]
            own = cv2.resize(cv2.blur(self._own, (POOL // 2, POOL // 2)), (w, h), interpolation=cv2.INTER_LINEAR)
            noise = np.where(own < TWO_THINGS * pooled * SPREAD_OF_MAD, own, noise)
        return np.maximum(noise, LEAST_NOISE)


def noise_of(roots: Sequence[F32], plate: F32) -> F32:
    """The noise (h, w, 3) of all frames at once."""
    spread = Spread(plate)
    spread.add(roots, slice(0, plate.shape[0]))
    return spread.noise()


def spread_of_one(planes: Sequence[F32]) -> F32:
    """The standard deviation at each spot by the shortest stretch of values that holds two fifths of the planes
    (after the shorth, Rousseeuw & Leroy 1988); what the others show there does not matter.
    """
    most = _most_of(len(planes))
    return _stretch(np.stack(planes), most) * np.float32(_of_normal(len(planes)))


def _most_of(count: int) -> int:
    return max(3, int(0.4 * count))


def _stretch(values: NDArray, most: int) -> NDArray:
    ordered = np.sort(values, axis=0)
    return (ordered[most - 1 :] - ordered[: len(ordered) - most + 1]).min(axis=0)


@lru_cache
def _of_normal(count: int) -> float:
    """What takes the stretch to a standard deviation, of normal noise in so few planes: by simulation."""
    return 1 / float(_stretch(np.random.default_rng(0).standard_normal((count, 4000)), _most_of(count)).mean())


def difference(root: F32, plate: F32, noise: F32, moved: bool) -> F32:
    """How many noises a frame is off at each spot (h, w), the worst channel. Where frames had to be `moved` onto each
    other, what a neighbouring px of the plate shows is no difference.
    """
    reach = np.float32(1.0 if moved else 0.3)
    kernel = np.ones((3, 3), np.uint8)
    high = plate + reach * (cv2.dilate(plate, kernel) - plate)
    low = plate - reach * (plate - cv2.erode(plate, kernel))
    off = np.maximum(np.maximum(root - high, low - root), 0) / noise
    return cv2.GaussianBlur(most_of(off), (0, 0), CALM_SIGMA, borderType=cv2.BORDER_REFLECT_101)


def cast_on(light: F32, plate: F32, noise: F32, region: NDArray[np.bool_] | None = None) -> F32:
    """How well a shadow or a spill of light alone explains what is seen, (h, w), 0..1: the plate's own texture,
    dimmed or lit alike in all channels. What stands before the plate has a texture of its own. Only the `region`
    counts.
    """
    window = (CAST_WINDOW, CAST_WINDOW)
    weight = np.ones(light.shape[:2], np.float32) if region is None else region.astype(np.float32)
    near = cv2.blur(weight, window, borderType=cv2.BORDER_REFLECT_101) + np.float32(1e-6)

    def box(v: F32) -> F32:
        if v.ndim == 2:
            return cv2.blur(v * weight, window, borderType=cv2.BORDER_REFLECT_101) / near
        return cv2.blur(v * weight[..., None], window, borderType=cv2.BORDER_REFLECT_101) / near[..., None]

    share = box(light) / np.maximum(box(plate), 1e-5)
    mean = share.mean(axis=2)
    unlike_colour = np.abs(share / np.maximum(mean, 1e-4)[..., None] - 1).max(axis=2)
    expected, seen, ground = rooted(plate * mean[..., None]), rooted(light), rooted(plate)
    # at the soft edge of a shadow its depth is not the same all over the window
    residual = box(most_of(cv2.absdiff(seen, expected) / (noise + SOFT_EDGE * expected)))
    own = box(most_of(cv2.absdiff(ground, box(ground)) / (noise + SOFT_EDGE * ground)))
    # where the plate is plain, its texture says nothing and colour alone decides
    kept = residual / np.maximum(np.float32(0.45) * own, PLAIN)
    like = np.clip(2 - kept, 0, 1) * np.clip(2 - unlike_colour / COLOUR_KEPT, 0, 1)
    like *= (mean > DARKEST_CAST) & (mean < BRIGHTEST_CAST)
    return like.astype(np.float32)
