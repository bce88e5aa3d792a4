"""What recipe fields say of themselves: their limits and units; and what a later version wrote."""

from __future__ import annotations

from dataclasses import field, fields
from typing import Any


def number(default: float | None, low: float, high: float, unit: str = "") -> Any:
    """A numeric field with its limits, inclusive, and its unit."""
    return field(default=default, metadata={"low": low, "high": high, "unit": unit})


def eight(low: float, high: float, unit: str = "") -> Any:
    """A number for each of eight bands of hues, with the limits of each, inclusive, and their unit."""
    return field(default=(0.0,) * 8, metadata={"each_low": low, "each_high": high, "unit": unit})


Unknown = tuple[tuple[str, str], ...]


def limits_of(cls: type, name: str) -> dict[str, Any]:
    """The limits ("low", "high") and the unit of a numeric field of a recipe class."""
    return dict(next(f for f in fields(cls) if f.name == name).metadata)
