"""A rule that shows its result only where that is brighter than the frames' noise lets expect."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.combine.network import median
from windfell.combine.rules import PLAIN, Setting, StackRule
from windfell.combine.statistics import spread_of
from windfell.pixels.colour import luminance
from windfell.pixels.easing import eased

F32 = NDArray[np.float32]


class BeyondNoise(StackRule):
    """The median where `rule` brings nothing beyond the noise: so a maximum of many frames lifts no bright sky. It
    passes over between `spreads` of the noise and twice as many.
    """

    reach = 6

    def __init__(self, rule: StackRule, spreads: float) -> None:
        self._rule, self._spreads = rule, spreads
        self.name, self.title, self.suits, self.adds = rule.name, rule.title, rule.suits, rule.adds

    def combined(self, planes: list[F32], setting: Setting = PLAIN) -> F32:
        if len(planes) < 3:
            return self._rule.combined(planes, setting)
        middle = median(planes)
        noise = luminance(spread_of(planes, middle, setting.step)) * np.float32(self._spreads)
        result = self._rule.combined(planes, setting)
        share = eased((luminance(result) - luminance(middle)) / np.maximum(noise, 1e-6) - 1)
        return middle + share[..., None] * (result - middle)
