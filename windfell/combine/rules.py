"""Stack rules. A new one is one class and one line in RULES."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.exposures import merged
from windfell.combine.network import median, median_ranks, ranked
from windfell.combine.statistics import clipped_mean, kept_between, sharpest, stand_out, weighted_mean

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Setting:
    """What a rule may ask about the frames, in the order of the planes.

    `weights` of each; `kappa` (low, high); `exposures`: the light each took beside the first; `steps`: one step of
    each one's encoding.
    """

    weights: tuple[float, ...] = ()
    kappa: tuple[float, float] = (3.0, 3.0)
    exposures: tuple[float, ...] = ()
    steps: tuple[float, ...] = ()

    def of(self, chosen: Sequence[int]) -> Setting:
        """The same for some of the frames."""
        pick = lambda values: tuple(values[n] for n in chosen) if values else ()  # noqa: E731
        return replace(self, weights=pick(self.weights), exposures=pick(self.exposures), steps=pick(self.steps))

    @property
    def step(self) -> float:
        """The coarsest step of any frame's encoding; 0 where nothing is known."""
        return max(self.steps, default=0.0)

    def weighed(self, count: int) -> list[float]:
        return list(self.weights) if self.weights else [1.0] * count


PLAIN = Setting()


class StackRule:
    """What becomes of the values of all frames at a spot, channel by channel.

    `reach`: how many px around a spot it looks at. `adds`: light of frames is added, so that what is black in each
    matters. `asks_noise`: it judges by the noise, so that the steps of the encoding matter. `unseen`: the light it is
    told where a frame shows nothing; None for what the others show on average. `combined` takes light, float32
    (h, w, 3) a frame. A rule that only picks values by rank can pick them among encoded integers too, since curves
    keep ranks: `ranks` then says which, and their light is averaged.
    """

    name = ""
    title = ""
    suits = ""
    reach = 0
    adds = False
    asks_noise = False
    unseen: float | None = None

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        raise NotImplementedError

    def ranks(self, count: int) -> tuple[int, ...] | None:
        return None

    def rejected(self, planes: list[F32], setting: Setting = PLAIN) -> list[NDArray[np.bool_]] | None:
        """What of each frame (h, w, 3) is left out as not belonging; None for a rule that leaves nothing out so."""
        return None


class Median(StackRule):
    name = "median"
    title = "Median"
    suits = "passers-by vanish"

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        return median(planes)

    def ranks(self, count: int) -> tuple[int, ...]:
        return median_ranks(count)


class Mean(StackRule):
    name = "mean"
    title = "Mean"
    suits = "noise sinks, movement blurs"

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        if setting.weights and len(set(setting.weights)) > 1:
            return weighted_mean(planes, list(setting.weights))
        total = planes[0].copy()
        for plane in planes[1:]:
            cv2.add(total, plane, dst=total)
        total *= np.float32(1.0 / len(planes))
        return total


class Maximum(StackRule):
    adds = True
    name = "maximum"
    title = "Maximum"
    suits = "light trails gather"

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        return ranked(planes, self.ranks(len(planes)))[0]

    def ranks(self, count: int) -> tuple[int, ...]:
        return (count - 1,)


class Minimum(StackRule):
    name = "minimum"
    title = "Minimum"
    suits = "lights and glare vanish"

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        return ranked(planes, self.ranks(len(planes)))[0]

    def ranks(self, count: int) -> tuple[int, ...]:
        return (0,)


class ClippedMean(StackRule):
    """Kappa-sigma clipping about the median, the spread pooled over a neighbourhood."""

    name = "clipped-mean"
    title = "Clipped mean"
    suits = "noise sinks, what does not belong is left out"
    asks_noise = True
    reach = 6

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        return clipped_mean(planes, *setting.kappa, setting.weighed(len(planes)), setting.step)

    def rejected(self, planes: list[F32], setting: Setting = PLAIN) -> list[NDArray[np.bool_]] | None:
        bottom, top = kept_between(planes, *setting.kappa, step=setting.step)
        return [(p < bottom) | (p > top) for p in planes]


class Sum(StackRule):
    """All light added, as one exposure as long as all would have seen it."""

    name = "sum"
    title = "Sum"
    suits = "bursts of light add up"
    adds = True

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        total = np.zeros_like(planes[0])
        for plane, weight in zip(planes, setting.weighed(len(planes)), strict=True):
            total += plane * np.float32(weight)
        return total


class Screen(StackRule):
    """What is left of white after each frame's light was taken: light adds up and never burns out."""

    name = "screen"
    title = "Screen"
    suits = "bursts of light add up without burning out"
    adds = True

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        left = np.ones_like(planes[0])
        for plane in planes:
            left *= 1 - np.minimum(plane, 1)
        return 1 - left


class StandOut(StackRule):
    """The value farthest from the median where it is far beyond the noise, else the median."""

    name = "standout"
    title = "Stand-out"
    suits = "everything that moved stays"
    asks_noise = True
    reach = 10

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        return stand_out(planes, setting.step)


class Range(StackRule):
    name = "range"
    title = "Range"
    suits = "shows where anything changed"

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        low, high = ranked(planes, (0, len(planes) - 1)) if len(planes) > 1 else (planes[0], planes[0])
        return high - low


class Sharpest(StackRule):
    """The frame in best focus at each spot, by the energy of its detail."""

    name = "sharpest"
    title = "Sharpest"
    suits = "depth: each spot from the frame in focus there"
    reach = 18

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        return sharpest(planes)


class Exposures(StackRule):
    """One light from exposures of different length. Where a frame is not heard is grown by so many px of the planes,
    and its edge softened.
    """

    name = "exposures"
    title = "Exposures"
    suits = "bright and dark parts of exposures of different length"
    asks_noise = True
    unseen = np.nan

    def __init__(self, grow: float = 0.0, soften: float = 0.0) -> None:
        self._grow, self._soften = grow, soften
        self.reach = 28 + 4 * int(np.ceil((grow + 4 * soften) / 4))

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        count = len(planes)
        exposures = setting.exposures or (1.0,) * count
        return merged(planes, exposures, setting.steps or (1 / 255,) * count, self._grow, self._soften)


RULES: dict[str, StackRule] = {r.name: r for r in (
    Median(), Mean(), Maximum(), Minimum(), ClippedMean(), Sum(), Screen(), StandOut(), Range(), Sharpest(),
    Exposures())}
