"""One panorama laid behind another: the sky of the front found on its sphere, and how the back is turned into the
front's world, by what both show of one place or by the line of their horizons.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features, grey_features
from windfell.align.matching import matches
from windfell.combine.sky_of_one import sky_of
from windfell.engine.by_skyline import turned_by_skyline
from windfell.engine.finished import filled
from windfell.errors import BadRequest
from windfell.geometry.rotation import aligning_rotation, from_yaw_pitch_roll, yaw_pitch_roll
from windfell.job import Job
from windfell.later import Later
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.areas import Area, Found
from windfell.recipe.behind import Behind
from windfell.recipe.laying_behind import check_behind
from windfell.recipe.model import Project
from windfell.recipe.project_file import mask_name
from windfell.shape.canvas import Canvas

ndimage = Later("scipy.ndimage")

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Array = NDArray[np.float64]

PIXELS, WIDEST = 1_400_000, 8192
LEAST_SKY = 0.002
MOST_FEATURES = 4000
TRIALS, TOLERANCE, LEAST_PAIRS, LEAST_SHARE = 3000, np.radians(0.25), 14, 0.08


@dataclass(frozen=True, eq=False)
class Around:
    """A panorama unrolled around its level world, small: light filled beyond what is `covered`, and its sky (h, w),
    0..1.
    """

    canvas: Canvas
    light: F32
    covered: NDArray[np.bool_]
    sky: F32


@dataclass(frozen=True)
class Turned:
    """How the back is turned into the world of the front, in degrees, and by what that was found."""

    yaw_deg: float
    pitch_deg: float
    roll_deg: float
    by: str


def behind_found(engine: Any, project: Project, front_id: str, back_id: str, job: Job
                 ) -> tuple[Behind, U8, Turned]:
    """How a panorama lies behind another: within the sky that is found, with its mask, turned as is found.

    Raises BadRequest if the sets cannot lie so, or no sky is found.
    """
    check_behind(project, front_id, back_id)
    front, back = (seen_around(engine.stages(project, i), job) for i in (front_id, back_id))
    mask = sky_on_sphere(front)
    turned = turned_onto(front, back, job)
    area = Area((Found(mask_name(mask)),))
    return Behind(back_id, area, turned.yaw_deg, turned.pitch_deg, turned.roll_deg), mask, turned


def turned_anew(engine: Any, project: Project, front_id: str, job: Job) -> Turned:
    """How what lies behind a panorama is turned by what both show."""
    pair = front_id, project.set(front_id).behind.set
    return turned_onto(*(seen_around(engine.stages(project, i), job) for i in pair), job)


def seen_around(stages: Any, job: Job) -> Around:
    """A panorama unrolled, its sky found."""
    canvas = stages.surface_of(PIXELS, job)
    whole = Region(0, 0, canvas.width, canvas.height)
    stages.make_ready(canvas.px_per_unit, job)
    picture = stages.frames_on(canvas, whole, job)
    light = filled(picture)
    job.step("looking for the skyline", 0.3)
    return Around(canvas, light, picture.covered, sky_of(light))


def sky_on_sphere(front: Around) -> U8:
    """The sky of the front on the whole sphere unrolled (h, 2 h): above and beside what is covered it goes on as it
    is there, so that a soft edge keeps nothing of the front along its rim.

    Raises BadRequest if there is none.
    """
    if (front.sky * front.covered).mean() < LEAST_SKY:
        raise BadRequest("No sky was found in the panorama in front; paint where what lies behind is to be seen.")
    width = min(WIDEST, 2 * round(np.pi * front.canvas.px_per_unit))
    shape = width // 2, width
    x, y = np.meshgrid(np.arange(shape[1]), np.arange(shape[0]))
    longitude = (x + 0.5) / shape[1] * 2 * np.pi - np.pi
    down = (y + 0.5) / shape[0] * np.pi - np.pi / 2
    rays = np.stack([np.cos(down) * np.sin(longitude), np.sin(down), np.cos(down) * np.cos(longitude)], -1)
    place = front.canvas.pixels(rays)
    above = np.maximum(place[..., 1], 0)
    where = np.stack([place[..., 0], above], -1)
    seen = np.isfinite(where).all(axis=-1)
    where = np.where(seen[..., None], where, 0).astype(np.float32)
    sky = np.rint(255 * _beside(front, _upward(front))).astype(np.uint8)
    return np.where(seen, cv2.remap(sky, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), np.uint8(0))


def _upward(front: Around) -> F32:
    """The sky, which above each column's highest covered px is what that is."""
    out = front.sky.copy()
    rows = np.arange(out.shape[0])[:, None]
    first = np.where(front.covered.any(axis=0), front.covered.argmax(axis=0), 0)
    # the rim itself is mixed with what is not covered
    at = np.minimum(first + 2, out.shape[0] - 1)
    highest = out[at, np.arange(out.shape[1])]
    return np.where(rows < at, np.round(highest), out).astype(np.float32)


def _beside(front: Around, sky: F32) -> F32:
    """The sky, which in columns without anything covered, and below what is, is as at the nearest px known."""
    rows = np.arange(sky.shape[0])[:, None]
    any_ = front.covered.any(axis=0)
    known = (rows < np.where(any_, front.covered.argmax(axis=0), 0)) | front.covered
    # the rim itself is mixed with what is not covered
    whole = cv2.erode(known.astype(np.uint8), np.ones((5, 5), np.uint8), borderValue=1) > 0
    if not whole.any():
        return sky
    near = ndimage.distance_transform_edt(~whole, return_distances=False, return_indices=True)
    return sky[tuple(near)]


def turned_onto(front: Around, back: Around, job: Job) -> Turned:
    """How the back is turned so that it lies on the front: by what both show of the place, else by the skyline of
    the front in the light of the back, else as its own level world has it.
    """
    found = _by_land(front, back)
    if found is not None:
        yaw, pitch, roll = np.degrees(yaw_pitch_roll(found))
        return Turned(float(yaw), float(pitch), float(roll), "what both show")
    job.check()
    found = turned_by_skyline(front, back, job)
    if found is not None:
        yaw, pitch, roll = np.degrees(yaw_pitch_roll(found))
        return Turned(float(yaw), float(pitch), float(roll), "the skyline")
    return Turned(0.0, 0.0, 0.0, "")


def _by_land(front: Around, back: Around) -> Array | None:
    """The rotation from the back's world to the front's on which features of both agree (RANSAC, Fischler & Bolles
    1981; two pairs fix it); None where too few do.
    """
    seen = [_features(a) for a in (front, back)]
    pairs = matches(*seen)
    if len(pairs) < LEAST_PAIRS:
        return None
    a, b = (s.canvas.rays(f.points[pairs[:, k]]) for k, (s, f) in enumerate(zip((front, back), seen, strict=True)))
    rng, best = np.random.default_rng(1), np.zeros(len(pairs), bool)
    apart = np.cos(np.radians(2.0))
    for _ in range(TRIALS):
        two = rng.choice(len(pairs), 2, replace=False)
        # two that lie near each other say little, and their way from each other is the same in both
        if a[two[0]] @ a[two[1]] > apart or abs(
                np.arccos(np.clip(a[two[0]] @ a[two[1]], -1, 1)) - np.arccos(np.clip(b[two[0]] @ b[two[1]], -1, 1))
        ) > 2 * TOLERANCE:
            continue
        fair = _agree(aligning_rotation(b[two], a[two]), a, b)
        if fair.sum() > best.sum():
            best = fair
    if best.sum() < max(LEAST_PAIRS, LEAST_SHARE * len(pairs)):
        return None
    for _ in range(3):
        turn = aligning_rotation(b[best], a[best])
        best = _agree(turn, a, b)
    return turn


def _agree(turn: Array, a: Array, b: Array) -> NDArray[np.bool_]:
    return np.linalg.norm(b @ turn.T - a, axis=1) < TOLERANCE


def _features(around: Around) -> Features:
    """Features of the land alone, however dark it is."""
    h, w = around.sky.shape
    grey = cv2.cvtColor(to_view(np.ascontiguousarray(around.light)), cv2.COLOR_RGB2GRAY)
    land = around.covered & (around.sky < 0.5)
    if land.any():
        low, high = np.quantile(grey[land], (0.01, 0.99))
        grey = np.clip((grey.astype(np.float32) - low) / max(float(high - low), 8.0) * 255, 0, 255).astype(np.uint8)
    apart = np.where(land, 0, 255).astype(np.uint8)
    return grey_features(grey, w, h, cv2.dilate(apart, np.ones((5, 5), np.uint8)), MOST_FEATURES)


def turned_by_hand(yaw_deg: float, pitch_deg: float, roll_deg: float, start: Array, end: Array) -> tuple[float, ...]:
    """(yaw, pitch, roll) in degrees after what lay along ray `start` (3,) of the front's world was drawn to `end`:
    turned about the upright and up or down, its lean kept.
    """
    turn = from_yaw_pitch_roll(*np.radians([yaw_deg, pitch_deg, roll_deg]))
    a, b = (np.arctan2(v[0], v[2]) for v in (start, end))
    across = from_yaw_pitch_roll(b - a, 0.0, 0.0)
    up = float(np.arcsin(np.clip(start[1], -1, 1)) - np.arcsin(np.clip(end[1], -1, 1)))
    # up or down about what lies across the way one looks
    side = from_yaw_pitch_roll(b, 0.0, 0.0)
    raised = side @ from_yaw_pitch_roll(0.0, up, 0.0) @ side.T
    return tuple(float(v) for v in np.degrees(yaw_pitch_roll(raised @ across @ turn)))
