"""A flat subject photographed by sliding the camera: first poses from a chain of homographies.

A spot (x, y) of the plane z = 1 is seen by a camera at C turned by R as R^T ((x, y, 1) - C), which is a
homography of (x, y, 1) (Hartley & Zisserman 2004, sec. 8.1); the best-linked frame stands at the origin.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras, undistorted
from windfell.geometry.rotation import nearest_rotation

Array = NDArray[np.float64]

FOCAL_SIGMA, UNKNOWN_SIGMA = 0.02, 0.4


def slid_cameras(cameras: Cameras, observations: Sequence[Observations], known: Sequence[bool]) -> Cameras:
    """Cameras placed before the plane, all seen from the best-linked one, which looks straight at it.

    `known` (g,): whether a lens's focal length is; if not, the points decide, and that people face the subject.
    """
    count = cameras.count
    strength = np.zeros(count)
    for o in observations:
        strength[[o.a, o.b]] += len(o.points_a)
    start = int(np.argmax(strength))
    onto = {start: np.eye(3)}
    waiting = sorted(observations, key=lambda o: -len(o.points_a))
    while len(onto) < count:
        o = next(x for x in waiting if (x.a in onto) != (x.b in onto))
        placed, new = (o.a, o.b) if o.a in onto else (o.b, o.a)
        onto[new] = _between(cameras, o, placed) @ onto[placed]
    turns, places = zip(*(_pose(onto[n]) for n in range(count)), strict=True)
    locked = np.zeros(count, bool)
    locked[start] = True
    sigma = cameras.sigma.copy()
    sigma[:, 0] = np.minimum(sigma[:, 0], FOCAL_SIGMA)
    sigma[~np.array(known), 0] = UNKNOWN_SIGMA
    return replace(cameras, rotations=np.array(turns), places=np.array(places), locked=locked, sigma=sigma)


def _between(cameras: Cameras, o: Observations, known: int) -> Array:
    """The homography of undistorted coordinates from the known frame of a pair to the other."""
    ua = undistorted(cameras, np.full(len(o.points_a), o.a), o.points_a).u.T
    ub = undistorted(cameras, np.full(len(o.points_b), o.b), o.points_b).u.T
    source, goal = (ua, ub) if known == o.a else (ub, ua)
    found, _ = cv2.findHomography(source, goal, cv2.USAC_MAGSAC, 0.004, maxIters=3000, confidence=0.999)
    return np.eye(3) if found is None else found


def _pose(h: Array) -> tuple[Array, Array]:
    """(rotation, place) of the camera that sees the plane by a homography of its spots."""
    h = h * np.sign(np.linalg.det(h))
    size = np.sqrt(np.linalg.norm(h[:, 0]) * np.linalg.norm(h[:, 1]))
    h = h / size
    toward = nearest_rotation(np.stack([h[:, 0], h[:, 1], np.cross(h[:, 0], h[:, 1])], axis=1))
    return toward.T, toward.T @ (toward[:, 2] - h[:, 2])


def levelled_places(rotations: Sequence[Array], places: Sequence[Array]) -> tuple[list[Array], list[Array]]:
    """The poses in a plane turned so that the cameras' own x axes lie level in the mean."""
    x = np.sum([r[:, 0] for r in rotations], axis=0)
    angle = float(np.arctan2(x[1], x[0]))
    c, s = np.cos(angle), np.sin(angle)
    turn = np.array([[c, s, 0], [-s, c, 0], [0, 0, 1.0]])
    return [turn @ r for r in rotations], [turn @ p for p in places]
