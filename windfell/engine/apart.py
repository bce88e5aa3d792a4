"""Whether frames of a series that nobody aligned lie apart."""

from __future__ import annotations

from windfell.align.apart import SIDE, apart_px
from windfell.engine.core import Engine
from windfell.engine.greys import small_grey
from windfell.engine.sources import Opened
from windfell.job import Job
from windfell.recipe.model import Project


def lying_apart(engine: Engine, project: Project, set_id: str, job: Job) -> float:
    """How far (px at full size) the middle or the last frame of a set lies from the first as they were taken; 0 if
    together, or if that is not seen at a glance.
    """
    own = project.set(set_id)
    if len(own.used) < 2:
        return 0.0
    opened = engine.opened_all(project, own, job)
    return how_far_apart(engine, [opened[n] for n in sorted({0, len(opened) // 2, len(opened) - 1})], job)


def how_far_apart(engine: Engine, some: list[Opened], job: Job) -> float:
    """How far (px at full size) any of some frames lies from the first; 0 if that is not seen at a glance."""
    longest = max(some[0].size)
    if any(o.size != some[0].size for o in some) or longest < SIDE:
        return 0.0
    k = SIDE / longest
    size = round(some[0].size[0] * k), round(some[0].size[1] * k)
    first, *others = job.map(lambda o: small_grey(engine.greys, o, size, job), some, "looking whether frames moved")
    return max(apart_px(first, other) for other in others) / k
