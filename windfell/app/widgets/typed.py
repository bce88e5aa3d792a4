"""Numbers as people type them into fields."""

from __future__ import annotations

import math


def typed_number(text: str, *units: str) -> float | None:
    """A finite number, with a point or a comma, with or without one of its units; None for anything else."""
    for unit in units:
        text = text.replace(unit, "")
    try:
        value = float(text.replace(",", ".").strip())
    except ValueError:
        return None
    return value if math.isfinite(value) else None
