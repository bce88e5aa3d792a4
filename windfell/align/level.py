"""Levelling: which way is up, from how people hold a camera."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

ROLL_SIGMA = np.radians(3.0)
PITCH_SIGMA = np.radians(25.0)


def down_direction(rotations: Sequence[Array]) -> Array:
    """World direction (3,) that is down, from camera-to-world rotations.

    People keep a camera's x axis level far better than its height (Brown & Lowe 2007,
    sec. 5): down is square to all x axes, within a roll of 3 degrees each. Where the
    frames do not turn far enough to say, the common pitch is held near zero.
    """
    x = np.stack([r[:, 0] for r in rotations])
    down = np.mean([r[:, 1] for r in rotations], axis=0)
    down /= np.linalg.norm(down)
    share = (ROLL_SIGMA / PITCH_SIGMA) ** 2
    solved = np.linalg.solve(x.T @ x + share * np.eye(3), share * down)
    return solved / np.linalg.norm(solved)


def levelled(rotations: Sequence[Array]) -> list[Array]:
    """The rotations in a world whose y is down and whose z points at the frames' middle."""
    down = down_direction(rotations)
    ahead = np.sum([r[:, 2] for r in rotations], axis=0)
    ahead = ahead - (ahead @ down) * down
    if np.linalg.norm(ahead) < 0.05 * len(rotations):
        ahead = rotations[0][:, 2] - (rotations[0][:, 2] @ down) * down
    if np.linalg.norm(ahead) < 1e-3:
        ahead = np.cross(rotations[0][:, 0], down)
    ahead /= np.linalg.norm(ahead)
    world = np.stack([np.cross(down, ahead), down, ahead])
    return [world @ r for r in rotations]


def from_first(rotations: Sequence[Array]) -> list[Array]:
    """The rotations in the axes of the first frame."""
    return [rotations[0].T @ r for r in rotations]
