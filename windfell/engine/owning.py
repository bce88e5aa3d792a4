"""Spots of a panorama given to a frame: areas on its ground, so that they stay where they were put."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from windfell.engine.areas import ground_points
from windfell.engine.core import Engine
from windfell.engine.panorama import PanoramaStages
from windfell.engine.seam_walk import Stretch, worst_near
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.resample import inside_frame
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Stroke
from windfell.recipe.edits import Edit
from windfell.recipe.giving import given_area, with_given
from windfell.recipe.model import Project

# a way around a spot: how wide, in radii; how far its seam is looked at; how much less it is noticed: better, well
WIDER = (1.0, 2.5)
AROUND, BETTER, WELL = 8.0, 0.85, 0.6


def given_spot(
    stages: PanoramaStages, project: Project, n: int, x: float, y: float, radius: float, job: Job
) -> Edit:
    """The edit that gives a round spot of the picture (px at full size) to placed frame `n`.

    What other frames were to keep there they no longer are. Raises BadRequest if the frame does not show the spot.
    """
    frame = stages.set.used[stages.registration(job).placed[n]]
    own = project.set(stages.set.id)
    number = own.number_of(frame.id)
    if n not in candidates_at(stages, x, y, job)[1]:
        raise BadRequest(f"Frame {number} does not show this spot.")
    canvas, ground = stages.canvas(job), stages.area_ground
    rays = canvas.rays(np.array([[x, y], [x - radius, y], [x + radius, y], [x, y - radius], [x, y + radius]]))
    at = ground.of_rays(rays)
    size = (np.linalg.norm(at[2] - at[1]) + np.linalg.norm(at[4] - at[3])) / 2 / ground.unit
    area = given_area(own, frame.id, True)
    area = replace(area, parts=(*area.parts, Stroke(ground_points(ground, rays[:1]), round(float(size), 4), 0.0)))
    return Edit(f"give a spot to frame {number}", with_given(project, own.id, frame.id, True, area))


def laid_elsewhere(engine: Engine, project: Project, set_id: str, stretch: Stretch, radius: float, job: Job) -> Edit:
    """The edit that lays a seam around a stretch of it: the spot, of a radius in px at full size or wider, goes to
    the one or the other frame, by which of these ways the seam is least noticed all around.

    Raises BadRequest if none of them is less noticed than now.
    """
    x, y, reach = stretch.x, stretch.y, AROUND * radius
    now = worst_near(engine.stages(project, set_id), x, y, reach, job)
    ways: list[tuple[float, Edit]] = []
    best = None
    for times in WIDER:
        for n in (stretch.a, stretch.b):
            job.check()
            try:
                edit = given_spot(engine.stages(project, set_id), project, n, x, y, times * radius, job)
            except BadRequest:
                continue
            ways.append((worst_near(engine.stages(edit.project, set_id), x, y, reach, job), edit))
        best = min(ways, key=lambda w: w[0], default=None)
        if best is not None and best[0] < WELL * now:
            break
    if best is None or best[0] > BETTER * now:
        raise BadRequest("No way around this spot would be noticed less; bend the frames together, or take another.")
    return Edit("lay a seam elsewhere", best[1].project)


def candidates_at(stages: PanoramaStages, x: float, y: float, job: Job) -> tuple[int, list[int]]:
    """The placed frame that owns a spot of the picture (px at full size), -1 for none, and all that show it."""
    canvas = stages.canvas(job)
    ray = canvas.rays(np.array([[x, y]], float))
    with np.errstate(invalid="ignore"):
        shows = [n for n, f in enumerate(stages.posed(job))
                 if inside_frame(f.project(ray), f.lens.width, f.lens.height)[0]]
    owner = stages.owners(canvas, Region(round(x), round(y), 1, 1), job)[0, 0]
    return int(owner), shows


def next_owner(stages: PanoramaStages, x: float, y: float, job: Job) -> int:
    """The placed frame that shows a spot next after the one that owns it. Raises BadRequest if there is no other."""
    owner, shows = candidates_at(stages, x, y, job)
    others = [n for n in shows if n != owner]
    if not others:
        raise BadRequest("No other frame shows this spot.")
    return next((n for n in others if n > owner), others[0])
