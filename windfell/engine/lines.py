"""A line drawn on the picture, given to the frame that shows both of its ends best."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from windfell.engine.core import Engine
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.recipe.model import PlumbLine, Project
from windfell.recipe.outline import LineKind


def line_on_frame(
    engine: Engine, project: Project, set_id: str, ends: Sequence[tuple[float, float]], kind: LineKind, job: Job
) -> PlumbLine:
    """The line of a frame that ends (fractions of the picture's width and height) stand for.

    Raises BadRequest if no frame shows both ends.
    """
    stages = engine.stages(project, set_id)
    canvas, found = stages.canvas(job), stages.registration(job)
    places = np.array(ends, float) * [canvas.width, canvas.height] - 0.5
    rays = canvas.rays(places)
    used = stages.set.used
    best, depth, points = None, 0.0, None
    for n, posed in zip(found.placed, stages.posed(job), strict=True):
        # lines count where a lens without optics would show them
        plain = replace(posed, lens=replace(posed.lens, optics=None))
        seen = plain.project(rays)
        w, h = plain.lens.width, plain.lens.height
        inside = float(np.min(np.concatenate([seen, [w - 1, h - 1] - seen])))
        if np.isfinite(inside) and inside > depth:
            best, depth, points = n, inside, seen
    if best is None:
        raise BadRequest("No single frame shows both ends of this line; draw a shorter one.")
    return PlumbLine(used[best].id, tuple((float(x), float(y)) for x, y in points), kind)
