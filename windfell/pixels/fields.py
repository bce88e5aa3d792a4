"""Frames of no light and of an even field, recognised by what they show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import luminance

# linear light, 1 is white
DARK_MOST = 0.004
FLAT_LEAST, FLAT_MOST, BURNT = 0.03, 0.75, 0.9
# EV: from rim to middle, and what is left of a smooth surface of the fourth degree
FALLOFF_EV, ROUGH_EV, SPOT_EV = 2.0, 0.01, 0.06
DEGREE = 4
# as much light was let in as for those that show something, and they show much more, also where they are darkest
ALIKE_EV, BRIGHTER = 0.5, 3.0


class Field(StrEnum):
    """`DARK`: the lens was covered, so that it holds the sensor's own signal alone. `FLAT`: an evenly lit surface,
    which holds the lens's falloff and the sensor's dust.
    """

    DARK = "dark"
    FLAT = "flat"


@dataclass(frozen=True)
class FieldLook:
    """What a frame looks like, seen alone; `low` and `high` are how bright it is where it is darkest (the first
    quarter) and brightest, linear; `exposure_ev` is log2 of the light that was let in, None if not known.
    """

    field: Field | None
    low: float
    high: float
    exposure_ev: float | None = None


def field_of(small: NDArray, exposure_ev: float | None = None) -> FieldLook:
    """Looks at a small picture (h, w, 3) of a frame, linear light, 100 to 300 px: so small, noise is averaged away;
    single hot px are taken out. A field is flat if a surface of the fourth degree explains its log light: falloff is
    that smooth, things are not.
    """
    y = cv2.medianBlur(np.ascontiguousarray(luminance(np.asarray(small, np.float32)), np.float32), 3)
    low, high = (float(np.quantile(y, q)) for q in (0.25, 0.999))
    return FieldLook(Field.DARK if high <= DARK_MOST else Field.FLAT if _is_flat(y) else None, low, high, exposure_ev)


def _is_flat(y: NDArray[np.float32]) -> bool:
    if not FLAT_LEAST < np.median(y) < FLAT_MOST or np.quantile(y, 0.995) > BURNT or y.min() <= 0:
        return False
    surface, rough = _smooth_part(np.log2(y))
    return bool(np.ptp(surface) < FALLOFF_EV and 1.4826 * np.median(np.abs(rough)) < ROUGH_EV
                and np.quantile(np.abs(rough), 0.995) < SPOT_EV)


def was_covered(one: FieldLook, lights: Sequence[FieldLook]) -> bool | None:
    """Whether a black frame is a dark beside frames that show something: at their exposure it would have shown what
    they do, had the lens been open. None if exposures are not known. A night that is as black in the lights, or a
    bracket's shortest exposure, is no dark.
    """
    bright = float(np.median([x.low for x in lights])) if lights else 0.0
    if one.field is not Field.DARK or bright < BRIGHTER * max(one.high, DARK_MOST / 4):
        return False
    known = [x.exposure_ev for x in lights if x.exposure_ev is not None]
    if one.exposure_ev is None or not known:
        return None
    return bool(abs(one.exposure_ev - np.median(known)) < ALIKE_EV)


def _smooth_part(values: NDArray[np.float32]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The polynomial surface through values (h, w) by least squares, and what it leaves."""
    terms, inverse = _terms(*values.shape)
    surface = (terms @ (inverse @ (terms.T @ values.ravel().astype(np.float64)))).reshape(values.shape)
    return surface, values - surface


@lru_cache(4)
def _terms(h: int, w: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The surface's terms at each of h x w px, and the inverse of their moments; few of them, so that is well
    conditioned.
    """
    y, x = (v.ravel() for v in np.meshgrid(np.linspace(-1, 1, h), np.linspace(-1, 1, w), indexing="ij"))
    terms = np.stack([x**i * y**j for i in range(DEGREE + 1) for j in range(DEGREE + 1 - i)], axis=1)
    return terms, np.linalg.inv(terms.T @ terms)
