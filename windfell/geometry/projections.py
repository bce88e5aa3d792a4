"""All projections. A new one is one class and one line below."""

from __future__ import annotations

from functools import lru_cache

from windfell.geometry.azimuthal import EqualAreaFisheye, EquidistantFisheye, Rectilinear, Stereographic
from windfell.geometry.cylinders import (
    Cylindrical,
    Equirectangular,
    Mercator,
    Miller,
    Pannini,
    TransverseCylindrical,
)
from windfell.geometry.projection import Projection

PROJECTIONS: dict[str, Projection] = {
    p.name: p for p in (
        Rectilinear(), Cylindrical(), Equirectangular(), Pannini(), Mercator(), Miller(), Stereographic(),
        TransverseCylindrical(), EquidistantFisheye(), EqualAreaFisheye())
}


@lru_cache(maxsize=256)
def projection_of(name: str, parameters: tuple[float, ...] = ()) -> Projection:
    """The projection of a name, with its parameters set if there are any."""
    kind = PROJECTIONS[name]
    return kind.at(*parameters) if parameters else kind
