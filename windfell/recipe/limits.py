"""What recipe fields say of themselves: their limits and units; and what a later version wrote."""

from __future__ import annotations

from dataclasses import field
from typing import Any


def number(default: float | None, low: float, high: float, unit: str = "") -> Any:
    """A numeric field with its limits, inclusive, and its unit."""
    return field(default=default, metadata={"low": low, "high": high, "unit": unit})


Unknown = tuple[tuple[str, str], ...]
