"""Which projection suits a view, and why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.posed import Posed
from windfell.geometry.projections import PROJECTIONS
from windfell.shape.bounds import covered_rays, field_of_view
from windfell.shape.edges import Edge
from windfell.shape.held import bow
from windfell.shape.stretch import slopes_on_sphere

STRAIGHT_UP_TO_DEG = 80
PANNINI_UP_TO_DEG = 140
CYLINDER_UP_TO_DEG = 95
SWEEP_WIDE_DEG = 75
FULL_RING_DEG = 350
LONG = np.radians(12.0)
COUNTED, FEWEST = 12, 4
BENT_PCT = 1.0

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Choice:
    """A projection's name and the reason in words."""

    projection: str
    reason: str


def suitable_projection(width_rad: float, height_rad: float, edges: Sequence[Edge] = ()) -> Choice:
    """The automatic choice by the field of view, and by what the long straight edges in it (in the world) ask for."""
    wide, tall = np.degrees(width_rad), np.degrees(height_rad)
    size = f"the view is {wide:.0f}° wide and {tall:.0f}° high"
    if max(wide, tall) <= STRAIGHT_UP_TO_DEG:
        return Choice("rectilinear", f"{size}: narrow enough to keep every straight line straight")
    if tall > CYLINDER_UP_TO_DEG and wide <= SWEEP_WIDE_DEG:
        return Choice("transverse-cylindrical", f"{size}: a tall sweep, so the cylinder lies across it")
    if tall <= CYLINDER_UP_TO_DEG:
        if wide <= PANNINI_UP_TO_DEG and tall <= STRAIGHT_UP_TO_DEG:
            long = [e for e in edges if e.length > LONG and not e.upright][:COUNTED]
            if len(long) >= FEWEST:
                plain, other = (bend_pct(name, long) for name in ("cylindrical", "pannini"))
                if plain > BENT_PCT and other < 0.7 * plain:
                    return Choice("pannini", (
                        f"{size}, and its {len(long)} longest edges bend by {other:.1f} % here, "
                        f"by {plain:.1f} % on a cylinder"))
        around = ", all around" if wide >= FULL_RING_DEG else ""
        return Choice("cylindrical", f"{size}{around}: too wide for straight lines, so verticals stay upright")
    return Choice("equirectangular", f"{size}: too high for a cylinder, so it is unrolled evenly")


def bend_pct(projection: str, edges: Sequence[Edge]) -> float:
    """How far a projection bends edges away from their chords, in % of those: the mean, each by its length."""
    kind = PROJECTIONS[projection]
    bent, weight = [], []
    for edge in edges:
        spots = kind.forward(edge.rays)
        off = bow(spots) if np.isfinite(spots).all() else 0.5
        bent.append(100 * min(off, 0.5))
        weight.append(edge.length)
    return float(np.average(bent, weights=weight)) if bent else 0.0


def ranked(frames: Sequence[Posed], edges: Sequence[Edge]) -> list[str]:
    """All projections, the most suitable first: by what they would cut away, how unevenly they draw, and how far
    they bend the long edges.
    """
    rays = covered_rays(frames)
    first = suitable_projection(*field_of_view(frames, rays), edges).projection
    long = [e for e in edges if e.length > LONG][:COUNTED]
    score = {name: _unfit(name, rays, long) for name in PROJECTIONS}
    return sorted(PROJECTIONS, key=lambda name: (name != first, score[name]))


def _unfit(name: str, rays: Array, edges: Sequence[Edge]) -> float:
    kind = PROJECTIONS[name]
    spots = kind.forward(rays)
    shown = np.isfinite(spots).all(axis=1) & (np.abs(spots) <= [kind.half_width, kind.half_height]).all(axis=1)
    if not shown.any():
        return np.inf
    slopes = slopes_on_sphere(kind.forward, rays[shown], np.array([0.03, 1.0, 0.02]))
    sizes = np.linalg.svd(np.nan_to_num(slopes), compute_uv=False)
    sizes = np.log(np.clip(sizes, 1e-3, 1e3))
    uneven = np.ptp(np.percentile(sizes.sum(axis=1), [5, 95])) / 2 + 2 * float((sizes[:, 0] - sizes[:, 1]).mean())
    return 25 * float(1 - shown.mean()) + uneven + 0.4 * bend_pct(name, edges)
