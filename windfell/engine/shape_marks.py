"""What the window draws on a shaped panorama: edges with their bend, the net's nodes, how far lines are off."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.engine.panorama import PanoramaStages
from windfell.geometry.directions import degrees_of, rays_of
from windfell.job import Job
from windfell.shape.canvas import Canvas
from windfell.shape.figures import Cost, cost_of
from windfell.shape.held import bow
from windfell.shape.net import COLUMNS, ROWS

Array = NDArray[np.float64]

SUGGESTIONS = tuple(range(100, 0, -4))
KEPT_AT_LEAST = 0.98


@dataclass(frozen=True, eq=False)
class EdgeOnPicture:
    """A found edge: spots (n, 2) as shares of the picture, its bend in % of its length, whether it stands upright."""

    spots: Array
    bend_pct: float
    upright: bool


def edges_on_picture(stages: PanoramaStages, job: Job) -> list[EdgeOnPicture]:
    """The longest straight edges of the world as the picture shows them, longest first."""
    canvas, found = stages.canvas(job), []
    for edge in stages.edges(job):
        px = canvas.pixels(edge.rays)
        shares = _shares(canvas, px)
        if np.isfinite(shares).all() and (shares > 0).all() and (shares < 1).all():
            found.append(EdgeOnPicture(shares, 100 * bow(px), edge.upright))
    return found


def directions_at(stages: PanoramaStages, shares: Sequence[tuple[float, float]], job: Job
                  ) -> tuple[tuple[float, float], ...]:
    """(longitude, latitude) in degrees, up positive, that shares of the picture look at."""
    canvas = stages.canvas(job)
    rays = canvas.rays(np.array(shares, float) * [canvas.width, canvas.height] - 0.5)
    return tuple((round(float(a), 4), round(float(b), 4)) for a, b in degrees_of(rays))


def field_of(stages: PanoramaStages, box: tuple[float, float, float, float], job: Job) -> tuple[float, float]:
    """(across, down) in degrees: the field of view about the middle that reaches to those sides of a box (left,
    top, right, bottom, shares of the picture) that lie farther from it.
    """
    canvas = stages.canvas(job)
    low, high = canvas.cut(np.array([[box[0] * canvas.width - 0.5, box[1] * canvas.height - 0.5],
                                     [box[2] * canvas.width - 0.5, box[3] * canvas.height - 0.5]]))
    found = []
    for axis in (0, 1):
        far = max(abs(float(low[axis])), abs(float(high[axis])))
        spot = np.zeros(2)
        spot[axis] = far
        ray = canvas.kind.backward(spot)
        found.append(float(np.clip(2 * np.degrees(np.arctan2(abs(ray[axis]), ray[2])), 1.0, 360.0)))
    return found[0], found[1]


def net_places(stages: PanoramaStages, job: Job) -> Array:
    """Where the net's nodes (rows, columns, 2) lie, as shares of the picture."""
    canvas, whole = stages.canvas(job), stages.whole_canvas(job)
    x = np.linspace(whole.left, whole.right, COLUMNS)
    y = np.linspace(whole.top, whole.bottom, ROWS)
    spots = np.stack(np.meshgrid(x, y), -1)
    if canvas.mesh is not None:
        spots = canvas.mesh.forward(spots)
    return (spots - [canvas.left, canvas.top]) / [canvas.right - canvas.left, canvas.bottom - canvas.top]


def lines_off(stages: PanoramaStages, job: Job) -> list[tuple[float, float]]:
    """How far every line drawn on the picture is off what it is to be, before and after, in % of its length."""
    canvas = stages.canvas(job)
    plain = replace(canvas, mesh=None)
    found = []
    for line in stages.set.outline.lines:
        found.append(tuple(_off(c.pixels(rays_of(line.points)), str(line.kind)) for c in (plain, canvas)))
    return found


def _off(px: Array, kind: str) -> float:
    if not np.isfinite(px).all():
        return 0.0
    if kind == "straight":
        return 100 * bow(px)
    run = max(float(np.hypot(*(px[-1] - px[0]))), 1e-9)
    return 100 * float(np.ptp(px[:, 1 if kind == "level" else 0])) / run


def _shares(canvas: Canvas, px: Array) -> Array:
    return (px + 0.5) / [canvas.width, canvas.height]


def suggested_pull(stages: PanoramaStages, job: Job) -> float | None:
    """The largest amount, in %, whose cost an eye does not notice and that loses hardly anything; None where the
    outline cannot be pulled.
    """
    pull = stages.pull(job)
    if pull is None:
        return None
    o = stages.set.outline
    sides = np.array([o.top_pct, o.right_pct, o.bottom_pct, o.left_pct]) / 100
    whole = stages.whole_canvas(job)
    for percent in SUGGESTIONS:
        job.check()
        mesh, cut = pull.mesh(sides * percent / 100, None, fine=False)
        if not cost_of(mesh, cut, pull.task.held, pull.seen).unnoticed:
            continue
        canvas = replace(whole, mesh=mesh).bounded(cut.left, cut.top, cut.right, cut.bottom)
        if stages.kept_by(canvas, job) >= KEPT_AT_LEAST:
            return float(percent)
    return 0.0


@dataclass(frozen=True)
class OutlineSaid:
    """What the outline keeps and costs, what a trim would keep, and the amount of pull that is suggested."""

    kept: float
    trim_kept: float
    cost: Cost
    suggested: float | None


def outline_said(stages: PanoramaStages, trimmed: PanoramaStages, job: Job) -> OutlineSaid:
    """`trimmed`: the same set's stages with its edges trimmed."""
    suggested = suggested_pull(stages, job)
    return OutlineSaid(stages.kept_area(job), trimmed.kept_area(job), stages.cost(job), suggested)


