"""What the registration of a panorama found: frames placed or not, and how well they hold together."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.level import levelled
from windfell.geometry.camera import Lens

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Placed:
    """A frame's lens and its camera-to-world rotation (3, 3); rms over its points in px.

    Standard errors: `turn_error` of its direction, rad, `lens_error` of its lens in the order of LENS_PARTS.
    """

    lens: Lens
    rotation: Array
    rms_px: float
    turn_error: float = 0.0
    lens_error: tuple[float, ...] = ()


@dataclass(frozen=True)
class Unplaced:
    """A frame that could not be placed, and why."""

    reason: str


@dataclass(frozen=True)
class PairFit:
    """A link after the adjustment: the points that hold, (n, 2) px each, and their rms in px."""

    a: int
    b: int
    points_a: Array
    points_b: Array
    rms_px: float


@dataclass(frozen=True)
class PanoramaRegistration:
    frames: tuple[Placed | Unplaced, ...]
    links: tuple[PairFit, ...]
    rms_px: float

    @property
    def placed(self) -> list[int]:
        return [n for n, f in enumerate(self.frames) if isinstance(f, Placed)]


def oriented(registration: PanoramaRegistration, level: bool) -> PanoramaRegistration:
    """The registration in a level world, or in the axes of the first placed frame."""
    if not level:
        return registration
    placed = registration.placed
    turned = dict(zip(placed, levelled([registration.frames[n].rotation for n in placed]), strict=True))
    frames = tuple(
        replace(f, rotation=turned[n]) if n in turned else f
        for n, f in enumerate(registration.frames)
    )
    return replace(registration, frames=frames)
