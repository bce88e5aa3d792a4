"""Holes in an area and specks beside it: counted, and mended by parts that are added."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.recipe.areas import Area, Meets, Patch, Point

F32 = NDArray[np.float32]

MOST = 400
EDGE_PX = 1.5


@dataclass(frozen=True, eq=False)
class Blemishes:
    """Outlines (n, 2) in px of holes (empty spots within) and specks (spots that stand alone) of a mask."""

    holes: tuple[NDArray[np.float64], ...]
    specks: tuple[NDArray[np.float64], ...]

    @property
    def words(self) -> str:
        def some(n: int, what: str) -> str:
            return f"{n or 'no'} {what}{'' if n == 1 else 's'}"

        return f"{some(len(self.holes), 'hole')}, {some(len(self.specks), 'speck')}"


def blemishes(share: F32, smaller_px: float) -> Blemishes:
    """Holes and specks of a mask (h, w) whose area is less than `smaller_px` px; those at the border are none."""
    full = share > 0.5
    return Blemishes(tuple(_small(~full, smaller_px)), tuple(_small(full, smaller_px)))


def _small(mask: NDArray[np.bool_], smaller: float) -> list[NDArray[np.float64]]:
    count, parts, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=4)
    h, w = mask.shape
    found = []
    for n in range(1, count):
        x, y, wide, high, size = stats[n]
        if size >= smaller or x == 0 or y == 0 or x + wide == w or y + high == h:
            continue
        part = np.pad((parts[y : y + high, x : x + wide] == n).astype(np.uint8), 3)
        grown = cv2.dilate(part, np.ones((3, 3), np.uint8))
        outlines, _ = cv2.findContours(grown, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
        outline = max(outlines, key=len)[:, 0].astype(float)
        if len(outline) > 2:
            found.append(outline + [x - 3, y - 3])
        if len(found) == MOST:
            break
    return found


def mended(area: Area, found: Blemishes, points_of: Callable[[NDArray], Sequence[Point]], softness: float) -> Area:
    """The area with its holes filled, its specks taken away; `points_of` takes px (n, 2) to points of the ground."""
    sides = (Meets.TAKE, Meets.ADD) if area.inverted else (Meets.ADD, Meets.TAKE)
    parts = [Patch(tuple(points_of(o)), softness, meets=meets)
             for outlines, meets in zip((found.holes, found.specks), sides, strict=True) for o in outlines]
    return replace(area, parts=(*area.parts, *parts))
