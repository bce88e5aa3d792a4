"""A frame's light brought to that of the clean plate, so that what is left between them is what moved."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.channels import below

F32 = NDArray[np.float32]
Bools = NDArray[np.bool_]

DARKEST, BRIGHTEST = np.float32(0.002), 0.9
SMALL = 160
LOCAL_SHARE = 0.10
ALLOWED = np.float32(0.35)
ROUNDS = 3
# a frame of which less agrees with another shows another place
AGREES_LEAST = 0.45


@dataclass(frozen=True)
class Matched:
    """What brings a frame's light to the plate's: the gain of each channel over the whole frame; with that, what
    varies slowly over it (h, w, 3), small, in EV; and the share of the frame that agrees once it is matched.
    """

    gain: tuple[float, float, float]
    agrees: float
    slow: F32 | None = None

    def applied(self, light: F32, shape: tuple[int, int], at: tuple[slice, slice] = np.s_[:, :]) -> F32:
        """A part (`at`) of the light of a frame of `shape` (h, w), matched."""
        if self.slow is None:
            return light
        return light * np.exp2(self._over(shape, at))

    def _over(self, shape: tuple[int, int], at: tuple[slice, slice]) -> F32:
        """The slow part over px of a frame, bilinear."""
        h, w = self.slow.shape[:2]
        rows, columns = (np.arange(shape[n], dtype=np.float32)[at[n]] for n in (0, 1))
        x = np.clip((columns + 0.5) * np.float32(w / shape[1]) - 0.5, 0, w - 1)
        y = np.clip((rows + 0.5) * np.float32(h / shape[0]) - 0.5, 0, h - 1)
        across = cv2.remap(self.slow, np.broadcast_to(x, (h, len(x))).astype(np.float32),
                           np.broadcast_to(np.arange(h, dtype=np.float32)[:, None], (h, len(x))), cv2.INTER_LINEAR)
        low = np.minimum(y.astype(int), max(h - 2, 0))
        t = (y - low).astype(np.float32)[:, None, None]
        return across[low] + t * (across[np.minimum(low + 1, h - 1)] - across[low])


def matched(light: F32, plate: F32, seen: Bools | None = None) -> Matched:
    """What brings a frame's exposure and white balance to the plate's, as a whole and then slowly over the picture (a
    passing cloud): by the ratio of what did not move, found robustly at a small size.
    """
    h, w = light.shape[:2]
    k = min(1.0, SMALL / max(h, w))
    size = max(2, round(w * k)), max(2, round(h * k))
    small, its = (cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in (light, plate))
    fair = (np.minimum(small, its).min(axis=2) > DARKEST) & below(small, BRIGHTEST) & below(its, BRIGHTEST)
    if seen is not None:
        fair &= cv2.resize(seen.astype(np.uint8), size, interpolation=cv2.INTER_AREA) > 0
    if fair.sum() < 50:
        return Matched((1.0, 1.0, 1.0), 1.0)
    ratio = np.log2(np.maximum(its, 1e-6) / np.maximum(small, 1e-6))
    whole = np.median(ratio[fair], axis=0).astype(np.float32)
    local = np.zeros_like(ratio)
    sigma = LOCAL_SHARE * max(size)
    blur = lambda v: cv2.GaussianBlur(v, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)  # noqa: E731
    for _ in range(ROUNDS):
        off = ratio - whole - local
        calm = (fair & (np.abs(off).max(axis=2) < ALLOWED)).astype(np.float32)
        # little known: near nothing
        local += blur(off * calm[..., None]) / (blur(calm) + np.float32(0.15))[..., None]
    off = np.abs(ratio - whole - local).max(axis=2)
    return Matched(tuple(float(v) for v in np.exp2(whole)), float((off[fair] < ALLOWED).mean()),
                   (whole + local).astype(np.float32))
