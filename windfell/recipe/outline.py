"""A picture's outline: left, trimmed or pulled, cut, bent by hand, and the lines it obeys."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from windfell.recipe.limits import Unknown, number


class Edges(StrEnum):
    LEAVE = "leave"
    TRIM = "trim"
    PULL = "pull"


class LineKind(StrEnum):
    LEVEL = "level"
    UPRIGHT = "upright"
    STRAIGHT = "straight"


@dataclass(frozen=True)
class Ratio:
    """The picture's width to its height."""

    width: float = number(3.0, 0.01, 1000.0)
    height: float = number(2.0, 0.01, 1000.0)
    unknown: Unknown = ()


@dataclass(frozen=True)
class Crop:
    """The part that is kept, in shares of the picture as it would be without; it may reach beyond it."""

    left_pct: float = number(0.0, -500.0, 500.0, "%")
    top_pct: float = number(0.0, -500.0, 500.0, "%")
    width_pct: float = number(100.0, 0.1, 1000.0, "%")
    height_pct: float = number(100.0, 0.1, 1000.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Room:
    """Empty room added on the sides, in shares of the picture's height (top, bottom) and width (left, right)."""

    top_pct: float = number(0.0, 0.0, 500.0, "%")
    right_pct: float = number(0.0, 0.0, 500.0, "%")
    bottom_pct: float = number(0.0, 0.0, 500.0, "%")
    left_pct: float = number(0.0, 0.0, 500.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class StiffPatch:
    """A region that a pull must not bend: corners as directions, (longitude, latitude) in degrees, up positive."""

    corners: tuple[tuple[float, float], ...]
    unknown: Unknown = ()


@dataclass(frozen=True)
class NetPoint:
    """A node of the net laid over the picture, moved by hand by so much of its width and height."""

    column: int = number(0, 0, 8)
    row: int = number(0, 0, 4)
    right_pct: float = number(0.0, -40.0, 40.0, "%")
    down_pct: float = number(0.0, -40.0, 40.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class BentLine:
    """A line drawn on the picture, through directions (longitude, latitude) in degrees; of a stack through shares
    (x, y) of its reference in %. The picture bends until it is straight, level or upright, as far as `strength_pct`
    says.
    """

    points: tuple[tuple[float, float], ...]
    kind: LineKind
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Outline:
    """What becomes of the ragged edge, and what part of the picture is kept.

    Each side is pulled by `pull_pct` times its own share. `horizon_pct`, `upright_pct`, `straight_pct`: how much the
    horizon, upright things and straight edges matter to the pull. A ratio asks for that shape of the picture.
    """

    edges: Edges = Edges.LEAVE
    pull_pct: float = number(100.0, 0.0, 100.0, "%")
    top_pct: float = number(100.0, 0.0, 100.0, "%")
    right_pct: float = number(100.0, 0.0, 100.0, "%")
    bottom_pct: float = number(100.0, 0.0, 100.0, "%")
    left_pct: float = number(100.0, 0.0, 100.0, "%")
    horizon_pct: float = number(50.0, 0.0, 100.0, "%")
    upright_pct: float = number(50.0, 0.0, 100.0, "%")
    straight_pct: float = number(50.0, 0.0, 100.0, "%")
    ratio: Ratio | None = None
    crop: Crop | None = None
    room: Room = Room()
    stiff: tuple[StiffPatch, ...] = ()
    net: tuple[NetPoint, ...] = ()
    lines: tuple[BentLine, ...] = ()
    unknown: Unknown = ()

    @property
    def amounts(self) -> tuple[float, float, float, float]:
        """How far top, right, bottom and left are pulled, 0..1."""
        if self.edges is not Edges.PULL:
            return (0.0, 0.0, 0.0, 0.0)
        sides = self.top_pct, self.right_pct, self.bottom_pct, self.left_pct
        return tuple(self.pull_pct * s / 10_000 for s in sides)
