"""One light from exposures of different length: noise-aware weights, what moved taken from one of them.

Each frame's light over its exposure is an estimate of the same radiance; its variance is that of photons and of the
sensor, so the weights are those of least variance (Hasinoff, Durand & Freeman 2010). Burnt-out values say nothing.
Where a frame contradicts what most say that are well exposed there, something moved: it is not heard (after Eden,
Uyttendaele & Szeliski 2006).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.encoding import LEAST, SLOPE
from windfell.pixels.channels import below, burnt_share, mean_of, most_of

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

WHITE, WHITE_FROM = 0.97, 0.86
PHOTON, SENSOR = np.float32(4e-5), np.float32(1.2e-6)
CODE_STEP = {8: 1 / 255, 16: 1 / 65535}
CONTRADICTS = np.float32(4.0)
RELATIVE = np.float32(0.10)
CELL, CALM_CELLS = 4, 1.0
NEIGHBOURS = np.ones((3, 3), np.uint8)
WHOLLY = np.float32(0.999)
LEAST_FULL, BURNT_TRUST = np.float32(1e-4), np.float32(1e-6)
DARKEST = 0.004
LEAST_SHARED, MOST_SHARED = 200, 60_000
EV_TRUSTED, BAND_EV = 0.35, 0.15
EDGE_SIGMA = 7.0


def fullness(light: F32) -> F32:
    """How far a spot is from burnt out, (h, w): 1 well below white, 0 at it."""
    burnt = burnt_share(light, WHITE_FROM, WHITE)
    return np.ones(light.shape[:2], np.float32) if burnt is None else 1 - burnt


def variance(light: F32, step: float) -> F32:
    """The variance of a frame's light (h, w, 3): photons, the sensor, and the steps of its encoding (`step`: one of
    the encoded values, whose size in light grows with it).
    """
    steps = step * step / 12
    least = float(SENSOR + LEAST * steps)
    found = cv2.addWeighted(light, float(PHOTON + SLOPE * steps), light, 0.0, least)
    return np.maximum(found, np.float32(least), out=found)


def merged(
    planes: Sequence[F32], exposures: Sequence[float], steps: Sequence[float], grow: float = 0.0, soften: float = 0.0
) -> F32:
    """Radiance (h, w, 3) in units of the light of a frame whose exposure is 1, beyond white where others saw it.

    `exposures`: how much light each frame took beside that one. `steps`: one step of each one's encoding. Where a
    frame is not heard is grown by so many px, and its edge softened. NaN: a frame shows nothing there.
    """
    seen = [_seen(p) for p in planes]
    planes = [p if s is None else np.where(s[..., None], p, np.float32(1)) for p, s in zip(planes, seen, strict=True)]
    full = [fullness(p) if s is None else fullness(p) * s for p, s in zip(planes, seen, strict=True)]
    sure = _sure(full, exposures, seen)
    # where all are burnt out the shortest that sees the spot says the most that is known: at least so bright
    _at_least(full, exposures, seen, LEAST_FULL)
    total, weights = np.zeros_like(planes[0]), np.zeros_like(planes[0])
    ears = _heard(planes, exposures, steps, full, seen, grow / CELL, soften / CELL)
    for plane, t, step, heard in zip(planes, exposures, steps, ears, strict=True):
        heard += np.float32(1e-9)
        # of radiance the variance is that of the light over t^2
        weight = cv2.divide(cv2.merge([heard] * 3), variance(plane, step), scale=float(t * t))
        cv2.accumulate(weight, weights)
        cv2.multiply(weight, plane, dst=weight, scale=1 / t)
        cv2.accumulate(weight, total)
    light = cv2.divide(total, weights, dst=total)
    return light if sure is None else _continued(light, sure)


def _sure(full: Sequence[F32], exposures: Sequence[float], seen: Sequence[NDArray[np.bool_] | None]) -> F32 | None:
    """How far a spot's light is known (h, w), 0..1, rather than a bound: beyond the shortest exposure's edge all that
    see it may be burnt out. None: everywhere.
    """
    there = seen[int(np.argmin(exposures))]
    return None if there is None else np.maximum(np.maximum.reduce(list(full)), there.astype(np.float32))


def _continued(light: F32, sure: F32) -> F32:
    """Light that is at least as bright as is known, and at an edge as bright as what is known beside it: else a thin
    dull line would run along the edges of frames that were held by hand. It fades away from there.
    """
    near = cv2.GaussianBlur(sure, (0, 0), EDGE_SIGMA, borderType=cv2.BORDER_REFLECT_101)
    beside = cv2.GaussianBlur(light * sure[..., None], (0, 0), EDGE_SIGMA, borderType=cv2.BORDER_REFLECT_101)
    beside /= np.maximum(near, np.float32(1e-6))[..., None]
    share = (1 - sure) * np.minimum(2 * near, 1)
    return light + share[..., None] * np.maximum(beside - light, 0)


def _seen(plane: F32) -> NDArray[np.bool_] | None:
    """Where a frame shows anything (h, w); None: everywhere."""
    # a sum is NaN if any value is, and much cheaper than to look at each
    return ~np.isnan(plane[..., 0]) if np.isnan(plane.sum()) else None


def _at_least(
    values: list[F32], exposures: Sequence[float], seen: Sequence[NDArray[np.bool_] | None], least: np.float32,
) -> None:
    """Lift the value of the shortest exposure that sees a spot, there, to the least."""
    left: NDArray[np.bool_] | np.bool_ = np.True_
    for n in np.argsort(exposures, kind="stable"):
        there = seen[n]
        np.maximum(values[n], least, out=values[n], where=left if there is None else left & there)
        if there is None:
            return
        left = left & ~there


def _heard(
    planes: Sequence[F32], exposures: Sequence[float], steps: Sequence[float], full: Sequence[F32],
    seen: Sequence[NDArray[np.bool_] | None], grow: float = 0.0, soften: float = 0.0,
) -> list[F32]:
    """How much each frame is heard at each spot (h, w): as far as it is not burnt out and does not contradict what
    most frames say that know the spot. Judged in cells of a few px: noise is less there, and things are larger; a
    cell beside one that contradicts may hold the thing's rim. `grow`, `soften`: in cells.
    """
    more = 2 * round(grow) + 1
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (more, more))
    h, w = planes[0].shape[:2]
    radiance, spread, trust = [], [], []
    for plane, t, step, f in zip(planes, exposures, steps, full, strict=True):
        small = _in_cells(plane)
        r, v = small * np.float32(1 / t), variance(small, step) * np.float32(1 / (t * t))
        radiance.append(r)
        spread.append(v)
        relative = mean_of(v) / np.maximum(mean_of(r), np.float32(1e-9)) ** 2
        # a cell of which a quarter is burnt out or not seen says nothing
        least = cv2.erode(np.maximum(4 * _in_cells(f) - 3, 0), NEIGHBOURS)
        known = cv2.GaussianBlur(least / (relative + RELATIVE * RELATIVE), (0, 0), CALM_CELLS,
                                 borderType=cv2.BORDER_REFLECT_101)
        # trusted by whole neighbourhoods, so that one thing comes from one frame; but never where it is burnt out
        trust.append(np.where(least > 0, known, 0))
    whole = [None if s is None else _in_cells(s.astype(np.float32)) > WHOLLY for s in seen]
    _at_least(trust, exposures, whole, BURNT_TRUST)
    guide, guide_spread = _middle(radiance, spread, trust)
    floor = RELATIVE * np.abs(guide)
    out = []
    for r, v, f, there in zip(radiance, spread, full, whole, strict=True):
        allowed = CONTRADICTS * np.sqrt(v + guide_spread) + floor
        agrees = 2 - most_of(cv2.absdiff(r, guide) / allowed)
        if there is not None:
            agrees[~there] = 1  # what a frame does not show contradicts nothing beside it
        agrees = np.clip(cv2.erode(agrees, NEIGHBOURS), 0, 1)
        if more > 1:
            agrees = cv2.erode(agrees, kernel)
        if soften > 0:
            agrees = cv2.GaussianBlur(agrees, (0, 0), soften, borderType=cv2.BORDER_REFLECT_101)
        agrees = cv2.resize(agrees, None, fx=CELL, fy=CELL, interpolation=cv2.INTER_LINEAR)
        out.append(agrees[:h, :w] * f)
    return out


def _in_cells(picture: F32) -> F32:
    """The picture averaged in cells, its last ones filled up."""
    h, w = picture.shape[:2]
    below, beside = -h % CELL, -w % CELL
    if below or beside:
        picture = cv2.copyMakeBorder(picture, 0, below, 0, beside, cv2.BORDER_REPLICATE)
    return cv2.resize(picture, ((w + beside) // CELL, (h + below) // CELL), interpolation=cv2.INTER_AREA)


def _middle(radiance: Sequence[F32], spread: Sequence[F32], trust: Sequence[F32]) -> tuple[F32, F32]:
    """Of each spot the radiance and variance by the frame in the middle of all in brightness and colour (the medoid
    of absolute differences), each counting as far as it is trusted: what only few frames show, a person who walks by,
    is not believed, though it be as bright as the land.
    """
    count = len(radiance)
    away = [np.where(t > 0, np.float32(0), np.float32(np.inf)) for t in trust]
    for i in range(count):
        for j in range(i):
            apart = mean_of(cv2.absdiff(radiance[i], radiance[j]))
            away[i] += trust[j] * apart
            away[j] += trust[i] * apart
    guide, its = radiance[0].copy(), spread[0].copy()
    least = away[0]
    for other, r, v in zip(away[1:], radiance[1:], spread[1:], strict=True):
        nearer = (other < least).astype(np.uint8)
        for values, into in ((other, least), (r, guide), (v, its)):
            cv2.copyTo(values, nearer, into)
    return guide, its


def estimated_exposures(lights: Sequence[F32], known_s: Sequence[float | None], first: int) -> list[float]:
    """How much light each frame took beside frame `first`: by its metadata, refined by what the frames share.

    `lights`: small frames (h, w, 3) in place on each other. `known_s`: seconds times gain over aperture squared; None
    where the file does not say. Neighbours in brightness are compared, so that they share what is well exposed.
    """
    order = sorted(range(len(lights)), key=lambda n: (known_s[n] or 0, float(np.median(lights[n]))))
    if any(k is None for k in known_s):
        order = sorted(range(len(lights)), key=lambda n: float(lights[n].mean()))
    log2 = np.zeros(len(lights))
    for a, b in pairwise(order):
        told = None if known_s[a] is None or known_s[b] is None else float(np.log2(known_s[b] / known_s[a]))
        seen = _ratio_ev(lights[a], lights[b])
        step = told if seen is None else seen if told is None or abs(seen - told) < EV_TRUSTED else told
        log2[b] = log2[a] + (step or 0.0)
    return [float(2 ** (v - log2[first])) for v in log2]


def _ratio_ev(darker: F32, brighter: F32) -> float | None:
    """log2 of the light of the brighter over the darker as most say that are well exposed in both; None if too little
    is. Where the brighter is burnt out but for what moved, most of what is left says anything.
    """
    a, b = mean_of(darker).ravel(), mean_of(brighter).ravel()
    unburnt = below(darker, WHITE_FROM) & below(brighter, WHITE_FROM)
    good = (a > DARKEST) & (b > DARKEST) & unburnt.ravel()
    if good.sum() < LEAST_SHARED:
        return None
    step = max(1, int(good.sum()) // MOST_SHARED)
    found = np.sort(np.log2(b[good][::step] / a[good][::step]))
    # the narrow band that holds most of them
    upto = np.searchsorted(found, found + BAND_EV)
    first = int(np.argmax(upto - np.arange(len(found))))
    return float(np.median(found[first : upto[first]]))
