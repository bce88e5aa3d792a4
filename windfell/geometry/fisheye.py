"""Fisheye mappings: how the angle from the axis becomes a radius, both in focal lengths."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
WIDEST = np.radians(88.0)


@dataclass(frozen=True)
class Mapping:
    """`radius(angle)` and its inverse (Miyamoto 1964; Thoby for measured lenses); angles in rad."""

    name: str
    radius: Callable[[Array], Array]
    angle: Callable[[Array], Array]


def _arcsin(v: Array) -> Array:
    return np.arcsin(np.clip(v, -1.0, 1.0))


MAPPINGS = {
    m.name: m for m in (
        Mapping("equidistant", lambda a: a, lambda r: r),
        Mapping("equisolid", lambda a: 2 * np.sin(a / 2), lambda r: 2 * _arcsin(r / 2)),
        Mapping("stereographic", lambda a: 2 * np.tan(a / 2), lambda r: 2 * np.arctan(r / 2)),
        Mapping("orthographic", np.sin, _arcsin),
        Mapping("thoby", lambda a: 1.47 * np.sin(0.713 * a), lambda r: _arcsin(r / 1.47) / 0.713),
    )
}


def from_flat(name: str, flat: Array) -> Array:
    """Fisheye radius, in focal lengths, of what a flat view shows at `flat` = tan(angle)."""
    return MAPPINGS[name].radius(np.arctan(flat))


def to_flat(name: str, radius: Array) -> Array:
    """tan(angle) of a fisheye radius; what lies beyond WIDEST from the axis counts as there."""
    return np.tan(np.minimum(MAPPINGS[name].angle(radius), WIDEST))
