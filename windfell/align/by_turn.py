"""A frame that features leave without a place, turned until its light is that of one beside it.

Out of focus, in mist, of smooth things, frames share hardly a feature, or just those of a thing that moved. But a
camera that turned leaves just three angles open (`turned.py`). The light up close has to confirm them, spot by spot.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from itertools import combinations, pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations, errors_px
from windfell.align.by_light import looked_for_beside
from windfell.align.cameras import Cameras, carried, rays_of
from windfell.align.features import Features
from windfell.align.focal import GUESSES
from windfell.align.matching import matches
from windfell.align.solve import Ground, LensHint, fitted_to_noise, simplest
from windfell.align.turned import ByTurn, turned_by_light
from windfell.align.verify import TOLERANCE
from windfell.align.view import View, farther_views
from windfell.geometry import planar
from windfell.geometry.rotation import aligning_rotation
from windfell.job import Job

Array = NDArray[np.float64]

THING = 8
# frames in no order may lie beside any other: so many pairs are compared at most
MOST_PAIRS = 40
# how well what guessed focal lengths hold must fit; from which change of one on a turn is sought anew
FITS, OTHER_LENS = 1 / 700, 0.01
# of spots that are looked for the share that must be found, of these that which must lie in one geometry; how near to
# it, and it to a turn's, in shares of the longest side; over how much of what is shared
LEAST_FOUND, FOUND, SHARE, AGREE, LIKE_TURN, LEAST_SPREAD = 16, 0.2, 0.5, 1 / 400, 1 / 150, 0.25
ROUNDS, FAR = 6, np.radians(0.4)


def placed_by_light(
    ground: Ground, features: Sequence[Features], hints: Sequence[LensHint], focal_px: float | None,
    view: Callable[[int], View], job: Job,
) -> Ground:
    """The ground with frames placed that features leave alone, where the light of another says so: of a neighbour in
    the given order, then, if few are left, of any. By focal lengths on record or found by frames that hold together;
    where none is known and no frames hold together, a few are tried, and that stands by which most frames do.
    """
    fair = [n for n, f in enumerate(features) if not f.problem and f.look is not None]

    def placed_by(ground: Ground, pairs: Iterable[tuple[int, int]], most: int) -> Ground:
        open_ = [p for p in pairs if not set(p) <= set(ground.members)]
        if len(open_) > most:
            return ground
        known = [p for p in open_ if _known(ground, p, hints, focal_px)]
        if known or ground.members:
            return _grown(ground, known, features, view, job)
        guesses = (replace(ground, cameras=ground.cameras.with_focal(g * ground.cameras.focal_px)) for g in GUESSES)
        found = [_grown(g, open_, features, view, job) for g in guesses]
        fitting = [g for g in found if g.members and _off(g) < FITS]
        return max([ground, *fitting], key=lambda g: (len(g.members), -_off(g)))

    return placed_by(placed_by(ground, pairwise(fair), len(fair)), combinations(fair, 2), MOST_PAIRS)


def _grown(
    ground: Ground, pairs: Sequence[tuple[int, int]], features: Sequence[Features], view: Callable[[int], View],
    job: Job,
) -> Ground:
    """The ground with what the light of these pairs adds to it, the most alike first."""
    first = ground.cameras
    found = job.map(lambda p: _turned(first, p, features), pairs, "comparing light")
    left = sorted(((p, t) for p, t in zip(pairs, found, strict=True) if t is not None), key=lambda x: -x[1].alike)
    while True:
        near = (n for n, (p, _) in enumerate(left) if not ground.members or set(p) & set(ground.members))
        at = next(near, None)
        if at is None:
            return ground
        pair, turn = left.pop(at)
        if _apart(ground.cameras, first) > OTHER_LENS:
            turn = _turned(ground.cameras, pair, features)
        ground = (turn and _placed(ground, pair, turn, features, view, job)) or ground


def _off(ground: Ground) -> float:
    """How far half of the points lie from where the cameras see them, as a share of the longest side."""
    off = errors_px(ground.cameras, ground.held)
    return float(np.median(np.concatenate([*off, np.zeros(1)])) / ground.cameras.sizes.max())


def _apart(cameras: Cameras, first: Cameras) -> float:
    """By how much focal lengths have changed at most, as a share."""
    return float(np.abs(cameras.lenses[:, 0] - first.lenses[:, 0]).max())


def _known(ground: Ground, pair: tuple[int, int], hints: Sequence[LensHint], focal_px: float | None) -> bool:
    """Whether the focal lengths of both frames are: recorded, set, or found by frames of the same lens."""
    found = {ground.cameras.group[n] for n in ground.members} if len(ground.members) > 1 else set()
    return focal_px is not None or all(hints[n].focal_px or ground.cameras.group[n] in found for n in pair)


def _turned(cameras: Cameras, pair: tuple[int, int], features: Sequence[Features]) -> ByTurn | None:
    (a, b), (lens_a, lens_b) = (features[n] for n in pair), (cameras.lens(n) for n in pair)
    return turned_by_light(a, b, lens_a.focal_px, lens_b.focal_px, *_thing(a, b))


def _thing(a: Features, b: Features) -> tuple[Array, Array]:
    """Points (n, 2) of either frame on what most features that look alike lie on, if that is anything."""
    pairs = matches(a, b)
    pa, pb = a.points[pairs[:, 0]], b.points[pairs[:, 1]]
    if len(pairs) >= THING:
        _, mask = cv2.findHomography(pa, pb, cv2.RANSAC, TOLERANCE * max(b.width, b.height))
        own = np.zeros(len(pa), bool) if mask is None else mask.ravel() > 0
        if own.sum() >= THING:
            return pa[own], pb[own]
    return np.zeros((0, 2)), np.zeros((0, 2))


def _placed(
    ground: Ground, pair: tuple[int, int], found: ByTurn, features: Sequence[Features],
    view: Callable[[int], View], job: Job,
) -> Ground | None:
    """The ground with both frames of a pair linked, or None if the light up close does not confirm their turn."""
    a, b = pair
    cameras, first, new = ground.cameras, not ground.members, a if b in ground.members else b
    rotations = cameras.rotations.copy()
    if a not in ground.members or b not in ground.members:
        # rays of `a` turned to `b`; both lie in the world by their rotations
        rotations[new] = rotations[b] @ found.rotation if new == a else rotations[a] @ found.rotation.T
    cameras = cameras.turned(rotations)
    own = _confirmed(cameras, pair, found.moved, features, view, job)
    if own is None:
        return None
    held = (*ground.held, own)
    if new not in ground.members:
        cameras = turned_to_points(cameras, new, [own])
    if first:
        cameras = simplest(cameras, held, ground.scale_px, job)
    cameras, scale = fitted_to_noise(cameras, held, job, scale=None if first else ground.scale_px)
    refused = tuple(r for r in ground.refused if (r.a, r.b) != pair)
    members = tuple(sorted({*ground.members, *pair}))
    return replace(ground, cameras=cameras, members=members, held=held, scale_px=scale, refused=refused)


def _confirmed(
    cameras: Cameras, pair: tuple[int, int], moved: Array, features: Sequence[Features], view: Callable[[int], View],
    job: Job,
) -> Observations | None:
    """Points that the light finds in both frames of a pair, where a turn near the cameras' says: many, all over what
    they share, and of one geometry.
    """
    tried, found = looked_for_beside(
        cameras, pair, features, moved, lambda n: [view(n), *farther_views(view(n))][-1], job)
    if len(found.points_a) < max(LEAST_FOUND, FOUND * len(tried.points_a)):
        return None
    longest = cameras.sizes[list(pair)].max()
    homography, mask = cv2.findHomography(found.points_a, found.points_b, cv2.USAC_MAGSAC, AGREE * longest)
    own = found.chosen(np.zeros(0, int) if homography is None else mask.ravel() > 0)
    if len(own.points_a) < max(LEAST_FOUND, SHARE * len(found.points_a)):
        return None
    # what a lens does that is not known yet may set it aside from a turn, but not far
    turned = turned_to_points(cameras, pair[1], [own])
    there = carried(turned, *(np.full(len(own.points_a), n) for n in pair), own.points_a)
    far = np.median(np.linalg.norm(there - own.points_b, axis=1)) > LIKE_TURN * longest
    narrow = planar.spread(own.points_a) < LEAST_SPREAD * planar.spread(tried.points_a)
    return None if far or narrow else own


def turned_to_points(cameras: Cameras, n: int, some: Sequence[Observations]) -> Cameras:
    """The cameras with frame `n` turned to where its points, shared with others, lie; robustly."""
    own, world = [], []
    for o in some:
        ends = {o.a: o.points_a, o.b: o.points_b}
        other = o.a if n == o.b else o.b
        seen, known = (rays_of(cameras, np.full(len(o.points_a), k), ends[k]) for k in (n, other))
        own.append(seen)
        world.append(known @ cameras.rotations[other].T)
    own, world = np.concatenate(own), np.concatenate(world)
    rotations, weight = cameras.rotations.copy(), np.ones(len(own))
    for _ in range(ROUNDS):
        rotations[n] = aligning_rotation(own, world, weight)
        off = np.linalg.norm(own @ rotations[n].T - world, axis=1)
        weight = 1 / (1 + (off / FAR) ** 2) ** 2
    return cameras.turned(rotations)
