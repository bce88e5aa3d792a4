"""A frame that features leave without a place, turned until its light is that of its neighbour in the row.

Out of focus, in mist, of smooth things, frames share hardly a feature, or just those of a thing that moved. But a
camera that turned leaves three angles open. The best of all shifts of small looks, laid on a cylinder, says roughly
which (masked normalised correlation, Padfield 2012); Gauss-Newton steps on the correlation coefficient (Evangelidis &
Psarakis 2008), over these angles alone, settle them. The light up close has to confirm it, spot by spot.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations, errors_px
from windfell.align.by_light import looked_for_beside
from windfell.align.by_look import COARSE as WIDE
from windfell.align.by_look import FINE, best_shift
from windfell.align.cameras import Cameras, carried, rays_of
from windfell.align.features import Features
from windfell.align.matching import matches
from windfell.align.same_light import around, likeness_of_all, texture, to_look
from windfell.align.solve import Ground, LensHint, fitted_to_noise, simplest
from windfell.align.verify import TOLERANCE
from windfell.align.view import View, farther_views
from windfell.geometry import planar
from windfell.geometry.rotation import aligning_rotation, from_rotvec
from windfell.job import Job

Array = NDArray[np.float64]
F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]

# px of the looks between which the light's texture lies: at first, and at last
ROUGHLY, FINELY = (3.0, 20.0), (FINE, WIDE)
LEAST_SHARED, LEAST_ALIKE = 0.1, 0.75
STEPS, NUDGE, MOST_STEP, STILL, GAINED = 15, 0.25, 4.0, 0.02, 1e-5
DAMPED = 1e-3
THING = 8
# focal lengths that are tried, of the usual one, where none is known, and how well what they hold must fit
GUESSES, FITS, OTHER_LENS = (1.0, 0.7, 1.4), 1 / 700, 0.01
# of spots that are looked for the share that must be found, of these that which must lie in one geometry; how near to
# it, and it to a turn's, in shares of the longest side; over how much of what is shared
LEAST_FOUND, FOUND, SHARE, AGREE, LIKE_TURN, LEAST_SPREAD = 16, 0.2, 0.5, 1 / 400, 1 / 150, 0.25
ROUNDS, FAR = 6, np.radians(0.4)


@dataclass(frozen=True)
class ByTurn:
    """The rotation (3, 3) of rays of `a` to those of `b` under which their light is most alike, and how alike it is,
    -1..1; `moved` (n, 2): points of `a` on a thing that is not where that says.
    """

    rotation: Array
    alike: float
    moved: Array


def with_neighbours(
    ground: Ground, features: Sequence[Features], hints: Sequence[LensHint], focal_px: float | None,
    view: Callable[[int], View], job: Job,
) -> Ground:
    """The ground with frames placed that features leave alone, where the light of a neighbour in the given order says
    so: by focal lengths on record or found by frames that hold together. Where none is known and no frames hold
    together, a few are tried, and that stands by which most frames do.
    """
    fair = [n for n, f in enumerate(features) if not f.problem and f.look is not None]
    open_ = [p for p in pairwise(fair) if not set(p) <= set(ground.members)]
    known = [p for p in open_ if _known(ground, p, hints, focal_px)]
    if known or ground.members:
        return _grown(ground, known, features, view, job)
    guesses = (replace(ground, cameras=ground.cameras.with_focal(g * ground.cameras.focal_px)) for g in GUESSES)
    found = [_grown(g, open_, features, view, job) for g in guesses]
    fitting = [g for g in found if g.members and _off(g) < FITS]
    return max([ground, *fitting], key=lambda g: (len(g.members), -_off(g)))


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
    return turned_by_light(a, b, lens_a.focal_px, lens_b.focal_px)


def turned_by_light(a: Features, b: Features, focal_a: float, focal_b: float) -> ByTurn | None:
    """The turn under which the light of both frames, focal lengths in px, is most alike; None where it is not."""
    inner = [_inner(f, focal) for f, focal in ((a, focal_a), (b, focal_b))]
    moved, moved_too = _thing(a, b)
    fair = [np.ones(f.look.shape, bool) if not len(p) else ~around(p, f) for f, p in ((a, moved), (b, moved_too))]
    best = None
    for start in _starts(a, b, inner, fair):
        turn = start
        for fine, wide in (ROUGHLY, FINELY):
            turn = turn if turn is None else _settled(
                [texture(f.look, fine, wide, m) for f, m in zip((a, b), fair, strict=True)], inner, turn, fair)
        if turn is None:
            continue
        homography = np.linalg.inv(to_look(b)) @ inner[1] @ turn @ np.linalg.inv(inner[0]) @ to_look(a)
        alike = likeness_of_all(a, b, homography, moved)
        if alike > LEAST_ALIKE and (best is None or alike > best.alike):
            best = ByTurn(turn, alike, moved)
    return best


def _inner(f: Features, focal_px: float) -> Array:
    """(3, 3): rays of a frame to px of its look."""
    return to_look(f) @ np.array([[focal_px, 0, (f.width - 1) / 2], [0, focal_px, (f.height - 1) / 2], [0, 0, 1.0]])


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


def _starts(a: Features, b: Features, inner: Sequence[Array], fair: Sequence[Mask]) -> Iterator[Array]:
    """Rotations (3, 3) of rays of `a` to those of `b` at which fine or soft light is most alike on a cylinder."""
    focal = inner[0][0, 0]
    seen = [_on_cylinder(m.astype(np.float32), k, focal) > 0.99 for m, k in zip(fair, inner, strict=True)]
    for fine, wide in (ROUGHLY, FINELY):
        own = [_on_cylinder(texture(f.look, fine, wide, m), k, focal)
               for f, k, m in zip((a, b), inner, fair, strict=True)]
        shift = best_shift(*own, LEAST_SHARED, tuple(seen))
        if shift is not None:
            yield from_rotvec(np.array([-shift[1] / focal, 0, 0])) @ from_rotvec(np.array([0, shift[0] / focal, 0]))


def _on_cylinder(picture: F32, inner: Array, focal_px: float) -> F32:
    """A look's picture on an upright cylinder around its camera, of so many px a radian, its middle in the middle."""
    high, wide = picture.shape
    x, y = np.meshgrid((np.arange(wide) - (wide - 1) / 2) / focal_px, (np.arange(high) - (high - 1) / 2) / focal_px)
    x = np.clip(x, -1.4, 1.4)
    at = planar.apply(inner, np.stack([np.tan(x), y / np.cos(x)], axis=-1)).astype(np.float32)
    return cv2.remap(picture, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)


def _settled(textures: Sequence[F32], inner: Sequence[Array], turn: Array, fair: Sequence[Mask]) -> Array | None:
    """The turn near another under which textures of two looks correlate best; None where they share too little."""
    size, back = textures[0].shape[::-1], np.linalg.inv(inner[0])
    masks = [m.astype(np.float32) for m in fair]
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP

    def seen(picture: F32, by: Array) -> F32:
        return cv2.warpPerspective(picture, inner[1] @ by @ back, size, flags=flags)

    best, unit = -1.0, inner[0][0, 0]
    for _ in range(STEPS):
        both = masks[0] * (seen(masks[1], turn) > 0.99)
        if both.mean() < LEAST_SHARED / 2:
            return None
        one, other = (_unit(x, both) for x in (textures[0], seen(textures[1], turn)))
        like = float(np.sum(one * other))
        if like < best + GAINED:
            break
        best = like
        slopes = np.stack([
            (_unit(seen(textures[1], from_rotvec(NUDGE / unit * axis) @ turn), both) - other).ravel()
            for axis in np.eye(3)], axis=1) * (unit / NUDGE)
        normal = slopes.T @ slopes
        step = np.linalg.solve(normal + DAMPED * np.trace(normal) / 3 * np.eye(3), slopes.T @ (one - other).ravel())
        far = unit * float(np.linalg.norm(step))
        turn = from_rotvec(step * min(1.0, MOST_STEP / max(far, 1e-9))) @ turn
        if far < STILL:
            break
    return turn


def _unit(picture: F32, where: F32) -> F32:
    """A picture's changes where the mask (h, w) is 1, of unit length together."""
    off = (picture - np.sum(picture * where) / np.sum(where)) * where
    return off / np.sqrt(np.sum(off * off) + np.float32(1e-6))


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
