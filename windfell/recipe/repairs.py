"""Repairs: pieces laid over a picture where an area says, which stay on their place of the set's ground."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from windfell.recipe.areas import Area, Point
from windfell.recipe.limits import Unknown, number


class Mend(StrEnum):
    """Where a repair's pixels come from: the picture elsewhere, as it is or with the light of here; its surroundings,
    smoothly or with their texture; another frame alone; or a picture file. `grow` fills what no frame covers with
    texture, within the picture's own outline.
    """

    CLONE = "clone"
    HEAL = "heal"
    FILL = "fill"
    TEXTURE = "texture"
    FRAME = "frame"
    PICTURE = "picture"
    GROW = "grow"


@dataclass(frozen=True)
class Repair:
    """A clone shows at `to` what the picture shows at `source` (points of the ground), turned clockwise and sized
    about it; a heal brings it to the light around. Of textures `answer` is one of several. A picture is a flat view
    that looks to `yaw_deg`, `pitch_deg` of the level world, `hfov_deg` wide; without parts in its area all is laid.
    `frame`: the id of one to show. `sources`: where texture is taken from (inverted: where it is not); None for
    anywhere around. `most_pct`: more of the picture than that is not made up by a `grow`, which is left out then.
    """

    way: Mend
    area: Area = Area()
    source: Point | None = None
    to: Point | None = None
    path: str = ""
    yaw_deg: float = number(0.0, -360.0, 360.0, "°")
    pitch_deg: float = number(-90.0, -90.0, 90.0, "°")
    roll_deg: float = number(0.0, -180.0, 180.0, "°")
    hfov_deg: float = number(90.0, 1.0, 170.0, "°")
    on: bool = True
    frame: str | None = None
    answer: int = number(0, 0, 99)
    sources: Area | None = None
    most_pct: float = number(25.0, 0.0, 100.0, "%")
    turn_deg: float = number(0.0, -180.0, 180.0, "°")
    size_pct: float = number(100.0, 25.0, 400.0, "%")
    unknown: Unknown = ()
