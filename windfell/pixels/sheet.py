"""A frame's pixels held ready at one scale, turned into light where they are read."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.profiles import Linearizer

F32 = NDArray[np.float32]

MOST_LIGHT = 65504.0  # of a half float, as light is kept


@dataclass(frozen=True)
class Sheet:
    """Pixels (h, w, 3): encoded with their `linearizer`, or working-space light without one.

    Light is held as float16, whose steps of 1/2000 are finer than a preview shows. `covered` (h, w): where the
    picture is; None for everywhere.
    """

    pixels: NDArray
    linearizer: Linearizer | None = None
    covered: NDArray[np.bool_] | None = None

    @property
    def width(self) -> int:
        return self.pixels.shape[1]

    @property
    def height(self) -> int:
        return self.pixels.shape[0]

    @property
    def nbytes(self) -> int:
        return self.pixels.nbytes

    def light(self, left: int, top: int, right: int, bottom: int) -> F32:
        """Working-space light of a box of pixels."""
        part = np.ascontiguousarray(self.pixels[top:bottom, left:right])
        return part.astype(np.float32) if self.linearizer is None else self.linearizer(part)


def real_light(light: NDArray) -> F32:
    """Light, float32, as it can be kept: no number is dark, infinite as much as a half float holds."""
    with np.errstate(over="ignore"):
        return np.nan_to_num(light.astype(np.float32), copy=False, nan=0.0, posinf=MOST_LIGHT, neginf=0.0)


def seen_at(covered: NDArray[np.bool_], where: F32) -> NDArray[np.bool_]:
    """Whether a picture is at px (h, w, 2) of it."""
    return cv2.remap(covered.astype(np.uint8), where, None, cv2.INTER_NEAREST, borderValue=0) > 0


class ChangedSheet:
    """Base of sheets whose light is that of another, changed on its way; `pixels` are as they were before."""

    linearizer = None

    def __init__(self, sheet: Sheet | ChangedSheet) -> None:
        self._sheet = sheet

    @property
    def width(self) -> int:
        return self._sheet.width

    @property
    def height(self) -> int:
        return self._sheet.height

    @property
    def nbytes(self) -> int:
        return self._sheet.nbytes

    @property
    def pixels(self) -> NDArray:
        return self._sheet.pixels

    @property
    def covered(self) -> NDArray[np.bool_] | None:
        return self._sheet.covered
