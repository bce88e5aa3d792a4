"""Lines of a picture that a bend of it has to respect, or to mend: edges, the horizon, what was drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.shape.canvas import Canvas
from windfell.shape.edges import Edge

spatial = Later("scipy.spatial")

Array = NDArray[np.float64]

MOST = 160
LEAN, LEVEL = 240.0, 3000.0
DRAWN = 60.0
HORIZON_SPOTS = 720
CURVED = 0.06
LEAST_SHARE = 0.015
LONGER, LEAST_SEEN = (0.2, 0.08, 0.0), 0.4
SPOTS = 25
GIVING, GIVES = ("straight", "upright"), 0.0133


@dataclass(frozen=True, eq=False)
class Held:
    """A line of the picture that is to keep its form: spots (n, 2) of the plane.

    `kind`: "horizon", "upright", "straight", or "drawn". `strength` 0 to 1 or more; `turn`: how much it matters that
    it is not turned either, `rigid`: nor any part of it; `asked` (n,): how far each spot is to go along the line's
    normal, 0 for lines that are fine as they are.
    """

    spots: Array
    kind: str = "straight"
    strength: float = 1.0
    turn: float = 0.0
    rigid: float = 0.0
    asked: Array | None = None
    axis: tuple[float, float] | None = None

    @property
    def length(self) -> float:
        return float(np.linalg.norm(self.spots[-1] - self.spots[0]))

    @property
    def normals(self) -> Array:
        """Unit normals (n, 2): of the line as it runs, or of what it is to become."""
        if self.axis is not None:
            return np.broadcast_to(np.array(self.axis), self.spots.shape)
        if self.asked is not None:
            run = (self.spots[-1] - self.spots[0]) / max(self.length, 1e-12)
            return np.broadcast_to(np.array([-run[1], run[0]]), self.spots.shape)
        run = np.gradient(self.spots, axis=0)
        run /= np.maximum(np.linalg.norm(run, axis=1, keepdims=True), 1e-12)
        return np.stack([-run[:, 1], run[:, 0]], -1)


@dataclass(frozen=True)
class Weights:
    """How much horizon, upright things and straight edges matter, 1 as usual."""

    horizon: float = 1.0
    upright: float = 1.0
    straight: float = 1.0


def longer(rays: Array, by: float) -> Array:
    """An edge's rays (n, 3), spread evenly over so much more of its great circle at both ends."""
    if by == 0:
        return rays
    start, end = rays[0], rays[-1]
    whole = float(np.arccos(np.clip(start @ end, -1, 1)))
    along = end - start * (start @ end)
    along /= max(float(np.linalg.norm(along)), 1e-12)
    t = np.linspace(-by * whole, (1 + by) * whole, len(rays))[:, None]
    return np.cos(t) * start + np.sin(t) * along


def on_plane(canvas: Canvas, rays: Array) -> Array | None:
    """Where rays (n, 3) that follow each other lie on the canvas's unbent plane; None if it tears them."""
    plain = replace(canvas, mesh=None)
    with np.errstate(invalid="ignore"):
        spots = plain.cut(plain.pixels(rays))
    if not np.isfinite(spots).all():
        return None
    step = np.linalg.norm(np.diff(spots, axis=0), axis=1)
    return spots if step.max(initial=0.0) < 0.5 * (canvas.right - canvas.left) else None


def held_lines(canvas: Canvas, seen: NDArray[np.bool_], edges: Sequence[Edge], horizon: bool, weights: Weights
               ) -> list[Held]:
    """The horizon and the longest edges that lie within what is covered, `seen` (h, w) over the canvas."""
    found = []
    for edge in edges:
        # what was found of an edge is rarely all of it
        spots = next((s for s in (on_plane(canvas, longer(edge.rays, by)) for by in LONGER) if s is not None), None)
        if spots is None or (spots := _within(canvas, seen, spots)) is None:
            continue
        found.append(Held(
            spots, "upright" if edge.upright else "straight", weights.straight,
            LEAN * weights.upright if edge.upright else 0.0))
    least = LEAST_SHARE * np.hypot(canvas.right - canvas.left, canvas.bottom - canvas.top)
    found = sorted((h for h in found if h.length > least), key=lambda h: -h.length)[:MOST]
    if horizon and weights.horizon > 0:
        found += [Held(part, "horizon", weights.straight, rigid=LEVEL * weights.horizon)
                  for part in horizon_parts(canvas, seen)]
    return found


def given_way(held: Sequence[Held], folded: Array, reach: float) -> list[Held]:
    """Lines with those less strong that pass within `reach` of spots (n, 2) that would fold; drawn ones stay."""
    tree = spatial.cKDTree(folded)

    def near(line: Held) -> bool:
        return bool((tree.query(line.spots, distance_upper_bound=reach)[0] <= reach).any())

    return [replace(h, strength=GIVES * h.strength, turn=GIVES * h.turn) if h.kind in GIVING and near(h) else h
            for h in held]


def horizon_parts(canvas: Canvas, seen: NDArray[np.bool_]) -> list[Array]:
    """The horizon on the canvas's plane where it is covered, in parts (n, 2); none if it is much of a curve."""
    lon = np.linspace(-np.pi, np.pi, HORIZON_SPOTS, endpoint=False)
    rays = np.stack([np.sin(lon), np.zeros_like(lon), np.cos(lon)], -1)
    plain = replace(canvas, mesh=None)
    with np.errstate(invalid="ignore"):
        px = plain.pixels(rays)
    inside = np.isfinite(px).all(axis=1)
    inside[inside] = _seen_at(px[inside], seen, canvas)
    if inside.all():
        first = int(np.argmin(px[:, 0]))
    elif inside.any():
        first = int(np.flatnonzero(~inside)[-1] + 1) if inside[0] and inside[-1] else 0
    else:
        return []
    px, inside = np.roll(px, -first, axis=0), np.roll(inside, -first)
    jumps = np.zeros(len(px), bool)
    with np.errstate(invalid="ignore"):
        jumps[1:] = ~(np.linalg.norm(np.diff(px, axis=0), axis=1) < canvas.width / 4)
    group = np.cumsum(~inside | jumps)
    parts = []
    for g in np.unique(group[inside]):
        spots = canvas.cut(px[inside & (group == g)])
        if len(spots) > 8 and bow(spots) < CURVED:
            parts.append(spots)
    return parts


def _seen_at(px: Array, seen: NDArray[np.bool_], canvas: Canvas) -> NDArray[np.bool_]:
    h, w = seen.shape
    x = np.floor((px[:, 0] + 0.5) * w / canvas.width).astype(int)
    y = np.floor((px[:, 1] + 0.5) * h / canvas.height).astype(int)
    inside = (x >= 0) & (y >= 0) & (x < w) & (y < h)
    inside[inside] = seen[y[inside], x[inside]]
    return inside


def _within(canvas: Canvas, seen: NDArray[np.bool_], spots: Array) -> Array | None:
    """The longest part of a line (n, 2) that lies within what is covered, by as many spots; None if it is short."""
    x = (spots[:, 0] - canvas.left) / (canvas.right - canvas.left) * canvas.width - 0.5
    y = (spots[:, 1] - canvas.top) / (canvas.bottom - canvas.top) * canvas.height - 0.5
    inside = _seen_at(np.stack([x, y], -1), seen, canvas)
    if inside.all():
        return spots
    ends = np.flatnonzero(np.diff(np.concatenate([[0], inside, [0]])))
    first, last = max(zip(ends[::2], ends[1::2] - 1, strict=True), key=lambda e: e[1] - e[0], default=(0, 0))
    if last - first < LEAST_SEEN * (len(spots) - 1):
        return None
    at, t = np.linspace(first, last, len(spots)), np.arange(len(spots))
    return np.stack([np.interp(at, t, spots[:, c]) for c in (0, 1)], -1)


def bow(spots: Array) -> float:
    """How far a line (n, 2) leaves its chord, as a share of the chord."""
    off = off_chord(spots)
    return float(np.abs(off).max()) if np.isfinite(off).all() else np.inf


def off_chord(spots: Array) -> Array:
    """How far each spot (n,) of a line (n, 2) lies beside its chord, as a share of that; inf if there is none."""
    run = spots[-1] - spots[0]
    length = float(np.hypot(*run))
    if length < 1e-12:
        return np.full(len(spots), np.inf)
    return (spots - spots[0]) @ (np.array([-run[1], run[0]]) / length) / length


def drawn_line(canvas: Canvas, rays: Array, kind: str, strength: float) -> Held | None:
    """A drawn line, its rays (n, 3) in order, with how far each spot is off what it is to be: "straight", "level" or
    "upright"; None where the plane tears it.
    """
    spots = on_plane(canvas, rays)
    return None if spots is None else asked_line(spots, kind, strength)


def asked_line(spots: Array, kind: str, strength: float) -> Held | None:
    """As `drawn_line`, of spots (n, 2) of the plane itself."""
    if len(spots) < 2:
        return None
    spots = _evenly(spots)
    run = spots[-1] - spots[0]
    length = float(np.hypot(*run))
    if length < 1e-9 or strength <= 0:
        return None
    if kind == "straight":
        off = length * off_chord(spots)
        t = np.linspace(0, 1, len(spots))
        fit = np.polyval(np.polyfit(t, off, 1), t)
        return Held(spots, "drawn", DRAWN, asked=strength * (fit - off))
    axis = (0.0, 1.0) if kind == "level" else (1.0, 0.0)
    off = spots @ np.array(axis)
    return Held(spots, "drawn", DRAWN, turn=DRAWN * LEVEL, asked=strength * (off.mean() - off), axis=axis)


def _evenly(spots: Array) -> Array:
    """A polyline through spots (n, 2), given evenly."""
    step = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(spots, axis=0), axis=1))])
    at = np.linspace(0, step[-1], max(SPOTS, len(spots)))
    return np.stack([np.interp(at, step, spots[:, c]) for c in (0, 1)], -1)
