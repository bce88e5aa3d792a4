"""Upright by what stands in the picture: the vertical that straight edges of all frames agree on.

An edge seen in a frame spans a plane with the camera; the plane of an upright edge holds the vertical. Edges
come from the line segment detector (von Gioi et al. 2010); those nearly upright already vote, and the vertical
that most of them agree on is found robustly, if they are more than chance would give. How far the camera nods is
hardly known where few frames lie side by side: there a vertical farther off is taken as well, if clearly more edges
agree on it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.level import PITCH_SIGMA, ROLL_SIGMA
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_rotvec

Array = NDArray[np.float64]

LONGEST, SMOOTHED = 640, 0.6
LEAST_LENGTH = 0.035
COLOUR_SIGMA, COLOUR_GAIN = 1.0, 2  # colour is coarser than light in most files, and fainter
NEAR = np.radians(7.0)
FINE = np.radians(0.5)
AGREES = np.radians(0.8)
LEAST_EDGES, LEAST_SHARE = 18, 0.4
THING_DEG = 4.0
LEAST_SPREAD, FAR_SPREAD = np.radians(12.0), np.radians(20.0)
FAR, STEP, COARSE = np.radians(36.0), np.radians(2.0), np.radians(1.5)
UNLIKELY, PRIOR, CLEARLY = 2.9, 0.02, 1.25


@dataclass(frozen=True)
class Upright:
    """The `turn` (3, 3) of the world that sets it upright, how many edges agree, the tilt it takes away and
    its standard error, both in degrees; `by` what it was found.
    """

    turn: Array
    edges: int
    tilt_deg: float
    error_deg: float
    by: str = "upright edges"


def find_edges(grey: NDArray[np.uint8], width: int, height: int) -> Array:
    """Straight edges (m, 4): x, y of both ends in px of the full size, of a picture seen smaller."""
    found = cv2.createLineSegmentDetector(scale=SMOOTHED).detect(grey)[0]
    if found is None:
        return np.zeros((0, 4))
    ends = found.reshape(-1, 4).astype(float)
    length = np.hypot(ends[:, 2] - ends[:, 0], ends[:, 3] - ends[:, 1])
    ends = ends[length > LEAST_LENGTH * max(grey.shape)]
    scale = np.tile([width / grey.shape[1], height / grey.shape[0]], 2)
    return (ends + 0.5) * scale - 0.5


def blue_over_red(seen: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """How much bluer than red each px (h, w) of a picture (h, w, 3) is, encoded: 128 where it is neither."""
    rgb = cv2.GaussianBlur(seen, (0, 0), COLOUR_SIGMA).astype(np.int16)
    return np.clip(128 + COLOUR_GAIN * (rgb[..., 2] - rgb[..., 0]), 0, 255).astype(np.uint8)


def upright_turn(frames: Sequence[Posed], edges: Sequence[Array]) -> Upright | None:
    """What sets a nearly level world upright, or None where too few edges agree.

    `edges[n]` (m, 4) are those of frame n in ideal px.
    """
    normals, weight, azimuth = _planes(frames, edges)
    if len(normals) < LEAST_EDGES:
        return None
    down = _first_guess(np.stack([f.rotation[:, 0] for f in frames]), normals, weight)
    near = np.abs(normals @ down) < np.sin(NEAR)
    normals, weight, azimuth = normals[near], weight[near], azimuth[near]
    if len(normals) < LEAST_EDGES:
        return None
    for scale in np.geomspace(np.radians(3.0), FINE, 12):
        down = _improved(down, normals, weight, scale)
    off = np.arcsin(np.clip(normals @ down, -1, 1))
    agrees = np.abs(off) < AGREES
    spread = _spread(azimuth[agrees])
    tilt = float(np.degrees(np.arccos(np.clip(down[1], -1, 1))))
    enough = agrees.sum() >= LEAST_EDGES and weight[agrees].sum() > LEAST_SHARE * weight.sum()
    far = tilt > np.degrees(NEAR)
    if not enough or spread < (FAR_SPREAD if far else LEAST_SPREAD):
        return None
    # edges of one thing err alike: it counts once
    things = len(np.unique(np.round(np.degrees(azimuth[agrees]) / THING_DEG)))
    error = float(np.degrees(np.std(off[agrees]) / np.sqrt(things) / max(np.sin(min(spread, np.pi / 2)), 0.2)))
    return Upright(onto_down(down), int(agrees.sum()), tilt, error)


def _first_guess(axes: Array, normals: Array, weight: Array) -> Array:
    """Down (3,) as it is, or the vertical farther off on which clearly more edges agree.

    `axes` (n, 3) are the frames' own x axes: down lies square to them within a roll, and nods along them at will.
    """
    down = np.array([0.0, 1.0, 0.0])
    steps = np.tan(np.arange(-FAR, FAR + STEP / 2, STEP))
    x, z = np.meshgrid(steps, steps)
    tried = np.stack([x, np.ones_like(x), z], -1).reshape(-1, 3)
    tried /= np.linalg.norm(tried, axis=1)[:, None]
    known = axes.T @ axes / len(axes) / ROLL_SIGMA**2 + np.eye(3) / PITCH_SIGMA**2
    cost = 0.5 * np.einsum("ij,jk,ik->i", tried - down, known, tried - down)
    tried, cost = tried[cost < UNLIKELY], cost[cost < UNLIKELY]
    votes = (weight / (1 + (tried @ normals.T / np.sin(COARSE)) ** 2) ** 2).sum(axis=1) - PRIOR * weight.sum() * cost
    best = int(np.argmax(votes))
    clearly = votes[best] > CLEARLY * votes[tried[:, 1] > np.cos(NEAR)].max()
    return tried[best] if clearly else down


def _planes(frames: Sequence[Posed], edges: Sequence[Array]) -> tuple[Array, Array, Array]:
    """Unit normals (m, 3) of the edges' planes, how long the edges are, and which way they lie."""
    normals, weight, azimuth = [np.zeros((0, 3))], [np.zeros(0)], [np.zeros(0)]
    for frame, ends in zip(frames, edges, strict=True):
        if not len(ends):
            continue
        one, other = frame.rays(ends[:, :2]), frame.rays(ends[:, 2:])
        cross = np.cross(one, other)
        size = np.linalg.norm(cross, axis=1)
        fair = size > 1e-6
        normals.append(cross[fair] / size[fair, None])
        weight.append(size[fair])
        middle = one[fair] + other[fair]
        azimuth.append(np.arctan2(middle[:, 0], middle[:, 2]))
    return np.concatenate(normals), np.concatenate(weight), np.concatenate(azimuth)


def _improved(down: Array, normals: Array, weight: Array, scale: float) -> Array:
    """A robust least squares step: the direction in whose sense the normals are most nearly square to it."""
    off = normals @ down
    pull = weight / (1 + (off / np.sin(scale)) ** 2) ** 2
    moment = (normals * pull[:, None]).T @ normals
    # where the edges do not say, the direction stays
    moment += 1e-3 * np.trace(moment) * (np.eye(3) - np.outer(down, down))
    _, vectors = np.linalg.eigh(moment)
    found = vectors[:, 0]
    return found * np.sign(found @ down)


def _spread(azimuth: Array) -> float:
    """The angle over which directions are spread, rad, at most a right angle."""
    if not len(azimuth):
        return 0.0
    middle = np.angle(np.exp(1j * azimuth).mean())
    off = np.angle(np.exp(1j * (azimuth - middle)))
    return float(min(np.percentile(off, 95) - np.percentile(off, 5), np.pi / 2))


def onto_down(down: Array) -> Array:
    """The least turn (3, 3) that takes a direction to y."""
    y = np.array([0.0, 1.0, 0.0])
    axis = np.cross(down, y)
    sine = float(np.linalg.norm(axis))
    return np.eye(3) if sine < 1e-12 else from_rotvec(axis / sine * np.arctan2(sine, float(down @ y)))
