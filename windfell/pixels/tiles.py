"""Regions of a picture and the order they are worked in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Region:
    """A rectangle of pixels; it may reach beyond the picture it is asked of."""

    left: int
    top: int
    width: int
    height: int

    def grown(self, by: int) -> Region:
        return Region(self.left - by, self.top - by, self.width + 2 * by, self.height + 2 * by)

    def blocks(self, side: int) -> Region:
        """Grown to whole blocks of side x side px."""
        left, top = self.left // side * side, self.top // side * side
        right, bottom = -(-(self.left + self.width) // side) * side, -(-(self.top + self.height) // side) * side
        return Region(left, top, right - left, bottom - top)

    def shared(self, other: Region) -> Region | None:
        """What both hold, or None."""
        left, top = max(self.left, other.left), max(self.top, other.top)
        right = min(self.left + self.width, other.left + other.width)
        bottom = min(self.top + self.height, other.top + other.height)
        return Region(left, top, right - left, bottom - top) if right > left and bottom > top else None

    def within(self, outer: Region) -> tuple[slice, slice]:
        """The rows and columns it takes of an outer region's values."""
        top, left = self.top - outer.top, self.left - outer.left
        return slice(top, top + self.height), slice(left, left + self.width)


def holding(regions: Sequence[Region]) -> Region:
    """The smallest region that holds all of them."""
    left, top = min(r.left for r in regions), min(r.top for r in regions)
    return Region(left, top, max(r.left + r.width for r in regions) - left,
                  max(r.top + r.height for r in regions) - top)


def tiled(width: int, height: int, across: int, down: int) -> list[list[Region]]:
    """Rows of regions that cover the picture, each at most across x down px."""
    return [
        [
            Region(x, y, min(across, width - x), min(down, height - y))
            for x in range(0, width, across)
        ]
        for y in range(0, height, down)
    ]


def scaled_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """A size at another scale, at least one pixel."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))
