"""A frame's light with what the sensor adds taken off, evened out, and what counts as black brought to 0."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.sheet import ChangedSheet, Sheet

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

TILES = (12, 16)
ROUNDS = 6
SPREADS = 2.0


@dataclass(frozen=True)
class Plane:
    """A level that slopes over a frame: per channel, a + b u + c v at shares u, v (-1 to 1) of its sides."""

    values: tuple[tuple[float, float, float], ...]

    def at(self, u: NDArray, v: NDArray) -> F32:
        """The level (h, w, 3) at columns u (w,) and rows v (h,)."""
        a, b, c = np.array(self.values, np.float32).T
        return a + u.astype(np.float32)[None, :, None] * b + v.astype(np.float32)[:, None, None] * c


def level_plane(percent: float) -> Plane:
    """The same level everywhere: so many per cent of white."""
    return Plane(((percent / 100, 0.0, 0.0),) * 3)


def even_plane(black: Plane) -> Plane:
    """What makes the empty field even and without colour: the black less its mean level."""
    level = sum(v[0] for v in black.values) / 3
    return Plane(tuple((a - level, b, c) for a, b, c in black.values))


def black_plane(light: F32) -> Plane:
    """What counts as black in a frame (h, w, 3), seen small: the level of its dark surroundings, sloping smoothly.

    Of each tile the dark part's middle; a plane through those, again and again without the tiles that lie above it,
    since lights only add.
    """
    rows, columns = TILES
    h, w = light.shape[:2]
    u, v, dark = [], [], []
    for j in range(rows):
        for i in range(columns):
            tile = light[j * h // rows : max((j + 1) * h // rows, j * h // rows + 1),
                         i * w // columns : max((i + 1) * w // columns, i * w // columns + 1)].reshape(-1, 3)
            dark.append(_calm_level(tile))
            u.append((2 * i + 1) / columns - 1)
            v.append((2 * j + 1) / rows - 1)
    design = np.stack([np.ones(len(u)), u, v], -1)
    levels = np.array(dark)
    found = []
    for c in range(3):
        use = levels[:, c] <= np.percentile(levels[:, c], 60) + 1e-12
        fit = np.zeros(3)
        for _ in range(ROUNDS):
            fit = np.linalg.lstsq(design[use], levels[use, c], rcond=None)[0]
            off = levels[:, c] - design @ fit
            spread = max(1.4826 * float(np.median(np.abs(off[use]))), 1e-5)
            use = np.abs(off) < SPREADS * spread + 1e-6
            if use.sum() < 8:
                break
        found.append(tuple(float(x) for x in fit))
    return Plane(tuple(found))


def _calm_level(values: F32) -> Array:
    """The level (3,) of values (n, 3) without those that lights raise: their middle, again and again."""
    out = np.empty(3)
    for c in range(3):
        own = np.sort(values[:, c].astype(np.float64))
        for _ in range(ROUNDS):
            middle = own[len(own) // 2]
            # what lies below the middle is noise alone
            spread = max(middle - own[int(0.16 * len(own))], 1e-6)
            kept = own[np.searchsorted(own, middle - 3 * spread) : np.searchsorted(own, middle + SPREADS * spread)]
            if len(kept) == len(own) or len(kept) < 8:
                break
            own = kept
        out[c] = own.mean() if len(own) >= 8 else middle
    return out


class CalibratedSheet(ChangedSheet):
    """A sheet less its dark light, over its flat field, less its black floor; each of them None for none. What is
    left is multiplied by `gain`.

    `dark` and `flat` are light (h, w, 3) at the sheet's own size; `flat` about 1.
    """

    def __init__(
        self, sheet: Sheet | ChangedSheet, dark: F32 | None = None, flat: F32 | None = None,
        floor: Plane | None = None, gain: float = 1.0,
    ) -> None:
        super().__init__(sheet)
        self._dark, self._flat, self._floor, self._gain = dark, flat, floor, gain

    def light(self, left: int, top: int, right: int, bottom: int) -> F32:
        """Working-space light of a box of pixels."""
        light = self._sheet.light(left, top, right, bottom)
        at = np.s_[top:bottom, left:right]
        if self._dark is not None:
            light = light - self._dark[at]
        if self._flat is not None:
            light = light / self._flat[at]
        if self._floor is not None:
            u = (2 * np.arange(left, right) + 1) / self.width - 1
            v = (2 * np.arange(top, bottom) + 1) / self.height - 1
            light = light - self._floor.at(u, v)  # noise stays on both sides of black
        if self._gain != 1:
            light = light * np.float32(self._gain)
        return np.ascontiguousarray(light)


def evened_flat(light: F32, dark: F32 | None) -> F32:
    """A flat field's light (h, w, 3) without its dark light, about 1 everywhere, smoothed of its noise."""
    clean = light if dark is None else light - dark
    clean = np.maximum(clean, 1e-4)
    return clean / clean.reshape(-1, 3).mean(axis=0).astype(np.float32)


def mean_light(sheets: list, size: tuple[int, int]) -> F32:
    """The mean light (h, w, 3) of sheets, each brought to a size (w, h)."""
    total = np.zeros((size[1], size[0], 3), np.float32)
    for sheet in sheets:
        light = sheet.light(0, 0, sheet.width, sheet.height)
        if (sheet.width, sheet.height) != size:
            light = cv2.resize(light, size, interpolation=cv2.INTER_AREA)
        total += light
    return total / np.float32(len(sheets))
