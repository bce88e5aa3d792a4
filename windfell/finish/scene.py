"""What an adjustment is told of the picture around the px it changes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Scene:
    """`region`: what is changed, px of the picture at `scale`, whose size there is `size` (w, h). `small`: all of the
    picture small, as it is before this adjustment, light (h, w, 3). `sample`: a part of it at full size. `keep(what,
    make)` gives what was made of these before.
    """

    region: Region
    scale: float
    size: tuple[int, int]
    small: Callable[[], F32]
    sample: Callable[[], F32]
    keep: Callable[[tuple, Callable[[], Any]], Any]

    @property
    def box(self) -> tuple[float, float, float, float]:
        """The region (left, top, right, bottom) in shares of the picture."""
        w, h = self.size
        r = self.region
        return r.left / w, r.top / h, (r.left + r.width) / w, (r.top + r.height) / h
