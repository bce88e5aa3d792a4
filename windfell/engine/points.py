"""Control points looked for on the light: the partner of a spot, and points where an overlap has none."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.patches import HALF, SEARCH, patch_offsets, patch_shifts, seen_around
from windfell.align.registration import Placed
from windfell.align.view import GreyView
from windfell.cache import key_of
from windfell.engine.core import Engine
from windfell.engine.greys import close_view
from windfell.errors import CannotJoin
from windfell.geometry.posed import Posed
from windfell.job import Job
from windfell.recipe.model import ControlPoint, Project

Array = NDArray[np.float64]

FORETOLD_PX, NEAR_PX, COARSE_SIDE, COARSE_HALF = 11, 28, 700, 16
SURE = 0.8
FILLED_PX = 3.0
CELLS = 7


@dataclass(frozen=True)
class Spot:
    """A place in px of a frame's full size, and how alike the light is there, -1..1."""

    x: float
    y: float
    likeness: float


def matching_spot(
    engine: Engine, project: Project, set_id: str, a: str, b: str, at: tuple[float, float], job: Job
) -> Spot:
    """Where frame `b` shows what frame `a` shows at a spot.

    Looked for around the place that the cameras foretell, or all over the frame where it is not placed.
    """
    posed = _posed(engine, project, set_id, (a, b), job)
    one, other = _view(engine, project, set_id, a, job), _view(engine, project, set_id, b, job)
    spot = np.array(at, float)
    if posed is not None:
        return _closest(one, other, spot, *_foretold(posed, spot), FORETOLD_PX)
    return _closest(one, other, spot, _searched(one, other, spot), np.eye(2), NEAR_PX)


def _posed(engine: Engine, project: Project, set_id: str, ids: tuple[str, str], job: Job) -> list[Posed] | None:
    """Where the frames lie, or None unless both are placed."""
    stages = engine.stages(project, set_id)
    used = [f.id for f in stages.set.used]
    try:
        found = stages.registration(job)
    except CannotJoin:
        return None
    if not set(ids) <= set(used):
        return None
    own = [found.frames[used.index(i)] for i in ids]
    return [f.posed for f in own] if all(isinstance(f, Placed) for f in own) else None


def _view(engine: Engine, project: Project, set_id: str, frame_id: str, job: Job) -> GreyView:
    frame = project.set(set_id).frame(frame_id)
    opened = engine.opened(project, frame, job)
    return engine.cache.get(
        key_of("close view", opened.identity, frame.lens), lambda: close_view(engine, opened, frame, job))


def _foretold(posed: list[Posed], spot: Array) -> tuple[Array, Array]:
    """The place in the second frame, and how small steps in the first are seen there (2, 2)."""
    def onto(points: Array) -> Array:
        return posed[1].project(posed[0].rays(points))

    there, (grid, _) = onto(spot[None])[0], seen_around(onto, spot[None])
    if not (np.isfinite(there).all() and np.isfinite(grid).all()):
        return spot, np.eye(2)
    return there, grid[0]


def _searched(one: GreyView, other: GreyView, spot: Array) -> Array:
    """The best place all over the other frame, at a small size."""
    a, ka = one.small(COARSE_SIDE)
    b, kb = other.small(COARSE_SIDE)
    x, y = (spot + 0.5) * ka - 0.5
    left, top = (int(np.clip(round(v) - COARSE_HALF, 0, max(0, s - 2 * COARSE_HALF - 1)))
                 for v, s in ((x, a.shape[1]), (y, a.shape[0])))
    part = a[top : top + 2 * COARSE_HALF + 1, left : left + 2 * COARSE_HALF + 1]
    score = cv2.matchTemplate(b, part, cv2.TM_CCOEFF_NORMED)
    _, _, _, at = cv2.minMaxLoc(score)
    return (np.array([at[0] + x - left, at[1] + y - top]) + 0.5) / kb - 0.5


def _closest(one: GreyView, other: GreyView, spot: Array, there: Array, grid: Array, reach: int) -> Spot:
    """The place within `reach` px of `there` where the light agrees best, to a fraction of a px."""
    scale = one.scale
    sample = lambda half, at: other.at(at + patch_offsets(half) / scale @ grid.T)[None]  # noqa: E731
    patch = one.at(spot + patch_offsets(HALF) / scale)[None]
    wide = sample(HALF + reach, there)
    fair = np.nan_to_num(wide[0], nan=0.0)
    score = cv2.matchTemplate(fair, np.nan_to_num(patch[0], nan=0.0), cv2.TM_CCOEFF_NORMED)
    _, _, _, best = cv2.minMaxLoc(score)
    near = there + (np.array(best, float) - reach) / scale @ grid.T
    found = patch_shifts(patch, sample(HALF + SEARCH + 2, near))
    at = near
    if found.likeness[0] > -1:
        at = near + found.shift[0] / scale @ grid.T
    return Spot(float(at[0]), float(at[1]), float(found.likeness[0]))


def more_points(engine: Engine, project: Project, set_id: str, a: str, b: str, job: Job) -> list[ControlPoint]:
    """Points in the parts of an overlap that have none yet, where the light is sure. Both must be placed."""
    posed = _posed(engine, project, set_id, (a, b), job)
    if posed is None:
        raise CannotJoin("Both frames must be placed before points can be filled in between them.")
    one, other = _view(engine, project, set_id, a, job), _view(engine, project, set_id, b, job)
    lens = posed[0].lens
    known = _known_points(engine, project, set_id, a, b, job)
    x, y = np.meshgrid(*(np.linspace(0, s - 1, 4 * CELLS + 1) for s in (lens.width, lens.height)))
    grid = np.stack([x, y], -1).reshape(-1, 2)
    seen = posed[1].project(posed[0].rays(grid))
    inside = np.all((seen > 0) & (seen < [posed[1].lens.width, posed[1].lens.height]), axis=1)
    if inside.sum() < 4:
        return []
    low, high = grid[inside].min(axis=0), grid[inside].max(axis=0)
    out = []
    for corner in job.over(_corners(one, low, high, known), "filling in points"):
        there, local = _foretold(posed, corner)
        found = _closest(one, other, corner, there, local, FORETOLD_PX)
        within = 0 < found.x < posed[1].lens.width and 0 < found.y < posed[1].lens.height
        near = np.hypot(found.x - there[0], found.y - there[1]) < FILLED_PX / one.scale
        if found.likeness > SURE and within and near:
            out.append(ControlPoint(a, b, float(corner[0]), float(corner[1]), found.x, found.y))
    return out


def _known_points(engine: Engine, project: Project, set_id: str, a: str, b: str, job: Job) -> Array:
    stages = engine.stages(project, set_id)
    used = [f.id for f in stages.set.used]
    parts = [np.zeros((0, 2))]
    for k in stages.registration(job).links:
        if {used[k.a], used[k.b]} == {a, b}:
            parts.append(k.points_a if used[k.a] == a else k.points_b)
    return np.concatenate(parts)


def _corners(view: GreyView, low: Array, high: Array, known: Array) -> list[Array]:
    """The best corner of every cell of a box (px of the full size) in which no known point lies."""
    grey, k = view.small(1600)
    cell = (high - low) / CELLS
    taken = {tuple(c) for c in np.floor((known - low) / cell).astype(int)}
    out = []
    for row in range(CELLS):
        for column in range(CELLS):
            if (column, row) in taken:
                continue
            start = (low + cell * [column, row] + 0.5) * k
            end = (low + cell * [column + 1, row + 1] + 0.5) * k
            x0, y0 = np.maximum(start.astype(int), 0)
            part = grey[y0 : int(end[1]), x0 : int(end[0])]
            if min(part.shape) < 12:
                continue
            found = cv2.goodFeaturesToTrack(part, 1, 0.02, 4)
            if found is not None:
                out.append((found.reshape(2) + [x0, y0] + 0.5) / k - 0.5)
    return out
