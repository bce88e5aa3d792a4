"""Do two frames show the same thing? Matching, and the test that can say no."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.by_look import ByLook, found_by_look, settled_by_look
from windfell.align.candidates import likely_pairs
from windfell.align.features import Features
from windfell.align.glance import Glance, glance_at, spare_pairs
from windfell.align.groups import group_numbers
from windfell.align.matching import matches, matches_near
from windfell.align.one_spot import LAND_ALIKE, TIGHT, confirmed, shared_px
from windfell.align.same_light import ASIDE, SameLight, likeness, same_light
from windfell.align.verify import LEAST_INLIERS, TOLERANCE, objection
from windfell.cache import Cache, key_of
from windfell.geometry import planar
from windfell.job import Job

Array = NDArray[np.float64]

NEAR = 1 / 50
EXPLANATIONS, WIDER = 4, 2.0
STAYS, NEARER, NEARLY = 1 / 170, 1 / 90, 0.8
AMID, ONE_SPOT, AS_A_WHOLE = 0.6, 0.2, 1.6


@dataclass(frozen=True)
class Link:
    """Frames `a` and `b` show the same thing at these points (n, 2), px at full size.

    `inlier` marks those the verified homography (3, 3) of `a` px to `b` px explains. `moved` (m, 2): points of `a`
    that another explanation puts elsewhere.
    """

    a: int
    b: int
    points_a: Array
    points_b: Array
    inlier: NDArray[np.bool_]
    homography: Array
    moved: Array | None = None

    @property
    def count(self) -> int:
        return int(self.inlier.sum())


@dataclass(frozen=True)
class NoLink:
    """Frames `a` and `b` have nothing in common that could be told from chance.

    `glanced`: just their strongest features were looked at. `perhaps`: what there is by one spot alone, with nothing
    to be seen around it that says yes or no.
    """

    a: int
    b: int
    reason: str
    glanced: bool = False
    perhaps: Link | None = None


KNOWN = Cache(64 * 2**20)


def link(a: int, b: int, fa: Features, fb: Features, glance: Glance | None = None) -> Link | NoLink:
    """The verified link of two frames, or why there is none; after a firm `glance` by what is near where it says.
    Found once for the same features, whatever the frames' numbers.
    """
    at = glance.homography.tobytes() if glance is not None and glance.firm else None
    found: Link | NoLink = KNOWN.get(key_of(fa.digest, fb.digest, at), lambda: _found(a, b, fa, fb, glance))
    if (found.a, found.b) == (a, b):
        return found
    perhaps = getattr(found, "perhaps", None)
    return replace(found, a=a, b=b, **({} if perhaps is None else {"perhaps": replace(perhaps, a=a, b=b)}))


def _found(a: int, b: int, fa: Features, fb: Features, glance: Glance | None) -> Link | NoLink:
    if fa.problem or fb.problem:
        return NoLink(a, b, fa.problem or fb.problem)
    if glance is not None and glance.firm:
        near = _link(a, b, fa, fb, matches_near(fa, fb, glance.homography, NEAR * max(fb.width, fb.height)))
        if isinstance(near, Link):
            return near
    return _link(a, b, fa, fb, matches(fa, fb))


def _link(a: int, b: int, fa: Features, fb: Features, pairs: NDArray[np.intp]) -> Link | NoLink:
    """As `link`, of these matches (n, 2)."""
    if len(pairs) < LEAST_INLIERS:
        return NoLink(a, b, f"only {len(pairs)} features look alike")
    pa, pb = fa.points[pairs[:, 0]], fb.points[pairs[:, 1]]
    found, why = explanations(pa, pb, fa, fb)
    if not found:
        return NoLink(a, b, why)
    claims = [Found(pa, pb, own, homography) for homography, own in found]
    seen = [x.light(fa, fb) for x in claims]
    land = cache(lambda n: claims[n].settled(fa, fb))
    stays = [False if s.denies else x.stays(fa, fb, lambda n=n: land(n))
             for n, (x, s) in enumerate(zip(claims, seen, strict=True))]
    more = [_matched_where(fa, fb, land(n)) for n, (s, firm) in enumerate(zip(seen, stays, strict=True))
            if s.concentrated or not firm]
    more = [x for x in more if x is not None and all(x.contradicts(y, fa, fb) for y in claims)]
    held = [x for x, firm in zip(claims, stays, strict=True) if firm] + more
    if not held:
        first = found[0][1]
        held = [x for x in [beside_these(fa, fb, pa[first], pb[first])] if x is not None]
    if not held:
        open_ = [x for x, firm in zip(claims, stays, strict=True) if firm is None]
        perhaps = Link(a, b, pa, pb, open_[0].inlier, open_[0].homography) if open_ else None
        return NoLink(a, b, "just one thing looks alike, and what lies around it differs: it may have moved",
                      perhaps=perhaps)
    best = held[0]
    if len(held) > 1:
        ranked = sorted(held, key=lambda x: (x.likeness(fa, fb), x.inlier.sum()), reverse=True)
        best = ranked[0]
        if any(best.nearly_matched_by(x, fa, fb) for x in ranked[1:]):
            return NoLink(a, b, f"{best.inlier.sum()} features and the light fit in two places nearly as well")
    # what another explains may lie on what moved
    others = [x.inlier for x in claims if best.contradicts(x, fa, fb)]
    if best.points_a is pa and others:
        fair = best.inlier | ~np.logical_or.reduce(others)
        best = Found(pa[fair], pb[fair], best.inlier[fair], best.homography)
    moved = pa[np.logical_or.reduce(others)] if others else None
    return Link(a, b, best.points_a, best.points_b, best.inlier, best.homography, moved)


@dataclass(frozen=True)
class Found:
    """Matches (n, 2), px of either frame, and those of them that a homography explains."""

    points_a: Array
    points_b: Array
    inlier: NDArray[np.bool_]
    homography: Array

    def light(self, fa: Features, fb: Features) -> SameLight:
        return same_light(fa, fb, self.homography, self.points_a[self.inlier])

    def settled(self, fa: Features, fb: Features) -> ByLook | None:
        """Where the land around it fits best: elsewhere, if it lies on what moved."""
        return settled_by_look(fa, fb, self.homography, self.points_a[self.inlier])

    def stays(self, fa: Features, fb: Features, settled: Callable[[], ByLook | None] | None = None) -> bool | None:
        """Whether more than its own spot speaks for it (`one_spot.py`); `settled` if that is known."""
        points = self.points_a[self.inlier]
        return confirmed(fa, fb, self.homography, points, settled or (lambda: self.settled(fa, fb)))

    def agrees(self, other: Found, fb: Features) -> bool:
        """Whether this puts what the other explains where the other does."""
        points = other.points_a[other.inlier]
        away = np.linalg.norm(planar.apply(self.homography, points) - other.points_b[other.inlier], axis=1)
        return bool(np.median(away) < STAYS * max(fb.width, fb.height))

    def contradicts(self, other: Found, fa: Features, fb: Features) -> bool:
        """Whether both put the same part of the frame in different places: one's points lie amid the other's, or on
        one spot that moved as a whole. Those that lie beside may be the same land through a lens that bends it.
        """
        if self.agrees(other, fb):
            return False
        hulls = [planar.hull(x.points_a[x.inlier]) for x in (self, other)]
        less, more = sorted(((cv2.contourArea(h), n) for n, h in enumerate(hulls)))
        spot, around = (self, other)[less[1]], (self, other)[more[1]]
        points = spot.points_a[spot.inlier]
        away = np.linalg.norm(planar.apply(around.homography, points) - spot.points_b[spot.inlier], axis=1)
        least, most = np.percentile(away, (10, 90))
        # what moved did so as a whole; a lens that bends puts things aside the more the farther out
        if less[0] < ONE_SPOT * shared_px(fa, fb, self.homography) and most < AS_A_WHOLE * least:
            return True
        return float(np.mean(planar.amid(hulls[more[1]], points))) > AMID

    def nearly_matched_by(self, other: Found, fa: Features, fb: Features) -> bool:
        """Whether another explanation, that puts things elsewhere, fits the light nearly as well."""
        return self.contradicts(other, fa, fb) and all(
            other.likeness(fa, fb, aside) > NEARLY * self.likeness(fa, fb, aside) for aside in (ASIDE, TIGHT))

    def likeness(self, fa: Features, fb: Features, aside: int = ASIDE) -> float:
        return 0.0 if fa.look is None or fb.look is None else likeness(
            fa, fb, self.homography, self.points_a[self.inlier], aside)


def beside_these(fa: Features, fb: Features, points_a: Array, points_b: Array) -> Found | None:
    """What features say where the light fits best, these of something that may have moved left out."""
    if fa.look is None or fb.look is None:
        return None
    return _matched_where(fa, fb, found_by_look(fa, fb, points_a, points_b))


def _matched_where(fa: Features, fb: Features, land: ByLook | None) -> Found | None:
    """What features say where the light of the land fits best, if it does."""
    return None if land is None or land.alike < LAND_ALIKE else _matched_near(fa, fb, land.homography)


def _matched_near(fa: Features, fb: Features, homography: Array) -> Found | None:
    """Features that agree near where a homography says, if they do so there."""
    pairs = matches_near(fa, fb, homography, NEARER * max(fb.width, fb.height))
    if len(pairs) < LEAST_INLIERS:
        return None
    pa, pb = fa.points[pairs[:, 0]], fb.points[pairs[:, 1]]
    for own_homography, own in explanations(pa, pb, fa, fb)[0]:
        away = planar.apply(own_homography, pa[own]) - planar.apply(homography, pa[own])
        found = Found(pa, pb, own, own_homography)
        near = np.median(np.linalg.norm(away, axis=1)) < STAYS * max(fb.width, fb.height)
        if near and not found.light(fa, fb).denies and found.stays(fa, fb):
            return found
    return None


def explanations(
    pa: Array, pb: Array, fa: Features, fb: Features, most: int = EXPLANATIONS
) -> tuple[list[tuple[Array, NDArray[np.bool_]]], str]:
    """Homographies (3, 3) that can be told from chance, and the matches (n,) that each explains, the most first; and
    why there is none. At most so many are sought. A thing that moved explains its own features, the land behind it
    what is left.
    """
    tolerance = TOLERANCE * max(fb.width, fb.height)
    left, found, why = np.ones(len(pa), bool), [], "the features that look alike lie in no common geometry"
    while len(found) < most and left.sum() >= LEAST_INLIERS:
        homography, mask = cv2.findHomography(
            pa[left], pb[left], cv2.USAC_MAGSAC, tolerance, maxIters=4000, confidence=0.9999)
        if homography is None:
            break
        error = np.linalg.norm(planar.apply(homography, pa) - pb, axis=1)
        own = np.zeros(len(pa), bool)
        own[left] = mask.ravel() > 0
        own &= error < tolerance
        reason = objection(homography, pa[left], pb[left], own[left], tolerance, fa, fb)
        if reason:
            why = why if found else reason
            break
        found.append((homography, own))
        # what lies near the thing is its too, if less surely
        left &= error > WIDER * tolerance
    return found, why


def find_links(
    features: Sequence[Features], job: Job, only: Sequence[tuple[int, int]] | None = None, sparing: bool = False,
    looks: dict[tuple[int, int], Glance] | None = None,
) -> tuple[list[Link], list[NoLink]]:
    """All verified links (among the pairs `only` lists, if it does), and for the other pairs why not.

    Strongest features are looked at first, of the largest sets only at pairs that look alike. Pairs that they hold
    firmly are matched near where they say; in full those that they leave open, and those of frames that hold to no
    others. `sparing`: without pairs that show nothing new beside firmer ones. Where `only` says which pairs, all in
    full. `looks`: what the pairs to be looked at say at a glance, where that is known.
    """
    if only is not None:
        looks = {tuple(p): None for p in only}
    elif looks is None:
        pairs = likely_pairs(features)
        seen = job.map(lambda p: glance_at(features[p[0]], features[p[1]]), pairs, "looking for overlap")
        looks = dict(zip(pairs, seen, strict=True))
    refused = [NoLink(*p, f"only {g.count} strong features agree", glanced=True)
               for p, g in looks.items() if g is not None and not g.open]
    passed = {(r.a, r.b) for r in refused}
    if sparing and only is None:
        passed |= spare_pairs(features, looks)
    pairs = [p for p in looks if p not in passed]
    found = _linked(features, pairs, looks, job)
    held = largest_connected(len(features), [f for f in found if isinstance(f, Link)])
    alone = [(r.a, r.b) for r in refused if r.a not in held or r.b not in held]
    found += _linked(features, alone, looks, job)
    links = [f for f in found if isinstance(f, Link)]
    refused = [r for r in refused if (r.a, r.b) not in set(alone)]
    return links, refused + [f for f in found if isinstance(f, NoLink)]


def _linked(features, pairs, looks, job: Job) -> list[Link | NoLink]:
    return job.map(lambda p: link(*p, features[p[0]], features[p[1]], looks[p]), pairs, "matching frames")


def largest_connected(count: int, links: Sequence[Link]) -> list[int]:
    """Frames of the largest group that links hold together, by number then by points; none if it is one frame."""
    group = group_numbers(count, ((k.a, k.b) for k in links))
    points = {g: sum(k.count for k in links if group[k.a] == g) for g in set(group)}
    best = max(set(group), key=lambda g: (group.count(g), points[g]))
    members = [n for n in range(count) if group[n] == best]
    return members if len(members) > 1 else []
