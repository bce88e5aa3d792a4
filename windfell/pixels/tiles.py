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


def tiled(width: int, height: int, side: int) -> list[list[Region]]:
    """Rows of regions that cover the picture, each at most side x side."""
    return [
        [
            Region(x, y, min(side, width - x), min(side, height - y))
            for x in range(0, width, side)
        ]
        for y in range(0, height, side)
    ]


def strips(width: int, height: int, rows: int) -> list[Region]:
    """Full-width regions of at most `rows` rows, from the top."""
    return [Region(0, y, width, min(rows, height - y)) for y in range(0, height, rows)]
