"""Stack rules. A new one is one class and one line in RULES."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.network import median, median_ranks, ranked

F32 = NDArray[np.float32]


class StackRule:
    """What becomes of the values of all frames at a spot, channel by channel.

    `combined` takes light, float32 (h, w, 3) a frame. A rule that only picks values by
    rank can pick them among encoded integers too, since curves keep ranks: `ranks`
    then says which, and their light is averaged.
    """

    name = ""
    title = ""
    suits = ""

    def combined(self, planes: list[F32]) -> F32:
        raise NotImplementedError

    def ranks(self, count: int) -> tuple[int, ...] | None:
        return None


class Median(StackRule):
    name = "median"
    title = "Median"
    suits = "passers-by vanish"

    def combined(self, planes: list[F32]) -> F32:
        return median(planes)

    def ranks(self, count: int) -> tuple[int, ...]:
        return median_ranks(count)


class Mean(StackRule):
    name = "mean"
    title = "Mean"
    suits = "noise sinks, movement blurs"

    def combined(self, planes: list[F32]) -> F32:
        total = planes[0].copy()
        for plane in planes[1:]:
            cv2.add(total, plane, dst=total)
        total *= np.float32(1.0 / len(planes))
        return total


class Maximum(StackRule):
    name = "maximum"
    title = "Maximum"
    suits = "light trails gather"

    def combined(self, planes: list[F32]) -> F32:
        return ranked(planes, self.ranks(len(planes)))[0]

    def ranks(self, count: int) -> tuple[int, ...]:
        return (count - 1,)


class Minimum(StackRule):
    name = "minimum"
    title = "Minimum"
    suits = "lights and glare vanish"

    def combined(self, planes: list[F32]) -> F32:
        return ranked(planes, self.ranks(len(planes)))[0]

    def ranks(self, count: int) -> tuple[int, ...]:
        return (0,)


RULES: dict[str, StackRule] = {r.name: r for r in (Median(), Mean(), Maximum(), Minimum())}
