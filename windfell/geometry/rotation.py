"""Rotations of 3-space. Axes everywhere: x right, y down, z ahead."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def cross_matrix(v: Array) -> Array:
    """The (..., 3, 3) matrices K with K @ u = v x u, of v (..., 3)."""
    out = np.zeros((*np.shape(v), 3))
    x, y, z = np.moveaxis(np.asarray(v, float), -1, 0)
    out[..., 0, 1], out[..., 0, 2], out[..., 1, 2] = -z, y, -x
    return out - np.swapaxes(out, -1, -2)


def from_rotvec(v: Array) -> Array:
    """The (..., 3, 3) rotations by |v| rad about v (..., 3) (Rodrigues)."""
    k = cross_matrix(v)
    angle = np.linalg.norm(v, axis=-1)[..., None, None]
    # sin(x) / x and (1 - cos(x)) / x^2, which hold at 0 as well
    first, second = np.sinc(angle / np.pi), 0.5 * np.sinc(0.5 * angle / np.pi) ** 2
    return np.eye(3) + first * k + second * (k @ k)


def to_rotvec(r: Array) -> Array:
    """The vector (3,) that `from_rotvec` turns back into the rotation; its angle is at most pi."""
    axis = np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]])
    sine, cosine = 0.5 * float(np.linalg.norm(axis)), 0.5 * (float(np.trace(r)) - 1.0)
    angle = float(np.arctan2(sine, cosine))
    if sine > 1e-9:
        return axis * (0.5 * angle / sine)
    if cosine > 0:
        return 0.5 * axis
    column = int(np.argmax(np.diag(r)))
    v = r[:, column] + np.eye(3)[column]
    return angle * v / np.linalg.norm(v)


def angle_between(a: Array, b: Array) -> float:
    """Angle in rad of the rotation that takes `a` to `b`, exact for small angles too."""
    turn = a.T @ b
    sine = 0.5 * np.linalg.norm(
        [turn[2, 1] - turn[1, 2], turn[0, 2] - turn[2, 0], turn[1, 0] - turn[0, 1]]
    )
    return float(np.arctan2(sine, 0.5 * (np.trace(turn) - 1.0)))


def nearest_rotation(m: Array) -> Array:
    """The rotations nearest to (..., 3, 3) matrices in the Frobenius sense."""
    u, _, vt = np.linalg.svd(m)
    u[..., 2] *= np.linalg.det(u @ vt)[..., None]
    return u @ vt


def aligning_rotation(a: Array, b: Array, weights: Array | None = None) -> Array:
    """The rotation R minimising sum w |R a - b|^2 over unit rays (n, 3) (Kabsch 1976)."""
    w = np.ones(len(a)) if weights is None else weights
    return nearest_rotation((b * w[:, None]).T @ a)


def mean_rotation(rotations: list[Array]) -> Array:
    """The chordal mean of rotations."""
    return nearest_rotation(np.sum(rotations, axis=0))


def from_yaw_pitch_roll(yaw: Array | float, pitch: Array | float, roll: Array | float) -> Array:
    """Camera-to-world rotation (3, 3), or rotations (..., 3, 3) of angles of one shape, in rad.

    Yaw turns right, pitch looks up, roll turns the camera clockwise about its
    axis as seen from behind it: R = Ry(yaw) Rx(pitch) Rz(roll).
    """
    cy, sy, cp, sp = np.cos(yaw), np.sin(yaw), np.cos(pitch), np.sin(pitch)
    cr, sr = np.cos(roll), np.sin(roll)
    nil, one = np.zeros_like(cy), np.ones_like(cy)
    turn, tilt, lean = (np.moveaxis(np.array(rows), (0, 1), (-2, -1)) for rows in (
        [[cy, nil, sy], [nil, one, nil], [-sy, nil, cy]],
        [[one, nil, nil], [nil, cp, -sp], [nil, sp, cp]],
        [[cr, -sr, nil], [sr, cr, nil], [nil, nil, one]]))
    return turn @ tilt @ lean


def yaw_pitch_roll(r: Array) -> tuple[float, float, float]:
    """The angles in rad that `from_yaw_pitch_roll` turns back into `r`."""
    yaw = np.arctan2(r[0, 2], r[2, 2])
    pitch = np.arcsin(np.clip(-r[1, 2], -1, 1))
    roll = np.arctan2(r[1, 0], r[1, 1])
    return float(yaw), float(pitch), float(roll)
