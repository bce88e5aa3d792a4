"""Registration of a panorama: from features to cameras that agree, and why a frame is left out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Cameras, Observations, adjust, error_px
from windfell.align.features import Features
from windfell.align.focal import USUAL, chained_rotations, first_focal
from windfell.align.level import from_first, levelled
from windfell.align.pairs import Link, NoLink, find_links
from windfell.errors import CannotJoin
from windfell.geometry.camera import Lens
from windfell.job import Job

Array = NDArray[np.float64]

TIGHT = 1 / 1000
LOOSE = 1 / 130
LEAST_POINTS = 8
LEAST_SHARE = 0.2
ROUGH_POINTS, ALL_POINTS, LINK_POINTS = 1500, 8000, 40


@dataclass(frozen=True)
class Placed:
    """A frame's lens and its camera-to-world rotation (3, 3); rms over its points in px."""

    lens: Lens
    rotation: Array
    rms_px: float


@dataclass(frozen=True)
class Unplaced:
    """A frame that could not be placed, and why."""

    reason: str


@dataclass(frozen=True)
class PairFit:
    """A link after the adjustment: the points that hold, (n, 2) px each, and their rms in px."""

    a: int
    b: int
    points_a: Array
    points_b: Array
    rms_px: float


@dataclass(frozen=True)
class PanoramaRegistration:
    frames: tuple[Placed | Unplaced, ...]
    links: tuple[PairFit, ...]
    rms_px: float

    @property
    def placed(self) -> list[int]:
        return [n for n, f in enumerate(self.frames) if isinstance(f, Placed)]


@dataclass(frozen=True)
class LensHint:
    """What is known of a frame's lens: which frames share it, a focal length or None."""

    key: tuple
    focal_px: float | None


def register_panorama(
    features: Sequence[Features],
    hints: Sequence[LensHint],
    job: Job,
    focal_px: float | None = None,
) -> PanoramaRegistration:
    """Cameras for the largest set of frames that hold together; `focal_px` fixes all lenses.

    Rotations are in the axes of the first placed frame; `oriented` levels them. Raises
    CannotJoin if fewer than two frames do.
    """
    links, refused = find_links(features, job)
    dropped: list[NoLink] = []
    while True:
        members = largest_connected(len(features), links)
        if len(members) < 2:
            raise CannotJoin(_nothing_joins(len(features), refused + dropped))
        cameras, fits = _solve(features, hints, links, members, focal_px, job)
        bad = _contradicting(links, members, fits)
        if not bad:
            break
        links = [k for k in links if (k.a, k.b) not in bad]
        dropped += [NoLink(a, b, "the pair contradicts the other frames") for a, b in bad]
    rotations = from_first(cameras.rotations)
    found = _result(len(features), cameras, rotations, members, fits, refused + dropped)
    frames = tuple(
        Unplaced(f.problem) if f.problem else place for f, place in zip(features, found.frames, strict=True))
    return replace(found, frames=frames)


def sketched_panorama(
    features: Sequence[Features], hints: Sequence[LensHint], links: Sequence[Link], refused: Sequence[NoLink]
) -> PanoramaRegistration:
    """Cameras good to a degree or two, from links alone, without the joint adjustment.

    Enough to tell who sees what. Raises CannotJoin as `register_panorama` does.
    """
    members = largest_connected(len(features), links)
    if len(members) < 2:
        raise CannotJoin(_nothing_joins(len(features), refused))
    place = {n: i for i, n in enumerate(members)}
    observed = [_observed(k, place, k.inlier) for k in links if k.a in place and k.b in place]
    cameras = _starting_cameras(features, hints, members, observed, None)
    return _result(len(features), cameras, from_first(cameras.rotations), members, [], list(refused))


def oriented(registration: PanoramaRegistration, level: bool) -> PanoramaRegistration:
    """The registration in a level world, or in the axes of the first placed frame."""
    if not level:
        return registration
    placed = registration.placed
    turned = dict(zip(placed, levelled([registration.frames[n].rotation for n in placed]), strict=True))
    frames = tuple(
        replace(f, rotation=turned[n]) if n in turned else f
        for n, f in enumerate(registration.frames)
    )
    return replace(registration, frames=frames)


def largest_connected(count: int, links: Sequence[Link]) -> list[int]:
    """Frames of the largest group that links hold together, by number then by points."""
    group = list(range(count))
    for k in links:
        old, new = group[k.b], group[k.a]
        group = [new if g == old else g for g in group]
    points = {g: sum(k.count for k in links if group[k.a] == g) for g in set(group)}
    best = max(set(group), key=lambda g: (group.count(g), points[g]))
    members = [n for n in range(count) if group[n] == best]
    return members if len(members) > 1 else []


def _solve(features, hints, links, members, focal_px, job):
    """Adjusted cameras of the members, and the fit of every link among them."""
    place = {n: i for i, n in enumerate(members)}
    inner = [k for k in links if k.a in place and k.b in place]
    longest = max(max(features[n].width, features[n].height) for n in members)
    first = [_observed(k, place, k.inlier) for k in inner]
    cameras = _starting_cameras(features, hints, members, first, focal_px)
    job.step("fitting cameras", 0.1)
    cameras = adjust(cameras, _thinned(first, ROUGH_POINTS), LOOSE / 3 * longest, job)
    for fraction, scale, most in (
        (0.4, LOOSE, ROUGH_POINTS), (0.6, 3 * TIGHT, ROUGH_POINTS), (0.8, TIGHT, ALL_POINTS),
    ):
        job.step("fitting cameras", fraction)
        chosen = [_agreeing(cameras, k, place, 2.5 * scale * longest) for k in inner]
        kept = [o for o in chosen if len(o.points_a) >= LEAST_POINTS]
        if not _connects(len(members), kept):
            kept = [c if len(c.points_a) >= LEAST_POINTS else f
                    for c, f in zip(chosen, first, strict=True)]
        cameras = adjust(cameras, _thinned(kept, most), scale * longest, job, widen=1.0)
    fits = [_fit(cameras, k, place, TIGHT * longest) for k in inner]
    return cameras, fits


def _starting_cameras(features, hints, members, observations, focal_px) -> Cameras:
    keys = list(dict.fromkeys(hints[n].key for n in members))
    sizes = [(features[n].width, features[n].height) for n in members]
    group = [keys.index(hints[n].key) for n in members]
    known = [_group_focal(keys[g], hints, members) for g in range(len(keys))]
    usual = [USUAL * max(max(s) for s, k in zip(sizes, group, strict=True) if k == g)
             for g in range(len(keys))]
    focal = np.array([focal_px or k or u for k, u in zip(known, usual, strict=True)], float)
    cameras = Cameras(
        sizes, group, [np.eye(3)] * len(members), focal, np.zeros(len(keys)), focal.copy(),
        fixed_focal=focal_px is not None,
    )
    if focal_px is None:
        cameras.focal_px = focal * first_focal(cameras, observations, all(known))
        cameras.prior_focal_px = cameras.focal_px.copy()
    cameras.rotations = chained_rotations(cameras, observations)
    return cameras


def _group_focal(key: tuple, hints: Sequence[LensHint], members: list[int]) -> float | None:
    found = [hints[n].focal_px for n in members if hints[n].key == key and hints[n].focal_px]
    return float(np.median(found)) if found else None


def _observed(k: Link, place: dict[int, int], chosen: NDArray) -> Observations:
    return Observations(place[k.a], place[k.b], k.points_a[chosen], k.points_b[chosen])


def _thinned(observations: Sequence[Observations], most: int) -> list[Observations]:
    """Each link's share of `most` points in all, at least LINK_POINTS, taken evenly from its points."""
    share = max(LINK_POINTS, most // max(1, len(observations)))
    out = []
    for o in observations:
        if len(o.points_a) <= share:
            out.append(o)
            continue
        kept = np.linspace(0, len(o.points_a) - 1, share).astype(int)
        out.append(Observations(o.a, o.b, o.points_a[kept], o.points_b[kept]))
    return out


def _agreeing(cameras: Cameras, k: Link, place: dict[int, int], within_px: float) -> Observations:
    everything = _observed(k, place, np.ones(len(k.points_a), bool))
    return _observed(k, place, error_px(cameras, everything) < within_px)


def _connects(count: int, observations: Sequence[Observations]) -> bool:
    group = list(range(count))
    for o in observations:
        old, new = group[o.b], group[o.a]
        group = [new if g == old else g for g in group]
    return len(set(group)) == 1


def _fit(cameras: Cameras, k: Link, place: dict[int, int], scale_px: float) -> PairFit:
    """The points of a link that hold: tightly, or loosely where parallax lets too few."""
    held = _agreeing(cameras, k, place, 2.5 * scale_px)
    if len(held.points_a) < max(LEAST_POINTS, LEAST_SHARE * k.count):
        held = _agreeing(cameras, k, place, 7.5 * scale_px)
    rms = _rms(error_px(cameras, held)) if len(held.points_a) else float("inf")
    return PairFit(k.a, k.b, held.points_a, held.points_b, rms)


def _contradicting(links, members, fits) -> set[tuple[int, int]]:
    """Pairs that were verified by themselves but that the whole does not confirm."""
    verified = {(k.a, k.b): k.count for k in links}
    return {
        (f.a, f.b) for f in fits
        if len(f.points_a) < max(LEAST_POINTS, LEAST_SHARE * verified[f.a, f.b])
    }


def _rms(errors: Array) -> float:
    return float(np.sqrt(np.mean(errors**2)))


def _result(count, cameras, rotations, members, fits, refused) -> PanoramaRegistration:
    place = {n: i for i, n in enumerate(members)}
    frames: list[Placed | Unplaced] = []
    for n in range(count):
        if n not in place:
            frames.append(Unplaced(_why_unplaced(n, refused)))
            continue
        own = [f.rms_px for f in fits if n in (f.a, f.b) for _ in f.points_a]
        rms = float(np.sqrt(np.mean(np.square(own)))) if own else 0.0
        frames.append(Placed(cameras.lens(place[n]), rotations[place[n]], rms))
    everything = [f.rms_px for f in fits for _ in f.points_a]
    return PanoramaRegistration(tuple(frames), tuple(fits), _rms(np.array(everything)) if fits else 0.0)


def _why_unplaced(n: int, refused: Sequence[NoLink]) -> str:
    """The reason of the pair that came nearest to holding, in words."""
    own = [r for r in refused if n in (r.a, r.b)]
    if not own:
        return "it holds only to frames that are themselves apart from the rest"
    contradicting = [r for r in own if "contradicts" in r.reason]
    if contradicting:
        return "what it shares with its neighbours contradicts the other frames"
    best = max(own, key=lambda r: _leading_number(r.reason))
    other = best.b if best.a == n else best.a
    return f"no overlap found; nearest is frame {other + 1}, where {best.reason}"


def _leading_number(reason: str) -> int:
    return max((int(w) for w in reason.split() if w.isdigit()), default=0)


def _nothing_joins(count: int, refused: Sequence[NoLink]) -> str:
    if count < 2:
        return "A panorama needs at least two frames."
    best = max(refused, key=lambda r: _leading_number(r.reason))
    return (
        f"No two of the {count} frames overlap enough to be joined; frames {best.a + 1} and "
        f"{best.b + 1} come nearest, but {best.reason}. Take frames with more overlap."
    )
