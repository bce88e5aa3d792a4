"""What Align and Join have measured of a set, in the terms of Readiness: it replaces what the quick look guessed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.fisheye import may_be_fisheye
from windfell.align.parallax import Depth, Parallax
from windfell.align.registration import PairFit, PanoramaRegistration, Placed
from windfell.develop.white_balance import AS_SHOT_K, balance_matrix, mired
from windfell.engine.survey import share_seen
from windfell.geometry import planar
from windfell.join.light import FrameLight
from windfell.readiness.survey import Coverage, LightDrift, PairLook, Survey

Array = NDArray[np.float64]
MOST_PCT = 95


def with_measured(
    survey: Survey, ids: Sequence[str], found: PanoramaRegistration, coverage: Coverage, depth: Depth,
    lights: Sequence[FrameLight] | None = None,
) -> Survey:
    """The survey with overlap, parallax and, given the placed frames' `lights` as Join fits them, drifts as measured.

    `ids` are those of the registration's frames, in order.
    """
    place = {i: n for n, i in enumerate(ids)}
    own = [place.get(f.id) for f in survey.frames]
    if any(n is None for n in own):
        return survey
    back = {n: at for at, n in enumerate(own)}
    rated = {(r.a, r.b): r for r in depth.links}
    guessed = {frozenset((own[p.a], own[p.b])): p for p in survey.pairs}
    pairs = [_measured_pair(k, found, back, rated.get((k.a, k.b)), guessed.get(frozenset((k.a, k.b))))
             for k in found.links if k.a in back and k.b in back]
    linked = {frozenset((k.a, k.b)) for k in found.links}
    for both, p in guessed.items():
        if both not in linked and all(isinstance(found.frames[n], Placed) for n in both):
            # seen to meet at first sight, and held by others since: what it guessed of depth was not found
            pairs.append(replace(p, overlap=_overlap(found, own[p.a], own[p.b]), parallax_px=0.0))
    drifts = survey.drifts if lights is None else _drifts(found, lights, own)
    in_order = replace(coverage, **{
        "added": tuple(coverage.added[n] for n in own), "alone": tuple(coverage.alone[n] for n in own),
        "redundant": tuple(sorted(back[n] for n in coverage.redundant if n in back)),
        "thin": tuple((back[a], back[b], share) for a, b, share in coverage.thin if a in back and b in back)})
    angle = survey.fisheye_deg if may_be_fisheye(found) else None
    return replace(survey, pairs=tuple(pairs), coverage=in_order, drifts=drifts, measured=True, fisheye_deg=angle)


def _measured_pair(
    k: PairFit, found: PanoramaRegistration, back: dict[int, int], rated: Parallax | None, guess: PairLook | None
) -> PairLook:
    a, b = found.frames[k.a].lens, found.frames[k.b].lens
    parallax = 0.0 if rated is None else sideways_px(rated)
    overlap = _overlap(found, k.a, k.b)
    if guess is not None:
        return replace(guess, overlap=overlap, parallax_px=parallax)
    homography, _ = cv2.findHomography(k.points_a, k.points_b)
    homography = np.eye(3) if homography is None else homography
    middle = np.array([[a.width / 2, a.height / 2]])
    shift = float(np.linalg.norm(planar.apply(homography, middle) - middle))
    onto = planar.of_fractions(homography, (a.width, a.height), (b.width, b.height))
    return PairLook(back[k.a], back[k.b], overlap, onto, shift, parallax)


def _overlap(found: PanoramaRegistration, a: int, b: int) -> float:
    return max(share_seen(found.frames[a], found.frames[b]), share_seen(found.frames[b], found.frames[a]))


def sideways_px(rated: Parallax) -> float:
    """How far near things of a link shift against far ones, px: the range of what neighbouring points err alike,
    along the way on which they do most; 0 where that is no more than noise.
    """
    shared = rated.shared[np.any(rated.shared != 0, axis=1)]
    if rated.rating_px <= 0 or len(shared) < 2:
        return 0.0
    _, ways = np.linalg.eigh(shared.T @ shared)
    along = shared @ ways[:, -1]
    return float(np.percentile(along, MOST_PCT) - np.percentile(along, 100 - MOST_PCT))


def _drifts(
    found: PanoramaRegistration, lights: Sequence[FrameLight], own: Sequence[int]
) -> tuple[LightDrift | None, ...]:
    """How each placed frame's light is off the middle one's, by the gains that even it out."""
    gains = np.log2([light.gain for light in lights])
    ev = -gains.mean(axis=1)
    warm = -(gains[:, 0] - gains[:, 2]) / _warmth_of_a_mired()
    of = {n: LightDrift(float(e - np.median(ev)), float(w - np.median(warm)))
          for n, e, w in zip(found.placed, ev, warm, strict=True)}
    return tuple(of.get(n) for n in own)


def _warmth_of_a_mired() -> float:
    """By how much a mired changes log2 of red over blue of a grey."""
    at = mired(AS_SHOT_K)
    red, _, blue = np.log2([balance_matrix(1e6 / (at + d), 0.0) @ np.ones(3) for d in (-5.0, 5.0)]).T
    return float(abs((red[1] - red[0]) - (blue[1] - blue[0])) / 10)
