"""The light of what lies behind matched by two picked spots: the one is to look like the other."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.combine.meeting import own_gain
from windfell.engine.core import Engine
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.colour import luminance
from windfell.pixels.tiles import Region
from windfell.recipe.behind import Behind
from windfell.recipe.finishing import Finish
from windfell.recipe.limits import limits_of
from windfell.recipe.model import Project

F32 = NDArray[np.float32]
Share = tuple[float, float]

SIDE, HALF = 1200, 4
SAME = 0.01


def picked_light(engine: Engine, project: Project, front_id: str, behind_at: Share, front_at: Share, job: Job
                 ) -> tuple[float, float]:
    """(exposure in EV, warmth) with which what lies behind has at one spot (shares of the picture) the light and the
    colour that the picture has at another.

    Raises BadRequest where nothing is seen at a spot, or at the first nothing of what lies behind.
    """
    own = project.set(front_id)
    behind = own.behind
    bare = project.with_set(replace(own, finish=Finish()))
    without = bare.with_set(replace(bare.set(front_id), behind=replace(behind, on=False)))
    now, wanted = (_light_at(engine, bare, front_id, at, job) for at in (behind_at, front_at))
    plain = _light_at(engine, without, front_id, behind_at, job, False)
    if plain is not None and np.allclose(now, plain, rtol=SAME):
        raise BadRequest("At the first spot nothing is seen of what lies behind; press where it is seen.")
    bare_back = now / own_gain(behind.exposure_ev, behind.warmth)
    red, _, blue = np.log2(wanted / bare_back)
    warmth = float(np.clip(100 * (red - blue), *_limits("warmth")))
    leaning = bare_back * own_gain(0.0, warmth)
    ev = np.log2(float(luminance(wanted[None, None])[0, 0]) / float(luminance(leaning[None, None])[0, 0]))
    return round(float(np.clip(ev, *_limits("exposure_ev"))), 3), round(warmth, 1)


def _limits(name: str) -> tuple[float, float]:
    limits = limits_of(Behind, name)
    return limits["low"], limits["high"]


def _light_at(engine: Engine, project: Project, set_id: str, at: Share, job: Job, asked: bool = True) -> F32 | None:
    """The middle of the light (3,) around a spot; where nothing is seen BadRequest, or None if not `asked`."""
    width, height = engine.size(project, set_id, job)
    scale = min(1.0, SIDE / max(width, height))
    x, y = (round(a * s * scale) for a, s in zip(at, (width, height), strict=True))
    picture = engine.picture(project, set_id, scale, job, Region(x - HALF, y - HALF, 2 * HALF + 1, 2 * HALF + 1))
    seen = picture.light[picture.covered]
    if not len(seen):
        if asked:
            raise BadRequest("Nothing is seen at this spot; press on the picture.")
        return None
    return np.maximum(np.median(seen, axis=0), 1e-5).astype(np.float32)
