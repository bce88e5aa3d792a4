"""The bending of frames along seams, so that what they show there meets."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.bend import Bend, typical_px
from windfell.geometry.posed import Posed
from windfell.job import Job
from windfell.join.seam_bend import ASKED, Meeting, meeting, with_drifts
from windfell.pixels.tiles import Region
from windfell.shape.canvas import Canvas

Array = NDArray[np.float64]

PIXELS = 4_000_000
MARGIN = 72
LEAST_SPOTS, LEAST_GAIN = 30, 0.9


@dataclass(frozen=True)
class SeamBends:
    """Bends by number of the placed frame, and how far apart (px of the frames, rms of the better 90 %, at spots that
    had no say) what both show lies at the seams, before and after.
    """

    bends: dict[int, Bend]
    before_px: float
    after_px: float

    @property
    def nbytes(self) -> int:
        return sum(b.coefficients.nbytes for b in self.bends.values())


def seam_bends(stages: Any, pairs: frozenset[tuple[int, int]] | None, job: Job) -> SeamBends:
    """The bends of placed frames along their seams; `pairs`: of these alone, None for all."""
    own = stages.ownership(job)
    surface = own.surface.scaled(float(np.sqrt(PIXELS / (own.surface.width * own.surface.height))))
    owner = cv2.resize(own.owner, (surface.width, surface.height), interpolation=cv2.INTER_NEAREST)
    found = {}
    touching = sorted(p for p in _touching(own.owner) if pairs is None or p in pairs)
    for pair in job.over(touching, "bending along seams"):
        meets = _met(stages, surface, owner, pair, job)
        if len(meets) >= LEAST_SPOTS:
            found[pair] = meets
    if not found:
        return SeamBends({}, 0.0, 0.0)
    posed = stages.posed(job)
    before, after = _held_aside(posed, surface, found)
    if after > LEAST_GAIN * before:
        return SeamBends({}, before, before)
    return SeamBends(_bent(posed, surface, found), before, after)


def _touching(owner: NDArray) -> set[tuple[int, int]]:
    """Pairs of frames that own neighbouring spots."""
    pairs: set[tuple[int, int]] = set()
    for p, q in ((owner[:, :-1], owner[:, 1:]), (owner[:-1], owner[1:])):
        differ = (p != q) & (p >= 0) & (q >= 0)
        both = np.stack([np.minimum(p[differ], q[differ]), np.maximum(p[differ], q[differ])], -1)
        pairs |= {(int(a), int(b)) for a, b in np.unique(both, axis=0)}
    return pairs


def _met(stages: Any, surface: Canvas, owner: NDArray, pair: tuple[int, int], job: Job) -> Meeting:
    """What the two frames show apart along their seam, in px of the surface."""
    job.check()
    mine = np.isin(owner, pair).astype(np.uint8)
    edge = np.zeros(owner.shape, bool)
    for axis in (0, 1):
        a, b = (np.s_[1:], np.s_[:-1]) if axis == 0 else (np.s_[:, 1:], np.s_[:, :-1])
        edge[a] |= (owner[a] != owner[b]) & (mine[a] > 0) & (mine[b] > 0)
    rows, columns = np.nonzero(edge)
    nothing = Meeting(np.zeros((0, 2)), np.zeros((0, 2)), np.zeros(0))
    if not len(rows):
        return nothing
    whole = Region(0, 0, surface.width, surface.height)
    box = Region(int(columns.min()), int(rows.min()), int(np.ptp(columns)) + 1, int(np.ptp(rows)) + 1)
    box = box.grown(MARGIN).shared(whole)
    seen = [stages.straight_frame(n, surface, box, job) for n in pair]
    if seen[0] is None or seen[1] is None:
        return nothing
    found = meeting(*(np.ascontiguousarray(s.light) for s in seen), seen[0].mask() & seen[1].mask(),
                    edge[box.within(whole)])
    return replace(found, spots=found.spots + [box.left, box.top])


def _bent(posed: list[Posed], surface: Canvas, found: dict[tuple[int, int], Meeting]) -> dict[int, Bend]:
    bends = {}
    for n in sorted({n for pair in found for n in pair}):
        parts = [(meets, -0.5 if pair[0] == n else 0.5) for pair, meets in found.items() if n in pair]
        frame = posed[n]
        drifts = [_drift(frame, surface, meets, share) for meets, share in parts]
        points, drift = (np.concatenate(v) for v in zip(*drifts, strict=True))
        weight = np.concatenate([meets.weight for meets, _ in parts])
        good = np.isfinite(points).all(axis=1) & np.isfinite(drift).all(axis=1)
        if good.sum() >= LEAST_SPOTS:
            bends[n] = with_drifts(
                frame.lens.width, frame.lens.height, points[good], drift[good], weight[good], frame.bend)
    return bends


def _drift(frame: Posed, surface: Canvas, meets: Meeting, share: float) -> tuple[Array, Array]:
    """Where the spots lie in the frame as its lens alone sees them, and how much farther they are to be read."""
    plain = replace(frame, bend=None)
    here = frame.lens.ideal(plain.project(surface.rays(meets.spots)))
    there = frame.lens.ideal(plain.project(surface.rays(meets.spots + share * meets.apart)))
    if frame.bend is None:
        return here, there - here
    return here, there + frame.bend.at(there) - here - frame.bend.at(here)


def _held_aside(posed: list[Posed], surface: Canvas, found: dict[tuple[int, int], Meeting]) -> tuple[float, float]:
    """(before, after) px of the frames at spots that had no say in the bending."""
    def some(meets: Meeting, asked: bool) -> Meeting:
        chosen = (np.arange(len(meets)) % ASKED == 0) == asked
        return Meeting(meets.spots[chosen], meets.apart[chosen], meets.weight[chosen])

    trial = _bent(posed, surface, {pair: some(m, False) for pair, m in found.items()})
    before, after = [], []
    for (a, b), meets in found.items():
        asked = some(meets, True)
        left = np.zeros((len(asked), 2))
        for n, share in ((a, -1.0), (b, 1.0)):
            here, whole = _drift(posed[n], surface, asked, share / 2)
            bend = trial.get(n)
            made = np.zeros_like(here) if bend is None else replace(bend, over=None).at(here)
            left += share * (whole - made)
        before.append(sum(s * _drift(posed[n], surface, asked, s / 2)[1] for n, s in ((a, -1.0), (b, 1.0))))
        after.append(left)
    keep = [np.isfinite(v).all(axis=1) for v in before]
    return tuple(
        typical_px(np.concatenate([v[k] for v, k in zip(lefts, keep, strict=True)])) for lefts in (before, after))
