"""What drawing areas on a picture needs: the ground under a spot, lengths there, the area as a picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from windfell.areas.spots import Sphere
from windfell.engine.areas import ground_points, on_canvas
from windfell.engine.panorama import PanoramaStages
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Point

F32 = NDArray[np.float32]
Share = tuple[float, float]


class Sheet(Protocol):
    """A picture to draw an area on."""

    def points(self, shares: Sequence[Share], job: Job) -> tuple[Point, ...]:
        """The points of the area's ground under shares of the picture."""

    def length(self, share: Share, wide: float, job: Job) -> float:
        """How long, on that ground, `wide` of the picture's width is at a share of it: the mean across and down."""

    def picture(self, area: Area, side: int, job: Job) -> F32:
        """An area's share (h, w) of each px of the whole picture at about `side` px a side."""


@dataclass(frozen=True, eq=False)
class SetSheet:
    """A set's picture. `frame` (id): the one whose light an area reads, if it belongs to one."""

    stages: PanoramaStages | PileStages
    frame: str | None = None

    def points(self, shares: Sequence[Share], job: Job) -> tuple[Point, ...]:
        return ground_at(self.stages, shares, job)

    def length(self, share: Share, wide: float, job: Job) -> float:
        spots = np.array(ground_at(self.stages, around(share, wide, self.stages.size(job)), job))
        if not isinstance(self.stages, PanoramaStages):
            return mean_length(spots)
        ground = self.stages.area_ground
        return mean_length(ground.points(spots), ground.unit)

    def picture(self, area: Area, side: int, job: Job) -> F32:
        return area_picture(self.stages, area, side, job, self.frame)


def around(share: Share, wide: float, size: tuple[int, int]) -> tuple[Share, ...]:
    """Left, right, top and bottom of a share of a picture of a size (w, h), `wide` of its width apart."""
    x, y = share
    step = 0.5 * wide, 0.5 * wide * size[0] / size[1]
    return (x - step[0], y), (x + step[0], y), (x, y - step[1]), (x, y + step[1])


def mean_length(spots: NDArray, unit: float = 1.0) -> float:
    """The mean of how far left and right, top and bottom lie apart, in units."""
    found = (np.linalg.norm(spots[1] - spots[0]) + np.linalg.norm(spots[3] - spots[2])) / 2 / unit
    return float(max(found, 1e-3)) if np.isfinite(found) else 1e-3


def ground_at(stages: PanoramaStages | PileStages, shares: Sequence[Share], job: Job) -> tuple[Point, ...]:
    """The points of the set's ground under shares of its picture."""
    width, height = stages.size(job)
    px = np.array(shares, float).reshape(-1, 2) * [width, height] - 0.5
    if isinstance(stages, PanoramaStages):
        return ground_points(stages.area_ground, stages.canvas(job).rays(px))
    found = stages.cut(job).onto_reference(1.0)(px)
    return tuple((round(float(x), 2), round(float(y), 2)) for x, y in found)


def share_at(stages: PanoramaStages | PileStages, point: Point, job: Job) -> Share:
    """The share of the set's picture where a point of its ground lies; inf where the picture has no place for it."""
    width, height = stages.size(job)
    if isinstance(stages, PanoramaStages):
        ground, spot = stages.area_ground, stages.area_ground.points(np.array([point], float))[0]
        ray = spot if isinstance(ground, Sphere) else np.array([*spot, 1.0])
        px = stages.canvas(job).pixels(ray[None] / np.linalg.norm(ray))[0]
    else:
        px = stages.cut(job).from_reference(np.array(point, float))
    return float((px[0] + 0.5) / width), float((px[1] + 0.5) / height)


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


def points_of_px(sheet: Sheet, outline: NDArray, size: tuple[int, int], job: Job) -> tuple[Point, ...]:
    """The ground under px (n, 2) of the picture shown at a size (w, h)."""
    return sheet.points([tuple(s) for s in (np.asarray(outline) + 0.5) / size], job)
