"""Areas: where something holds, softly. Frozen data on the ground of a set.

The ground of a panorama is the sphere around it, (longitude, latitude) in degrees, up positive; where the camera
slid, the plane before it, likewise in degrees of its middle. The ground of a stack is its reference in px at full
size, that of a frame the frame in px as the file has them. Lengths (`size`, `feather`, `grow`) count likewise.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from windfell.recipe.limits import Unknown, number

Point = tuple[float, float]
MOST_LENGTH = 1e6


class Meets(StrEnum):
    """How a part meets the parts before it. The first part that takes away takes from everything."""

    ADD = "add"
    TAKE = "take"
    BOTH = "both"


class Read(StrEnum):
    """What a range is read from: brightness as an eye sees it, 0 to 100 %, or hue, 0 to 360°."""

    BRIGHTNESS = "brightness"
    HUE = "hue"


@dataclass(frozen=True)
class Stroke:
    """A brush drawn along points. `pressure`: the share of the size at each point; empty for the whole everywhere."""

    points: tuple[Point, ...]
    size: float = number(5.0, 1e-4, MOST_LENGTH)
    softness_pct: float = number(50.0, 0.0, 100.0, "%")
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    pressure: tuple[float, ...] = ()
    meets: Meets = Meets.ADD
    unknown: Unknown = ()


@dataclass(frozen=True)
class Patch:
    """What lies within an outline. `softness`: how far its edge passes over."""

    corners: tuple[Point, ...]
    softness: float = number(0.0, 0.0, MOST_LENGTH)
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    meets: Meets = Meets.ADD
    unknown: Unknown = ()


@dataclass(frozen=True)
class Gradient:
    """All up to a line through `start`, nothing beyond one through `end`; the lines stand across the way between."""

    start: Point
    end: Point
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    meets: Meets = Meets.ADD
    unknown: Unknown = ()


@dataclass(frozen=True)
class Ellipse:
    """`across` and `down` are its whole axes, turned clockwise by `turn_deg`."""

    middle: Point
    across: float = number(20.0, 1e-4, MOST_LENGTH)
    down: float = number(20.0, 1e-4, MOST_LENGTH)
    turn_deg: float = number(0.0, -180.0, 180.0, "°")
    softness_pct: float = number(30.0, 0.0, 100.0, "%")
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    meets: Meets = Meets.ADD
    unknown: Unknown = ()


@dataclass(frozen=True)
class Range:
    """What the picture shows between two values; `softness` is how far beyond them it passes over. A hue's range may
    go around 0°, with `low` above `high`.
    """

    of: Read = Read.BRIGHTNESS
    low: float = number(60.0, 0.0, 360.0)
    high: float = number(100.0, 0.0, 360.0)
    softness: float = number(10.0, 0.0, 180.0)
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    meets: Meets = Meets.BOTH
    unknown: Unknown = ()


@dataclass(frozen=True)
class Grown:
    """The thing that rough strokes touch, found by the edges of the picture. `outside`: strokes on what is not it."""

    inside: tuple[tuple[Point, ...], ...]
    outside: tuple[tuple[Point, ...], ...] = ()
    size: float = number(1.0, 1e-4, MOST_LENGTH)
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    meets: Meets = Meets.ADD
    unknown: Unknown = ()


@dataclass(frozen=True)
class Found:
    """A mask by the name of its content, laid all over the ground of a frame or a stack's reference; on that of a
    panorama it is the whole sphere unrolled.
    """

    name: str
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    meets: Meets = Meets.ADD
    unknown: Unknown = ()


Part = Stroke | Patch | Gradient | Ellipse | Range | Grown | Found
PART_WORDS = {
    "stroke": Stroke, "outline": Patch, "gradient": Gradient, "ellipse": Ellipse, "range": Range, "grown": Grown,
    "found": Found}


@dataclass(frozen=True)
class Area:
    """Parts in their order, then grown (shrunk where negative), feathered, inverted and weakened as a whole."""

    parts: tuple[Part, ...] = ()
    inverted: bool = False
    grow: float = number(0.0, -MOST_LENGTH, MOST_LENGTH)
    feather: float = number(0.0, 0.0, MOST_LENGTH)
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    unknown: Unknown = ()

    @property
    def reads(self) -> bool:
        """Whether it hangs on what the picture shows."""
        return any(isinstance(p, Range | Grown) for p in self.parts)

    @property
    def masks(self) -> tuple[str, ...]:
        """Names of the masks that it holds."""
        return tuple(p.name for p in self.parts if isinstance(p, Found))

    @property
    def empty(self) -> bool:
        """Whether it surely holds nowhere."""
        return self.strength_pct == 0 or (not self.parts and not self.inverted)
