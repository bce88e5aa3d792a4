"""One subject followed through the frames: the pieces in a box, and what looks like them before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from windfell.engine.stack_subjects import Mover, Subjects

Box = tuple[int, int, int, int]

INSIDE = 0.5
COLOUR, SIZE, WAY = 1.5, 0.35, 0.6
MOST_COST, MOST_COST_OF_TRACK = 0.8, 1.8
REMEMBERED = 0.5


@dataclass(frozen=True)
class Followed:
    """The movers, by index; the frames (of those looked at) without it; how many times as large it is at its end as
    at its beginning.
    """

    movers: tuple[int, ...]
    lost: tuple[int, ...]
    larger: float = 1.0


def followed(found: Subjects, box: Box) -> Followed:
    """What lies mostly within a box (x, y, width, height; px of the picture) in the earliest frame that shows
    anything there, and the same in all other frames: by its track, and where that is broken by colour and size. What
    was seen beside it in any frame is not it.
    """
    first = _within(found, box)
    if not first:
        return Followed((), ())
    frames = sorted(({m.frame for m in found.movers} | {n for n, _ in found.gains}) - {n for n, _ in found.dropped})
    taken = set(first)
    mine = {found.movers[i].track for i in first}
    others = _beside(found, found.movers[first[0]].frame, mine)
    larger = 1.0
    for seed in first:
        start = found.movers[seed]
        ends = []
        for way in (1, -1):
            last, colour, seen_at = start, np.sqrt(start.piece.colour), start.frame
            for n in [f for f in frames if (f - start.frame) * way > 0][::way]:
                here = [i for i, m in enumerate(found.movers) if m.frame == n and i not in taken
                        and (m.track == last.track or m.track not in others)]
                costs = [_cost(found, found.movers[i], last, colour, abs(n - seen_at)) for i in here]
                best = min(range(len(here)), key=costs.__getitem__, default=None)
                if best is None:
                    continue
                mover = found.movers[here[best]]
                if costs[best] > (MOST_COST_OF_TRACK if mover.track == last.track else MOST_COST):
                    continue
                taken.add(here[best])
                last, seen_at = mover, n
                mine.add(mover.track)
                others |= _beside(found, n, mine)
                colour += REMEMBERED * (np.sqrt(mover.piece.colour) - colour)
            ends.append(last)
        larger = float(np.sqrt(max(1, ends[0].piece.area) / max(1, ends[1].piece.area)))
    has = {found.movers[i].frame for i in taken}
    return Followed(tuple(sorted(taken)), tuple(n for n in frames if n not in has), larger)


def _beside(found: Subjects, frame: int, mine: set[int]) -> set[int]:
    """The tracks of what else a frame shows."""
    return {m.track for m in found.movers if m.frame == frame} - mine


def _within(found: Subjects, box: Box) -> list[int]:
    x, y, w, h = box
    for frame in sorted({m.frame for m in found.movers}):
        here = []
        for i, m in enumerate(found.movers):
            bx, by, bw, bh = m.body_box
            shared = max(0, min(x + w, bx + bw) - max(x, bx)) * max(0, min(y + h, by + bh) - max(y, by))
            if m.frame == frame and shared > INSIDE * bw * bh:
                here.append(i)
        if here:
            return here
    return []


def _cost(found: Subjects, mover: Mover, last: Mover, colour: np.ndarray, gap: int) -> float:
    """How unlike a mover is what was followed so far; one of its track costs nothing for the way."""
    off = float(np.abs(np.sqrt(mover.piece.colour) - colour).sum())
    size = abs(float(np.log2(max(mover.piece.area, 1) / max(last.piece.area, 1))))
    way = 0.0
    if mover.track != last.track:
        here, there = (np.array(m.piece.middle) / m.scale for m in (mover, last))
        way = float(np.hypot(*(here - there))) / float(np.hypot(*found.size)) / np.sqrt(gap)
    return COLOUR * off + SIZE * size + WAY * way
