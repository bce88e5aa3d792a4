"""A series brought onto its reference frame: shift, similarity or perspective.

Features say roughly where a frame lies; of several explanations, such as the land and a thing that moved before it,
the one stands under which most of the light of both is alike. The light then says it to a fraction of a px.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache

import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.align.matching import matches, matches_near
from windfell.align.one_spot import TIGHT, shared_px
from windfell.align.pairs import Found, beside_these, explanations
from windfell.align.patches import HALF, SEARCH, burnt_alike, patch_offsets, patch_shifts, seen_around, steps_seen
from windfell.align.same_light import LEAST_APART, SameLight, better_explained
from windfell.align.soft_land import denied_by_land, shift_of_land
from windfell.align.transforms import WAYS, fitted_similarity, robust, supported
from windfell.align.verify import LEAST_INLIERS, log_false_alarms, plausible
from windfell.align.view import View, farther_views
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.job import Job

Array = NDArray[np.float64]

TOLERANCE = 1 / 500
LOG_CHANCE = -6.0
STILL_PX = 0.3
LOOKED_AT, SPOTS = 600, 200
HALF_OF_ALL, LEAST_SHARE, ROUGHS_SHARE, AGREES, FLOOR = 0.5, 0.2, 0.32, 1.5, 0.03
MUCH, CONTESTED, MOST_OF_IT, LIKELIER = 0.25, 0.5, 0.4, 2
TRIED = 6
LOOSE, SURER_BY = 0.4, 1.5
NEAR_LAND = 1 / 40
ONLY_ROUGHLY = "its light says only roughly where it lies"


@dataclass(frozen=True)
class Onto:
    """`transform` (3, 3) takes the reference's pixel to this frame's; `still` if none was needed.

    `lens`: both frames' bending, between which the transform acts; None for none. `rough`: known to some px only, by
    the light of small looks. `share`: of the spots that were looked at, those whose light speaks for it.
    """

    transform: Array
    rms_px: float
    still: bool = False
    lens: Lens | None = None
    rough: bool = False
    share: float = 1.0


@dataclass(frozen=True)
class NotOnto:
    """The frame cannot be brought onto the reference, and why."""

    reason: str


def align_series(
    features: Sequence[Features], reference: int, way: str, job: Job, view: Callable[[int], View] | None = None,
    finer: Callable[[Sequence[int]], Sequence[Features]] | None = None,
) -> list[Onto | NotOnto]:
    """Each frame's place on the reference; `way` is a key of WAYS.

    `view(n)` gives frame n's light, on which places are refined; without it the features' stand. `finer` gives finer
    features of frames by their numbers: for those of which the first ones do not tell.
    """
    def one(n: int, first: Features, own: Features, last: bool = True) -> Onto | NotOnto:
        if n == reference:
            return Onto(np.eye(3), 0.0, True)
        found = onto(first, own, way, view is None, last)
        if view is None or isinstance(found, NotOnto):
            return found
        return refined_onto(found, way, first, own, view(reference), view(n), job)

    found = job.map(lambda n: one(n, features[reference], features[n], finer is None), list(range(len(features))),
                    "aligning frames")
    left = [n for n, place in enumerate(found) if isinstance(place, NotOnto) and not features[n].problem]
    if left and finer is not None:
        first, *own = finer([reference, *left])
        again = job.map(lambda k: one(left[k], first, own[k]), list(range(len(left))), "aligning frames")
        for n, place in zip(left, again, strict=True):
            found[n] = place
        if any(isinstance(place, NotOnto) for place in again):
            features = finer(range(len(features)))
    found = by_others(found, features, reference, way, view, job)
    return found if view is None else by_neighbours(found, features, reference, way, view, job)


def by_neighbours(
    found: list[Onto | NotOnto], features: Sequence[Features], reference: int, way: str, view: Callable[[int], View],
    job: Job,
) -> list[Onto | NotOnto]:
    """The places; of frames for which little of the reference's light speaks, by way of those before or after them in
    the series if far more speaks for every step of that: what is in focus, or lit, changes little from one to the
    next. Ways are compared by the least share of their steps (the widest path: Pollack 1960).
    """
    loose = {n for n, p in enumerate(found) if isinstance(p, Onto) and p.share < LOOSE and not p.still}
    steps = sorted({(m, m + 1) for n in loose for m in (n - 1, n) if 0 <= m < len(found) - 1})
    steps = [(m, n) for m, n in steps if isinstance(found[m], Onto) and isinstance(found[n], Onto)]

    near = job.map(lambda s: _step(features, *s, way, view, job), steps, "aligning frames")
    taken = {s: x for s, x in zip(steps, near, strict=True) if isinstance(x, Onto)}
    best = {n: p for n, p in enumerate(found) if isinstance(p, Onto) and n not in loose}
    left = {n: replace(found[n], share=SURER_BY * found[n].share) for n in loose}
    direct = dict(left)
    while left:
        for (m, n), one in taken.items():
            for a, b, by in ((m, n, one), (n, m, replace(one, transform=np.linalg.inv(one.transform)))):
                if a in best and b in left and min(by.share, best[a].share) > left[b].share:
                    left[b] = _by_way_of(best[a], by)
        n = max(left, key=lambda k: left[k].share)
        chosen = left.pop(n)
        best[n] = found[n] if chosen is direct[n] or _denied(features[reference], features[n], chosen) else chosen
    return [best.get(n, p) for n, p in enumerate(found)]


def _step(
    features: Sequence[Features], m: int, n: int, way: str, view: Callable[[int], View] | None, job: Job
) -> Onto | NotOnto:
    """Frame n's place on frame m."""
    near = onto(features[m], features[n], way, False)
    if view is None or isinstance(near, NotOnto):
        return near
    return refined_onto(near, way, features[m], features[n], view(m), view(n), job)


def _by_way_of(first: Onto, then: Onto) -> Onto:
    """A place by that of another frame, and the step from there."""
    return Onto(then.transform @ first.transform, float(np.hypot(then.rms_px, first.rms_px)),
                share=min(then.share, first.share))


def _denied(reference: Features, frame: Features, place: Onto) -> bool:
    """Whether the light of the land denies a place."""
    land = _land(reference, frame)
    return land is not None and denied_by_land(reference, frame, place.transform, land)


def by_others(
    found: list[Onto | NotOnto], features: Sequence[Features], reference: int, way: str,
    view: Callable[[int], View] | None, job: Job,
) -> list[Onto | NotOnto]:
    """The places, and those of frames that show too little of the reference but something of a frame that has one: of
    much longer or shorter exposures, by those between. The nearest few in the series are tried; what the light of the
    reference denies is none.
    """
    found = list(found)
    land = cache(lambda n: _land(features[reference], features[n]))
    fresh = [n for n, p in enumerate(found) if isinstance(p, Onto)]
    while fresh and any(isinstance(p, NotOnto) for p in found):
        tried, fresh = fresh, []
        for n, place in enumerate(found):
            if isinstance(place, Onto):
                continue
            for m in sorted(tried, key=lambda k, own=n: abs(k - own))[:TRIED]:
                job.check()
                near = _step(features, m, n, way, view, job)
                if isinstance(near, NotOnto):
                    continue
                place, said = _by_way_of(found[m], near), land(n)
                if said is not None and denied_by_land(features[reference], features[n], place.transform, said):
                    continue
                found[n] = place
                fresh.append(n)
                break
    return found


def _land(reference: Features, frame: Features) -> Array | None:
    """The shift of the land if the frames have looks and it says any."""
    return None if reference.look is None or frame.look is None else shift_of_land(reference, frame)


def refined_onto(
    found: Onto, way: str, reference: Features, frame: Features, first: View, other: View, job: Job
) -> Onto | NotOnto:
    """The place with its points moved to where the light agrees best; still if the light says so. A rough one that
    the light does not agree on is none.

    Looked at ever more closely, as long as that says it more surely: sharp light does, but not noise, rain or a
    frame that is soft. Where the first look finds little, the frames are looked at from farther away before.
    """
    points, sharpest = _to_look_at(reference), (first, other)
    best = _fitted(found.transform, points, way, frame, first, other, job)
    if best is None or best.share < HALF_OF_ALL:
        for near, far in reversed(list(zip(farther_views(first), farther_views(other), strict=False))):
            best = _surer(best, _fitted(_from(best, found), points, way, frame, near, far, job))
        best = _surer(best, _fitted(_from(best, found), points, way, frame, first, other, job))
    while best is not None and first.closer is not None and other.closer is not None:
        first, other = first.closer, other.closer
        best = _surer(best, _fitted(best.transform, points, way, frame, first, other, job))
    if found.rough and (best is None or best.share < ROUGHS_SHARE):
        return NotOnto(ONLY_ROUGHLY)
    if best is None:
        return found
    if found.rough:
        return refined_onto(Onto(best.transform, best.rms_px), way, reference, frame, *sharpest, job)
    same_size = (reference.width, reference.height) == (frame.width, frame.height)
    if same_size and planar.corner_shift(best.transform, frame.width, frame.height) < STILL_PX:
        return Onto(np.eye(3), float(np.sqrt(np.mean(np.minimum(best.moved, 2.0) ** 2))), True)
    return Onto(best.transform, best.rms_px, share=best.share)


@dataclass(frozen=True)
class _Fitted:
    """A transform by the light at one size, what it leaves of its points, px, by how much (n,) they moved, which
    share of all that were looked at it explains, and by how much, px, it is expected to be off all over the frame.
    """

    transform: Array
    rms_px: float
    moved: Array
    share: float
    error_px: float


def _to_look_at(reference: Features) -> Array:
    """Features, the strongest first, and places where the light varies but little."""
    return np.concatenate([reference.points[:LOOKED_AT], reference.spots[:SPOTS]])


def _from(best: _Fitted | None, found: Onto) -> Array:
    return found.transform if best is None else best.transform


def _surer(one: _Fitted | None, other: _Fitted | None) -> _Fitted | None:
    """The one that knows the place more surely, with the greater share of what either explains."""
    if one is None or other is None:
        return one or other
    surer = other if other.error_px < one.error_px else one
    return replace(surer, share=max(one.share, other.share))


def _fitted(
    start: Array, points: Array, way: str, frame: Features, first: View, other: View, job: Job
) -> _Fitted | None:
    """The transform that most of the light agrees on, looked for near a start; None where too little says so."""
    there = planar.apply(start, points)
    rim = HALF / other.scale
    inside = np.all((there > rim) & (there < [frame.width - rim, frame.height - rim]), axis=1)
    points, there = points[inside], there[inside]
    if len(points) < LEAST_INLIERS:
        return None
    grid, _ = seen_around(lambda p: planar.apply(start, p), points)
    one = first.at(points[:, None, None] + patch_offsets(HALF) / first.scale)
    reach = patch_offsets(HALF + SEARCH + 2) / first.scale
    moved = patch_shifts(*burnt_alike(one, other.at(there[:, None, None] + steps_seen(grid, reach))))
    job.check()
    sure = moved.sure
    if sure.sum() < LEAST_INLIERS:
        return None
    p = points[sure]
    q = there[sure] + np.einsum("mij,mj->mi", grid[sure], moved.shift[sure] / first.scale)
    found = supported(p, q, way, AGREES / first.scale, FLOOR / first.scale, (frame.width, frame.height))
    agrees, off = found.agrees, found.off
    if agrees.sum() < max(LEAST_INLIERS, LEAST_SHARE * len(p)):
        return None
    if not plausible(found.transform, Lens(frame.width, frame.height, 1.0).grid(5)):
        return None
    rms = float(np.sqrt(np.mean(off[off < 3 * np.median(off) + 1e-6] ** 2)))
    shift = np.linalg.norm(p[agrees] - q[agrees], axis=1)
    return _Fitted(
        found.transform, max(rms, FLOOR / first.scale), shift, float(agrees.sum() / len(points)), found.error_px)


def onto(
    reference: Features, frame: Features, way: str, judge_still: bool = True, roughly: bool = True
) -> Onto | NotOnto:
    """The transform from the reference's pixels to the frame's, moving things aside.

    If `judge_still` and leaving the frame where it is explains the points as well, it is left untouched; otherwise
    it may be a rough one, where features do not say but the light of all of the land does: not where they say nothing
    unless it may be had `roughly`.
    """
    found = _by_features(reference, frame, way, judge_still)
    if isinstance(found, NotOnto) and not roughly:
        return found
    land = _land(reference, frame)
    if land is None or (isinstance(found, Onto) and not denied_by_land(reference, frame, found.transform, land)):
        return found
    pairs = matches_near(reference, frame, land, NEAR_LAND * max(frame.width, frame.height))
    p, q = reference.points[pairs[:, 0]], frame.points[pairs[:, 1]]
    near = _agreed(reference, frame, p, q, way, judge_still)
    if isinstance(near, Onto) and not denied_by_land(reference, frame, near.transform, land):
        return near
    return NotOnto(ONLY_ROUGHLY) if judge_still else Onto(land, 0.0, rough=True)


def _by_features(reference: Features, frame: Features, way: str, judge_still: bool) -> Onto | NotOnto:
    pairs = matches(reference, frame)
    if len(pairs) < LEAST_INLIERS:
        return NotOnto(f"only {len(pairs)} features look like the reference's")
    alike = _most_alike(reference, frame, reference.points[pairs[:, 0]], frame.points[pairs[:, 1]])
    if isinstance(alike, NotOnto):
        return alike
    return _agreed(reference, frame, *alike, way, judge_still)


def _agreed(
    reference: Features, frame: Features, p: Array, q: Array, way: str, judge_still: bool
) -> Onto | NotOnto:
    """The transform on which matches (n, 2) agree, if chance would not have them do so."""
    if len(p) < LEAST_INLIERS:
        return NotOnto(f"only {len(p)} features look like the reference's")
    tolerance = TOLERANCE * max(reference.width, reference.height)
    transform, inlier = robust(p, q, WAYS[way], tolerance)
    if not plausible(transform, Lens(reference.width, reference.height, 1.0).grid(5)):
        # what few points say of the slant tears the frame where there are none
        transform, inlier = robust(p, q, fitted_similarity, tolerance)
    probability = np.pi * tolerance**2 / (frame.width * frame.height)
    if log_false_alarms(len(p), int(inlier.sum()), probability) > LOG_CHANCE:
        return NotOnto(f"only {int(inlier.sum())} of {len(p)} features agree on where it lies")
    error = np.linalg.norm(planar.apply(transform, p[inlier]) - q[inlier], axis=1)
    rms = float(np.sqrt(np.mean(error**2)))
    same_size = (reference.width, reference.height) == (frame.width, frame.height)
    pixel = max(1.0, max(reference.width, reference.height) / 1600)
    if judge_still and same_size and planar.corner_shift(transform, frame.width, frame.height) < STILL_PX * pixel:
        off = np.linalg.norm(p[inlier] - q[inlier], axis=1)
        return Onto(np.eye(3), float(np.sqrt(np.mean(off**2))), True)
    return Onto(transform, rms)


def _most_alike(reference: Features, frame: Features, p: Array, q: Array) -> tuple[Array, Array] | NotOnto:
    """Of the matches (n, 2) those of the explanation under which most of the reference's light is alike: something
    large and patterned that moved before soft land has more features than the land. All of them if just one explains
    them; why none does if that one is of one thing alone.
    """
    if reference.look is None or frame.look is None:
        return p, q
    claims = [Found(p, q, own, homography) for homography, own in explanations(p, q, reference, frame)[0]]
    if not claims:
        return p, q
    lights = [c.light(reference, frame) for c in claims]
    if lights[0].concentrated:
        own = claims[0].inlier
        beside = beside_these(reference, frame, p[own], q[own])
        if beside is not None and not any(c.agrees(beside, frame) for c in claims):
            claims.append(beside)
            lights.append(beside.light(reference, frame))
    explained = better_explained(reference, frame, [c.homography for c in claims], TIGHT)
    # a series is of one view: what would leave less of it in the frame is less likely by itself
    shared = np.array([shared_px(reference, frame, c.homography) for c in claims])
    first = int(np.argmax(shared**LIKELIER * explained))
    best = claims[first]
    # quick features are quick to leave the soft land out
    share = HALF_OF_ALL if reference.binary else LEAST_SHARE
    rivals = len(claims) > 1 and max(explained) > MOST_OF_IT * max(x.compared for x in lights)
    if not rivals and _one_thing(lights[first], share):
        return NotOnto("just one thing looks alike, and what lies around it differs: it may have moved")
    if reference.binary and len(claims) > 1 and sorted(explained)[-2] > CONTESTED * max(explained):
        return NotOnto("it would fit in two places nearly as well")
    return (p, q) if len(claims) == 1 else (best.points_a[best.inlier], best.points_b[best.inlier])


def _one_thing(light: SameLight, share: float) -> bool:
    """Whether less than a share of what lies beside what the explanation rests on is alike, if that is much."""
    apart = light.compared_apart
    return apart >= LEAST_APART and apart > MUCH * light.compared and light.alike_apart < share * apart
