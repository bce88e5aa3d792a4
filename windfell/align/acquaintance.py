"""Which of many frames, of whatever sets, show the same: what a card holds together."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.candidates import likely_pairs
from windfell.align.features import Features
from windfell.align.glance import Glance, glance_at
from windfell.align.groups import group_numbers
from windfell.align.pairs import Link, link
from windfell.job import Job

Array = NDArray[np.float64]

ALL_UP_TO = 64
SMALL, DARKEST, BRIGHTEST = 128, 8, 246
OFF, STILL_SHARE, STILL_RATIO, LEAST_FAIR = 0.05, 0.7, 0.08, 0.1
FEW, PROMISING, LEAST_PROMISE = 2, 4, 5


@dataclass(frozen=True)
class Acquaintance:
    """Frames `a` and `b` show the same, under this homography (3, 3) of `a` px to `b` px."""

    a: int
    b: int
    homography: Array


def acquainted(
    features: Sequence[Features], job: Job, finer: Callable[[int], Features] | None = None
) -> list[Acquaintance]:
    """Pairs of all frames that show the same; `finer(n)` gives finer features of one.

    What the strongest features leave open is looked at in full. Groups that then hold together are looked at once
    more, by finer features.
    """
    pairs = likely_pairs(features, ALL_UP_TO)
    still = stood_still(features)
    known, looks = _among(features, [p for p in pairs if p not in still], job)
    known += [Acquaintance(*p, np.eye(3)) for p in sorted(still)]
    near = _promising(len(features), looks, known)
    known += _linked(features, near, {}, job)
    if finer is None:
        return known
    group = group_numbers(len(features), ((k.a, k.b) for k in known))
    apart = [p for p in pairs if group[p[0]] != group[p[1]]]
    numbers = sorted({n for p in apart for n in p})
    found = dict(zip(numbers, job.map(finer, numbers, "looking for finer features"), strict=True))
    closer = [found.get(n, f) for n, f in enumerate(features)]
    more, looks = _among(closer, apart, job)
    known += more
    return known + _linked(closer, _promising(len(features), looks, known, len(features)), {}, job)


def stood_still(features: Sequence[Features]) -> set[tuple[int, int]]:
    """Pairs of frames of one size whose looks are the same nearly everywhere, however they were exposed."""
    by_size: dict[tuple[int, int], list[int]] = {}
    for n, f in enumerate(features):
        if f.look is not None:
            by_size.setdefault((f.width, f.height), []).append(n)
    out = set()
    for numbers in by_size.values():
        light = {n: _logarithm(features[n].look) for n in numbers}
        out |= {(a, b) for i, a in enumerate(numbers) for b in numbers[i + 1 :] if _same_in_place(light[a], light[b])}
    return out


def same_in_place(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> bool:
    """Whether two encoded greys (h, w) are the same nearly everywhere, however they were exposed."""
    if one.shape != other.shape:
        other = cv2.resize(other, one.shape[::-1], interpolation=cv2.INTER_AREA)
    return _same_in_place(_logarithm(one), _logarithm(other))


def _logarithm(look: NDArray[np.uint8]) -> NDArray[np.float32]:
    """The logarithm of a small look, NaN where it is burnt or black."""
    size = (SMALL, max(8, round(SMALL * look.shape[0] / look.shape[1])))
    small = cv2.GaussianBlur(cv2.resize(look, size, interpolation=cv2.INTER_AREA), (0, 0), 1).astype(np.float32)
    return np.where((small > DARKEST) & (small < BRIGHTEST), np.log(small + 4), np.float32(np.nan))


def _same_in_place(one: NDArray[np.float32], other: NDArray[np.float32]) -> bool:
    fair = np.isfinite(one) & np.isfinite(other)
    if fair.mean() < LEAST_FAIR:
        return False
    off = (one - other)[fair]
    off = np.abs(off - np.median(off))
    if np.mean(off < OFF) < STILL_SHARE:
        return False
    return bool(np.median(off) < STILL_RATIO * one[fair].std())


def _among(
    features: Sequence[Features], pairs: Sequence[tuple[int, int]], job: Job
) -> tuple[list[Acquaintance], dict[tuple[int, int], Glance]]:
    """Those of the pairs that show the same, and what all say at a glance."""
    seen = job.map(lambda p: glance_at(features[p[0]], features[p[1]]), list(pairs), "looking for overlap")
    looks = dict(zip(pairs, seen, strict=True))
    known = [Acquaintance(*p, g.homography) for p, g in looks.items() if g.firm]
    return known + _linked(features, [p for p, g in looks.items() if g.open and not g.firm], looks, job), looks


def _linked(
    features: Sequence[Features], pairs: Sequence[tuple[int, int]], looks: dict[tuple[int, int], Glance], job: Job,
) -> list[Acquaintance]:
    found = job.map(
        lambda p: link(*p, features[p[0]], features[p[1]], looks.get(p)), list(pairs), "matching frames")
    return [Acquaintance(f.a, f.b, f.homography) for f in found if isinstance(f, Link)]


def _promising(
    count: int, looks: dict[tuple[int, int], Glance], known: Sequence[Acquaintance], largest: int = FEW
) -> list[tuple[int, int]]:
    """Of each group of so few frames that hold together the pairs with others that came nearest to agreeing."""
    group = group_numbers(count, ((k.a, k.b) for k in known))
    out: set[tuple[int, int]] = set()
    for g in set(group):
        if group.count(g) > largest:
            continue
        near = [p for p, v in looks.items() if (group[p[0]] == g) != (group[p[1]] == g) and v.count >= LEAST_PROMISE]
        near.sort(key=lambda p: -looks[p].count)
        out |= set(near[:PROMISING])
    return sorted(out)
