"""A panorama seen from its middle: turned and zoomed quickly, from the whole picture kept in memory."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.core import Engine
from windfell.engine.panorama import PanoramaStages
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.resample import GridMap
from windfell.recipe.model import Project
from windfell.shape.canvas import Canvas

STEP = 16
EDGE = 8
TRUE = 0.99


@dataclass(frozen=True, eq=False)
class Around:
    """The whole picture, uint8 sRGB and opacity (h, w, 4), on its canvas."""

    canvas: Canvas
    pixels: NDArray[np.uint8]

    def view(self, yaw_deg: float, pitch_deg: float, hfov_deg: float, width: int, height: int) -> NDArray[np.uint8]:
        """What is seen through a flat window of width x height px, uint8 (h, w, 4), 0 where nothing is shown."""
        turn = from_yaw_pitch_roll(*np.radians([yaw_deg, pitch_deg, 0.0]))
        focal = 0.5 * width / np.tan(np.radians(hfov_deg) / 2)
        size, around = (self.canvas.width, self.canvas.height), self.canvas.kind.period
        period = around and around * self.canvas.px_per_unit

        def place(px: NDArray) -> NDArray:
            u = (px - [(width - 1) / 2, (height - 1) / 2]) / focal
            rays = np.concatenate([u, np.ones((*u.shape[:-1], 1))], axis=-1)
            rays /= np.linalg.norm(rays, axis=-1, keepdims=True)
            rays = rays @ turn.T
            where = self.canvas.pixels(rays)
            with np.errstate(invalid="ignore"):
                back = self.canvas.rays(where)
            # some projections give directions behind them a place in front
            true = np.einsum("...k,...k->...", back, rays) > TRUE
            return np.where(true[..., None], where, np.nan)

        grid = GridMap.of(place, 0, 0, width, height, STEP)
        where = _without_jumps(grid, period, size[0]) if period else grid.dense()
        where, source = np.nan_to_num(where, nan=-1e4), self.pixels
        if self.canvas.wraps:
            source = np.concatenate([source[:, -EDGE:], source, source[:, :EDGE]], axis=1)
            where = np.stack([where[..., 0] % size[0] + EDGE, np.clip(where[..., 1], 0, size[1] - 1)], -1)
        return cv2.remap(source, where.astype(np.float32), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)


def _without_jumps(grid: GridMap, period: float, width: int) -> NDArray[np.float32]:
    """The map at every px where columns go around: between nodes on both sides of the cut the short way is gone."""
    turn = grid.nodes[..., 0] * np.float32(2 * np.pi / period)
    around = grid.spread(np.stack([np.cos(turn), np.sin(turn), grid.nodes[..., 1]], -1))
    column = np.arctan2(around[..., 1], around[..., 0]) * np.float32(period / (2 * np.pi))
    column = (column - width / 2 + period / 2) % period - period / 2 + width / 2
    return np.stack([column, around[..., 2]], -1)


def around_of(engine: Engine, project: Project, set_id: str, side: int, job: Job) -> Around:
    """The picture of a panorama at about `side` px a side, to look around in."""
    stages = engine.stages(project, set_id)
    assert isinstance(stages, PanoramaStages)
    full = stages.canvas(job)
    scale = min(1.0, side / max(full.width, full.height))
    picture = engine.picture(project, set_id, scale, job)
    height, width = picture.covered.shape
    shown = picture.covered.astype(np.uint8)[..., None]
    return Around(full.resized(width, height), np.dstack([to_view(picture.light) * shown, 255 * shown]))
