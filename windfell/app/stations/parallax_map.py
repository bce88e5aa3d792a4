"""Parallax as strokes over the overlap map: which way, and how far, near things are seen aside."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from windfell.align.parallax import Parallax
from windfell.align.registration import PanoramaRegistration, Placed
from windfell.app import theme
from windfell.geometry.projections import PROJECTIONS

Array = NDArray[np.float64]

GOOD_PX, POOR_PX = 1.0, 3.0
LONGER = 30
DOT = 2.6
FORMS = (("moss", 1.2, "below 1 px"), ("gorse", 2.0, "1 to 3 px"), ("rowan", 3.2, "above 3 px"))


@dataclass(frozen=True, eq=False)
class Strokes:
    """Starts and ends (n, 2) on the unrolled sphere or the flat subject, and sizes (n,) px of the parallax."""

    starts: Array
    ends: Array
    size_px: Array

    @property
    def worst_px(self) -> float:
        return float(np.percentile(self.size_px, 98)) if len(self.size_px) else 0.0


def strokes_of(found: PanoramaRegistration, rated: Sequence[Parallax]) -> Strokes:
    """One stroke for each point that has neighbours, LONGER times as long as the parallax."""
    by_pair = {(k.a, k.b): k for k in found.links}
    starts, ends, sizes = [np.zeros((0, 2))], [np.zeros((0, 2))], [np.zeros(0)]
    for one in rated:
        frame = found.frames[one.b]
        points = by_pair[one.a, one.b].points_b
        middle = on_map(frame, np.array([[frame.lens.width / 2, frame.lens.height / 2]]))
        start, end = (on_map(frame, p, middle[0, 0]) for p in (points, points + LONGER * one.shared))
        size = np.linalg.norm(one.shared, axis=1)
        seen = np.isfinite(start).all(1) & np.isfinite(end).all(1) & (size > 0)
        starts.append(start[seen])
        ends.append(end[seen])
        sizes.append(size[seen])
    return Strokes(np.concatenate(starts), np.concatenate(ends), np.concatenate(sizes))


def on_map(frame: Placed, points: Array, near: float | None = None) -> Array:
    """Where px (n, 2) of a frame lie on the map (n, 2): in rad, or on its flat subject.

    `near`: the longitude that theirs are to be near to, beyond a full turn if need be.
    """
    rays = frame.posed.rays(points)
    if frame.place is not None:
        return rays[:, :2] / rays[:, 2:]
    plane = PROJECTIONS["equirectangular"].forward(rays)
    if near is not None:
        plane[:, 0] -= 2 * np.pi * np.round((plane[:, 0] - near) / (2 * np.pi))
    return plane


def paint_strokes(p: QPainter, strokes: Strokes, scale: float, offset: Array) -> None:
    """The strokes on a widget's px, small ones first, each with a dot where it begins."""
    form = np.digitize(strokes.size_px, (GOOD_PX, POOR_PX))
    for n, (name, width, _) in enumerate(FORMS):
        # a few calls with all of them: each call gives the interpreter away and waits to get it back
        starts, ends = (spots[form == n] * scale + offset for spots in (strokes.starts, strokes.ends))
        p.setPen(QPen(theme.colour(name), width))
        p.drawLines([QLineF(*a, *b) for a, b in zip(starts.tolist(), ends.tolist(), strict=True)])
        p.setPen(QPen(theme.colour(name), DOT * width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        p.drawPoints(QPolygonF([QPointF(*a) for a in starts.tolist()]))


def legend_words(rating_px: float | None, strokes: Strokes) -> str:
    if rating_px is None:
        return "Too few points to tell parallax"
    forms = ", ".join(f"{'thin' if n == 0 else 'bold' if n == 2 else 'medium'} {words}"
                      for n, (_, _, words) in enumerate(FORMS))
    rating = f"Parallax {rating_px:.2f} px, worst {strokes.worst_px:.2f} px"
    return f"{rating}   ·   strokes {LONGER} times as long: {forms}"
