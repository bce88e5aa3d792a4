"""A rule that shows its result only where that is brighter than the frames' noise lets expect."""

from __future__ import annotations

from statistics import NormalDist

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.network import median
from windfell.combine.rules import PLAIN, Setting, StackRule
from windfell.combine.statistics import spread_of
from windfell.pixels.colour import luminance
from windfell.pixels.easing import eased

F32 = NDArray[np.float32]


CALM_SIGMA = 4.0


def expected_most(count: int) -> float:
    """How many spreads the largest of so many normal values lies above their middle (Blom 1958)."""
    return NormalDist().inv_cdf((count - 0.375) / (count + 0.25))


class BeyondNoise(StackRule):
    """The median where `rule` brings nothing beyond the noise: so a maximum of many frames lifts no bright sky. It
    passes over between `spreads` of the noise and twice as many. A glow that is wide is judged by the mean around a
    spot, or it would pass over in speckles; what is small by how far it stands out of that.
    """

    reach = 6 + round(3 * CALM_SIGMA)

    def __init__(self, rule: StackRule, spreads: float) -> None:
        self._rule, self._spreads = rule, spreads
        self.name, self.title, self.suits, self.adds = rule.name, rule.title, rule.suits, rule.adds

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        if len(planes) < 3:
            return self._rule.combined(planes, setting)
        middle = median(planes)
        noise = luminance(spread_of(planes, middle, setting.step)) * np.float32(self._spreads)
        result = self._rule.combined(planes, setting)
        more = (luminance(result) - luminance(middle)) / np.maximum(noise, np.float32(1e-6))
        # a bright light is no glow around itself
        around = cv2.GaussianBlur(np.minimum(more, 2), (0, 0), CALM_SIGMA, borderType=cv2.BORDER_REFLECT_101)
        glow = np.maximum(around - np.float32(expected_most(len(planes)) / self._spreads), 0)
        share = np.maximum(eased(around - 1), eased(more - glow - 1))
        return middle + share[..., None] * (result - middle)
