"""All kinds of adjustments in one table: what each does, and how far around a px it looks."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.finish.curve import curved
from windfell.finish.details import detail_reach, detailed
from windfell.finish.field import edged, levelled
from windfell.finish.hues import greyed, hues_changed, tinted
from windfell.finish.scene import Scene
from windfell.finish.soft import soft_reach, softened
from windfell.finish.starlight import stars_less, stars_reach
from windfell.finish.tones import coloured, dodged, lit
from windfell.recipe import finishing as f

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Kind:
    """`apply(light, values, scene)`: the light of the scene's region changed. `reach(values, scale)`: px."""

    title: str
    apply: Callable[[F32, object, Scene], F32]
    reach: Callable[[object, float], int] = lambda values, scale: 0


KINDS: dict[type, Kind] = {
    f.Light: Kind("Light", lit),
    f.Dodge: Kind("Dodge and burn", lambda light, v, _: dodged(light, v)),
    f.Colour: Kind("Colour", lambda light, v, _: coloured(light, v)),
    f.Curve: Kind("Curve", lambda light, v, _: curved(light, v)),
    f.Hues: Kind("Hues", lambda light, v, _: hues_changed(light, v)),
    f.Tinting: Kind("Tinting", lambda light, v, _: tinted(light, v)),
    f.Mono: Kind("Black and white", lambda light, v, _: greyed(light, v)),
    f.Detail: Kind("Detail", detailed, detail_reach),
    f.Softness: Kind("Softness", softened, soft_reach),
    f.Stars: Kind("Stars", stars_less, stars_reach),
    f.Vignette: Kind("Vignette", edged),
    f.Channels: Kind("Channels", levelled)}


def kind_of(adjustment: f.Adjustment) -> Kind:
    return KINDS[type(adjustment.values)]


def reach_of(adjustments: Sequence[f.Adjustment], scale: float) -> int:
    """How many px around a region matter to all of them together."""
    return sum(kind_of(a).reach(a.values, scale) for a in adjustments)


def adjusted(light: F32, adjustment: f.Adjustment, share: F32 | None, scene: Scene) -> F32:
    """The light with one adjustment, as far as `share` (h, w) and its strength say; what is neutral stays as it is,
    to the last bit.
    """
    if adjustment.idle:
        return light
    made = kind_of(adjustment).apply(light, adjustment.values, scene)
    strength = np.float32(adjustment.strength_pct / 100)
    if share is None:
        return made if strength == 1 else light + strength * (made - light)
    return light + (strength * share)[..., None] * (made - light)
