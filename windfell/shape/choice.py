"""Which projection suits a view, and why."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

STRAIGHT_UP_TO_DEG = 80
CYLINDER_UP_TO_DEG = 95


@dataclass(frozen=True)
class Choice:
    """A projection's name and the reason in words."""

    projection: str
    reason: str


def suitable_projection(width_rad: float, height_rad: float) -> Choice:
    """The automatic choice by the field of view."""
    wide, tall = np.degrees(width_rad), np.degrees(height_rad)
    size = f"the view is {wide:.0f}° wide and {tall:.0f}° high"
    if max(wide, tall) <= STRAIGHT_UP_TO_DEG:
        return Choice("rectilinear", f"{size}: narrow enough to keep every straight line straight")
    if tall <= CYLINDER_UP_TO_DEG:
        return Choice("cylindrical", f"{size}: too wide for straight lines, so verticals stay upright")
    return Choice("equirectangular", f"{size}: too high for a cylinder, so it is unrolled evenly")
