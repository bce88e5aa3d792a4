"""From links to cameras: a start, the joint adjustment in steps, points refined on the light itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import GAIN, ROUGH_GAIN, Guide, Observations, adjust, errors_px
from windfell.align.barrel import k1_of_pull, straight
from windfell.align.by_light import Others, grown, joined, refined_with_others
from windfell.align.cameras import FOCAL_SIGMA, HELD, RECORDED_SIGMA, Cameras, cameras_of
from windfell.align.features import Features
from windfell.align.flat import slid_cameras
from windfell.align.focal import USUAL, chained_rotations, first_focal
from windfell.align.pairs import Link, NoLink, find_links
from windfell.align.refine import refined, sharper_by, thinned
from windfell.align.registration import PairFit
from windfell.align.view import View, farther_views
from windfell.job import Job

Array = NDArray[np.float64]

TIGHT = 1 / 1000
LOOSE = 1 / 130
FINEST_PX = 0.35
# more than a point has by itself: points of a frame err a little alike, and do not weigh as much as their number
LEAST_NOISE_PX = 0.3
# parts of a lens that simpler ones do without, the simplest first
SIMPLER, LEAST_MISFIT_PX = ([2, 3, 4, 5], [4, 5]), 0.02
LEAST_POINTS = 8
LEAST_REFINED = 12
LEAST_SHARE = 0.2
FEW_POINTS, LEAST_SURE, SURE_SHARE = 40, 5, 0.3
# the fine share of light that shake or bad focus takes away, in halvings
LESS_SHARP = 0.5
ROUGH_POINTS, MORE_POINTS = 1500, 3000
COARSE_WEIGHT = 0.02


@dataclass(frozen=True)
class LensHint:
    """What is known of a frame's lens: which frames share it, a focal length or None, and by which share it draws
    the frame's corners in (`barrel.py`).
    """

    key: tuple
    focal_px: float | None
    pull: float = 0.0


@dataclass(frozen=True)
class Ground:
    """What the frames say by themselves, before anyone helps.

    `cameras` of all frames (those that are no members look ahead), `held` the points of every link between
    members, by frame number, `scale_px` the robust scale the points called for, `refused` why other pairs hold
    nothing, `problems` why a frame could not be looked at, empty for none.
    """

    cameras: Cameras
    members: tuple[int, ...]
    held: tuple[Observations, ...]
    scale_px: float
    refused: tuple[NoLink, ...]
    problems: tuple[str, ...]


def solved(
    features: Sequence[Features], hints: Sequence[LensHint], links: Sequence[Link], members: list[int],
    focal_px: float | None, job: Job, slid: bool = False,
) -> tuple[Cameras, list[Observations]]:
    """Cameras that all links of the members agree on, and the points that hold, by their features' places.

    `slid`: the cameras moved along a flat subject instead of turning.
    """
    place = {n: i for i, n in enumerate(members)}
    inner = [k for k in links if k.a in place and k.b in place]
    longest = max(max(features[n].width, features[n].height) for n in members)
    first = [_observed(k, place, k.inlier) for k in inner]
    everything = [_observed(k, place, np.ones(len(k.points_a), bool)) for k in inner]
    cameras = starting_cameras(features, hints, members, first, focal_px, slid)
    job.step("fitting cameras", 0.1)
    some = thinned(first, ROUGH_POINTS)
    start, scale = without(SIMPLER[0], cameras), LOOSE / 3 * longest
    simple = adjust(start, some, scale, job, widen=_far_off(start, some) / scale, gain=ROUGH_GAIN)
    cameras = replace(simple, sigma=cameras.sigma)
    for fraction, reach, tight, most in (
        (0.5, LOOSE, 3 * TIGHT, ROUGH_POINTS), (0.8, TIGHT, TIGHT, MORE_POINTS),
    ):
        job.step("fitting cameras", fraction)
        chosen = _agreeing(cameras, everything, 2.5 * reach * longest)
        kept = _holding(len(members), chosen, first)
        cameras = adjust(cameras, thinned(kept, most), tight * longest, job, widen=1.0, gain=ROUGH_GAIN)
    return cameras, _agreeing(cameras, everything, 2.5 * TIGHT * longest)


def _far_off(cameras: Cameras, observations: Sequence[Observations]) -> float:
    """How far half of a link's points lie from where the cameras see them, px, of the worst link."""
    return max((float(np.median(e)) for e in errors_px(cameras, observations) if len(e)), default=0.0)


def looked_closely(
    cameras: Cameras, held: Sequence[Observations], job: Job, view: Callable[[int], View] | None,
    features: Sequence[Features], moved: Sequence[Array | None],
) -> tuple[list[Observations], list[int]]:
    """Points refined if the frames can be looked at, and which links the light does not confirm.

    `moved`: of each of the links what is known to lie elsewhere in its other frame, (m, 2), px of `a`.

    A link of few points is believed only if the light around most of them agrees, and if other `features` of its
    frames are not missing where the cameras see them; those that are there are added. A shaken or soft frame is
    like a sharp one only from farther away: where one is clearly less sharp than the other, that is where both are
    looked at first.
    """
    held = list(held)
    if view is None:
        return held, []
    some = [o for o in thinned(held) if len(o.points_a)]
    aside = {(o.a, o.b): m for o, m in zip(held, moved, strict=True) if m is not None}
    looked = list(zip(*refined_with_others(cameras, some, features, view, job, aside), strict=True))
    unsure = [n for n, (o, (fine, _)) in enumerate(zip(some, looked, strict=True))
              if len(fine.points_a) < SURE_SHARE * len(o.points_a) or _denied(o, *looked[n])]
    soft = [n for n in unsure if abs(sharper_by(some[n], cameras, view)) > LESS_SHARP]
    if soft:
        again = refined_with_others(
            cameras, [some[n] for n in soft], features, lambda n: [view(n), *farther_views(view(n))][-1], job, aside)
        for n, seen in zip(soft, zip(*again, strict=True), strict=True):
            looked[n] = seen
    denied = {(o.a, o.b) for o, seen in zip(some, looked, strict=True) if _denied(o, *seen)}
    doubtful = [n for n, o in enumerate(held) if (o.a, o.b) in denied]
    close = [joined(fine, joined(more.found, more.spots)) for fine, more in looked]
    return _with_refined(held, close), doubtful


def _denied(o: Observations, fine: Observations, more: Others) -> bool:
    """Whether the light does not confirm a link, of whose points it found some `fine`, and `more` beside them."""
    if len(fine.points_a) < FEW_POINTS and more.denied:
        return True
    return len(o.points_a) < FEW_POINTS and len(fine.points_a) < max(LEAST_SURE, SURE_SHARE * len(o.points_a))


def seen_at_any_depth(
    ground: Ground, features: Sequence[Features], job: Job, view: Callable[[int], View]
) -> list[Observations]:
    """Points of the pairs that hold, by frame number: those of near and of far things, as many as the light shows."""
    pairs = [(o.a, o.b) for o in ground.held if len(o.points_a)]
    links, _ = find_links(features, job, pairs)
    place = {n: n for n in range(len(features))}
    matched = [_observed(k, place, np.ones(len(k.points_a), bool)) for k in links]
    near_and_far = _off_by(ground.cameras, matched, 0.0, 2.5 * LOOSE)
    found = refined([o for o in near_and_far if len(o.points_a)], ground.cameras, view, job)
    return grown(ground.cameras, [*ground.held, *found], features, view, job)


def _off_by(cameras: Cameras, all_: Sequence[Observations], least: float, most: float) -> list[Observations]:
    """The points that lie so far off, in shares of the longest side."""
    longest = float(cameras.sizes.max())
    return [o.chosen((off >= least * longest) & (off < most * longest))
            for o, off in zip(all_, errors_px(cameras, all_), strict=True)]


def fitted_to_noise(
    cameras: Cameras, held: Sequence[Observations], job: Job, guides: Sequence[Guide] = (),
    scale: float | None = None, rounds: int = 3, gain: float = GAIN,
) -> tuple[Cameras, float]:
    """Cameras adjusted with the robust scale that their points' own errors call for, and that scale."""
    longest = float(cameras.sizes.max())
    scale = scale or TIGHT * longest
    for n in range(rounds):
        last = n == rounds - 1 or scale <= FINEST_PX
        cameras = adjust(
            cameras, held, scale, job, widen=1.0, guides=guides, gain=gain if last else ROUGH_GAIN)
        filled = [o for o in held if len(o.points_a)]
        if filled:
            noise = _noise(filled, cameras)
            cameras = replace(cameras, noise_px=float(np.clip(noise, LEAST_NOISE_PX, 1.0)))
            scale = float(np.clip(4 * noise, FINEST_PX, TIGHT * longest))
        if last:
            break
    return cameras, scale


def without(parts: Sequence[int], cameras: Cameras) -> Cameras:
    """The cameras with these parts of their lenses held at 0."""
    lenses, sigma = cameras.lenses.copy(), cameras.sigma.copy()
    lenses[:, parts], sigma[:, parts] = 0.0, HELD
    return replace(cameras, lenses=lenses, sigma=sigma)


def simplest(cameras: Cameras, held: Sequence[Observations], scale: float, job: Job) -> Cameras:
    """The cameras, roughly fitted, adjusted with no more parts of a lens than the points call for: k1 alone, k1 to
    k3, or the principal point as well. Parts that say nothing loosen all others, the focal length of a single row
    above all.

    By the Bayesian information criterion (Schwarz 1978). A point's squared error counts as one measurement, not
    as two, since points of a frame err a little alike. Parts held at 0 stay so in later fits.
    """
    if not held:
        return cameras
    if cameras.places is not None:
        return adjust(cameras, held, scale, job, widen=1.0)
    full, count = _misfit(cameras, held, scale)
    noise = max(full / max(count, 1), LEAST_MISFIT_PX**2)
    for parts in SIMPLER:
        simple = adjust(without(parts, cameras), held, scale, job, widen=1.0)
        worse = (_misfit(simple, held, scale)[0] - full) / noise
        if worse < len(parts) * len(cameras.lenses) * np.log(max(count, 2)):
            return simple
    return adjust(cameras, held, scale, job, widen=1.0)


def _misfit(cameras: Cameras, held: Sequence[Observations], scale: float) -> tuple[float, int]:
    """The weighted sum of robust squared errors, px^2, and how many points there are."""
    r2 = np.concatenate(errors_px(cameras, held)) ** 2
    weight = np.concatenate([o.weights for o in held])
    return float(np.sum(weight * r2 / (1 + r2 / scale**2))), len(r2)


def fit_of(cameras: Cameras, o: Observations, error: Array, scale_px: float) -> PairFit:
    """The points of a link that hold, by their errors: tightly, or loosely where parallax lets too few."""
    held = error < 2.5 * scale_px
    if held.sum() < max(LEAST_POINTS, 0.5 * len(error)):
        held = error < 2.5 * TIGHT * float(cameras.sizes.max())
    rms = float(np.sqrt(np.mean(error[held] ** 2))) if held.any() else float("inf")
    return PairFit(o.a, o.b, o.points_a[held], o.points_b[held], rms, error[held])


def sampled(held: Sequence[Observations], most: int) -> list[Observations]:
    """Some points of every link that together weigh what all of them do, for quick answers."""
    filled = [o for o in held if len(o.points_a)]
    share = max(LEAST_REFINED, most // max(1, len(filled)))
    out = []
    for o in filled:
        n = len(o.points_a)
        if n > share:
            weight = n / share * o.weights
            o = replace(o, weight=weight).chosen(np.linspace(0, n - 1, share).astype(int))
        out.append(o)
    return out


def _with_refined(held: Sequence[Observations], close: Sequence[Observations]) -> list[Observations]:
    """Refined points where a link has enough of them; elsewhere its features, which then count little."""
    fine = {(o.a, o.b): o for o in close}
    out = []
    for o in held:
        own = fine.get((o.a, o.b))
        if own is not None and len(own.points_a) >= LEAST_REFINED:
            out.append(own)
        else:
            out.append(Observations(o.a, o.b, o.points_a, o.points_b, np.full(len(o.points_a), COARSE_WEIGHT)))
    return out


def _noise(held: Sequence[Observations], cameras: Cameras) -> float:
    """The robust deviation of the points' errors, px."""
    errors = np.concatenate(errors_px(cameras, held))
    weight = np.concatenate([o.weights for o in held])
    order = np.argsort(errors)
    half = np.searchsorted(np.cumsum(weight[order]), 0.5 * weight.sum())
    return float(1.2 * errors[order[min(half, len(order) - 1)]])


def starting_cameras(features, hints, members, observations, focal_px, slid: bool = False) -> Cameras:
    """Focal lengths from metadata or from the pairs, rotations (or poses before a plane) chained from the pairs."""
    keys = list(dict.fromkeys(hints[n].key for n in members))
    sizes = [(features[n].width, features[n].height) for n in members]
    group = [keys.index(hints[n].key) for n in members]
    known = [_group_focal(keys[g], hints, members) for g in range(len(keys))]
    usual = [USUAL * max(max(s) for s, k in zip(sizes, group, strict=True) if k == g)
             for g in range(len(keys))]
    focal = np.array([focal_px or k or u for k, u in zip(known, usual, strict=True)], float)
    cameras = cameras_of(sizes, group, focal, fixed_focal=focal_px is not None)
    if not observations:
        return cameras.with_focal(focal, RECORDED_SIGMA) if all(known) and focal_px is None else cameras
    if slid:
        return slid_cameras(cameras, observations, [focal_px is not None or k is not None for k in known])
    pulls = [hints[members[group.index(g)]].pull for g in range(len(keys))]
    observations = [straight(o, cameras.sizes, pulls[group[o.a]]) for o in observations]
    if focal_px is None:
        factor = first_focal(cameras, observations, all(known))
        cameras = cameras.with_focal(focal * factor, RECORDED_SIGMA if all(known) and factor == 1.0 else FOCAL_SIGMA)
    return _bent(cameras.turned(chained_rotations(cameras, observations)), pulls)


def _bent(cameras: Cameras, pulls: Sequence[float]) -> Cameras:
    """The cameras with lenses (g,) that are believed to draw the corners in by such shares."""
    lenses, believed = cameras.lenses.copy(), cameras.believed.copy()
    for g, pull in enumerate(pulls):
        lens = cameras.lens(int(np.flatnonzero(cameras.group == g)[0]))
        lenses[g, 1] = believed[g, 1] = k1_of_pull(pull, lens)
    return replace(cameras, lenses=lenses, believed=believed)


def _group_focal(key: tuple, hints: Sequence[LensHint], members: list[int]) -> float | None:
    found = [hints[n].focal_px for n in members if hints[n].key == key and hints[n].focal_px]
    return float(np.median(found)) if found else None


def _observed(k: Link, place: dict[int, int], chosen: NDArray) -> Observations:
    return Observations(place[k.a], place[k.b], k.points_a[chosen], k.points_b[chosen])


def _agreeing(cameras: Cameras, all_: Sequence[Observations], within_px: float) -> list[Observations]:
    return [o.chosen(off < within_px) for o, off in zip(all_, errors_px(cameras, all_), strict=True)]


def _holding(count: int, chosen: list[Observations], first: list[Observations]) -> list[Observations]:
    """The links with enough agreeing points; all of them if the frames fell apart otherwise."""
    kept = [o for o in chosen if len(o.points_a) >= LEAST_POINTS]
    if _connects(count, kept):
        return kept
    return [c if len(c.points_a) >= LEAST_POINTS else f for c, f in zip(chosen, first, strict=True)]


def _connects(count: int, observations: Sequence[Observations]) -> bool:
    group = list(range(count))
    for o in observations:
        old, new = group[o.b], group[o.a]
        group = [new if g == old else g for g in group]
    return len(set(group)) == 1
