"""A frame that looks straight down or up into the hole of a closed ring, and shares only its rim with the others.

Features find little there: the ground is seen at a grazing angle by one frame and from above by the other. Laid on
one plane around the pole (azimuthal equidistant), both are alike but for a turn and a small shift, which correlation
under masks finds (Padfield 2012); the light must then confirm what the cameras say point by point.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.by_light import pairs_that_meet, points_near
from windfell.align.by_turn import turned_to_points
from windfell.align.cameras import Cameras, projected
from windfell.align.features import Features
from windfell.align.level import down_direction
from windfell.align.solve import Ground, fitted_to_noise
from windfell.align.view import View
from windfell.geometry.rotation import from_rotvec
from windfell.job import Job
from windfell.later import Later

fft = Later("scipy.fft")

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

LEAST_RING, LEAST_AROUND = 4, 0.9
RADIUS_DEG = 60.0
COARSE_DEG, FINE_DEG = 0.6, 0.3
TURN_DEG, TILT_DEG = 3.0, 12.0
FINE_TURN_DEG, FINE_TURNS, FINE_TILT_DEG = 0.5, 5, 1.5
WIDE_DEG = 4.0
LEAST_SHARED = 0.01
MOST_TRIED, LEAST_POINTS = 3, 6


@dataclass(frozen=True)
class _Patch:
    """What is seen around a pole: texture (n, n) of unit spread, and where there is any."""

    texture: F32
    mask: F32


def with_poles(ground: Ground, features: Sequence[Features], view: Callable[[int], View], job: Job) -> Ground:
    """The ground with frames placed that fill the hole of a closed ring above or below, where the light says so."""
    members = ground.members
    lost = [n for n in range(ground.cameras.count) if n not in members and not ground.problems[n]]
    if len(members) < LEAST_RING or not lost or not _closed(ground):
        return ground
    down = down_direction([ground.cameras.rotations[n] for n in members])
    for pole in (down, -down):
        if _covered(ground, pole):
            continue
        for n in [n for n in lost if n not in ground.members][:MOST_TRIED]:
            found = _placed(ground, n, _facing(pole), features, view, job)
            if found is not None:
                ground = found
                break
    return ground


def _facing(pole: Array) -> Array:
    """The rotation (3, 3), camera to world, of a camera that looks at a pole."""
    side = np.eye(3)[int(np.argmin(np.abs(pole)))]
    x = np.cross(side, pole)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(pole, x), pole], axis=1)


def _seen(cameras: Cameras, n: int, rays: Array) -> tuple[Array, NDArray[np.bool_]]:
    """Px (m, 2) of a frame where world rays (m, 3) are seen, and which are."""
    at = projected(cameras, np.full(len(rays), n), rays @ cameras.rotations[n])
    return at, np.all((at >= 0) & (at <= cameras.sizes[n] - 1), axis=1)


def _covered(ground: Ground, pole: Array) -> bool:
    return any(_seen(ground.cameras, n, pole[None])[1][0] for n in ground.members)


def _closed(ground: Ground) -> bool:
    """Whether the members see nearly all of the horizon."""
    down = down_direction([ground.cameras.rotations[n] for n in ground.members])
    world = _facing(down)
    around = np.radians(np.arange(0, 360, 5.0))
    rays = np.stack([np.cos(around), np.sin(around), np.zeros_like(around)], axis=-1) @ world.T
    return bool(np.any([_seen(ground.cameras, n, rays)[1] for n in ground.members], axis=0).mean() >= LEAST_AROUND)


def _plane(step_deg: float) -> Array:
    """Rays (n, n, 3) of a plane around z, equidistant in the angle from it."""
    half = round(RADIUS_DEG / step_deg)
    x, y = np.meshgrid(*2 * (np.radians(np.arange(-half, half + 1) * step_deg),))
    far = np.hypot(x, y)
    share = np.sinc(far / np.pi)
    return np.stack([share * x, share * y, np.cos(far)], axis=-1)


def _patch(cameras: Cameras, n: int, facing: Array, step_deg: float, view: View) -> _Patch:
    """A frame's light around where `facing` looks, freed of what varies slowly."""
    rays = _plane(step_deg)
    shape = rays.shape[:2]
    at, inside = _seen(cameras, n, rays.reshape(-1, 3) @ facing.T)
    light = np.asarray(view.at(np.where(inside[:, None], at, -1e4).reshape(*shape, 2)), np.float32)
    mask = (inside.reshape(shape) & np.isfinite(light)).astype(np.float32)
    light = np.log2(np.maximum(np.nan_to_num(light), 0) + 4) * mask
    wide = lambda v: cv2.GaussianBlur(v, (0, 0), WIDE_DEG / step_deg)  # noqa: E731
    there = np.maximum(wide(mask), 1e-3)
    fine = (cv2.GaussianBlur(light, (0, 0), 1.0) / np.maximum(cv2.GaussianBlur(mask, (0, 0), 1.0), 1e-3)
            - wide(light) / there) * mask
    spread = np.sqrt(wide(fine * fine) / there) + 0.02
    return _Patch(fine / spread, mask)


def _together(patches: Sequence[_Patch]) -> _Patch:
    count = sum(p.mask for p in patches)
    return _Patch(sum(p.texture for p in patches) / np.maximum(count, 1), (count > 0).astype(np.float32))


def _best(ring: _Patch, own: _Patch, turns_deg: Sequence[float], most_px: float) -> tuple[float, float, Array]:
    """(how sure, turn in degrees, shift (x, y) in px) that lays a patch onto the ring's best."""
    n = ring.mask.shape[0]
    side = fft.next_fast_len(n + int(most_px) + 1, real=True)
    spectrum = lambda v: fft.rfft2(v.astype(np.float32), (side, side))  # noqa: E731
    a, aa, m = (spectrum(v * ring.mask) for v in (ring.texture, ring.texture**2, ring.mask))
    offset = (fft.fftfreq(side) * side)[:, None], (fft.fftfreq(side) * side)[None]
    near = np.hypot(*offset) <= most_px
    best = (-np.inf, 0.0, np.zeros(2))
    middle = ((n - 1) / 2, (n - 1) / 2)
    for turn in turns_deg:
        way = cv2.getRotationMatrix2D(middle, -turn, 1.0)
        mask = cv2.warpAffine(own.mask, way, (n, n), flags=cv2.INTER_NEAREST)
        texture = cv2.warpAffine(own.texture, way, (n, n)) * mask
        b, bb, k = (np.conj(spectrum(v)) for v in (texture, texture**2, mask))
        both, left, right, shared = (fft.irfft2(v, (side, side)) for v in (a * b, aa * k, m * bb, m * k))
        fair = near & (shared > LEAST_SHARED * n * n)
        like = np.where(fair, both / np.sqrt(np.maximum(left * right, 1e-6)), -1) * np.sqrt(np.maximum(shared, 0))
        at = np.unravel_index(int(like.argmax()), like.shape)
        if like[at] > best[0]:
            best = float(like[at]), turn, np.array([offset[1][0, at[1]], offset[0][at[0], 0]])
    return best


def _placed(ground: Ground, n: int, facing: Array, features: Sequence[Features], view: Callable[[int], View],
            job: Job) -> Ground | None:
    """The ground with frame `n` looking about where `facing` does, or None if the light does not say so."""
    cameras, members = ground.cameras, ground.members
    pose = facing
    for step, turns, tilt in (
            (COARSE_DEG, np.arange(0, 360, TURN_DEG), TILT_DEG),
            (FINE_DEG, FINE_TURN_DEG * np.arange(-FINE_TURNS, FINE_TURNS + 1), FINE_TILT_DEG)):
        job.check()
        turned = _with_pose(cameras, n, pose)
        ring = _together([_patch(turned, k, pose, step, view(k)) for k in members])
        own = _patch(turned, n, pose, step, view(n))
        _, turn, shift = _best(ring, own, turns, tilt / step)
        aside = np.radians(step) * shift
        pose = pose @ from_rotvec(np.array([-aside[1], aside[0], 0.0])) @ from_rotvec(
            np.array([0.0, 0.0, np.radians(turn)]))
    cameras = _by_points(_with_pose(cameras, n, pose), n, members, features, view, job)
    found = pairs_that_meet(cameras, [(min(k, n), max(k, n)) for k in members], features, view, job)
    if not found:
        return None
    held = (*ground.held, *found)
    cameras, scale = fitted_to_noise(cameras, held, job, scale=ground.scale_px, rounds=1)
    met = {(o.a, o.b) for o in found}
    refused = tuple(r for r in ground.refused if (r.a, r.b) not in met)
    return replace(ground, cameras=cameras, members=tuple(sorted((*members, n))), held=held, scale_px=scale,
                   refused=refused)


def _with_pose(cameras: Cameras, n: int, pose: Array) -> Cameras:
    rotations = cameras.rotations.copy()
    rotations[n] = pose
    return cameras.turned(rotations)


def _by_points(cameras: Cameras, n: int, members: Sequence[int], features: Sequence[Features],
               view: Callable[[int], View], job: Job) -> Cameras:
    """The cameras with frame `n` turned to where the light finds the others' points in it."""
    _, some = points_near(cameras, [(k, n) for k in members], features, view, job, LEAST_POINTS)
    some = [o for o in some if len(o.points_a)]
    if not some:
        return cameras
    return turned_to_points(cameras, n, some)
