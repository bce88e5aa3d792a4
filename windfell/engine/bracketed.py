"""Frames of frames: brackets or bursts taken at each position, as a panorama whose frames are stacks."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.frames.by_content import is_bracket
from windfell.frames.propose import Likeness, period_of
from windfell.frames.shots import Shot, natural
from windfell.recipe.combining import Combining, Display, Rule
from windfell.recipe.model import Align, Frame, FrameSet, Kind, Registration, frame_from_path, new_id
from windfell.recipe.sources import SetSource

MOST_A_POSITION = 15
WITHIN, ACROSS, ACROSS_TOLD = 0.7, 0.25, 0.75
DARK, BRIGHT = 16, 236
LOOKS_APART_EV, MUCH_BETTER = 0.5, 0.2


@dataclass(frozen=True)
class Glances:
    """Small pictures (h, w, 3) sRGB uint8 by path, None of one that cannot be decoded, and what pairs share."""

    small: dict[str, NDArray[np.uint8] | None]
    like: Likeness

    def level(self, shot: Shot) -> float:
        """log2 of how bright a shot looks."""
        picture = self.small.get(shot.path)
        return 0.0 if picture is None else float(2.2 * np.log2((picture.mean() + 2) / 255))

    def well_exposed(self, shot: Shot) -> float:
        """The share of its px that are neither dark nor burnt out."""
        picture = self.small.get(shot.path)
        if picture is None:
            return 0.0
        return float(np.mean((picture.mean(axis=2) > DARK) & (picture.max(axis=2) < BRIGHT)))


def positions_among(shots: Sequence[Shot], seen: Glances) -> list[list[Shot]]:
    """The positions at which shots were taken, several frames at each, in their order or that of their times; empty
    where each stands for itself.

    By times and exposures if the files say them, and by what stays in place in any case: frames of a position must
    nearly coincide, those of neighbouring positions must not.
    """
    for ordered in _orders(shots):
        told = _told(ordered, seen)
        for length in _lengths(len(ordered), told):
            cut = [ordered[k : k + length] for k in range(0, len(ordered), length)]
            # exposures that step alike say more than likeness, which walls and windows feign
            if _stay(cut, seen, ACROSS_TOLD if length == told else ACROSS):
                return cut
    return []


def _orders(shots: Sequence[Shot]) -> list[list[Shot]]:
    """As given, by their times, by their names; each once."""
    found = [list(shots)]
    if all(s.taken for s in shots):
        found.append(sorted(shots, key=lambda s: (s.taken, natural(s))))
    found.append(sorted(shots, key=natural))
    return [o for n, o in enumerate(found) if o not in found[:n]]


def _told(shots: Sequence[Shot], seen: Glances) -> int:
    """After how many frames exposures repeat, as the files say them or as bright as frames look; 0 if they do not."""
    said = [s.exposure_ev for s in shots]
    levels = [seen.level(s) for s in shots] if None in said else said
    if np.ptp(levels) < LOOKS_APART_EV:
        return 0
    return period_of(levels)


def _lengths(count: int, told: int) -> list[int]:
    """How many frames a position may have: first what exposures say, then all that the count can be divided by."""
    fair = [n for n in range(2, min(MOST_A_POSITION, count // 2) + 1) if count % n == 0]
    first = [told] if told else []
    # the fewest first: of too many some frames would stand elsewhere, of too few neighbours would stand still
    return first + [n for n in fair if n not in first]


def _stay(cut: list[list[Shot]], seen: Glances, across: float) -> bool:
    """Whether the camera stood within each of these positions, and moved between them: at most so large a share may
    look as if it had not.
    """
    inner = [seen.like.coincide(a, b) for part in cut for a, b in _pairs(part, seen)]
    if np.mean(inner) < WITHIN:
        return False
    between = [seen.like.coincide(_middle(a, seen), _middle(b, seen)) for a, b in itertools.pairwise(cut)]
    return float(np.mean(between)) <= across


def _pairs(part: list[Shot], seen: Glances) -> list[tuple[Shot, Shot]]:
    """Neighbours in brightness: they show most in common."""
    ordered = sorted(part, key=seen.level)
    return list(itertools.pairwise(ordered))


def _middle(part: list[Shot], seen: Glances) -> Shot:
    return sorted(part, key=seen.level)[len(part) // 2]


def are_brackets(positions: Sequence[Sequence[Shot]], seen: Glances) -> bool:
    """Whether the frames of positions differ in exposure, by their files or else by how bright they look."""
    said = [[s.exposure_ev for s in p] for p in positions]
    if all(e is not None for p in said for e in p):
        return any(is_bracket(p) for p in said)
    return float(np.median([np.ptp([seen.level(s) for s in p]) for p in positions])) > LOOKS_APART_EV


def best_exposed(positions: Sequence[Sequence[Shot]], seen: Glances) -> list[int]:
    """Of each position the frame in which most is well exposed over all of them, as dark or bright a one of each, so
    that they have one exposure: the middle one, unless another is much better.
    """
    if len({len(p) for p in positions}) != 1:
        return [int(np.argmax([seen.well_exposed(s) for s in p])) for p in positions]
    ranks = [np.argsort([_ev(s, seen) for s in p], kind="stable") for p in positions]
    shares = [[seen.well_exposed(p[k]) for k in rank] for p, rank in zip(positions, ranks, strict=True)]
    fair = np.mean(shares, axis=0)
    middle = len(fair) // 2
    best = middle if fair[middle] > fair.max() - MUCH_BETTER else int(np.argmax(fair))
    return [int(rank[best]) for rank in ranks]


def _ev(shot: Shot, seen: Glances) -> float:
    return seen.level(shot) if shot.exposure_ev is None else shot.exposure_ev


def inner_sets(title: str, positions: Sequence[Sequence[Shot]], seen: Glances, aligns: Sequence[Align],
               rule: Rule | None = None, aside: frozenset[str] = frozenset()) -> list[FrameSet]:
    """A stack for each position: its exposures made one light beyond white, its burst a mean; or by the `rule` said.

    `aligns`: how the frames of each are brought together. Those `aside` are kept aside.
    """
    rule = rule or (Rule.EXPOSURES if are_brackets(positions, seen) else Rule.MEAN)
    out = []
    counted = [[s for s in p if s.path not in aside] for p in positions]
    for n, (shots, best) in enumerate(zip(positions, best_exposed(counted, seen), strict=True)):
        frames = tuple(replace(frame_from_path(s.path), on=s.path not in aside) for s in shots)
        reference = next(f.id for f, s in zip(frames, shots, strict=True) if s is counted[n][best])
        out.append(FrameSet(
            new_id(), f"{title}, position {n + 1}", Kind.STACK, frames, Registration(aligns[n], reference),
            combining=Combining(rule, display=Display.NONE)))
    return out


def nested_frames(inner: Sequence[FrameSet]) -> tuple[Frame, ...]:
    """The frames of a set that is made of these sets."""
    return tuple(Frame(new_id(), SetSource(s.id)) for s in inner)
