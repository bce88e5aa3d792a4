"""The core of a stack: a spot through all its frames; and maps of what the rule did."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.combine.influence import (
    NOTHING,
    RuleFigures,
    Shaken,
    against_mean,
    heard,
    influence,
    rule_figures,
    whose,
)
from windfell.combine.spoiling import Spoiled, noise_weights, spoiled
from windfell.combine.strips import shown_within
from windfell.engine.sources import OpenedFile, canonical_scale
from windfell.engine.stack_pile import PileStages
from windfell.geometry import planar
from windfell.job import Job
from windfell.pixels.colour import luminance
from windfell.pixels.tiles import Region, scaled_size

F32 = NDArray[np.float32]

SAME = 5e-4
PICKED_PX, MOST_KEPT = 4, 40
CORE_SIDE, FIGURE_SIDE, MAP_SIDE, SPOIL_SIDE, NOISE_SIDE = 1100, 260, 420, 640, 1200


@dataclass(frozen=True, eq=False)
class Core:
    """A spot: the light of every frame in place (n, 3), NaN where it shows nothing; how much each has to do with the
    result (n, 3); the rule's result and the picture's (3,), and the spread of the frames' noise there (3,).

    `frames` are their places in the set's used frames; `taken_s` seconds after the first, `ev` log2 of the light
    gathered, None where the file does not say.
    """

    frames: tuple[int, ...]
    values: F32
    influence: F32
    result: F32
    picture: F32
    spread: F32
    taken_s: tuple[float | None, ...]
    ev: tuple[float | None, ...]

    @property
    def kept(self) -> NDArray[np.bool_]:
        """Which frames have a part in the result, (n,): it moves with them, or is just what they show."""
        same = np.abs(self.values - self.result).max(axis=1) <= SAME * (1 + np.abs(self.result).max())
        return (np.abs(self.influence).max(axis=1) > NOTHING) | same


def core_at(stages: PileStages, share: tuple[float, float], job: Job) -> Core:
    """The core under a share of the stack's picture, at preview scale."""
    scale = canonical_scale(min(1.0, CORE_SIDE / max(stages.whole_size(job))))
    layers, order = stages.frames_in_place(scale, job)
    cut = stages.cut(job)
    width, height = scaled_size(cut.size, scale)
    x, y = (min(int(s * n), n - 1) for s, n in zip(share, (width, height), strict=True))
    at = cut.onto_reference(scale)(np.array([[float(x), float(y)]]))[0]
    full = stages.whole_at(scale, job)
    spot = Region(*(min(max(round(v), 0), n - 1) for v, n in zip(at, full, strict=True)), 1, 1)
    reach = stages.rule.reach
    around = [shown_within(one, spot.grown(reach), Region(0, 0, *full)) for one in layers]
    values = np.stack([p[reach, reach] for p in around])
    there = np.isfinite(values).all(axis=1)
    parts = np.zeros_like(values)
    result = np.full(3, np.nan, np.float32)
    if there.any():
        chosen = [int(n) for n in np.flatnonzero(there)]
        planes = [np.where(np.isfinite(around[n]), around[n], values[n]) for n in chosen]
        parts[chosen], result = influence(planes, stages.rule, stages.setting(order, job).of(chosen))
    middle = np.nanmedian(values, axis=0) if there.any() else np.zeros(3)
    spread = 1.4826 * np.nanmedian(np.abs(values - middle), axis=0) if there.any() else np.zeros(3)
    picture = stages.unfinished(Region(x, y, 1, 1), scale, job).light[0, 0]
    taken, ev = zip(*(_told(stages, n, job) for n in order), strict=True)
    first = min((t for t in taken if t is not None), default=0.0)
    return Core(tuple(order), values, parts, result, picture, spread.astype(np.float32),
                tuple(None if t is None else t - first for t in taken), ev)


def black_at(stages: PileStages, share: tuple[float, float], job: Job) -> float:
    """What counts as black if the spot under a share of the picture is to be black: the middle of what the frames
    show around it, in % of white, linear. `stages`: of a recipe that takes no black off.
    """
    scale = canonical_scale(min(1.0, CORE_SIDE / max(stages.whole_size(job))))
    layers, _ = stages.frames_in_place(scale, job)
    width, height = scaled_size(stages.cut(job).size, scale)
    at = stages.cut(job).onto_reference(scale)(np.array([[share[0] * width, share[1] * height]]))[0]
    spot = Region(round(at[0]), round(at[1]), 1, 1).grown(PICKED_PX)
    whole = Region(0, 0, *stages.whole_at(scale, job))
    levels = [float(np.nanmedian(luminance(p))) for p in (shown_within(x, spot, whole) for x in layers)
              if np.isfinite(p).any()]
    return round(max(0.0, 100 * float(np.median(levels))), 3) if levels else 0.0


def _told(stages: PileStages, n: int, job: Job) -> tuple[float | None, float | None]:
    """(when it was taken in s, log2 of the light gathered) as a frame's file says."""
    opened = stages.opened(job)[n]
    if not isinstance(opened, OpenedFile):
        return None, None
    m = opened.still.metadata
    return m.taken and m.taken.timestamp(), m.exposure_value


def figures_of(stages: PileStages, job: Job) -> RuleFigures:
    """What the rule does, in figures, from small frames."""
    def find() -> RuleFigures:
        planes, order = _small(stages, FIGURE_SIDE, job)
        # alike for all rules, whose figures are wanted side by side
        key = key_of("shaken", *(hashlib.sha256(np.ascontiguousarray(p)).hexdigest() for p in planes))
        few = len(planes) <= MOST_KEPT
        shaken = stages.cache.get(key, lambda: Shaken.of(planes)) if few else Shaken.of(planes)
        return rule_figures(shaken, stages.rule, stages.setting(order, job))

    return stages.cache.get(key_of("rule figures", stages.rule_key(job)), find)


def rule_map(stages: PileStages, what: str, job: Job, frame: str | None = None) -> NDArray:
    """Over the whole reference, small: "against" the mean in L* (h, w), "whose" value it is, as used frames, or how
    much `frame` (id) is "heard", 0..1.
    """
    planes, order = _small(stages, MAP_SIDE, job)
    if what == "heard":
        numbers = [stages.set.used[n].id for n in order]
        if frame not in numbers:
            return np.zeros(planes[0].shape[:2], np.float32)
        return heard(planes, numbers.index(frame), stages.rule_at(MAP_SIDE / max(stages.whole_size(job))),
                     stages.setting(order, job))
    if what == "against":
        return against_mean(planes, stages.rule, stages.setting(order, job))
    return np.array(order, np.int16)[whose(planes, stages.rule, stages.setting(order, job))]


def spoiling(stages: PileStages, job: Job) -> dict[int, Spoiled]:
    """A verdict on each frame in use that has a place."""
    def find() -> dict[int, Spoiled]:
        planes, order = _small(stages, SPOIL_SIDE, job)
        places, size = stages.registration(job).frames, stages.whole_size(job)
        moved = [planar.corner_shift(places[n].transform, *size) if places[n].lens is None else 0.0 for n in order]
        return dict(zip(order, spoiled(planes, moved), strict=True))

    return stages.cache.get(key_of("spoiling", stages.rule_key(job)), find)


def weights_by_noise(stages: PileStages, job: Job) -> dict[str, float]:
    """How much each frame in use (id) that has a place is to count in a mean, by its noise."""
    planes, order = _small(stages, NOISE_SIDE, job)
    return {stages.set.used[n].id: round(w, 3) for n, w in zip(order, noise_weights(planes), strict=True)}


def next_gain_db(count: int) -> float:
    """What one frame more would gain a mean of so many."""
    return 10 * float(np.log10((count + 1) / max(1, count)))


def _small(stages: PileStages, side: int, job: Job) -> tuple[list[F32], list[int]]:
    """(light (h, w, 3) of the frames in place, which they are), small."""
    scale = canonical_scale(min(1.0, side / max(stages.whole_size(job))))
    planes, order = stages.planes_in_place(scale, job)
    return [np.nan_to_num(p, nan=0.0) for p in planes], order
