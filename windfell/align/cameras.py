"""The cameras of a set as arrays: what the joint adjustment moves, and how points pass through them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens, fold_radius, undistorted_radius

Array = NDArray[np.float64]
Ints = NDArray[np.intp]

LENS_PARTS = ("log_focal", "k1", "k2", "k3", "dx", "dy")
# of the logarithm of a focal length: guessed at a first look; on record, rounded and by no focused lens
FOCAL_SIGMA, RECORDED_SIGMA = 0.12, 0.03
BEND_SIGMAS = (0.06, 0.015, 0.004)
CENTRE_SIGMA = 0.0015
HELD = 1e-9
HOME = 0.005


@dataclass(frozen=True)
class Cameras:
    """A rotation a frame, a lens a group of frames.

    `sizes` (n, 2) px, `group` (n,), `rotations` (n, 3, 3) camera to world; `lenses`,
    and what is believed of them before any point is seen, `believed` and `sigma`: (g, 6) in the order
    of LENS_PARTS. k1 to k3 act on tangents, dx and dy are px. `locked` (n,): poses that stay.
    `places` (n, 3), of cameras that slid before a flat subject at z = 1; None: they only turned.
    `noise_px`: the error that a point of weight 1 is thought to have, by which beliefs are weighed against points.
    """

    sizes: Array
    group: Ints
    rotations: Array
    lenses: Array
    believed: Array
    sigma: Array
    locked: NDArray[np.bool_]
    places: Array | None = None
    noise_px: float = 1.0

    @property
    def parameters(self) -> int:
        """How many numbers the adjustment moves: turns, lenses, places, in this order."""
        return 3 * self.count + self.lenses.size + (0 if self.places is None else 3 * self.count)

    @property
    def count(self) -> int:
        return len(self.rotations)

    @property
    def focal_px(self) -> Array:
        """Focal length of each group, (g,)."""
        return np.exp(self.lenses[:, 0])

    def lens(self, n: int) -> Lens:
        """The lens of a frame."""
        log_focal, k1, k2, k3, dx, dy = (float(v) for v in self.lenses[self.group[n]])
        width, height = (int(v) for v in self.sizes[n])
        return Lens(width, height, float(np.exp(log_focal)), k1, dx, dy, k2=k2, k3=k3)

    def with_focal(self, focal_px: Array, sigma: float | None = None) -> Cameras:
        """The same with other focal lengths (g,), believed as well; `sigma`: how firmly, if not as before."""
        lenses, believed = self.lenses.copy(), self.believed.copy()
        lenses[:, 0] = believed[:, 0] = np.log(focal_px)
        sigmas = lens_sigmas(self, focal_px)
        if sigma is not None:
            sigmas[:, 0] = sigma
        return replace(self, lenses=lenses, believed=believed, sigma=sigmas)

    def turned(self, rotations: Array) -> Cameras:
        return replace(self, rotations=np.asarray(rotations))


def lens_sigmas(cameras: Cameras, focal_px: Array) -> Array:
    """How far the parts of a lens may lie from what is believed: (g, 6).

    Distortion is believed by what it does at half the frame's diagonal.
    """
    out = np.empty((len(focal_px), 6))
    for g, focal in enumerate(focal_px):
        sizes = cameras.sizes[cameras.group == g]
        reach = 0.5 * np.hypot(*sizes.T).max() / focal
        out[g, 0] = cameras.sigma[g, 0] if len(cameras.sigma) else FOCAL_SIGMA
        out[g, 1:4] = [s / reach ** (2 * i) for i, s in enumerate(BEND_SIGMAS, 1)]
        out[g, 4:] = CENTRE_SIGMA * sizes.max()
    return out


def cameras_of(
    sizes: Sequence[tuple[int, int]], group: Sequence[int], focal_px: Array, fixed_focal: bool = False
) -> Cameras:
    """Undistorted cameras that all look ahead, with focal lengths (g,) by group."""
    count, groups = len(sizes), len(focal_px)
    first = Cameras(
        np.array(sizes, float), np.array(group, np.intp), np.tile(np.eye(3), (count, 1, 1)),
        np.zeros((groups, 6)), np.zeros((groups, 6)),
        np.full((groups, 6), HELD if fixed_focal else FOCAL_SIGMA), np.zeros(count, bool))
    return first.with_focal(np.asarray(focal_px, float))


@dataclass(frozen=True)
class Passed:
    """Points as the lens undoes them: u = (x/z, y/z) (2, n), r2 = |u|^2, the bend there, and
    `growth`: the derivative of the distorted radius by the undistorted one.
    """

    u: Array
    r2: Array
    bend: Array
    growth: Array


def turns_of(cameras: Cameras, frames: Ints) -> Array:
    """Rotations (3, 3, n) of frames (n,), camera to world, a number of all frames beside each other."""
    return np.ascontiguousarray(cameras.rotations.transpose(1, 2, 0)).take(frames, axis=2)


def lenses_of(cameras: Cameras, frames: Ints) -> Array:
    """The parts of the lenses of frames (n,): (6, n), or (6, 1) if all share one."""
    parts = np.ascontiguousarray(cameras.lenses.T)
    return parts if len(cameras.lenses) == 1 else parts.take(cameras.group[frames], axis=1)


def middles_of(cameras: Cameras, frames: Ints) -> Array:
    """Where the frames (n,) have their middle, px (2, n)."""
    return (np.ascontiguousarray(cameras.sizes.T).take(frames, axis=1) - 1) / 2


def undistorted(cameras: Cameras, frames: Ints, points: Array) -> Passed:
    """What px (n, 2) of frames (n,) look at, all groups at once (Newton on the radius)."""
    of = lenses_of(cameras, frames)
    d = (points.T - middles_of(cameras, frames) - of[4:6]) * np.exp(-of[0])
    k1, k2, k3 = of[1:4]
    fold = np.array([fold_radius(*(float(v) for v in lens[1:4])) for lens in cameras.lenses])
    top = 0.999 * (fold if len(fold) == 1 else fold[cameras.group[frames]])
    r2 = undistorted_radius(np.sqrt(d[0] * d[0] + d[1] * d[1]), k1, k2, k3, top) ** 2
    bend = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    growth = 1 + r2 * (3 * k1 + r2 * (5 * k2 + r2 * 7 * k3))
    return Passed(d / bend, r2, bend, growth)


def rays_of(cameras: Cameras, frames: Ints, points: Array) -> Array:
    """Unit rays (n, 3) in camera axes of px (n, 2) of frames (n,)."""
    u = undistorted(cameras, frames, points).u
    rays = np.stack([*u, np.ones(u.shape[1])], axis=1)
    return rays / np.linalg.norm(rays, axis=1, keepdims=True)


def carried(cameras: Cameras, i: Ints, j: Ints, points: Array) -> Array:
    """Px (n, 2) of frames `j` (n,) where px of frames `i` (n,) are seen; far away where they are not."""
    u = undistorted(cameras, i, points).u
    turn = turns_of(cameras, i)
    world, behind = turn[:, 0] * u[0] + turn[:, 1] * u[1] + turn[:, 2], None
    if cameras.places is not None:
        stands = np.ascontiguousarray(cameras.places.T)
        own = stands.take(i, axis=1)
        behind = world[2] < 1e-6
        reach = (1 - own[2]) / np.where(behind, 1.0, world[2])
        world = own + world * reach - stands.take(j, axis=1)
    turn = turns_of(cameras, j)
    out = _projected(cameras, j, turn[0] * world[0] + turn[1] * world[1] + turn[2] * world[2])
    return np.ascontiguousarray((out if behind is None else np.where(behind, 1e5, out)).T)


def carried_there_and_back(cameras: Cameras, i: int | Ints, j: int | Ints, points: Array) -> Array:
    """As `carried`, from frames `i` to `j` (of all or of each); far away beyond that frame, and where the way back
    does not lead home.

    Far beyond a frame its distortion folds, and shows what the lens cannot see.
    """
    a, b = (np.broadcast_to(n, len(points)) for n in (i, j))
    there = carried(cameras, a, b, points)
    near = np.flatnonzero(np.all((there >= 0) & (there <= cameras.sizes[b] - 1), axis=1))
    back = carried(cameras, b[near], a[near], there[near])
    home = near[np.linalg.norm(back - points[near], axis=1) < HOME * cameras.sizes[a[near]].max(axis=1)]
    out = np.full(there.shape, 1e5)
    out[home] = there[home]
    return out


def projected(cameras: Cameras, frames: Ints, rays: Array) -> Array:
    """Px (n, 2) of frames (n,) where rays (n, 3) in camera axes are seen; far away behind the camera."""
    return _projected(cameras, frames, rays.T).T


def _projected(cameras: Cameras, frames: Ints, rays: Array) -> Array:
    of = lenses_of(cameras, frames)
    ahead = rays[2] > 1e-6
    v = rays[:2] / np.where(ahead, rays[2], 1e-6)
    r2 = v[0] * v[0] + v[1] * v[1]
    bend = 1 + r2 * (of[1] + r2 * (of[2] + r2 * of[3]))
    centre = middles_of(cameras, frames) + of[4:6]
    return np.where(ahead, centre + np.exp(of[0]) * bend * v, centre + 1e5)
