"""What the points page lists, read off recipe and registration: all points, and the pairs of frames."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from windfell.align.help import line_degrees
from windfell.align.registration import PanoramaRegistration, Placed
from windfell.app.widgets.point_list import Row
from windfell.recipe.model import FrameSet, PlumbLine
from windfell.recipe.outline import LineKind

Pair = tuple[str, str]


def all_rows(frame_set: FrameSet, found: PanoramaRegistration | None) -> list[Row]:
    """All points that hold, by hand or found, in one list."""
    used = [f.id for f in frame_set.used]
    rows: list[Row] = []
    told: set[int] = set()
    by_pair: dict[tuple[int, int], list[int]] = {}
    for n, c in enumerate(frame_set.registration.points):
        if c.a in used and c.b in used:
            by_pair.setdefault((used.index(c.a), used.index(c.b)), []).append(n)
    for k in found.links if found else ():
        hand = by_pair.get((k.a, k.b), [])[: k.by_hand]
        told |= set(hand)
        at = zip(k.points_a.tolist(), k.points_b.tolist(), k.errors.tolist(), strict=True)
        rows += [Row(k.a, k.b, tuple(at_a), tuple(at_b), error, hand[n] if n < len(hand) else None)
                 for n, (at_a, at_b, error) in enumerate(at)]
    for (a, b), hand in by_pair.items():
        for n in hand:
            if n not in told:
                c = frame_set.registration.points[n]
                rows.append(Row(a, b, (c.ax, c.ay), (c.bx, c.by), 0.0, n))
    return rows


def same_row(rows: Sequence[Row], before: Row | None) -> int | None:
    """Where a row of an earlier list is now."""
    if before is None:
        return None
    for n, r in enumerate(rows):
        if before.by_hand is not None and r.by_hand == before.by_hand:
            return n
        if r.by_hand is None and (r.a, r.b, r.at_a) == (before.a, before.b, before.at_a):
            return n
    return None


def pair_of(used: Sequence[str], chosen: str | None, rows: Sequence[Row]) -> Pair:
    """The chosen frame, or the first, and the one it shares most with, in the order of `used`."""
    first = chosen or used[0]
    shared: dict[str, int] = {}
    for r in rows:
        if first in (used[r.a], used[r.b]):
            other = used[r.b] if used[r.a] == first else used[r.a]
            shared[other] = shared.get(other, 0) + 1
    at = used.index(first)
    beside = used[at + 1] if at + 1 < len(used) else used[at - 1]
    other = max(shared, key=shared.get) if shared else beside
    return tuple(sorted((first, other), key=used.index))


def pairs_in_words(frame_set: FrameSet, found: PanoramaRegistration | None, own: Pair) -> list[tuple[str, Pair]]:
    """Linked pairs, neighbours and the `own` one, each with what it holds by."""
    used = [f.id for f in frame_set.used]
    numbers = {f.id: n + 1 for n, f in enumerate(frame_set.frames)}
    linked = {(used[k.a], used[k.b]): k for k in (found.links if found else ())}
    every = dict.fromkeys([*linked, *pairwise(used), own])
    out = []
    for pair in sorted(every, key=lambda p: (numbers[p[0]], numbers[p[1]])):
        k = linked.get(pair)
        words = f"{len(k.points_a)} at {k.rms_px:.2f} px" if k else "no points"
        out.append((f"{numbers[pair[0]]} – {numbers[pair[1]]}   {words}", pair))
    return out


def line_in_words(frame_set: FrameSet, found: PanoramaRegistration | None, line: PlumbLine) -> str:
    """How far the line is from what it should be, in the registration as it is."""
    used = [f.id for f in frame_set.used]
    if found is None or line.frame not in used:
        return ""
    place = found.frames[used.index(line.frame)]
    if not isinstance(place, Placed) or line.kind is LineKind.STRAIGHT:
        return ""
    return f"{line_degrees(place, line.points, str(line.kind)):+.2f}°"
