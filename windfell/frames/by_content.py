"""Sets among shots that say nothing of when they were taken: from what they show."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.frames.shots import Form, Group, Relation, Relations, Shot, natural
from windfell.geometry import planar

COINCIDE, STAY, MOSTLY = 0.85, 0.8, 0.5
SERIES_SHARE = 0.8
BRACKET_EV, PATTERN_EV = 0.65, 0.35
LEAST_APART = 4


def groups_by_content(shots: Sequence[Shot], relations: Relations) -> list[Group]:
    """Shots that hold together, as sets; each that holds to no other is a set by itself. In the order of their names.

    Frames that nearly coincide are a series, or a bracket if their light differs; those of a bracket at several
    positions coincide at each.
    """
    ordered = sorted(shots, key=natural)
    seen = _Seen(relations)
    return [group for members in seen.held_together(ordered) for group in _formed(members, seen)]


def is_bracket(exposures: Sequence[float | None]) -> bool:
    """Whether exposures, EV, are known and differ as they do in a bracket."""
    return None not in exposures and len(exposures) > 1 and float(np.ptp(exposures)) >= BRACKET_EV


@dataclass(frozen=True)
class _Placed:
    """Where shots lie in the first one's fractions, and how much brighter they are, EV; both by path."""

    onto: dict[str, NDArray[np.float64]]
    gain_ev: dict[str, float | None]


class _Seen:
    """What the shots show of each other, whichever is asked for first."""

    def __init__(self, relations: Relations) -> None:
        self._of: dict[str, dict[str, Relation]] = {}
        for (a, b), r in relations.items():
            back = Relation(np.linalg.inv(r.onto), None if r.gain_ev is None else -r.gain_ev)
            self._of.setdefault(a, {})[b] = r
            self._of.setdefault(b, {})[a] = back

    def held_together(self, shots: Sequence[Shot], least: float = 0.0) -> list[list[Shot]]:
        """Shots in the groups that relations of at least so much overlap hold together."""
        out, left = [], {s.path: s for s in shots}
        while left:
            first = next(iter(left))
            found = self._reached(first, left, least)
            out.append([s for s in shots if s.path in found])
            left = {p: s for p, s in left.items() if p not in found}
        return out

    def _reached(self, first: str, among: dict[str, Shot], least: float) -> set[str]:
        found, waiting = {first}, deque([first])
        while waiting:
            near = self._of.get(waiting.popleft(), {})
            new = {p for p, r in near.items() if p in among and p not in found and r.overlap >= least}
            found |= new
            waiting.extend(sorted(new))
        return found

    def placed(self, shots: Sequence[Shot]) -> _Placed:
        """The shots on the one of them that most others coincide with, by the shortest chains of relations."""
        paths = {s.path for s in shots}
        near = {p: {q: r for q, r in self._of.get(p, {}).items() if q in paths and r.overlap >= COINCIDE}
                for p in paths}
        first = max((s.path for s in shots), key=lambda p: len(near[p]))
        onto, gain = {first: np.eye(3)}, {first: 0.0}
        waiting = deque([first])
        while waiting:
            at = waiting.popleft()
            for other, r in near[at].items():
                if other in onto:
                    continue
                onto[other] = r.onto @ onto[at]
                gain[other] = None if gain[at] is None or r.gain_ev is None else gain[at] + r.gain_ev
                waiting.append(other)
        return _Placed(onto, gain)

    def exposures(self, shots: Sequence[Shot]) -> list[float | None]:
        """EV of each: by its metadata if all have some, or against another."""
        said = [s.exposure_ev for s in shots]
        if None not in said:
            return said
        gain = self.placed(shots).gain_ev
        return [gain.get(s.path) for s in shots]

    def beside(self, series: Sequence[Shot], shots: Sequence[Shot]) -> frozenset[str]:
        """Those of the shots that show some, but not most, of what a series shows, by path."""
        own = {s.path for s in series}
        shared = {s.path: [r.overlap for p, r in self._of.get(s.path, {}).items() if p in own]
                  for s in shots if s.path not in own}
        return frozenset(p for p, overlaps in shared.items() if overlaps and max(overlaps) < MOSTLY)

    def coincide(self, shots: Sequence[Shot]) -> bool:
        """Whether all stay on one of them; a camera that is turned on and on does not."""
        found = self.placed(shots).onto
        return all(s.path in found and planar.overlap(found[s.path]) >= STAY for s in shots)


def _formed(members: list[Shot], seen: _Seen) -> list[Group]:
    if len(members) == 1:
        return [Group(Form.SWEEP, tuple(members))]
    positions: list[list[Shot]] = []
    for part in seen.held_together(members, COINCIDE):
        positions += [part] if seen.coincide(part) else [[s] for s in part]
    largest = max(positions, key=len)
    if len(largest) >= SERIES_SHARE * len(members):
        form = Form.BRACKET if is_bracket(seen.exposures(largest)) else Form.SERIES
        return [Group(form, tuple(members), seen.beside(largest, members))]
    if _steps_alike([seen.exposures(p) for p in positions]):
        return [Group(Form.BRACKET, tuple(s for p in positions for s in p), positions=tuple(map(tuple, positions)))]
    rest = [s for s in members if s not in largest]
    if len(largest) >= LEAST_APART and all(len(p) == 1 for p in positions if p is not largest) and len(
            seen.held_together(rest)) == 1 < len(rest):
        return [Group(Form.SERIES, tuple(largest)), Group(Form.SWEEP, tuple(rest))]
    return [Group(Form.SWEEP, tuple(members))]


def _steps_alike(exposures: list[list[float | None]]) -> bool:
    """Whether every position was taken at the same exposures, in whatever order."""
    if len({len(p) for p in exposures}) != 1 or not all(is_bracket(p) for p in exposures):
        return False
    steps = np.array([np.sort(p) - np.mean(p) for p in exposures])
    return bool(np.abs(steps - np.median(steps, axis=0)).max() < PATTERN_EV)
