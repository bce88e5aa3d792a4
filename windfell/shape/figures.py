"""What a picture's shape costs: how far it is stretched and sheared, what it does to lines, and where."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.mesh import Bounds, Mesh, slopes
from windfell.shape.canvas import Canvas
from windfell.shape.edges import Edge
from windfell.shape.held import Held, bow, horizon_parts, off_chord

Array = NDArray[np.float64]

GRID = 72
AN_EYE = {"stretch": 1.5, "line_bend": 0.5, "horizon_deg": 0.3, "vertical_deg": 2.0}
SHARE = 99.0
STEP = 5
LONGEST = 12


@dataclass(frozen=True)
class Cost:
    """What a bend of the picture costs, at its worst places; all 0 (stretch 1) without any.

    `stretch`: by how much a small length becomes longer or shorter, `shear`: the cosine of what was a right angle
    between level and upright, both what 99 % of the picture stay below; `line_bend`: how far an edge is bent
    away from its form, in % of its length; `horizon_deg`, `vertical_deg`: how far horizon and upright edges turn.
    `places`: for each where it is worst, as shares of the picture's width and height.
    """

    stretch: float = 1.0
    shear: float = 0.0
    line_bend: float = 0.0
    horizon_deg: float = 0.0
    vertical_deg: float = 0.0
    places: tuple[tuple[str, float, float], ...] = ()

    @property
    def unnoticed(self) -> bool:
        """Whether all stays below what an eye notices."""
        return (self.stretch <= AN_EYE["stretch"] and self.line_bend <= AN_EYE["line_bend"]
                and self.horizon_deg <= AN_EYE["horizon_deg"] and self.vertical_deg <= AN_EYE["vertical_deg"])


def cost_of(mesh: Mesh, cut: Bounds, held: Sequence[Held], seen: Array) -> Cost:
    """The cost of a bend for the part of the bent plane that is kept; `seen` (n, 2): spots of what is covered."""
    bent = mesh.forward(seen)
    inside = _inside(bent, cut)
    if not inside.any():
        return Cost()
    places: dict[str, Array] = {}
    turn = slopes(mesh.forth, seen[inside])
    at = bent[inside]
    sizes = np.linalg.svd(turn, compute_uv=False)
    stretch = np.maximum(sizes[:, 0], 1 / np.maximum(sizes[:, 1], 1e-6))
    lengths = np.linalg.norm(turn, axis=1)
    shear = np.abs((turn[..., 0] * turn[..., 1]).sum(-1)) / np.maximum(lengths[:, 0] * lengths[:, 1], 1e-12)
    places["stretch"], places["shear"] = at[np.argmax(stretch)], at[np.argmax(shear)]
    worst = {"line_bend": 0.0, "horizon_deg": 0.0, "vertical_deg": 0.0}

    def say(name: str, value: float, place: Array) -> None:
        if value > worst[name]:
            worst[name], places[name] = value, place

    for line in held:
        if line.kind == "drawn":
            continue
        after = mesh.forward(line.spots)
        shown = _inside(after, cut)
        if shown.sum() < 3:
            continue
        before, after = line.spots[shown], after[shown]
        middle = after[len(after) // 2]
        if line.kind == "horizon":
            say("horizon_deg", *_most_turned(before, after))
            continue
        say("line_bend", 100 * _bent_away(before, after), middle)
        if line.kind == "upright":
            say("vertical_deg", float(np.degrees(_turned(before[[0, -1]], after[[0, -1]])[0])), middle)
    shares = tuple((name, float((p[0] - cut.left) / cut.width), float((p[1] - cut.top) / cut.height))
                   for name, p in places.items())
    most = float(np.percentile(stretch, SHARE))
    return Cost(most, float(np.percentile(shear, SHARE)), **worst, places=shares)


def _inside(spots: Array, cut: Bounds) -> NDArray[np.bool_]:
    x, y = spots[:, 0], spots[:, 1]
    return (x >= cut.left) & (x <= cut.right) & (y >= cut.top) & (y <= cut.bottom)


def _bent_away(before: Array, after: Array) -> float:
    """How far a line's form, seen against its chord, has changed, as a share of the chord after."""
    return float(np.abs(off_chord(after) - off_chord(before)).max())


def _turned(before: Array, after: Array) -> Array:
    """By how many rad each piece of a line has turned."""
    def way(spots: Array) -> Array:
        run = np.diff(spots, axis=0)
        return np.arctan2(run[:, 1], run[:, 0])

    return np.abs((way(after) - way(before) + np.pi) % (2 * np.pi) - np.pi)


def _most_turned(before: Array, after: Array) -> tuple[float, Array]:
    """By how many degrees the most turned piece of a line has turned, and where that is."""
    before, after = before[::STEP], after[::STEP]
    if len(before) < 2:
        return 0.0, after[0]
    turned = np.degrees(_turned(before, after))
    worst = int(np.argmax(turned))
    return float(turned[worst]), after[worst]


@dataclass(frozen=True)
class LineFigures:
    """What a projection does to lines; None where there is none of the kind, or the figure means nothing.

    `horizon_deg`: the tilt of the horizon; `vertical_deg`: the greatest lean of an upright edge; `line_bend`: the
    bend of the longest edges, in % of their length, the mean by length.
    """

    horizon_deg: float | None
    vertical_deg: float | None
    line_bend: float | None


def projection_figures(canvas: Canvas, edges: Sequence[Edge], seen: NDArray[np.bool_]) -> LineFigures:
    """The figures of a canvas; `seen` (h, w): what of it is covered, at any scale."""
    parts = horizon_parts(canvas, seen)
    tilt = None
    if parts:
        longest = max(parts, key=len)
        run = (longest if canvas.mesh is None else canvas.mesh.forward(longest))[[0, -1]]
        tilt = abs(float(np.degrees(np.arctan2(run[1, 1] - run[0, 1], abs(run[1, 0] - run[0, 0])))))
    if not edges:
        return LineFigures(tilt, None, None)
    px = canvas.pixels(np.stack([e.rays for e in edges]))
    shown = (np.isfinite(px) & (px > -0.5) & (px < [canvas.width, canvas.height])).all(axis=(1, 2))
    upright = shown & np.array([e.upright for e in edges])
    lean = None
    if upright.any():
        run = px[upright, -1] - px[upright, 0]
        lean = float(np.degrees(np.arctan2(np.abs(run[:, 0]), np.abs(run[:, 1]))).max())
    longest = np.flatnonzero(shown)[:LONGEST]
    bend = None
    if len(longest):
        bend = float(np.average([100 * bow(px[n]) for n in longest], weights=[edges[n].length for n in longest]))
    return LineFigures(tilt, lean, bend)
