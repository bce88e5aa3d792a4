"""Registration of a panorama: from features to cameras that agree, and why a frame is left out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.features import Features
from windfell.align.level import from_first
from windfell.align.pairs import Link, NoLink, find_links
from windfell.align.refine import View
from windfell.align.registration import PanoramaRegistration, Placed, Unplaced
from windfell.align.solve import LEAST_POINTS, LEAST_SHARE, LensHint, Solved, finished, solved, starting_cameras
from windfell.errors import CannotJoin
from windfell.job import Job

Array = NDArray[np.float64]


def register_panorama(
    features: Sequence[Features],
    hints: Sequence[LensHint],
    job: Job,
    focal_px: float | None = None,
    view: Callable[[int], View] | None = None,
    slid: bool = False,
) -> PanoramaRegistration:
    """Cameras for the largest set of frames that hold together; `focal_px` fixes all lenses.

    `view(n)` gives frame n's light, on which points are refined; without it the features' places stand.
    `slid`: the camera moved along a flat subject. Rotations are in the axes of the first placed frame;
    `oriented` levels them. Raises CannotJoin if fewer than two frames do.
    """
    links, refused = find_links(features, job)
    dropped: list[NoLink] = []
    while True:
        members = largest_connected(len(features), links)
        if len(members) < 2:
            raise CannotJoin(_nothing_joins(len(features), refused + dropped))
        inner = [k for k in links if k.a in members and k.b in members]
        cameras, held = solved(features, hints, inner, members, focal_px, job, slid)
        bad = _contradicting(inner, held)
        if not bad:
            break
        links = [k for k in links if (k.a, k.b) not in bad]
        dropped += [NoLink(a, b, "the pair contradicts the other frames") for a, b in bad]
    own_view = None if view is None else lambda n: view(members[n])
    found = _result(
        len(features), finished(cameras, held, inner, members, job, own_view), members, refused + dropped)
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
    observed = [Observations(place[k.a], place[k.b], k.points_a[k.inlier], k.points_b[k.inlier])
                for k in links if k.a in place and k.b in place]
    cameras = starting_cameras(features, hints, members, observed, None)
    sketch = Solved(cameras, (), np.zeros(len(members)), np.zeros((len(cameras.lenses), 6)))
    return _result(len(features), sketch, members, list(refused))


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


def _contradicting(links: Sequence[Link], held: Sequence[Observations]) -> set[tuple[int, int]]:
    """Pairs that were verified by themselves but that the whole does not confirm, or only loosely."""
    return {(k.a, k.b) for k, o in zip(links, held, strict=True)
            if len(o.points_a) < max(LEAST_POINTS, LEAST_SHARE * k.count)}


def _result(count: int, solved_: Solved, members: list[int], refused: Sequence[NoLink]) -> PanoramaRegistration:
    place = {n: i for i, n in enumerate(members)}
    cameras, fits = solved_.cameras, solved_.fits
    flat = cameras.places is not None
    rotations = list(cameras.rotations) if flat else from_first(list(cameras.rotations))
    frames: list[Placed | Unplaced] = []
    for n in range(count):
        if n not in place:
            frames.append(Unplaced(_why_unplaced(n, refused)))
            continue
        at = place[n]
        rms = _rms([f for f in fits if n in (f.a, f.b)])
        errors = tuple(float(v) for v in solved_.lens_errors[cameras.group[at]])
        frames.append(Placed(cameras.lens(at), rotations[at], rms, float(solved_.turn_errors[at]),
                             cameras.places[at] if flat else None, errors))
    return PanoramaRegistration(tuple(frames), tuple(fits), _rms(fits))


def _rms(fits) -> float:
    """Over all points of the links, px."""
    points = sum(len(f.points_a) for f in fits)
    total = sum(f.rms_px**2 * len(f.points_a) for f in fits if len(f.points_a))
    return float(np.sqrt(total / points)) if points else 0.0


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
