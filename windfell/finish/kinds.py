"""All kinds of adjustments in one table: what each does, and how far around a px it looks."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import groupby

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
from windfell.pixels.planes import mixed
from windfell.pixels.tiles import Region
from windfell.recipe import finishing as f

F32 = NDArray[np.float32]
# so many rows at a time stay near the processor, and are enough for two cores not to wait for each other
ROWS = 96


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


@dataclass(frozen=True, eq=False)
class Step:
    """One adjustment at work: where (`share` (h, w), None is everywhere) and in what scene."""

    adjustment: f.Adjustment
    share: F32 | None
    scene: Scene

    @property
    def looks_around(self) -> bool:
        return reach_of((self.adjustment,), self.scene.scale) > 0

    def rows(self, top: int, bottom: int) -> Step:
        region = self.scene.region
        part = Region(region.left, region.top + top, region.width, bottom - top)
        share = None if self.share is None else self.share[top:bottom]
        return replace(self, share=share, scene=replace(self.scene, region=part))


def stepped(light: F32, steps: Sequence[Step], check: Callable[[], None] = lambda: None) -> F32:
    """The light (h, w, 3) after all steps; those in a row that do not look around a px go band by band together."""
    steps = [s for s in steps if not s.adjustment.idle]
    height = light.shape[0]
    for around, run in groupby(steps, lambda s: s.looks_around):
        check()
        run = tuple(run)
        if around or height <= ROWS:
            light = _through(light, run)
            continue
        made = np.empty_like(light)
        for top in range(0, height, ROWS):
            bottom = min(top + ROWS, height)
            made[top:bottom] = _through(light[top:bottom], [s.rows(top, bottom) for s in run])
        light = made
    return light


def adjusted(light: F32, adjustment: f.Adjustment, share: F32 | None, scene: Scene) -> F32:
    """The light with one adjustment, as far as `share` (h, w) and its strength say; what is neutral stays as it is,
    to the last bit.
    """
    return stepped(light, (Step(adjustment, share, scene),))


def _through(light: F32, steps: Sequence[Step]) -> F32:
    for step in steps:
        adjustment, share = step.adjustment, step.share
        made = kind_of(adjustment).apply(np.ascontiguousarray(light), adjustment.values, step.scene)
        strength = np.float32(adjustment.strength_pct / 100)
        if share is not None:
            light = mixed(light, made, strength * share)
        else:
            light = made if strength == 1 else light + strength * (made - light)
    return light
