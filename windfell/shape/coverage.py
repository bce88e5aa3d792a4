"""What frames cover, held once on the sphere around them and looked up from any canvas."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.tiles import Region
from windfell.shape.canvas import Canvas


@dataclass(frozen=True, eq=False)
class Coverage:
    """Which px (h, w) of `surface`, a canvas around all frames, they cover."""

    surface: Canvas
    seen: NDArray[np.bool_]

    @property
    def nbytes(self) -> int:
        return self.seen.nbytes

    def on(self, canvas: Canvas) -> NDArray[np.bool_]:
        """What of a canvas is covered, (h, w), as finely as the surface knows it: for canvases about as coarse."""
        x, y = np.meshgrid(np.arange(canvas.width), np.arange(canvas.height))
        with np.errstate(invalid="ignore"):
            places = np.rint(self.surface.pixels(canvas.rays(np.stack([x, y], -1).astype(np.float64))))
        height, width = self.seen.shape
        # half a px beyond the last one is still the last one
        inside = (np.abs(places - [(width - 1) / 2, (height - 1) / 2]) <= [(width + 1) / 2, (height + 1) / 2]).all(-1)
        column, row = places[inside].astype(np.intp).T
        out = np.zeros(inside.shape, bool)
        out[inside] = self.seen[row.clip(0, height - 1), column.clip(0, width - 1)]
        drawn = canvas.drawn(Region(0, 0, canvas.width, canvas.height))
        return out if drawn is None else out & drawn
