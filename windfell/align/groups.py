"""Which frames pairs hold together."""

from __future__ import annotations

from collections.abc import Iterable


def group_numbers(count: int, pairs: Iterable[tuple[int, int]]) -> list[int]:
    """Of each of so many frames the group that pairs hold it in; groups are numbered by one of their frames."""
    group = list(range(count))
    for a, b in pairs:
        old, new = group[b], group[a]
        group = [new if g == old else g for g in group]
    return group
