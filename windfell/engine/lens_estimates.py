"""A lens estimated from the set itself: edge darkening from overlaps, fringing from edges."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from windfell.develop.fringes import colour_sizes, with_edge_light
from windfell.engine.core import Engine
from windfell.engine.panorama import PanoramaStages
from windfell.errors import CannotJoin
from windfell.job import Job
from windfell.pixels.resample import shrunk
from windfell.recipe.model import Kind, LensCorrection, Project

SIDE = 2400
MOST_FRAMES = 4


def estimated_correction(
    engine: Engine, project: Project, set_id: str, start: LensCorrection, job: Job
) -> LensCorrection:
    """`start` with v1-v3, red and blue as the set's frames show them.

    Edge darkening needs frames that overlap at different distances from the middle, so a
    panorama; fringing any frames with edges. Raises CannotJoin where neither can be told.
    """
    found, told = start, False
    plain = replace(start, v1=0.0, v2=0.0, v3=0.0)
    frame_set = project.set(set_id)
    bare = tuple(replace(f, lens=replace(f.lens, v1=0.0, v2=0.0, v3=0.0)) for f in frame_set.frames)
    stages = engine.stages(project.with_set(replace(frame_set, frames=bare)), set_id)
    if isinstance(stages, PanoramaStages):
        falloff = stages.shared_falloff(job)
        if any(falloff):
            found, told = with_edge_light(plain, falloff), True
    frames = project.set(set_id).used[:MOST_FRAMES]
    pictures = [_light(engine, project, f, job) for f in job.over(frames, "measuring fringes")]
    sizes = colour_sizes(pictures)
    if sizes is not None:
        found, told = replace(found, red=round(sizes[0], 6), blue=round(sizes[1], 6)), True
    if not told:
        kind = project.set(set_id).kind
        why = "a still series does not show it" if kind is Kind.STACK else "the overlaps do not show it"
        raise CannotJoin(f"The lens cannot be told from this set: {why}, and there are too few sharp edges.")
    return found


def _light(engine: Engine, project: Project, frame, job: Job) -> np.ndarray:
    opened = engine.opened(project, frame, job)
    scale = min(1.0, SIDE / max(opened.size))
    sheet = opened.sheet(scale, job)
    light = sheet.light(0, 0, sheet.width, sheet.height)
    k = min(1.0, SIDE / max(sheet.width, sheet.height))
    return shrunk(light, max(1, round(sheet.width * k)), max(1, round(sheet.height * k)))
