"""Registration of a panorama: from features to cameras that agree, and why a frame is left out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import ROUGH_GAIN, Observations, Uncertainty, errors_px, uncertainty
from windfell.align.barrel import BENT, PLAINLY, agreeing, as_seen, bends, bent_more, may_bend, straightened, unmoved
from windfell.align.by_light import pairs_that_meet
from windfell.align.by_turn import placed_by_light
from windfell.align.cameras import Cameras
from windfell.align.candidates import likely_pairs
from windfell.align.closer import doubtful_pairs
from windfell.align.features import Features
from windfell.align.glance import Glance
from windfell.align.help import Help, Helped, with_hand_points, with_help
from windfell.align.level import from_first
from windfell.align.loops import with_closed_loops
from windfell.align.pairs import Link, NoLink, find_links, largest_connected
from windfell.align.pole import with_poles
from windfell.align.refine import LINK_MOST
from windfell.align.registration import PairFit, PanoramaRegistration, Placed, Unplaced
from windfell.align.solve import (
    LEAST_POINTS,
    LEAST_SHARE,
    Ground,
    LensHint,
    fit_of,
    fitted_to_noise,
    looked_closely,
    sampled,
    simplest,
    solved,
    starting_cameras,
)
from windfell.align.view import View
from windfell.align.zoom import told_apart
from windfell.errors import CannotJoin
from windfell.job import Job

Array = NDArray[np.float64]
QUICK_POINTS = 1500
LEAST_ZOOM = 0.06
CLOSER, CONFIRMED = 0.8, 0.4


def register_panorama(
    features: Sequence[Features],
    hints: Sequence[LensHint],
    job: Job,
    focal_px: float | None = None,
    view: Callable[[int], View] | None = None,
    slid: bool = False,
) -> PanoramaRegistration:
    """Cameras for the largest set of frames that hold together: `settled` on their `ground`, without help."""
    return settled(grounded(features, hints, job, focal_px, view, slid), Help(), job)


def grounded(
    features: Sequence[Features],
    hints: Sequence[LensHint],
    job: Job,
    focal_px: float | None = None,
    view: Callable[[int], View] | None = None,
    slid: bool = False,
    pairs: Sequence[tuple[int, int]] | None = None,
    finer: Callable[[list[int]], Sequence[Features]] | None = None,
    looks: dict[tuple[int, int], Glance] | None = None,
) -> Ground:
    """What the frames say by themselves; `focal_px` fixes all lenses.

    `view(n)` gives frame n's light, on which points are refined; without it the features' places stand.
    `slid`: the camera moved along a flat subject. `pairs`: the only ones that may hold, or None.
    `finer` gives finer features of all frames of which some numbers are wanted; it is asked where the first
    ones, glanced at and then looked at in full, leave a frame without a place or neighbours without a link. They
    take long to find: frames that follow each other come first, since most are given in the order they were taken.
    `looks`: what pairs say at a glance, where that is known.
    """
    def linked(pull: float) -> tuple[list[Link], list[NoLink]]:
        flat = straightened(features, pull)
        return with_closed_loops(*find_links(flat, job, pairs, sparing=True, looks=None if pull else looks), flat)

    def held_together() -> Ground:
        seen = [as_seen(k, features, pull) for k in links]
        return _held_at_any_zoom(features, bent, seen, refused, job, focal_px, view, slid)

    pull, bent, (links, refused) = 0.0, hints, linked(0.0)
    ground, more = held_together(), None
    if not slid and unmoved(features) and may_bend(ground.cameras, ground.members, len({h.key for h in hints})):
        more = bent_more(links, len(features), linked)
    if more is not None:
        straight, plain, before = (pull, bent, links, refused), ground, links
        pull, (links, refused) = more
        bent = [replace(h, pull=pull) for h in hints]
        ground = held_together()
        if not explains_more(ground, plain, links, before):
            (pull, bent, links, refused), ground = straight, plain
    glanced, tried = {(r.a, r.b) for r in refused if r.glanced}, set()
    in_turn = {(n, n + 1) for n in range(len(features))}
    closer_looks = [] if finer is None else [(lambda _: features, glanced), (finer, in_turn), (finer, None)]
    for look, asked in closer_looks:
        again = doubtful_pairs(ground, features, likely_pairs(features) if pairs is None else pairs)
        ground, again = _met_by_light(ground, again, features, view, job)
        known = {(k.a, k.b) for k in links} - {(r.a, r.b) for r in ground.refused}
        again = [p for p in again if p not in known | tried and (asked is None or p in asked)]
        if not again:
            continue
        if look is finer:
            tried.update(again)
        seen_again = straightened(look(sorted({n for p in again for n in p})), pull)
        closer, still = find_links(seen_again, job, again)
        better = {(k.a, k.b): k for k in closer}
        links = [k for k in links if (k.a, k.b) not in better] + closer
        refused = _latest([r for r in refused if (r.a, r.b) not in better], still)
        count = len(links)
        links, refused = with_closed_loops(links, refused, seen_again)
        if not better and len(links) == count:
            ground = replace(ground, refused=_latest(ground.refused, still))
        else:
            ground = held_together()
    if view is None or slid:
        return ground
    if pairs is None:
        ground = placed_by_light(ground, features, bent, focal_px, view, job)
    return with_poles(ground, features, view, job)


def explains_more(bent: Ground, plain: Ground, links: Sequence[Link], before: Sequence[Link]) -> bool:
    """Whether a lens that bends much, and its `links`, explain the frames better than what was found `before`.

    The light must confirm many of the features that agree: what is bent enough lies on anything. And the lens that is
    found must bend: one that does not contradicts what led to it.
    """
    if not bends(bent.cameras, bent.members, BENT / 2):
        return False
    held = {(o.a, o.b): len(o.points_a) for o in bent.held}
    agree = [(k.count, held[k.a, k.b]) for k in links if (k.a, k.b) in held]
    if any(confirmed < CONFIRMED * min(count, LINK_MOST) for count, confirmed in agree):
        return False
    if len(bent.members) != len(plain.members):
        return len(bent.members) > len(plain.members)
    count = len(plain.problems)
    return agreeing(links, count) > PLAINLY * agreeing(before, count) or bent.scale_px < CLOSER * plain.scale_px


def _met_by_light(
    ground: Ground, pairs: list[tuple[int, int]], features: Sequence[Features],
    view: Callable[[int], View] | None, job: Job,
) -> tuple[Ground, list[tuple[int, int]]]:
    """The ground with those of the pairs held that the light shows to meet where the cameras say, and the others."""
    known = {(o.a, o.b) for o in ground.held}
    inner = [p for p in pairs if p[0] in ground.members and p[1] in ground.members and p not in known]
    if view is None or not inner:
        return ground, pairs
    found = pairs_that_meet(ground.cameras, inner, features, view, job)
    if not found:
        return ground, pairs
    cameras, scale = fitted_to_noise(ground.cameras, (*ground.held, *found), job, scale=ground.scale_px, rounds=1)
    met = {(o.a, o.b) for o in found}
    refused = tuple(r for r in ground.refused if (r.a, r.b) not in met)
    ground = replace(ground, cameras=cameras, held=(*ground.held, *found), scale_px=scale, refused=refused)
    return ground, [p for p in pairs if p not in met]


def _latest(first: Sequence[NoLink], then: Sequence[NoLink]) -> tuple[NoLink, ...]:
    """Reasons of pairs, the later ones in place of the earlier."""
    return tuple({(r.a, r.b): r for r in (*first, *then)}.values())


def _held_at_any_zoom(
    features: Sequence[Features], hints: Sequence[LensHint], links: list[Link], refused: Sequence[NoLink], job: Job,
    focal_px: float | None, view: Callable[[int], View] | None, slid: bool,
) -> Ground:
    """As `_held_together`, with lenses told apart that see things at different sizes, if all frames then hold
    together and the lenses do differ, or if more frames do than otherwise.
    """
    apart = told_apart(hints, links) if focal_px is None else list(hints)
    if apart == list(hints):
        return _held_together(features, hints, links, refused, job, focal_px, view, slid)
    ground = _held_together(features, apart, links, refused, job, focal_px, view, slid)
    if len(ground.members) == len(features) and _zooms_differ(ground.cameras, hints, apart):
        return ground
    alike = _held_together(features, hints, links, refused, job, focal_px, view, slid)
    return ground if len(ground.members) > len(alike.members) else alike


def _zooms_differ(cameras: Cameras, hints: Sequence[LensHint], apart: Sequence[LensHint]) -> bool:
    """Whether of every lens that was told apart all parts have focal lengths of their own."""
    parts: dict[tuple, dict[tuple, float]] = {}
    for n, (own, part) in enumerate(zip(hints, apart, strict=True)):
        parts.setdefault(own.key, {})[part.key] = float(cameras.lenses[cameras.group[n], 0])
    return all(np.diff(sorted(focal.values())).min(initial=np.inf) > LEAST_ZOOM for focal in parts.values())


def _held_together(
    features: Sequence[Features], hints: Sequence[LensHint], links: list[Link], refused: Sequence[NoLink], job: Job,
    focal_px: float | None, view: Callable[[int], View] | None, slid: bool,
) -> Ground:
    """The largest set of frames that links hold together, those left out that the rest contradicts."""
    dropped: list[NoLink] = []
    problems = tuple(f.problem for f in features)
    while True:
        members = largest_connected(len(features), links)
        if len(members) < 2:
            alone = _unlinked_cameras(features, hints, focal_px)
            return Ground(alone, (), (), 1.0, (*refused, *dropped), problems)
        inner = [k for k in links if k.a in members and k.b in members]
        cameras, held = solved(features, hints, inner, members, focal_px, job, slid)
        bad = _contradicting(inner, held)
        why = "the pair contradicts the other frames" if len(members) > 2 else _not_a_turn(inner[0], held[0], slid)
        if not bad:
            held, doubtful = looked_closely(
                cameras, held, job, view and (lambda n, of=members: view(of[n])), [features[n] for n in members],
                [k.moved for k in inner])
            bad = {(inner[n].a, inner[n].b) for n in doubtful}
            why = "what looks alike from afar does not up close"
        if not bad:
            break
        links = [k for k in links if (k.a, k.b) not in bad]
        dropped += [NoLink(a, b, why) for a, b in bad]
    cameras, scale = fitted_to_noise(cameras, held, job, gain=ROUGH_GAIN)
    cameras = simplest(cameras, held, scale, job)
    by_number = tuple(replace(o, a=members[o.a], b=members[o.b]) for o in held)
    everyone = _with_all_frames(cameras, members, features, hints, focal_px)
    return Ground(everyone, tuple(members), by_number, scale, (*refused, *dropped), problems)


def _not_a_turn(link: Link, held: Observations, slid: bool) -> str:
    fits = "a flat subject" if slid else "a camera that only turned"
    return f"just {len(held.points_a)} of the {link.count} features they share fit {fits}"


def _unlinked_cameras(features, hints, focal_px) -> Cameras:
    return starting_cameras(features, hints, list(range(len(features))), [], focal_px)


def _with_all_frames(cameras: Cameras, members: list[int], features, hints, focal_px) -> Cameras:
    """The members' cameras among those of all frames; a lens group that no member has is as first believed."""
    every = _unlinked_cameras(features, hints, focal_px)
    rotations, lenses = every.rotations.copy(), every.lenses.copy()
    believed, sigma, locked = every.believed.copy(), every.sigma.copy(), every.locked.copy()
    places = None if cameras.places is None else np.zeros((every.count, 3))
    for at, n in enumerate(members):
        rotations[n], locked[n] = cameras.rotations[at], cameras.locked[at]
        own, g = cameras.group[at], every.group[n]
        lenses[g], believed[g], sigma[g] = cameras.lenses[own], cameras.believed[own], cameras.sigma[own]
        if places is not None:
            places[n] = cameras.places[at]
    return replace(every, rotations=rotations, lenses=lenses, believed=believed, sigma=sigma, locked=locked,
                   places=places)


def settled(
    ground: Ground, help_: Help, job: Job, numbers: Sequence[int] | None = None
) -> PanoramaRegistration:
    """The registration: the ground, with what people added. Quick: it starts from the ground's cameras.

    Rotations are in the axes of the first placed frame, unless lines or poses by hand say what is upright;
    `oriented` levels them. Raises CannotJoin if fewer than two frames hold together.
    """
    helped = with_help(ground, help_)
    if len(helped.members) < 2:
        raise CannotJoin(_nothing_joins(numbers or range(1, len(ground.problems) + 1), ground.refused))
    cameras, scale = helped.cameras, ground.scale_px
    if helped.changed:
        start = ground.scale_px if ground.members else None
        some = sampled(helped.held, QUICK_POINTS)
        cameras, scale = fitted_to_noise(cameras, some, job, helped.guides, start, rounds=1 if start else 3)
    errors = uncertainty(cameras, sampled(helped.held, QUICK_POINTS), scale, helped.guides, helped.members[0])
    off = errors_px(cameras, helped.held)
    fits = [fit_of(cameras, o, e, scale) for o, e in zip(helped.held, off, strict=True)]
    fits = with_hand_points(fits, helped.by_hand, cameras)
    return _result(ground, helped, cameras, tuple(fits), errors)


def sketched_panorama(
    features: Sequence[Features], hints: Sequence[LensHint], links: Sequence[Link], refused: Sequence[NoLink]
) -> PanoramaRegistration:
    """Cameras good to a degree or two, from links alone, without the joint adjustment.

    Enough to tell who sees what. Raises CannotJoin as `register_panorama` does.
    """
    members = largest_connected(len(features), links)
    if len(members) < 2:
        raise CannotJoin(_nothing_joins(range(1, len(features) + 1), refused))
    place = {n: i for i, n in enumerate(members)}
    observed = [Observations(place[k.a], place[k.b], k.points_a[k.inlier], k.points_b[k.inlier])
                for k in links if k.a in place and k.b in place]
    cameras = starting_cameras(features, hints, members, observed, None)
    rotations = from_first(list(cameras.rotations))
    frames = tuple(
        Placed(cameras.lens(place[n]), rotations[place[n]], 0.0) if n in place else why_unplaced(n, refused)
        for n in range(len(features)))
    return PanoramaRegistration(frames, (), 0.0)


def _contradicting(links: Sequence[Link], held: Sequence[Observations]) -> set[tuple[int, int]]:
    """Pairs that were verified by themselves but that the whole does not confirm, or only loosely."""
    return {(k.a, k.b) for k, o in zip(links, held, strict=True)
            if len(o.points_a) < max(LEAST_POINTS, LEAST_SHARE * k.count)}


def _result(
    ground: Ground, helped: Helped, cameras: Cameras, fits: tuple[PairFit, ...], errors: Uncertainty
) -> PanoramaRegistration:
    flat = cameras.places is not None
    first = cameras.rotations[helped.members[0]]
    keeps_axes = flat or helped.upright
    frames: list[Placed | Unplaced] = []
    for n, problem in enumerate(ground.problems):
        if n not in helped.members:
            frames.append(Unplaced(problem) if problem else why_unplaced(n, ground.refused))
            continue
        rotation = cameras.rotations[n] if keeps_axes else first.T @ cameras.rotations[n]
        lens_errors = tuple(float(v) for v in errors.lenses[cameras.group[n]])
        frames.append(Placed(
            cameras.lens(n), rotation, _rms([f for f in fits if n in (f.a, f.b)]), float(errors.turns[n]),
            cameras.places[n] if flat else None, lens_errors))
    return PanoramaRegistration(tuple(frames), fits, _rms(fits), helped.upright)


def _rms(fits) -> float:
    """Over all points of the links, px."""
    points = sum(len(f.points_a) for f in fits)
    total = sum(f.rms_px**2 * len(f.points_a) for f in fits if len(f.points_a))
    return float(np.sqrt(total / points)) if points else 0.0


def why_unplaced(n: int, refused: Sequence[NoLink]) -> Unplaced:
    """The reason of the pair that came nearest to holding."""
    own = [r for r in refused if n in (r.a, r.b)]
    if not own:
        return Unplaced("it holds only to frames that are themselves apart from the rest")
    contradicting = [r for r in own if "contradicts" in r.reason]
    if contradicting:
        return Unplaced("what it shares with its neighbours contradicts the other frames")
    best = max(own, key=lambda r: _leading_number(r.reason))
    other = best.b if best.a == n else best.a
    return Unplaced(f"no overlap found; nearest is frame {{}}, where {best.reason}", other)


def _leading_number(reason: str) -> int:
    return max((int(w) for w in reason.split() if w.isdigit()), default=0)


def _nothing_joins(numbers: Sequence[int], refused: Sequence[NoLink]) -> str:
    count = len(numbers)
    if count < 2:
        return "A panorama needs at least two frames."
    best = max(refused, key=lambda r: _leading_number(r.reason))
    moved = "only turned" in best.reason
    help_ = "If the camera slid along a flat subject, choose that" if moved else "Take frames with more overlap"
    if count == 2:
        cannot = "cannot" if moved else "do not overlap enough to"
        return f"The two frames {cannot} be joined: {best.reason}. {help_}."
    return (
        f"No two of the {count} frames {'can' if moved else 'overlap enough to'} be joined; frames {numbers[best.a]} "
        f"and {numbers[best.b]} come nearest, but {best.reason}. {help_}."
    )
