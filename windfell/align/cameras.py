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
FOCAL_SIGMA = 0.12
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

    def with_focal(self, focal_px: Array) -> Cameras:
        """The same with other focal lengths (g,), believed as well."""
        lenses, believed = self.lenses.copy(), self.believed.copy()
        lenses[:, 0] = believed[:, 0] = np.log(focal_px)
        return replace(self, lenses=lenses, believed=believed, sigma=lens_sigmas(self, focal_px))

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
    """Points as the lens undoes them: u = (x/z, y/z) (n, 2), r2 = |u|^2, the bend there, and
    `growth`: the derivative of the distorted radius by the undistorted one.
    """

    u: Array
    r2: Array
    bend: Array
    growth: Array


def undistorted(cameras: Cameras, frames: Ints, points: Array) -> Passed:
    """What px (n, 2) of frames (n,) look at, all groups at once (Newton on the radius)."""
    group = cameras.group[frames] if len(cameras.lenses) > 1 else np.s_[:]
    of = cameras.lenses[group]
    centre = (cameras.sizes[frames] - 1) / 2 + of[:, 4:6]
    d = (points - centre) * np.exp(-of[:, :1])
    rd = np.sqrt(d[:, 0] ** 2 + d[:, 1] ** 2)
    k1, k2, k3 = of[:, 1], of[:, 2], of[:, 3]
    fold = np.array([fold_radius(*(float(v) for v in lens[1:4])) for lens in cameras.lenses])
    r2 = undistorted_radius(rd, k1, k2, k3, 0.999 * fold[group]) ** 2
    bend = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    growth = 1 + r2 * (3 * k1 + r2 * (5 * k2 + r2 * 7 * k3))
    return Passed(d / bend[:, None], r2, bend, growth)


def rays_of(cameras: Cameras, frames: Ints, points: Array) -> Array:
    """Unit rays (n, 3) in camera axes of px (n, 2) of frames (n,)."""
    u = undistorted(cameras, frames, points).u
    rays = np.concatenate([u, np.ones((len(u), 1))], axis=1)
    return rays / np.linalg.norm(rays, axis=1, keepdims=True)


def carried(cameras: Cameras, i: Ints, j: Ints, points: Array) -> Array:
    """Px (n, 2) of frames `j` (n,) where px of frames `i` (n,) are seen; far away where they are not."""
    world = np.einsum("nij,nj->ni", cameras.rotations[i], rays_of(cameras, i, points))
    behind = None
    if cameras.places is not None:
        behind = world[:, 2] < 1e-6
        reach = (1 - cameras.places[i, 2]) / np.where(behind, 1.0, world[:, 2])
        world = cameras.places[i] + world * reach[:, None] - cameras.places[j]
    out = projected(cameras, j, np.einsum("nij,ni->nj", cameras.rotations[j], world))
    return out if behind is None else np.where(behind[:, None], 1e5, out)


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
    of = cameras.lenses[cameras.group[frames]]
    centre = (cameras.sizes[frames] - 1) / 2 + of[:, 4:6]
    z = np.maximum(rays[:, 2], 1e-6)
    v = rays[:, :2] / z[:, None]
    r2 = np.sum(v * v, axis=1)
    bend = 1 + r2 * (of[:, 1] + r2 * (of[:, 2] + r2 * of[:, 3]))
    out = centre + np.exp(of[:, :1]) * v * bend[:, None]
    return np.where((rays[:, 2] > 1e-6)[:, None], out, centre + 1e5)
