"""What painting an area may ask of the picture."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from windfell.recipe.areas import Grown

F32 = NDArray[np.float32]
Array = NDArray[np.float64]
T = TypeVar("T")


class Look(Protocol):
    """What an area that reads the picture, or a mask, is told of it."""

    def light(self) -> F32:
        """The picture (h, w, 3) on the spots."""

    def around(self, points: Array, reach: float) -> tuple[F32, Callable[[NDArray], F32]]:
        """The picture (p, q, 3) around points (n, k) of the ground, at a size of its own, and the map from points
        (..., k) to its px (..., 2).
        """

    def kept(self, part: Grown, make: Callable[[], T]) -> T:
        """What `make` finds of a part by the picture, found once for the same picture."""

    def mask(self, name: str) -> tuple[NDArray[np.uint8], Callable[[NDArray], F32]] | None:
        """A mask by its name, and the map from points (..., k) to its px."""
