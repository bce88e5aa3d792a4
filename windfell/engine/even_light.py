"""The light of a series made even before it is looked for what moves: each frame as bright and as white as the middle
one, so that a plate ruled of all of them has no ghosts of what passed.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from windfell.develop.match import Drift, Shared, matched, shared_light
from windfell.engine.moving_lights import MovingLights, look_scale
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.recipe.model import FrameSet
from windfell.subjects import alike

LOOK_SIDE = 320
LEAST_EV, LEAST_MIRED, LEAST_TINT = 0.015, 2.0, 2.0
MOST_EV = 1.5


def evened(stages: PileStages, base: int | None, job: Job) -> FrameSet:
    """The set with its frames brought to the light of frame `base` (of those in use), or of the one of middle
    brightness. Frames that are off by more than a drift, and a set without any drift, stay as they are.
    """
    own, used = stages.set, stages.set.used
    lights = MovingLights(stages, look_scale(len(used), stages.whole_size(job), LOOK_SIDE), job)
    shared = [s for k in range(1, len(lights)) if (s := _both(lights, k)) is not None]
    if not shared:
        return own
    developments = [used[n].development for n in lights.numbers]
    drifts = matched(developments, 0, shared, job, tone=False).drifts
    goal = lights.numbers.index(base) if base in lights.numbers else _middle(drifts)
    found = matched(developments, goal, shared, job, tone=False)
    each = zip(lights.numbers, found.developments, found.drifts, strict=True)
    drifted = {used[n].id: (made, d) for n, made, d in each if d is not None and abs(d.ev) <= MOST_EV}
    if not any(abs(d.ev) > LEAST_EV or abs(d.mired) > LEAST_MIRED or abs(d.tint) > LEAST_TINT
               for _, d in drifted.values()):
        return own
    return replace(own, frames=tuple(
        replace(f, development=drifted[f.id][0]) if f.id in drifted else f for f in own.frames))


def _both(lights: MovingLights, k: int) -> Shared | None:
    """What frame `k` and the first show of the same spots; None where they show different places."""
    if alike.matched(lights.plain(k), lights.plain(0), lights.seen(k)).agrees < alike.AGREES_LEAST:
        return None
    both = lights.seen(0) & lights.seen(k)
    return shared_light(0, k, lights.plain(0), lights.plain(k), both, np.random.default_rng(k))


def _middle(drifts: tuple[Drift | None, ...]) -> int:
    """The frame of middle brightness."""
    known = sorted((d.ev, n) for n, d in enumerate(drifts) if d is not None)
    return known[len(known) // 2][1] if known else 0
