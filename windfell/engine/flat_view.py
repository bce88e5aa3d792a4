"""Flat views: windows onto the sphere, written out and taken back as pieces that stay on their place."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import grey_features
from windfell.align.matching import matches
from windfell.engine.core import Engine
from windfell.engine.export import Written, export
from windfell.engine.panorama import PanoramaStages
from windfell.errors import BadRequest
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll
from windfell.job import Job
from windfell.later import Later
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.model import Frame, FrameSet, Project, ProjectionChoice, View
from windfell.recipe.outline import Outline
from windfell.recipe.output import Format, Output
from windfell.recipe.repairs import Mend, Repair
from windfell.recipe.sources import FileSource
from windfell.shape.canvas import Canvas

optimize = Later("scipy.optimize")

Array = NDArray[np.float64]

RATIO = 1.5
SIDE, LONGEST = 1200, 1600
LEAST_MATCHES = 14
INLIER_PX = 4.0
WIDER = 1.15


def flat_set(own: FrameSet, yaw_deg: float, pitch_deg: float, hfov_deg: float) -> FrameSet:
    """The set seen through a flat window of 3:2 that looks to a direction of the level world."""
    yaw = (yaw_deg + 180) % 360 - 180
    high = float(np.degrees(2 * np.arctan(np.tan(np.radians(hfov_deg) / 2) / RATIO)))
    view = View(ProjectionChoice.RECTILINEAR, yaw, pitch_deg, 0.0, hfov_deg=hfov_deg, vfov_deg=high)
    return replace(own, view=view, outline=Outline())


def write_flat_view(
    engine: Engine, project: Project, set_id: str, look: tuple[float, float, float], path: Path, job: Job
) -> Written:
    """Write the flat view (yaw, pitch, hfov in degrees) as a 16-bit TIFF at natural resolution."""
    own = replace(flat_set(project.set(set_id), *look), output=Output(Format.TIFF, 16))
    return export(engine, project.with_set(own), set_id, path, job)


def taken_back(
    engine: Engine, project: Project, set_id: str, look: tuple[float, float, float], path: Path, job: Job
) -> Repair:
    """The repair that lays a picture of a flat view on its place: where what was left alone in it fits best, near
    where the view looks. Raises BadRequest if it does not look like that part of the panorama.
    """
    stages = engine.stages(project.with_set(flat_set(project.set(set_id), *look)), set_id)
    opened = engine.opened(project, Frame("piece", FileSource(str(path))), job)
    if not isinstance(stages, PanoramaStages):
        raise BadRequest("Flat views are of panoramas.")
    job.step("looking for its place", 0.1)
    canvas = _window(*look)
    picture = stages.joined_on(canvas, Region(0, 0, canvas.width, canvas.height), job)
    grey = cv2.cvtColor(to_view(picture.light), cv2.COLOR_RGB2GRAY)
    around = grey_features(grey, canvas.width, canvas.height, (~picture.covered).astype(np.uint8) * 255)
    width, height = opened.size
    sheet = opened.sheet(min(1.0, LONGEST / max(width, height)), job)
    small = to_view(sheet.light(0, 0, sheet.width, sheet.height))
    own = grey_features(cv2.cvtColor(small, cv2.COLOR_RGB2GRAY), width, height)
    pairs = matches(own, around)
    refused = BadRequest(
        f"{path}: it does not look like this part of the panorama; turn the flat view to its place first.")
    if len(pairs) < LEAST_MATCHES:
        raise refused
    points, spots = own.points[pairs[:, 0]], around.points[pairs[:, 1]]
    reach = INLIER_PX * max(1.0, canvas.width / width)
    _, good = cv2.findHomography(points, spots, cv2.RANSAC, reach, maxIters=4000, confidence=0.999)
    if good is None or int(good.sum()) < LEAST_MATCHES:
        raise refused
    chosen = good.ravel() > 0
    yaw, pitch, roll, hfov, off = _fitted(points[chosen], canvas.rays(spots[chosen]), (width, height), look)
    if off > 2 * INLIER_PX * max(1.0, width / canvas.width):
        raise refused
    return Repair(Mend.PICTURE, path=str(path), yaw_deg=yaw, pitch_deg=pitch, roll_deg=roll, hfov_deg=hfov)


def _window(yaw_deg: float, pitch_deg: float, hfov_deg: float) -> Canvas:
    """The flat view, a little wider, small."""
    half = WIDER * float(np.tan(np.radians(hfov_deg) / 2))
    view = from_yaw_pitch_roll(*np.radians([yaw_deg, pitch_deg, 0.0]))
    size = SIDE, round(SIDE / RATIO)
    return Canvas("rectilinear", -half, -half / RATIO, half, half / RATIO, *size, tuple(view.ravel()))


def _fitted(points: Array, rays: Array, size: tuple[int, int], look: tuple[float, float, float]
            ) -> tuple[float, float, float, float, float]:
    """(yaw, pitch, roll, hfov in degrees, rms px) of a flat picture whose px (n, 2) look along rays (n, 3)."""
    width, height = size
    centre = np.array([(width - 1) / 2, (height - 1) / 2])
    start = from_yaw_pitch_roll(*np.radians([look[0], look[1], 0.0]))
    focal = 0.5 * width / np.tan(np.radians(look[2]) / 2)

    def off(v: Array) -> Array:
        seen = rays @ (start @ from_rotvec(v[:3]))
        z = np.maximum(seen[:, 2:], 0.05)
        return ((seen[:, :2] / z) * focal * np.exp(v[3]) + centre - points).ravel()

    found = optimize.least_squares(off, np.zeros(4), loss="soft_l1", f_scale=2.0)
    turn = start @ from_rotvec(found.x[:3])
    ahead, down = turn[:, 2], turn[:, 1]
    yaw = float(np.arctan2(ahead[0], ahead[2]))
    pitch = float(np.arcsin(np.clip(-ahead[1], -1, 1)))
    plain = from_yaw_pitch_roll(yaw, pitch, 0.0)
    roll = float(np.arctan2(-(down @ plain[:, 0]), down @ plain[:, 1]))
    hfov = 2 * float(np.arctan(0.5 * width / (focal * np.exp(found.x[3]))))
    rms = float(np.sqrt(np.mean(off(found.x) ** 2) * 2))
    return (*(round(float(np.degrees(v)), 5) for v in (yaw, pitch, roll, hfov)), rms)
