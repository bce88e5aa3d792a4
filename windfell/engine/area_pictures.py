"""What drawing areas on a set's picture needs: the ground under a spot, lengths there, the area as a picture."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.engine.areas import ground_points, on_canvas
from windfell.engine.panorama import PanoramaStages
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Point

F32 = NDArray[np.float32]
Share = tuple[float, float]


def ground_at(stages: PanoramaStages | PileStages, shares: Sequence[Share], job: Job) -> tuple[Point, ...]:
    """The points of the set's ground under shares of its picture."""
    width, height = stages.size(job)
    px = np.array(shares, float).reshape(-1, 2) * [width, height] - 0.5
    if isinstance(stages, PanoramaStages):
        return ground_points(stages.area_ground, stages.canvas(job).rays(px))
    found = stages.cut(job).onto_reference(1.0)(px)
    return tuple((round(float(x), 2), round(float(y), 2)) for x, y in found)


def length_at(stages: PanoramaStages | PileStages, share: Share, wide: float, job: Job) -> float:
    """How long, on the set's ground, `wide` of the picture's width is at a share of it: the mean across and down."""
    width, height = stages.size(job)
    step = 0.5 * wide, 0.5 * wide * width / height
    x, y = share
    spots = np.array(ground_at(stages, ((x - step[0], y), (x + step[0], y), (x, y - step[1]), (x, y + step[1])), job))
    if isinstance(stages, PanoramaStages):
        points = stages.area_ground.points(spots)
        across, down = np.linalg.norm(points[1] - points[0]), np.linalg.norm(points[3] - points[2])
        found = (across + down) / 2 / stages.area_ground.unit
    else:
        found = (np.linalg.norm(spots[1] - spots[0]) + np.linalg.norm(spots[3] - spots[2])) / 2
    return float(max(found, 1e-3)) if np.isfinite(found) else 1e-3


def area_picture(
    stages: PanoramaStages | PileStages, area: Area, side: int, job: Job, frame: str | None = None
) -> F32:
    """An area's share (h, w) of each px of the whole picture at about `side` px a side; `frame` (id): the one whose
    light it reads, if it belongs to one.
    """
    width, height = stages.size(job)
    scale = min(1.0, side / max(width, height))
    if isinstance(stages, PileStages):
        return stages.area_over_picture(area, scale, job)
    canvas = stages.canvas(job).scaled(scale)
    region = Region(0, 0, canvas.width, canvas.height)
    numbers = {stages.set.used[at].id: n for n, at in enumerate(stages.registration(job).placed)}
    drawer = stages.frame_drawer(numbers[frame], job) if area.reads and frame in numbers else None
    return on_canvas(area, stages.area_ground, canvas, region, drawer, stages.cache, stages.masks)


def points_of_px(stages: PanoramaStages | PileStages, outline: NDArray, size: tuple[int, int], job: Job
                 ) -> tuple[Point, ...]:
    """The ground under px (n, 2) of the picture shown at a size (w, h)."""
    return ground_at(stages, [tuple(s) for s in (np.asarray(outline) + 0.5) / size], job)
