"""A frame developed: its light, region by region, at any scale."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.develop.detail import denoised, noise_level, reach_px, sharpened
from windfell.develop.local import Guide, locally_toned, made_guide, wants_guide
from windfell.develop.tone import ContrastTable, levels, saturated
from windfell.develop.white_balance import balance_matrix
from windfell.geometry.optics import Optics
from windfell.pixels.planes import times
from windfell.pixels.sheet import ChangedSheet, Sheet
from windfell.recipe.model import Development

F32 = NDArray[np.float32]
NOISE_SIDE = 384


def is_plain(development: Development) -> bool:
    """Whether it leaves every pixel as it is."""
    return replace(development, unknown=()) == Development()


def is_linear(development: Development) -> bool:
    """Whether it is but a matrix on light: white balance and exposure."""
    d = development
    return is_plain(replace(d, temperature_k=None, tint=0.0, exposure_ev=0.0))


def exposure_matrix(d: Development) -> NDArray[np.float32]:
    """(3, 3) on working-space pixels: white balance and exposure together."""
    return (balance_matrix(d.temperature_k, d.tint) * 2.0**d.exposure_ev).astype(np.float32)


class DevelopedSheet(ChangedSheet):
    """A sheet whose light comes out developed and with its edge darkening undone.

    `proxy` gives the frame's light small and whole, from which neighbourhoods are judged; `keep(parts, make)` gives
    what was made of it before for the same parts of the development. `full_width` is the frame's own, by which
    detail knows its scale.
    """

    def __init__(
        self, sheet: Sheet, development: Development, optics: Optics | None, full_width: int,
        proxy: Callable[[], F32], keep: Callable[[tuple, Callable[[], Guide]], Guide] | None = None,
    ) -> None:
        super().__init__(sheet)
        self._d, self._optics = development, optics
        self._scale = sheet.width / full_width
        self._proxy = proxy
        self._keep = keep or (lambda parts, make: make())
        self._matrix = exposure_matrix(development)
        self._linear = is_linear(development)
        self._even = np.allclose(self._matrix, np.eye(3), atol=1e-7)
        self._contrast = ContrastTable(development.contrast_pct) if development.contrast_pct else None

    @cached_property
    def _guide(self) -> Guide:
        d, haze = self._d, bool(self._d.haze_pct)

        def make() -> Guide:
            return made_guide(cv2.transform(self._proxy(), exposure_matrix(replace(d, exposure_ev=0.0))), haze)

        return self._keep((d.temperature_k, d.tint, haze), make).exposed(d.exposure_ev)

    @cached_property
    def _noise(self) -> NDArray[np.float32]:
        x, y = max(0, (self.width - NOISE_SIDE) // 2), max(0, (self.height - NOISE_SIDE) // 2)
        part = self._sheet.light(x, y, min(self.width, x + NOISE_SIDE), min(self.height, y + NOISE_SIDE))
        return noise_level(self._exposed(part))

    def _exposed(self, light: F32) -> F32:
        return light if self._even else cv2.transform(light, self._matrix)

    def light(self, left: int, top: int, right: int, bottom: int) -> F32:
        """Developed working-space light of a box of pixels."""
        reach = 0 if self._linear else reach_px(self._d, self._scale)
        x0, y0 = max(0, left - reach), max(0, top - reach)
        x1, y1 = min(self.width, right + reach), min(self.height, bottom + reach)
        light = self._sheet.light(x0, y0, x1, y1)
        if self._optics is not None and self._optics.light:
            light = times(light, self._lift(x0, y0, x1, y1))
        light = self._exposed(light)
        if self._linear:
            return light
        d = self._d
        if d.noise_pct:
            light = denoised(light, d, self._noise, self._scale)
        if wants_guide(d):
            box = (x0 / self.width, y0 / self.height, x1 / self.width, y1 / self.height)
            light = locally_toned(light, d, self._guide, box)
        light = levels(light, d)
        if self._contrast is not None:
            light = self._contrast(light)
        light = saturated(light, d.saturation_pct)
        light = sharpened(light, d, self._scale)
        return np.ascontiguousarray(light[top - y0 : bottom - y0, left - x0 : right - x0])

    def _lift(self, left: int, top: int, right: int, bottom: int) -> F32:
        """What undoes the lens's edge darkening over a box, (h, w)."""
        half = 0.5 * float(np.hypot(self.width, self.height))
        x = np.arange(left, right, dtype=np.float64) - (self.width - 1) / 2
        y = np.arange(top, bottom, dtype=np.float64) - (self.height - 1) / 2
        r2 = ((x * x)[None] + (y * y)[:, None]) / half**2
        steps = np.linspace(0, 1.3, 2048)
        table = (1.0 / np.maximum(self._optics.light_kept(np.sqrt(steps)), 0.05)).astype(np.float32)
        at = np.minimum((r2 * (2047 / 1.3) + 0.5).astype(np.int32), 2047)
        return table[at]
