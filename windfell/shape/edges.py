"""Straight edges of the world: what the frames show straight, joined across frames, and what they are.

An edge that a frame shows lies in a plane through the camera; pieces in one plane that follow each other are one
edge. On a flat subject an edge is a line of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.posed import Posed

Array = NDArray[np.float64]

SPOTS = 17
TOGETHER, FARTHEST = np.radians(0.12), np.radians(0.5)
GAP, NEAR_GAP = 0.35, np.radians(1.2)
LEAST = np.radians(3.0)
MOST_PIECES, MOST = 1200, 200
UPRIGHT_WITHIN = np.radians(2.0)
LEVEL_WITHIN = np.radians(2.0)


@dataclass(frozen=True, eq=False)
class Edge:
    """Spots along it as world rays (SPOTS, 3), its length in rad; `upright`: it stands upright in the level world."""

    rays: Array
    length: float
    upright: bool


def world_edges(frames: Sequence[Posed], edges: Sequence[Array], least: float = LEAST) -> list[Edge]:
    """The longest straight edges, longest first, of frames whose own are given in ideal px, (m, 4) each."""
    ends = _ends(frames, edges)
    if not len(ends):
        return []
    length = np.arccos(np.clip((ends[:, 0] * ends[:, 1]).sum(-1), -1, 1))
    ends = ends[np.argsort(-length)[:MOST_PIECES]]
    left = np.ones(len(ends), bool)
    found = []
    for n in range(len(ends)):
        if not left[n]:
            continue
        left[n] = False
        members = [n]
        start, end = ends[n]
        while True:
            joined = _following(start, end, ends, left)
            if not len(joined):
                break
            left[joined] = False
            members += joined.tolist()
            start, end = _through(ends[members], start, end)
        whole = float(np.arccos(np.clip(start @ end, -1, 1)))
        if whole > least:
            found.append(Edge(arc(start, end), whole, _upright(start, end)))
    return sorted(found, key=lambda e: -e.length)[:MOST]


def _ends(frames: Sequence[Posed], edges: Sequence[Array]) -> Array:
    """(m, 2, 3): both ends of all edges as world rays."""
    found = [np.zeros((0, 2, 3))]
    for frame, own in zip(frames, edges, strict=True):
        if len(own):
            rays = frame.rays(own.reshape(-1, 2, 2))
            found.append(rays[np.isfinite(rays).all(axis=(1, 2))])
    return np.concatenate(found)


def _following(start: Array, end: Array, ends: Array, left: NDArray[np.bool_]) -> NDArray[np.intp]:
    """Which of the pieces left lie on an edge or follow it closely: the farther off, the less surely it is known."""
    normal = np.cross(start, end)
    normal /= max(np.linalg.norm(normal), 1e-12)
    along = np.cross(normal, start)
    length = float(np.arctan2(end @ along, end @ start))
    near = np.flatnonzero(left & (np.abs(ends @ normal) < FARTHEST).all(axis=1))
    if not len(near):
        return near
    places = np.arctan2(ends[near] @ along, ends[near] @ start)
    off = np.maximum(np.maximum(-places, places - length), 0.0)
    sure = np.minimum(TOGETHER * (1 + 1.5 * off / length), FARTHEST)
    on = (np.abs(ends[near] @ normal) < sure).all(axis=1)
    low, high = places.min(axis=1), places.max(axis=1)
    reach = max(GAP * length, NEAR_GAP)
    on &= (low < length + reach) & (high > -reach) & (high - low < np.pi / 2)
    whole = np.maximum(high, length) - np.minimum(low, 0.0)
    return near[on & (whole < np.radians(170))]


def _through(pieces: Array, start: Array, end: Array) -> tuple[Array, Array]:
    """Both ends of the edge that pieces (m, 2, 3) lie on best, each by its length."""
    long = np.linalg.norm(pieces[:, 1] - pieces[:, 0], axis=1)
    rays = pieces.reshape(-1, 3)
    moment = (rays * np.repeat(long, 2)[:, None]).T @ rays
    normal = np.linalg.eigh(moment)[1][:, 0]
    before = np.cross(start, end)
    normal *= np.sign(normal @ before) or 1.0
    first = start - normal * (start @ normal)
    first /= np.linalg.norm(first)
    along = np.cross(normal, first)
    places = np.arctan2(rays @ along, rays @ first)
    low, high = float(places.min()), float(places.max())
    return tuple(np.cos(t) * first + np.sin(t) * along for t in (low, high))


def arc(start: Array, end: Array, count: int = SPOTS) -> Array:
    """Rays (count, 3) spread evenly over the great circle from one to the other."""
    whole = np.arccos(np.clip(start @ end, -1, 1))
    t = np.linspace(0, 1, count)[:, None]
    return (np.sin((1 - t) * whole) * start + np.sin(t * whole) * end) / max(np.sin(whole), 1e-12)


def _upright(start: Array, end: Array) -> bool:
    normal = np.cross(start, end)
    return bool(abs(normal[1]) < np.sin(UPRIGHT_WITHIN) * np.linalg.norm(normal))
