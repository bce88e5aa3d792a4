"""Match: exposure, white balance and tone of every frame brought to the reference's.

What two frames show of the same things tells how their light differs; all frames are
solved together, so that an error does not walk along a row. Robust to things that moved.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.develop.tone import contrast_factor
from windfell.develop.white_balance import AS_SHOT_K, balance_matrix, mired
from windfell.job import Job
from windfell.pixels.channels import below
from windfell.pixels.colour import LUMINANCE
from windfell.recipe.model import Development

Array = NDArray[np.float64]

DARKEST, BRIGHTEST = 0.008, 0.85
LEAST_SAMPLES = 60
MOST_SAMPLES = 1500
ROUNDS = 12
STEPS = np.array([0.01, 2.0, 1.0, 2.0])
BELIEF = np.array([3.0, 300.0, 60.0, 40.0])
LIMITS = np.array([1.0, 80.0, 40.0, 25.0])
HELD = 1e-3
SETTLED = np.array([0.001, 0.1, 0.1, 0.1])
PLAIN_TONE_PCT = 4.0
FINE_SCALE = 0.05


@dataclass(frozen=True)
class Shared:
    """Working-space light (n, 3) of frames `a` and `b` at the same things, as shot."""

    a: int
    b: int
    light_a: Array
    light_b: Array


@dataclass(frozen=True)
class Drift:
    """How far a frame was off the reference: in EV, mired, tint and percent of contrast."""

    ev: float
    mired: float
    tint: float
    contrast_pct: float


@dataclass(frozen=True)
class Matched:
    """The developments that bring frames to the reference, their drifts, and the frames that
    share nothing with it (left as they were).
    """

    developments: tuple[Development, ...]
    drifts: tuple[Drift | None, ...]


def shared_light(
    a: int, b: int, light_a: NDArray, light_b: NDArray, both: NDArray[np.bool_], rng: np.random.Generator
) -> Shared | None:
    """Samples where both frames hold and neither is nearly black nor burnt out; None if too few."""
    fair = both & (light_a.min(-1) > DARKEST) & (light_b.min(-1) > DARKEST)
    fair &= below(light_a, BRIGHTEST) & below(light_b, BRIGHTEST)
    at = np.flatnonzero(fair)
    if len(at) < LEAST_SAMPLES:
        return None
    if len(at) > MOST_SAMPLES:
        at = rng.choice(at, MOST_SAMPLES, replace=False)
    pick = lambda x: x.reshape(-1, 3)[at].astype(np.float64)  # noqa: E731
    return Shared(a, b, pick(light_a), pick(light_b))


def matched(
    developments: Sequence[Development], reference: int, shared: Sequence[Shared], job: Job, tone: bool = True
) -> Matched:
    """Developments like the reference's, each with the exposure, white balance and contrast that fits.

    The contrast of a frame whose tone is the reference's but for PLAIN_TONE_PCT is held there, as is
    every frame's where `tone` is off: exposure is known better so.
    """
    linked = _linked(len(developments), reference, shared)
    used = [s for s in shared if s.a in linked and s.b in linked]
    goal = _parameters(developments[reference])
    values = np.tile(goal, (len(developments), 1))
    free = [n for n in sorted(linked) if n != reference]
    belief = np.tile(BELIEF, (len(developments), 1))
    belief[:, 3] = HELD
    values = _solved(values, free, used, goal, belief, 0.6, job)
    if tone:
        belief[:, 3] = BELIEF[3]
        toned = _solved(values, free, used, goal, belief, FINE_SCALE * 4, job)
        other = np.abs(toned[:, 3] - goal[3]) > PLAIN_TONE_PCT
        if other.any():
            belief[~other, 3] = HELD
            toned[~other, 3] = goal[3]
            values = _solved(toned, free, used, goal, belief, FINE_SCALE * 4, job)
    out, drifts = [], []
    for n, old in enumerate(developments):
        if n not in linked:
            out.append(old)
            drifts.append(None)
            continue
        out.append(old if n == reference else _with(developments[reference], values[n]))
        drifts.append(Drift(*(float(v) for v in _parameters(old) - values[n])))
    return Matched(tuple(out), tuple(drifts))


def _solved(values: Array, free: list[int], used, goal: Array, belief: Array, scale: float, job: Job) -> Array:
    for _ in range(ROUNDS):
        job.check()
        before, values = values, _improved(values, free, used, goal, belief, scale)
        if scale == FINE_SCALE and np.all(np.abs(values - before) < SETTLED):
            break
        scale = max(FINE_SCALE, scale / 1.7)
    return values


def _linked(count: int, reference: int, shared: Sequence[Shared]) -> set[int]:
    found, waiting = {reference}, [reference]
    while waiting:
        n = waiting.pop()
        for s in shared:
            other = s.b if s.a == n else s.a if s.b == n else None
            if other is not None and other not in found:
                found.add(other)
                waiting.append(other)
    return found


def _parameters(d: Development) -> Array:
    """(EV, mired, tint, contrast in percent)."""
    return np.array([d.exposure_ev, mired(d.temperature_k or AS_SHOT_K), d.tint, d.contrast_pct])


def _with(reference: Development, p: Array) -> Development:
    kelvin = float(np.clip(1e6 / p[1], 1800.0, 25000.0))
    same = abs(p[1] - mired(AS_SHOT_K)) < 0.05
    return replace(
        reference, exposure_ev=round(float(np.clip(p[0], -5, 5)), 4),
        temperature_k=None if same else round(kelvin, 1), tint=round(float(np.clip(p[2], -150, 150)), 2),
        contrast_pct=round(float(np.clip(p[3], -100, 100)), 2),
    )


def _developed_log(light: Array, p: Array) -> Array:
    """log2 of light (n, 3) under exposure, white balance and contrast."""
    matrix = balance_matrix(float(np.clip(1e6 / p[1], 1500, 40000)), float(p[2]))
    even = np.maximum(light @ matrix.T, 1e-5) * 2.0 ** p[0]
    if abs(p[3]) > 1e-6:
        even = even * contrast_factor(even @ LUMINANCE, p[3])[:, None]
    return np.log2(even)


def _derivatives(light: Array, p: Array) -> tuple[Array, Array]:
    """log2 of developed light (n, 3), and its derivatives (n, 3, 4) by EV, mired, tint, contrast."""
    at = _developed_log(light, p)
    out = np.empty((*at.shape, 4))
    for k in range(4):
        moved = p.copy()
        moved[k] += STEPS[k]
        out[..., k] = (_developed_log(light, moved) - at) / STEPS[k]
    return at, out


def _improved(values: Array, free: list[int], shared: Sequence[Shared], goal: Array, belief: Array,
              scale: float) -> Array:
    """One robust Gauss-Newton step (Geman-McClure weights of this scale, in EV)."""
    place = {n: 4 * i for i, n in enumerate(free)}
    size = 4 * len(free)
    normal, gradient = np.zeros((size, size)), np.zeros(size)
    for n in free:
        at = np.arange(place[n], place[n] + 4)
        normal[at, at] += 1 / belief[n] ** 2
        gradient[at] += (values[n] - goal) / belief[n] ** 2
    for s in shared:
        la, da = _derivatives(s.light_a, values[s.a])
        lb, db = _derivatives(s.light_b, values[s.b])
        off = la - lb
        weight = 1 / (1 + np.sum(off * off, axis=1) / (3 * scale**2)) ** 2
        weight = np.repeat(weight, 3) / len(off) * 400
        rows, cols = [], []
        for n, d in ((s.a, da), (s.b, -db)):
            if n in place:
                rows.append(d.reshape(-1, 4))
                cols += range(place[n], place[n] + 4)
        if not rows:
            continue
        jac = np.concatenate(rows, axis=1)
        weighted = jac * weight[:, None]
        normal[np.ix_(cols, cols)] += jac.T @ weighted
        gradient[cols] += weighted.T @ off.reshape(-1)
    if not size:
        return values
    step = -np.linalg.solve(normal, gradient).reshape(-1, 4)
    step = np.clip(step, -LIMITS, LIMITS)
    out = values.copy()
    for n, d in zip(free, step, strict=True):
        out[n] = values[n] + d
        out[n, 1] = np.clip(out[n, 1], 40.0, 555.0)
        out[n, 2] = np.clip(out[n, 2], -150, 150)
        out[n, 3] = np.clip(out[n, 3], -100, 100)
    return out
