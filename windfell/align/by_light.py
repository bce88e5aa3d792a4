"""Points beside those that features' looks have matched, found by the light where the cameras say it must be.

Descriptors match a part of what two frames share; once cameras are known, what is left over is looked for at its
foretold place (guided matching, Hartley & Zisserman 2004, sec. 11.6), so that all of an overlap has a say.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras, carried, carried_there_and_back
from windfell.align.features import SQUARES, Features, ranks_within
from windfell.align.refine import LINK_LEAST, refined, share_of_each
from windfell.align.view import View
from windfell.geometry import planar
from windfell.job import Job
from windfell.later import Later

spatial = Later("scipy.spatial")

Array = NDArray[np.float64]

SQUARE_MOST, SPOTS_SHARE, SURE_WEIGHT, RIM = 1, 0.5, 0.4, 0.006
# some of a link's points the light does not confirm: others make up for them, and are enough to deny it
MORE = 30
LEAST_TRIED, LEAST_OF, MOST_OF, AGREE, THING = 24, 0.15, 0.5, 1 / 1000, 1 / 10
NEIGHBOURS, NEAR, GROWN_MOST, ROUNDS = 5, 0.1, 600, 3


@dataclass(frozen=True)
class Others:
    """Features of a link's `a` beside those `matched`: those `tried` where the cameras see them in `b`, and those
    `found` there by the light; and what was found at other `spots`, where light varies but little.
    """

    matched: Observations
    tried: Observations
    found: Observations
    spots: Observations

    @property
    def denied(self) -> bool:
        """Whether next to nothing of what the link says the frames share is there, or nothing but the one thing that
        the link is about: the same may stand in two places.
        """
        tried, found = self.tried.points_a, self.found.points_a
        return _next_to_none(len(found), len(tried)) or _next_to_none(self._apart(found), self._apart(tried))

    def _apart(self, points: Array) -> int:
        """How many lie well apart from what was matched."""
        if not len(points) or not len(self.matched.points_a):
            return len(points)
        away, _ = spatial.cKDTree(self.matched.points_a).query(points)
        return int(np.sum(away > THING * np.ptp(self.tried.points_a, axis=0).max()))


def _next_to_none(found: int, tried: int) -> bool:
    return tried >= LEAST_TRIED and found < LEAST_OF * tried


def refined_with_others(
    cameras: Cameras, some: Sequence[Observations], features: Sequence[Features], view: Callable[[int], View],
    job: Job, moved: Mapping[tuple[int, int], Array] | None = None,
) -> tuple[list[Observations], list[Others]]:
    """The observations refined, and of each link others, in spots where it has none: all looked at in one go.

    `moved`: by links (a, b), px of `a` (m, 2) that are known to lie elsewhere; nothing among them is looked for.
    """
    count, most = len(some), share_of_each(len(some)) + MORE
    more = _unmatched(cameras, some, [f.points for f in features], most)
    if moved:
        more = [_outside(o, moved[o.a, o.b]) if (o.a, o.b) in moved else o for o in more]
    spots = _unmatched(cameras, _joined(some, more), [f.spots for f in features], most)
    found = refined([*some, *more, *spots], cameras, view, job)
    close, more_found = found[:count], found[count : 2 * count]
    spots = [_outvoted(s, o.weights.sum() + m.weights.sum())
             for o, m, s in zip(close, more_found, found[2 * count :], strict=True)]
    return close, [Others(*of) for of in zip(some, more, more_found, spots, strict=True)]


def _outside(o: Observations, spot: Array) -> Observations:
    """Those that do not lie amid the points (m, 2) of `a`."""
    return o.chosen(~planar.amid(planar.hull(spot), o.points_a))


def _outvoted(spots: Observations, others: float) -> Observations:
    """Sure spots, with at most half the weight of the `others`: many lie in clouds, which drift."""
    spots = spots.chosen(spots.weights > SURE_WEIGHT)
    share = SPOTS_SHARE * others / max(float(spots.weights.sum()), 1e-12)
    return spots if share >= 1 else replace(spots, weight=share * spots.weights)


def points_near(
    cameras: Cameras, pairs: Sequence[tuple[int, int]], features: Sequence[Features], view: Callable[[int], View],
    job: Job, least: int = LEAST_TRIED,
) -> tuple[list[Observations], list[Observations]]:
    """Of pairs (a, b) in which at least so many features of `a` should be seen: these features, where the cameras say
    that they are, and what of them the light finds near there.
    """
    none = np.zeros((0, 2))
    open_ = [Observations(a, b, none, none) for a, b in pairs]
    some = _unmatched(cameras, open_, [f.points for f in features], 2 * LINK_LEAST)
    some = [o for o in some if len(o.points_a) >= least]
    return some, refined(some, cameras, view, job)


def looked_for_beside(
    cameras: Cameras, pair: tuple[int, int], features: Sequence[Features], moved: Array, view: Callable[[int], View],
    job: Job,
) -> tuple[Observations, Observations]:
    """Features of frame `a` of a pair, and spots where it has none, away from what `moved` (n, 2): where the cameras
    say that `b` shows them, and what of them the light finds near there.
    """
    none = np.zeros((0, 2))
    tried = Observations(*pair, none, none)
    for places in ([f.points for f in features], [f.spots for f in features]):
        (more,) = _unmatched(cameras, [tried], places, 4 * LINK_LEAST)
        tried = joined(tried, more if not len(moved) else _outside(more, moved))
    return tried, refined([tried], cameras, view, job)[0]


def pairs_that_meet(
    cameras: Cameras, pairs: Sequence[tuple[int, int]], features: Sequence[Features], view: Callable[[int], View],
    job: Job,
) -> list[Observations]:
    """Points of pairs (a, b) of cameras that no features have linked: those of which most features of `a` are seen
    where the cameras say, but for a shift common to them all; the other pairs are not among the answers.
    """
    some, found = points_near(cameras, pairs, features, view, job)
    out = []
    for tried, o in zip(some, found, strict=True):
        shift = o.points_b - _carried(cameras, o, o.points_a)
        common = np.linalg.norm(shift - np.median(shift, axis=0), axis=1) if len(shift) else np.zeros(0)
        o = o.chosen(common < AGREE * cameras.sizes[o.b].max())
        if len(o.points_a) >= max(LEAST_TRIED // 2, MOST_OF * len(tried.points_a)):
            out.append(o)
    return out


def grown(
    cameras: Cameras, known: Sequence[Observations], features: Sequence[Features], view: Callable[[int], View],
    job: Job,
) -> list[Observations]:
    """The observations, of each pair in one piece, with features beside them that move as their neighbours do.

    So points spread over near things too, which lie elsewhere than the cameras say.
    """
    pairs: dict[tuple[int, int], Observations] = {}
    for o in known:
        own = pairs.get((o.a, o.b))
        pairs[o.a, o.b] = joined(own, o) if own is not None else o
    out = [o for o in pairs.values() if len(o.points_a)]
    for _ in range(ROUNDS):
        drifts = [_like_neighbours(cameras, o) for o in out]
        more = _unmatched(cameras, out, [f.points for f in features], GROWN_MOST, drifts)
        found = refined([m for m in more if len(m.points_a)], cameras, view, job)
        out = _joined(out, found)
    return out


def _like_neighbours(cameras: Cameras, o: Observations) -> Callable[[Array], Array]:
    """What the known points around say of how far (n, 2) px of `a` lie from where the cameras see them in `b`;
    NaN where none is near.
    """
    drift = o.points_b - _carried(cameras, o, o.points_a)
    tree = spatial.cKDTree(o.points_a)

    def of(points: Array) -> Array:
        away, near = tree.query(points, k=min(NEIGHBOURS, len(drift)))
        away, near = away.reshape(len(points), -1), near.reshape(len(points), -1)
        about = np.median(drift[near], axis=1)
        return np.where(away[:, :1] < NEAR * cameras.sizes[o.a].max(), about, np.nan)

    return of


def _carried(cameras: Cameras, o: Observations, points: Array) -> Array:
    return carried(cameras, np.full(len(points), o.a), np.full(len(points), o.b), points)


def _unmatched(
    cameras: Cameras, known: Sequence[Observations], places: Sequence[Array], most: int,
    drifts: Sequence[Callable[[Array], Array]] | None = None,
) -> list[Observations]:
    """Of each of the known links some of `a`'s `places` (n, 2) that `b` shows as well, in spots where it has none; so
    many that with the known ones there are at most `most`. `drifts` tell how far aside from where the cameras say.
    """
    points = [places[o.a][: len(places[o.a]) if len(o.points_a) < most else 0] for o in known]
    a, b = (np.repeat([getattr(o, end) for o in known], [len(p) for p in points]).astype(int) for end in "ab")
    there = carried_there_and_back(cameras, a, b, np.concatenate([*points, np.zeros((0, 2))]))
    parts = np.split(there, np.cumsum([len(p) for p in points])[:-1]) if known else []
    if drifts is not None:
        parts = [t + drift(p) if len(p) else t for t, drift, p in zip(parts, drifts, points, strict=True)]
    return [_in_open_squares(cameras, o, p, t, most) for o, p, t in zip(known, points, parts, strict=True)]


def _in_open_squares(cameras: Cameras, o: Observations, points: Array, there: Array, most: int) -> Observations:
    """Those of the points (n, 2) of `a`, seen `there` (n, 2) in `b`, that lie where the observations have none."""
    rim = RIM * cameras.sizes[o.b].max()
    inside = np.flatnonzero(np.all((there > rim) & (there < cameras.sizes[o.b] - 1 - rim), axis=1))
    side = cameras.sizes[o.a].max() / SQUARES
    taken = np.bincount(_squares(o.points_a, side), minlength=SQUARES**2)
    squares = _squares(points[inside], side)
    chosen = inside[taken[squares] + ranks_within(squares) < SQUARE_MOST][: max(0, most - len(o.points_a))]
    return Observations(o.a, o.b, points[chosen], there[chosen])


def _squares(points: Array, side: float) -> NDArray[np.intp]:
    """Numbers (n,) of the squares in which px (n, 2) lie."""
    at = np.clip((points / side).astype(int), 0, SQUARES - 1)
    return at[:, 1] * SQUARES + at[:, 0]


def _joined(all_: Sequence[Observations], more: Sequence[Observations]) -> list[Observations]:
    also = {(o.a, o.b): o for o in more}
    return [joined(o, also[o.a, o.b]) if (o.a, o.b) in also else o for o in all_]


def joined(one: Observations, other: Observations) -> Observations:
    """The points of both, of the same two frames."""
    return replace(
        one, points_a=np.concatenate([one.points_a, other.points_a]),
        points_b=np.concatenate([one.points_b, other.points_b]), weight=np.concatenate([one.weights, other.weights]))
