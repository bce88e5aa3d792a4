"""Files as the grouping of a card sees them, and the groups that they form."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from windfell.geometry import planar

SIZE_STEP = 0.02


class Form(StrEnum):
    """What a proposed set is: a turned camera, a still one, a still one at several exposures."""

    SWEEP = "sweep"
    SERIES = "series"
    BRACKET = "bracket"
    VIDEO = "video"


@dataclass(frozen=True)
class Shot:
    """One file as the grouping sees it. `exposure_ev` is the light gathered, log2."""

    path: str
    size: tuple[int, int]
    taken: datetime | None = None
    exposure_ev: float | None = None
    focal_mm: float | None = None
    camera: str | None = None
    raw: bool = False
    video: bool = False

    @property
    def stem(self) -> str:
        return os.path.splitext(self.path)[0].lower()


@dataclass(frozen=True)
class Group:
    """Shots that belong together, in order; `aside` are the paths of those to be kept aside: doubles, and lone shots
    that are offered here.

    A bracket at several positions has `positions`, each a tuple of shots.
    """

    form: Form
    shots: tuple[Shot, ...]
    aside: frozenset[str] = frozenset()
    positions: tuple[tuple[Shot, ...], ...] = ()


@dataclass(frozen=True)
class Relation:
    """Two shots show the same: `onto` (3, 3) takes fractions 0..1 of the first to those of the second, which is
    brighter by `gain_ev`, log2, where that could be told.
    """

    onto: NDArray[np.float64]
    gain_ev: float | None = None

    @property
    def overlap(self) -> float:
        return planar.overlap(self.onto)


Relations = Mapping[tuple[str, str], Relation]


def alike_size(a: Shot, b: Shot, upright: bool = False) -> bool:
    """Whether both have about one size, either way up unless `upright`."""
    one, two = (a.size, b.size) if upright else (sorted(a.size), sorted(b.size))
    return all(abs(x - y) <= SIZE_STEP * max(x, y) for x, y in zip(one, two, strict=True))


def alike_shape(a: Shot, b: Shot) -> bool:
    """Whether both have about one ratio of sides, either way up."""
    one, two = (min(s.size) / max(s.size) for s in (a, b))
    return abs(one - two) <= SIZE_STEP * max(one, two)


def natural(shot: Shot) -> list:
    """A key that sorts names as people count: 9 before 10."""
    return [int(p) if p.isdigit() else p for p in re.split(r"(\d+)", shot.path.lower())]
