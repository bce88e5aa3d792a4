"""Repairs that are drawn to another place of the picture, as a piece is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.areas.moving import Move, may_move, moved_area, moved_points
from windfell.areas.spots import Plane
from windfell.engine.area_pictures import Share, ground_at
from windfell.engine.panorama import PanoramaStages
from windfell.engine.stack_pile import PileStages
from windfell.errors import BadRequest
from windfell.geometry.directions import degrees_of, rays_of
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll, yaw_pitch_roll
from windfell.job import Job
from windfell.recipe.repairs import Mend, Repair

Array = NDArray[np.float64]


def moved_repair(
    stages: PanoramaStages | PileStages, repair: Repair, start: Share, end: Share, job: Job, source: bool = False
) -> Repair:
    """A repair after what lay at one share of the picture was drawn to another: on a sphere turned the shortest way,
    elsewhere shifted. What a clone or a heal takes from stays, unless just that, its `source`, is drawn. Raises
    BadRequest for what has no place of its own.
    """
    if repair.way is Mend.GROW or not may_move(repair.area):
        raise BadRequest("This repair lies where the picture has it; it cannot be moved.")
    turn, move = _move(stages, start, end, job)
    if source:
        return repair if repair.source is None else replace(repair, source=moved_points((repair.source,), move)[0])
    moved = replace(repair, area=moved_area(repair.area, move))
    if repair.to is not None:
        moved = replace(moved, to=moved_points((repair.to,), move)[0])
    if repair.way is Mend.PICTURE and turn is not None:
        looks = turn @ from_yaw_pitch_roll(*np.radians([repair.yaw_deg, repair.pitch_deg, repair.roll_deg]))
        yaw, pitch, roll = (round(float(v), 4) for v in np.degrees(yaw_pitch_roll(looks)))
        moved = replace(moved, yaw_deg=yaw, pitch_deg=pitch, roll_deg=roll)
    return moved


def _move(stages: PanoramaStages | PileStages, start: Share, end: Share, job: Job) -> tuple[Array | None, Move]:
    """The turn (3, 3) of the world, where it is a sphere, and the map of points (n, 2) as the recipe has them."""
    ends = np.array(ground_at(stages, (start, end), job), float)
    if not np.isfinite(ends).all():
        raise BadRequest("There is nothing of the picture there.")
    if not isinstance(stages, PanoramaStages) or isinstance(stages.area_ground, Plane):
        return None, lambda points: points + (ends[1] - ends[0])
    a, b = rays_of(ends)
    axis = np.cross(a, b)
    size = float(np.linalg.norm(axis))
    turn = np.eye(3) if size < 1e-12 else from_rotvec(axis / size * np.arctan2(size, float(a @ b)))
    return turn, lambda points: degrees_of(rays_of(points) @ turn.T)
