"""Level by the horizon: the line across the frames that is straight on the sphere and nearly level already.

Edges that run nearly level lie, if they are the horizon's, on one circle r . d = c around the vertical d; c is the
sine of the line's elevation, 0 for the sea's. It is left free within bounds, since a far shore is level as well but
lies lower; so a narrow view says how the world leans, and only a wide one how it nods.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.align.upright import Upright, onto_down
from windfell.geometry.posed import Posed

Array = NDArray[np.float64]

LEVEL = np.radians(12.0)
BAND = np.radians(8.0)
AGREES = np.radians(0.2)
NOISE = np.radians(0.06)
BELIEVED = np.radians(1.5)
UNIT = np.radians(2.0)
TRIALS = 400
LEAST_COVER, LEAST_SHARE = 25, 0.45
PARTS = 24


def horizon_turn(frames: Sequence[Posed], edges: Sequence[Array], seed: int = 5) -> Upright | None:
    """What levels a nearly level world by its horizon, or None where none is seen.

    `edges[n]` (m, 4) are those of frame n in ideal px. Its line must run through nearly half of the directions that
    the frames show, and over 25 degrees.
    """
    rays, weight, seen = _level_edges(frames, edges)
    if not len(rays):
        return None
    best = _best_of_trials(rays, weight, np.random.default_rng(seed))
    if best is None:
        return None
    state, covariance = _fitted(rays, weight, best)
    agrees = _agreeing(rays, state)
    cover = _degrees_covered(rays[agrees])
    if cover < LEAST_COVER or cover < LEAST_SHARE * seen:
        return None
    down = _down(state)
    tilt = float(np.degrees(np.arccos(np.clip(down[1], -1, 1))))
    error = float(np.degrees(np.sqrt(covariance[0, 0] + covariance[1, 1])))
    return Upright(onto_down(down), int(agrees.sum()), tilt, error, "horizon")


def _level_edges(frames: Sequence[Posed], edges: Sequence[Array]) -> tuple[Array, Array, float]:
    """Spots (m, PARTS, 3) along edges that run nearly level at the eye's height, how long the edges are, and over how
    many degrees of azimuth the frames look there.
    """
    rays, weight, around = [np.zeros((0, PARTS, 3))], [np.zeros(0)], [np.zeros((0, 3))]
    along = np.linspace(0, 1, PARTS)[None, :, None]
    for frame, ends in zip(frames, edges, strict=True):
        around.append(_at_eye_height(frame))
        if not len(ends):
            continue
        spots = frame.rays(ends[:, None, :2] * (1 - along) + ends[:, None, 2:] * along)
        run = spots[:, -1] - spots[:, 0]
        length = np.linalg.norm(run, axis=1)
        with np.errstate(invalid="ignore", divide="ignore"):
            level = np.abs(run[:, 1]) < np.sin(LEVEL) * length
        near = np.abs(spots[:, :, 1]).max(axis=1) < np.sin(BAND)
        rays.append(spots[level & near])
        weight.append(length[level & near])
    return np.concatenate(rays), np.concatenate(weight), _degrees_covered(np.concatenate(around))


def _at_eye_height(frame: Posed) -> Array:
    rays = frame.rays(frame.lens.grid(40))
    return rays[np.abs(rays[:, 1]) < np.sin(BAND)]


def _best_of_trials(rays: Array, weight: Array, rng: np.random.Generator) -> Array | None:
    """(3,) the line through spots of two edges that most others lie on."""
    edges = rng.choice(len(rays), (TRIALS, 2), p=weight / weight.sum())
    states = _through(rays[edges, rng.integers(PARTS, size=(TRIALS, 2))])
    if not len(states):
        return None
    few = rays[:, :: (PARTS - 1) // 2]
    off = few @ _across(states).T + few[..., 1:2] - states[:, 2]
    total = weight @ (np.abs(off).max(axis=1) < AGREES)
    return states[np.argmax(total)]


def _across(states: Array) -> Array:
    """(n, 3): what the tilts add to y of a direction."""
    return np.stack([states[:, 0], np.zeros(len(states)), states[:, 1]], axis=-1)


def _through(pairs: Array) -> Array:
    """The states (m, 3) (two tilts, c) of least tilt whose circles hold two directions each, of pairs (n, 2, 3);
    of those that say too little, or tilt too far, none.
    """
    rows = np.stack([pairs[..., 0], pairs[..., 2], -np.ones(pairs.shape[:2])], axis=-1)
    inner = rows @ rows.transpose(0, 2, 1)
    fair = np.linalg.cond(inner) < 1e8
    rows, inner = rows[fair], inner[fair]
    states = (rows.transpose(0, 2, 1) @ np.linalg.solve(inner, -pairs[fair, :, 1:2]))[..., 0]
    return states[np.abs(states).max(axis=1) < BAND]


def _down(state: Array) -> Array:
    down = np.array([state[0], 1.0, state[1]])
    return down / np.linalg.norm(down)


def _off(rays: Array, state: Array) -> Array:
    """(m, PARTS): how far, in rad, spots lie off the line."""
    return rays[..., 0] * state[0] + rays[..., 1] + rays[..., 2] * state[1] - state[2]


def _agreeing(rays: Array, state: Array) -> NDArray[np.bool_]:
    return np.abs(_off(rays, state)).max(axis=1) < AGREES


def _fitted(rays: Array, weight: Array, state: Array) -> tuple[Array, Array]:
    """(state, covariance): reweighted least squares, with what is believed before of tilt and height."""
    design = np.stack([rays[..., 0], rays[..., 2], -np.ones(rays.shape[:2])], axis=-1)
    # spots of one edge err alike: an edge counts once, by its length in units of 2 degrees
    share = np.broadcast_to((weight / UNIT / PARTS)[:, None], rays.shape[:2])
    for scale in np.geomspace(3 * AGREES, NOISE * 2, 10):
        pull = share / (1 + (_off(rays, state) / scale) ** 2) ** 2 / NOISE**2
        information = np.einsum("mp,mpi,mpj->ij", pull, design, design) + np.eye(3) / BELIEVED**2
        state = np.linalg.solve(information, -np.einsum("mp,mpi,mp->i", pull, design, rays[..., 1]))
    return state, np.linalg.inv(information)


def _degrees_covered(rays: Array) -> float:
    """Over how many degrees of azimuth directions (..., 3) are spread, each counting for its own."""
    flat = rays.reshape(-1, 3)
    return float(len(np.unique(np.floor(np.degrees(np.arctan2(flat[:, 0], flat[:, 2]))))))
