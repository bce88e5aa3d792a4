"""Making the light of all frames equal, by what they see in common."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.pixels.channels import below
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

DARKEST, BRIGHTEST = 0.004, 0.90
MOST_SAMPLES, FEWEST_SAMPLES, ALL_SAMPLES = 3000, 600, 60_000
GAIN_BELIEF = 0.02
FALLOFF_BELIEF = 2.0
ROUNDS = 8
MOST_DARKENING, MOST_BRIGHTENING = -1.6, 0.2


@dataclass(frozen=True)
class FrameLight:
    """What to multiply a frame by: a gain a channel, and its edge darkening undone.

    The darkening is log light kept = v . (r^2, r^4, r^6) with r = 1 at the corner.
    """

    gain: tuple[float, float, float] = (1.0, 1.0, 1.0)
    falloff: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def factors(self, where: F32, lens: Lens) -> F32:
        """(h, w, 3) or (1, 1, 3) factors for frame pixels (h, w, 2)."""
        gain = np.array(self.gain, np.float32)
        if not any(self.falloff):
            return gain[None, None]
        r2 = radius2(where, lens)
        v = self.falloff
        kept = r2 * (np.float32(v[0]) + r2 * (np.float32(v[1]) + r2 * np.float32(v[2])))
        return np.ascontiguousarray(np.exp(-kept)[..., None] * gain)


def radius2(where: F32, lens: Lens) -> F32:
    """Squared distance from the principal point, 1 at the corner, of frame pixels (..., 2)."""
    cx, cy = lens.centre.astype(np.float32)
    x, y = where[..., 0] - cx, where[..., 1] - cy
    far = np.float32(0.25 * (lens.width**2 + lens.height**2))
    with np.errstate(over="ignore"):
        r2 = (x * x + y * y) / far
    return np.minimum(np.nan_to_num(r2, nan=1.0), np.float32(1.1))


@dataclass(frozen=True)
class LightSamples:
    """Two frames' light (n, 3) at the same directions, and the squared radii there (n,)."""

    a: int
    b: int
    light_a: Array
    light_b: Array
    radius2_a: Array
    radius2_b: Array


@dataclass(frozen=True)
class FrameSeen:
    """A frame on its box of a surface: light (h, w, 3), where that may be compared (h, w), squared radii (h, w)."""

    box: Region
    light: F32
    fair: NDArray[np.bool_]
    radius2: F32


def fair_light(light: F32, valid: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Where light (h, w, 3) is valid and neither nearly black nor burnt out."""
    r, g, b = cv2.split(light)
    return valid & (cv2.min(cv2.min(r, g), b) > DARKEST) & below(light, BRIGHTEST)


def shared_samples(views: Sequence[FrameSeen | None], rng: np.random.Generator) -> list[LightSamples]:
    """Samples of all pairs of frames that overlap, fewer of each where there are many."""
    out = []
    pairs = sum(bool(a and b and a.box.shared(b.box)) for n, a in enumerate(views) for b in views[n + 1 :])
    most = max(FEWEST_SAMPLES, min(MOST_SAMPLES, ALL_SAMPLES // max(pairs, 1)))
    for a, one in enumerate(views):
        for b in range(a + 1, len(views)):
            other = views[b]
            common = one and other and one.box.shared(other.box)
            if not common:
                continue
            at, there = common.within(one.box), common.within(other.box)
            both = one.fair[at] & other.fair[there]
            if both.any():
                out.append(common_samples(
                    a, b, one.light[at], other.light[there], one.radius2[at], other.radius2[there], both, rng, most))
    return [s for s in out if s]


def common_samples(
    a: int, b: int, light_a: F32, light_b: F32, r2_a: F32, r2_b: F32,
    fair: NDArray[np.bool_], rng: np.random.Generator, most: int = MOST_SAMPLES,
) -> LightSamples | None:
    """Samples where the light of both frames may be compared."""
    at = np.flatnonzero(fair)
    if len(at) < 30:
        return None
    if len(at) > most:
        at = rng.choice(at, most, replace=False)
    pick = lambda x: x.reshape(-1, *x.shape[2:])[at].astype(np.float64)  # noqa: E731
    return LightSamples(a, b, pick(light_a), pick(light_b), pick(r2_a), pick(r2_b))


def fitted_light(count: int, samples: Sequence[LightSamples], job: Job) -> list[FrameLight]:
    """Gains a frame and channel and one shared edge darkening, by robust least squares.

    log a - log b = g_b - g_a + V(r_a) - V(r_b), after the gain compensation of Brown &
    Lowe (2007, sec. 6) with the darkening model added; all gains average to one.
    Moving things and parallax are held back by Geman-McClure weights.
    """
    if not samples:
        return [FrameLight()] * count
    size = 3 * count + 3
    solution = np.zeros(size)
    systems = [_rows(s, count) for s in samples]
    scale = 0.5
    for _ in range(ROUNDS):
        job.check()
        normal = np.diag(np.r_[np.full(3 * count, GAIN_BELIEF), np.full(3, FALLOFF_BELIEF)])
        gradient = np.zeros(size)
        for columns, rows, goal in systems:
            _add(normal, gradient, columns, rows, goal, solution, scale)
        solution = np.linalg.solve(normal, gradient)
        scale = max(0.06, scale / 1.6)
    gains = solution[: 3 * count].reshape(count, 3)
    gains = gains - gains.mean(axis=0)
    falloff = solution[3 * count :]
    r2 = np.linspace(0, 1, 20)
    kept = r2 * (falloff[0] + r2 * (falloff[1] + r2 * falloff[2]))
    if kept.min() < MOST_DARKENING or kept.max() > MOST_BRIGHTENING:
        falloff = np.zeros(3)
    v = tuple(float(x) for x in falloff)
    return [FrameLight(tuple(float(x) for x in np.exp(g)), v) for g in gains]


def _rows(s: LightSamples, count: int):
    """For each channel: the columns touched, the (n, 5) rows and the (n,) goal."""
    powers = lambda r2: np.stack([r2, r2**2, r2**3], 1)  # noqa: E731
    bend = powers(s.radius2_a) - powers(s.radius2_b)
    n = len(bend)
    columns = np.array([[3 * s.a + c, 3 * s.b + c, 3 * count, 3 * count + 1, 3 * count + 2]
                        for c in range(3)])
    rows = np.concatenate([np.full((n, 1), -1.0), np.full((n, 1), 1.0), bend], axis=1)
    goal = np.log(s.light_a) - np.log(s.light_b)
    return columns, rows, goal


def _add(normal, gradient, columns, rows, goal, solution, scale) -> None:
    for c in range(3):
        off = goal[:, c] - rows @ solution[columns[c]]
        weight = 1 / (1 + (off / scale) ** 2) ** 2
        weighted = rows * weight[:, None]
        normal[np.ix_(columns[c], columns[c])] += rows.T @ weighted
        gradient[columns[c]] += weighted.T @ goal[:, c]
