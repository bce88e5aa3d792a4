"""Regions of a picture and the order they are worked in."""

from __future__ import annotations

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


def tiled(width: int, height: int, across: int, down: int) -> list[list[Region]]:
    """Rows of regions that cover the picture, each at most across x down px."""
    return [
        [
            Region(x, y, min(across, width - x), min(down, height - y))
            for x in range(0, width, across)
        ]
        for y in range(0, height, down)
    ]
