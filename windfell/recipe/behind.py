"""What lies behind a panorama: another one around the same place, seen where the first has its sky."""

from __future__ import annotations

from dataclasses import dataclass

from windfell.recipe.areas import Area
from windfell.recipe.limits import Unknown, number


@dataclass(frozen=True)
class Behind:
    """The set (id) behind, seen within `area` on the sphere of the set in front. It is turned by yaw, pitch and roll
    from its own level world into that of the front. `warmth` as that of a stack's layer.
    """

    set: str
    area: Area = Area()
    yaw_deg: float = number(0.0, -180.0, 180.0, "°")
    pitch_deg: float = number(0.0, -90.0, 90.0, "°")
    roll_deg: float = number(0.0, -180.0, 180.0, "°")
    exposure_ev: float = number(0.0, -10.0, 10.0, "EV")
    warmth: float = number(0.0, -100.0, 100.0)
    on: bool = True
    unknown: Unknown = ()
