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
TOGETHER = np.radians(0.12)
GAP = 0.35
LEAST = np.radians(3.0)
MOST_PIECES, MOST = 600, 90
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
    one, other = ends[:, 0], ends[:, 1]
    length = np.arccos(np.clip((one * other).sum(-1), -1, 1))
    order = np.argsort(-length)[:MOST_PIECES]
    one, other, length = one[order], other[order], length[order]
    left = np.ones(len(order), bool)
    found = []
    for n in range(len(order)):
        if not left[n] or len(found) >= MOST:
            continue
        left[n] = False
        start, end = one[n], other[n]
        while True:
            grown = _followed(start, end, one, other, left)
            if grown is None:
                break
            start, end = grown
        whole = float(np.arccos(np.clip(start @ end, -1, 1)))
        if whole > least:
            found.append(Edge(arc(start, end), whole, _upright(start, end)))
    return sorted(found, key=lambda e: -e.length)


def _ends(frames: Sequence[Posed], edges: Sequence[Array]) -> Array:
    """(m, 2, 3): both ends of all edges as world rays."""
    found = [np.zeros((0, 2, 3))]
    for frame, own in zip(frames, edges, strict=True):
        if len(own):
            rays = frame.rays(own.reshape(-1, 2, 2))
            found.append(rays[np.isfinite(rays).all(axis=(1, 2))])
    return np.concatenate(found)


def _followed(
    start: Array, end: Array, one: Array, other: Array, left: NDArray[np.bool_]
) -> tuple[Array, Array] | None:
    """The edge and the pieces of those left that lie on it or follow it, as two ends; None if there are none."""
    normal = np.cross(start, end)
    normal /= max(np.linalg.norm(normal), 1e-12)
    near = left & (np.abs(one @ normal) < TOGETHER) & (np.abs(other @ normal) < TOGETHER)
    if not near.any():
        return None
    along = np.cross(normal, start)
    length = np.arctan2(end @ along, end @ start)
    places = np.stack([np.arctan2(p[near] @ along, p[near] @ start) for p in (one, other)], -1)
    low, high = places.min(axis=1), places.max(axis=1)
    reach = GAP * length
    joins = (low < length + reach) & (high > -reach) & (high - low < np.pi / 2)
    if not joins.any():
        return None
    left[np.flatnonzero(near)[joins]] = False
    first, last = min(0.0, low[joins].min()), max(length, high[joins].max())
    if last - first > np.radians(170):
        return None
    return np.cos(first) * start + np.sin(first) * along, np.cos(last) * start + np.sin(last) * along


def arc(start: Array, end: Array, count: int = SPOTS) -> Array:
    """Rays (count, 3) spread evenly over the great circle from one to the other."""
    whole = np.arccos(np.clip(start @ end, -1, 1))
    t = np.linspace(0, 1, count)[:, None]
    return (np.sin((1 - t) * whole) * start + np.sin(t * whole) * end) / max(np.sin(whole), 1e-12)


def _upright(start: Array, end: Array) -> bool:
    normal = np.cross(start, end)
    return bool(abs(normal[1]) < np.sin(UPRIGHT_WITHIN) * np.linalg.norm(normal))
